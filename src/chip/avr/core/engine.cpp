#include "chip/avr/core/engine.h"

#include <algorithm>
#include <array>
#include <utility>

#include "chip/avr/core/cpu.h"
#include "chip/avr/core/engine_handlers.h"

namespace bramix::chip::avr {

namespace {

inline std::uint16_t pair(const std::uint8_t* R, unsigned low) { return static_cast<std::uint16_t>(R[low] | (R[low + 1] << 8)); }

inline void setPair(std::uint8_t* R, unsigned low, std::uint32_t value)
{
    R[low] = static_cast<std::uint8_t>(value);
    R[low + 1] = static_cast<std::uint8_t>(value >> 8);
}

inline int signed8(std::uint8_t v) { return static_cast<std::int8_t>(v); }

// SREG but for T and I, in the form that costs least to produce.
struct LazyFlags {
    unsigned c;  // 0 or 1
    unsigned z;  // zero when Z is set
    unsigned n;  // bit 7
    unsigned v;  // bit 8 xor bit 7
    unsigned h;  // bit 4

    explicit LazyFlags(std::uint8_t sreg)
        : c(sreg & kC), z((sreg & kZ) == 0), n((sreg & kN) << 5U), v((sreg & kV) << 4U), h((sreg & kH) >> 1U)
    {
    }

    [[nodiscard]] bool negative() const { return (n & 0x80U) != 0; }
    [[nodiscard]] bool overflow() const { return ((v ^ (v >> 1U)) & 0x80U) != 0; }

    [[nodiscard]] unsigned sreg() const
    {
        const bool isNegative = negative();
        const bool isOverflow = overflow();
        return c | (z == 0 ? kZ : 0U) | (isNegative ? kN : 0U) | (isOverflow ? kV : 0U) | (isNegative != isOverflow ? kS : 0U) | ((h & 16U) << 1U);
    }

    template <int Live>
    [[gnu::always_inline]] std::uint8_t add(unsigned a, unsigned b, unsigned carry)
    {
        const unsigned sum = a + b + carry;
        if constexpr (Live != 2) {
            c = sum >> 8U;
            z = sum & 0xFFU;
        }
        if constexpr (Live == 0) {
            n = sum;
            v = h = a ^ b ^ sum;
        }
        return static_cast<std::uint8_t>(sum);
    }

    template <int Live, bool KeepZ>
    [[gnu::always_inline]] std::uint8_t subtract(unsigned a, unsigned b, unsigned carry)
    {
        const unsigned difference = a - b - carry;
        if constexpr (Live != 2) {
            c = (difference >> 8U) & 1U;
            z = KeepZ ? z | (difference & 0xFFU) : difference & 0xFFU;
        }
        if constexpr (Live == 0) {
            n = difference;
            v = h = a ^ b ^ difference;
        }
        return static_cast<std::uint8_t>(difference);
    }

    template <int Live>
    [[gnu::always_inline]] std::uint8_t logic(unsigned result, unsigned overflow)
    {
        if constexpr (Live == 0) {
            z = n = result;
            v = overflow;
        }
        return static_cast<std::uint8_t>(result);
    }

    template <int Live>
    [[gnu::always_inline]] std::uint8_t shift(unsigned from, unsigned result)
    {
        if constexpr (Live != 2) {
            c = from & 1U;
            z = result;
        }
        if constexpr (Live == 0) {
            n = result;
            v = (result & 0x80U) ^ (c << 7U);
        }
        return static_cast<std::uint8_t>(result);
    }

    template <int Live>
    [[gnu::always_inline]] std::uint32_t addWord(unsigned d, unsigned k)
    {
        const unsigned sum = d + k;
        if constexpr (Live != 2) {
            c = sum >> 16U;
            z = sum & 0xFFFFU;
        }
        if constexpr (Live == 0) {
            n = sum >> 8U;
            v = ((~d & sum) >> 8U) & 0x80U;
        }
        return sum;
    }

    template <int Live>
    [[gnu::always_inline]] std::uint32_t subtractWord(unsigned d, unsigned k)
    {
        const unsigned difference = d - k;
        if constexpr (Live != 2) {
            c = (difference >> 16U) & 1U;
            z = difference & 0xFFFFU;
        }
        if constexpr (Live == 0) {
            n = difference >> 8U;
            v = ((d & ~difference) >> 8U) & 0x80U;
        }
        return difference;
    }

    // C is bit 15 before the shift of the fractional forms.
    [[gnu::always_inline]] std::uint32_t product(int full, unsigned fractional)
    {
        const auto bits = static_cast<unsigned>(full) & 0xFFFFU;
        const unsigned value = (bits << fractional) & 0xFFFFU;
        c = bits >> 15U;
        z = value;
        return value;
    }
};

// No instruction and the one after it take longer than this together.
constexpr std::uint32_t kSoon = 12;

// Cycles of a round of "dec, brne" and of "sbiw, brne".
constexpr std::int64_t kByteLoop = 3, kWordLoop = 4;

// How many further rounds of a counted delay loop may be left out: not the last, and none that the limit could fall into. `value` is what
// is still to be counted, `top` the count of cycles at which the next round would be looked at.
inline std::uint32_t roundsToSkip(std::uint32_t value, std::uint32_t cost, std::uint32_t top, std::uint32_t limit)
{
    return value < 3 || top >= limit || limit - top <= cost ? 0 : std::min(value - 1, (limit - 1 - top) / cost);
}

// A hand-written SREG may hold S != N xor V, which the lazy form cannot.
bool isRepresentable(std::uint8_t sreg) { return ((sreg & kS) != 0) == (((sreg & kN) != 0) != ((sreg & kV) != 0)); }

}  // namespace

// Before an access to I/O in place: where and when it happens.
inline std::int64_t enterIo(Cpu& cpu, std::uint32_t pc, std::int64_t cycle)
{
    cpu.current = pc;
    cpu.cycle = cycle;
    return cycle;
}

bool Engine::canEnter() const
{
    return cpu_.pc < cpu_.core_.flashWords && !cpu_.holdInterrupts && !cpu_.loadsAsk && isRepresentable(cpu_.sreg);
}

void Engine::run()
{
    const auto goesOn = [this] { return cpu_.cycle < cpu_.deadline && !cpu_.sleeping && !cpu_.stopped(); };
    while (goesOn()) {
        if (cpu_.atBreakpoint()) {
            cpu_.stopAtBreakpoint();
            return;
        }
        const std::int64_t before = cpu_.cycle;
        if (canEnter())
            fast(nullptr);
        // Left for want of an exact place before the deadline: step to the next one.
        if (goesOn() && cpu_.cycle == before)
            do
                cpu_.step();
            while (goesOn() && (cpu_.pc >= cpu_.core_.flashWords || exact_[cpu_.pc] == 0) && !cpu_.atBreakpoint());
    }
}

void Engine::takeGuardOff()
{
    if (guard_.at == nullptr)
        return;
    guard_.at->handler = guard_.own;
    guard_.at[-1].handler = guard_.before;
    guard_.at = nullptr;
}

// NOLINTNEXTLINE(readability-function-size): one loop is one idea, and its state must stay in registers.
void Engine::fast(HandlerTable* table)
{
    // ORDER OP. Handlers for: all flags, C and Z only, no flags.
    static const void* const labels[kOps][kLives] = {
        {&&addAll, &&addCz, &&addNone},  // add
        {&&adcAll, &&adcCz, &&adcNone},  // adc
        {&&subAll, &&subCz, &&subNone},  // sub
        {&&subiAll, &&subiCz, &&subiNone},  // subi
        {&&sbcAll, &&sbcCz, &&sbcNone},  // sbc
        {&&sbciAll, &&sbciCz, &&sbciNone},  // sbci
        {&&andAll, &&andAll, &&andNone},  // and
        {&&andiAll, &&andiAll, &&andiNone},  // andi
        {&&orAll, &&orAll, &&orNone},  // or
        {&&oriAll, &&oriAll, &&oriNone},  // ori
        {&&eorAll, &&eorAll, &&eorNone},  // eor
        {&&comAll, &&comAll, &&comAll},  // com
        {&&negAll, &&negAll, &&negAll},  // neg
        {&&incAll, &&incAll, &&incNone},  // inc
        {&&decAll, &&decAll, &&decNone},  // dec
        {&&cpAll, &&cpCz, &&cpAll},  // cp
        {&&cpcAll, &&cpcCz, &&cpcAll},  // cpc
        {&&cpiAll, &&cpiCz, &&cpiAll},  // cpi
        {&&adiwAll, &&adiwCz, &&adiwNone},  // adiw
        {&&sbiwAll, &&sbiwCz, &&sbiwNone},  // sbiw
        {&&mulAll, &&mulAll, &&mulAll},  // mul
        {&&mulsAll, &&mulsAll, &&mulsAll},  // muls
        {&&mulsuAll, &&mulsuAll, &&mulsuAll},  // mulsu
        {&&fmulAll, &&fmulAll, &&fmulAll},  // fmul
        {&&fmulsAll, &&fmulsAll, &&fmulsAll},  // fmuls
        {&&fmulsuAll, &&fmulsuAll, &&fmulsuAll},  // fmulsu
        {&&lsrAll, &&lsrCz, &&lsrNone},  // lsr
        {&&rorAll, &&rorCz, &&rorNone},  // ror
        {&&asrAll, &&asrCz, &&asrNone},  // asr
        {&&doSwap, &&doSwap, &&doSwap},  // swap
        {&&doMov, &&doMov, &&doMov},  // mov
        {&&doMovw, &&doMovw, &&doMovw},  // movw
        {&&doLdi, &&doLdi, &&doLdi},  // ldi
        {&&doLds, &&doLds, &&doLds},  // lds
        {&&doSts, &&doSts, &&doSts},  // sts
        {&&doLdX, &&doLdX, &&doLdX},  // ldX
        {&&doLdXInc, &&doLdXInc, &&doLdXInc},  // ldXInc
        {&&doLdXDec, &&doLdXDec, &&doLdXDec},  // ldXDec
        {&&doLddY, &&doLddY, &&doLddY},  // lddY
        {&&doLdYInc, &&doLdYInc, &&doLdYInc},  // ldYInc
        {&&doLdYDec, &&doLdYDec, &&doLdYDec},  // ldYDec
        {&&doLddZ, &&doLddZ, &&doLddZ},  // lddZ
        {&&doLdZInc, &&doLdZInc, &&doLdZInc},  // ldZInc
        {&&doLdZDec, &&doLdZDec, &&doLdZDec},  // ldZDec
        {&&doStX, &&doStX, &&doStX},  // stX
        {&&doStXInc, &&doStXInc, &&doStXInc},  // stXInc
        {&&doStXDec, &&doStXDec, &&doStXDec},  // stXDec
        {&&doStdY, &&doStdY, &&doStdY},  // stdY
        {&&doStYInc, &&doStYInc, &&doStYInc},  // stYInc
        {&&doStYDec, &&doStYDec, &&doStYDec},  // stYDec
        {&&doStdZ, &&doStdZ, &&doStdZ},  // stdZ
        {&&doStZInc, &&doStZInc, &&doStZInc},  // stZInc
        {&&doStZDec, &&doStZDec, &&doStZDec},  // stZDec
        {&&slow, &&slow, &&slow},  // lpm0
        {&&doLpm, &&doLpm, &&doLpm},  // lpm
        {&&doLpmInc, &&doLpmInc, &&doLpmInc},  // lpmInc
        {&&slow, &&slow, &&slow},  // elpm0
        {&&slow, &&slow, &&slow},  // elpm
        {&&slow, &&slow, &&slow},  // elpmInc
        {&&slow, &&slow, &&slow},  // spm
        {&&doIn, &&doIn, &&doIn},  // in
        {&&doOut, &&doOut, &&doOut},  // out
        {&&doPush, &&doPush, &&doPush},  // push
        {&&doPop, &&doPop, &&doPop},  // pop
        {&&slow, &&slow, &&slow},  // bset
        {&&slow, &&slow, &&slow},  // bclr
        {&&doBst, &&doBst, &&doBst},  // bst
        {&&doBld, &&doBld, &&doBld},  // bld
        {&&doSbi, &&doSbi, &&doSbi},  // sbi
        {&&doCbi, &&doCbi, &&doCbi},  // cbi
        {&&doRjmp, &&doRjmp, &&doRjmp},  // rjmp
        {&&doIjmp, &&doIjmp, &&doIjmp},  // ijmp
        {&&slow, &&slow, &&slow},  // eijmp
        {&&doRjmp, &&doRjmp, &&doRjmp},  // jmp
        {&&doRcall, &&doRcall, &&doRcall},  // rcall
        {&&doIcall, &&doIcall, &&doIcall},  // icall
        {&&slow, &&slow, &&slow},  // eicall
        {&&doRcall, &&doRcall, &&doRcall},  // call
        {&&doRet, &&doRet, &&doRet},  // ret
        {&&doReti, &&doReti, &&doReti},  // reti
        {&&doCpse, &&doCpse, &&doCpse},  // cpse
        {&&doSbrc, &&doSbrc, &&doSbrc},  // sbrc
        {&&doSbrs, &&doSbrs, &&doSbrs},  // sbrs
        {&&doSbic, &&doSbic, &&doSbic},  // sbic
        {&&doSbis, &&doSbis, &&doSbis},  // sbis
        {&&slow, &&slow, &&slow},  // brbs
        {&&slow, &&slow, &&slow},  // brbc
        {&&doNop, &&doNop, &&doNop},  // nop
        {&&slow, &&slow, &&slow},  // sleep
        {&&slow, &&slow, &&slow},  // wdr
        {&&doNop, &&doNop, &&doNop},  // break
        {&&slow, &&slow, &&slow},  // undefined
        {&&slow, &&slow, &&slow},  // erased
        {&&slow, &&slow, &&slow},  // outside
    };
    if (table != nullptr) {
        for (std::size_t op = 0; op < kOps; ++op)
            std::copy(labels[op], labels[op] + kLives, table->byOp[op].begin());
        auto& special = table->special;
        special[0] = &&ifSetC;
        special[1] = &&ifClearC;
        special[2] = &&ifSetZ;
        special[3] = &&ifClearZ;
        special[4] = &&ifSetN;
        special[5] = &&ifClearN;
        special[6] = &&ifSetV;
        special[7] = &&ifClearV;
        special[8] = &&ifSetS;
        special[9] = &&ifClearS;
        special[10] = &&ifSetH;
        special[11] = &&ifClearH;
        special[12] = &&ifSetT;
        special[13] = &&ifClearT;
        special[14] = &&ifSetI;
        special[15] = &&ifClearI;
        special[kSetC] = &&setC;
        special[kClearC] = &&clearC;
        special[kSetT] = &&setT;
        special[kClearT] = &&clearT;
        special[kClearI] = &&clearI;
        special[kSelfJump] = &&selfJump;
        special[kSlow] = &&slow;
        special[kLdsIo] = &&doLdsIo;
        special[kStsIo] = &&doStsIo;
        special[kInSp] = &&doInSp;
        special[kInSreg] = &&doInSreg;
        special[kOutSreg] = &&doOutSreg;
        special[kSetI] = &&setI;
        special[kBreakpoint] = &&leave;
        special[kAcross] = &&across;
        special[kCountByte] = &&countByte;
        special[kCountWord] = &&countWord;
        special[kCountLong] = &&countLong;
        table->pairs = {
            {{&&addCz, &&adcAll}, &&addCzThenAdcAll},
            {{&&addCz, &&adcCz}, &&addCzThenAdcCz},
            {{&&addCz, &&adcNone}, &&addCzThenAdcNone},
            {{&&adcCz, &&adcAll}, &&adcCzThenAdcAll},
            {{&&adcCz, &&adcCz}, &&adcCzThenAdcCz},
            {{&&adcCz, &&adcNone}, &&adcCzThenAdcNone},
            {{&&subCz, &&sbcAll}, &&subCzThenSbcAll},
            {{&&subCz, &&sbcCz}, &&subCzThenSbcCz},
            {{&&subCz, &&sbcNone}, &&subCzThenSbcNone},
            {{&&sbcCz, &&sbcAll}, &&sbcCzThenSbcAll},
            {{&&sbcCz, &&sbcCz}, &&sbcCzThenSbcCz},
            {{&&sbcCz, &&sbcNone}, &&sbcCzThenSbcNone},
            {{&&subiCz, &&sbciAll}, &&subiCzThenSbciAll},
            {{&&subiCz, &&sbciCz}, &&subiCzThenSbciCz},
            {{&&subiCz, &&sbciNone}, &&subiCzThenSbciNone},
            {{&&sbciCz, &&sbciAll}, &&sbciCzThenSbciAll},
            {{&&sbciCz, &&sbciCz}, &&sbciCzThenSbciCz},
            {{&&sbciCz, &&sbciNone}, &&sbciCzThenSbciNone},
            {{&&lsrAll, &&rorAll}, &&lsrAllThenRorAll},
            {{&&rorAll, &&rorAll}, &&rorAllThenRorAll},
            {{&&lsrCz, &&rorCz}, &&lsrCzThenRorCz},
            {{&&lsrCz, &&rorNone}, &&lsrCzThenRorNone},
            {{&&rorCz, &&rorCz}, &&rorCzThenRorCz},
            {{&&rorCz, &&rorNone}, &&rorCzThenRorNone},
            {{&&cpCz, &&cpcAll}, &&cpCzThenCpcAll},
            {{&&cpCz, &&cpcCz}, &&cpCzThenCpcCz},
            {{&&cpcCz, &&cpcAll}, &&cpcCzThenCpcAll},
            {{&&cpcCz, &&cpcCz}, &&cpcCzThenCpcCz},
            {{&&cpiCz, &&cpcAll}, &&cpiCzThenCpcAll},
            {{&&cpiCz, &&cpcCz}, &&cpiCzThenCpcCz},
            {{&&cpAll, &&ifSetZ}, &&cpAllThenIfSetZ},
            {{&&cpAll, &&ifClearZ}, &&cpAllThenIfClearZ},
            {{&&cpAll, &&ifSetC}, &&cpAllThenIfSetC},
            {{&&cpAll, &&ifClearC}, &&cpAllThenIfClearC},
            {{&&cpcAll, &&ifSetZ}, &&cpcAllThenIfSetZ},
            {{&&cpcAll, &&ifClearZ}, &&cpcAllThenIfClearZ},
            {{&&cpcAll, &&ifSetC}, &&cpcAllThenIfSetC},
            {{&&cpcAll, &&ifClearC}, &&cpcAllThenIfClearC},
            {{&&cpiAll, &&ifSetZ}, &&cpiAllThenIfSetZ},
            {{&&cpiAll, &&ifClearZ}, &&cpiAllThenIfClearZ},
            {{&&cpiAll, &&ifSetC}, &&cpiAllThenIfSetC},
            {{&&cpiAll, &&ifClearC}, &&cpiAllThenIfClearC},
            {{&&decAll, &&ifSetZ}, &&decAllThenIfSetZ},
            {{&&decAll, &&ifClearZ}, &&decAllThenIfClearZ},
            {{&&subiAll, &&ifSetZ}, &&subiAllThenIfSetZ},
            {{&&subiAll, &&ifClearZ}, &&subiAllThenIfClearZ},
            {{&&sbciAll, &&ifSetZ}, &&sbciAllThenIfSetZ},
            {{&&sbciAll, &&ifClearZ}, &&sbciAllThenIfClearZ},
            {{&&andAll, &&ifSetZ}, &&andAllThenIfSetZ},
            {{&&andAll, &&ifClearZ}, &&andAllThenIfClearZ},
            {{&&andiAll, &&ifSetZ}, &&andiAllThenIfSetZ},
            {{&&andiAll, &&ifClearZ}, &&andiAllThenIfClearZ},
            {{&&orAll, &&ifSetZ}, &&orAllThenIfSetZ},
            {{&&orAll, &&ifClearZ}, &&orAllThenIfClearZ},
            {{&&doLdi, &&doLdi}, &&ldiThenLdi},
            {{&&doLdi, &&eorAll}, &&ldiThenEorAll},
            {{&&doLdi, &&eorNone}, &&ldiThenEorNone},
            {{&&doLdi, &&subAll}, &&ldiThenSubAll},
            {{&&eorAll, &&doLdi}, &&eorAllThenLdi},
            {{&&eorNone, &&doLdi}, &&eorNoneThenLdi},
            {{&&doMov, &&doMov}, &&movThenMov},
            {{&&doMovw, &&doMovw}, &&movwThenMovw},
            {{&&doMovw, &&doLdi}, &&movwThenLdi},
            {{&&doMovw, &&mulAll}, &&movwThenMulAll},
            {{&&mulAll, &&doMovw}, &&mulAllThenMovw},
            {{&&mulAll, &&addCz}, &&mulAllThenAddCz},
            {{&&doLddY, &&doLddY}, &&lddYThenLddY},
            {{&&doLddZ, &&doLddZ}, &&lddZThenLddZ},
            {{&&doLdXInc, &&doLdXInc}, &&ldXIncThenLdXInc},
            {{&&doStdY, &&doStdY}, &&stdYThenStdY},
            {{&&doPush, &&doPush}, &&pushThenPush},
            {{&&doPop, &&doPop}, &&popThenPop},
        };
        return;
    }

    Cpu& cpu = cpu_;
    Record* const records = records_.data();
    const std::int64_t* const prefix = prefix_.data();
    std::uint8_t* const R = cpu.data.data();
    const auto* const flash = reinterpret_cast<const std::uint8_t*>(cpu.flash_.data());
    const std::uint32_t flashWords = cpu.core_.flashWords;
    const std::uint32_t flashBytes = std::min<std::uint32_t>(flashWords * 2, 0x10000);
    std::uint8_t* const access = cpu.access_.data();
    const std::uint32_t ramStart = cpu.core_.ramStart;
    const std::uint32_t ramSpan = cpu.core_.ramEnd - ramStart;
    const std::uint32_t pcBytes = cpu.core_.longPc ? 3 : 2;

    const std::int64_t start = cpu.cycle;
    const std::int64_t countAtStart = cpu.instructions;
    auto limit = static_cast<std::uint32_t>(std::min(cpu.deadline - start, kLongestSlice));
    std::int64_t deadline = cpu.deadline;  // that limit was made of
    Record* r = records + cpu.pc;
    std::int64_t base = -prefix[cpu.pc];
    LazyFlags f(cpu.sreg);
    unsigned ti = cpu.sreg & (kT | kI);
    goto arrived;

    // A transfer that may lead into another part of the code.
across:
    base += r->delta;
    r = records + r->target;
landed:
    if (cpu.codeTime != nullptr)
        if (const std::uint16_t part = cpu.codeTime->known(static_cast<std::size_t>(r - records)); part != cpu.codeTime->present())
            cpu.codeTime->change(part, start + static_cast<std::uint32_t>(base + prefix[r - records]));
    goto arrived;

    // A taken transfer: the only place where time is looked at.
taken:
    base += r->delta;
    r = records + r->target;
arrived:
    if (static_cast<std::uint32_t>(base) + r->need >= limit) [[unlikely]]
        goto near;
    goto *r->handler;

    // The limit lies in the straight code ahead, or behind already. The last place before it where every flag is exact gets a guard in place of
    // its handler: there the engine is left, and the stepper goes the rest of the way. Where there is no such place, it is left here.
near:
    {
        takeGuardOff();
        const auto here = static_cast<std::uint32_t>(r - records);
        std::uint32_t last = here;
        std::uint32_t at = here;
        for (; at < flashWords && static_cast<std::uint32_t>(base + prefix[strides_[at].end]) < limit; at = strides_[at].end)
            if (strides_[at].lastExact != 0)
                last = at + strides_[at].lastExact - 1;
        for (; at < flashWords && static_cast<std::uint32_t>(base + prefix[at]) < limit; at += cpu.decoded_[at].words)
            if (exact_[at] != 0)
                last = at;
        if (last == here)
            goto leave;
        guard_.at = records + last;
        guard_.own = std::exchange(guard_.at->handler, &&atGuard);
        guard_.before = std::exchange(guard_.at[-1].handler, alone_[last - 1]);
        goto *r->handler;
    }

atGuard:
    if (static_cast<std::uint32_t>(base) + r->need >= limit)
        goto leave;
    goto *guard_.own;

leave:
    takeGuardOff();
    {
        const std::int64_t now = base + prefix[r - records];
        cpu.pc = static_cast<std::uint32_t>(r - records);
        cpu.cycle = start + static_cast<std::uint32_t>(now);
        cpu.instructions = countAtStart + (now >> 32);
        cpu.sreg = static_cast<std::uint8_t>(f.sreg() | ti);
        return;
    }

    // Whatever may look at the chip: write back, one step by the reference, read again.
slow:
    takeGuardOff();
    {
        const std::int64_t now = base + prefix[r - records];
        cpu.pc = static_cast<std::uint32_t>(r - records);
        cpu.cycle = start + static_cast<std::uint32_t>(now);
        cpu.instructions = countAtStart + (now >> 32);
        cpu.sreg = static_cast<std::uint8_t>(f.sreg() | ti);
        cpu.step();
        if (cpu.deadline <= cpu.cycle || cpu.pc >= flashWords || cpu.holdInterrupts || cpu.sleeping || cpu.stopped() || cpu.loadsAsk || !isRepresentable(cpu.sreg))
            return;
        deadline = cpu.deadline;
        limit = static_cast<std::uint32_t>(std::min(deadline - start, kLongestSlice));
        f = LazyFlags(cpu.sreg);
        ti = cpu.sreg & (kT | kI);
        base = ((cpu.instructions - countAtStart) << 32) + (cpu.cycle - start) - prefix[cpu.pc];
        r = records + cpu.pc;
        goto arrived;
    }

    // I/O at its exact cycle, without leaving the engine: what it may change is the deadline, and how long the core stands. Flags stay in
    // their lazy form, because no peripheral looks at them.
afterIo:
    if (cpu.deadline != deadline || cpu.stall != 0) [[unlikely]] {
        if (cpu.loadsAsk)
            goto leave;
        base += std::exchange(cpu.stall, 0);
        deadline = cpu.deadline;
        if (deadline <= start)
            goto leave;
        limit = static_cast<std::uint32_t>(std::min(deadline - start, kLongestSlice));
        goto arrived;
    }
    goto *r->handler;

    // A jump to itself can only be left at the deadline: go there in one step.
selfJump:
    {
        if (cpu.stopAtHalt && (ti & kI) == 0) {
            cpu.stopBy(INT64_MIN);
            goto leave;
        }
        const std::uint32_t now = static_cast<std::uint32_t>(base + prefix[r - records]);
        const std::int64_t rounds = (limit - now + r->k - 1) / r->k;
        base += rounds * (kOneInstruction + r->k);
        goto leave;
    }

doIn:
    R[r->d] = cpu.bus_->ioRead(r->k, enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records])));
    ++r;
    goto afterIo;

doOut:
    cpu.bus_->ioWrite(r->k, R[r->d], enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records])) + 1);
    ++r;
    goto afterIo;

doInSp:
    R[r->d] = static_cast<std::uint8_t>(r->k == kSpl ? cpu.sp : cpu.sp >> 8);
    ++r;
    goto *r->handler;

doInSreg:
    R[r->d] = static_cast<std::uint8_t>(f.sreg() | ti);
    ++r;
    goto *r->handler;

    // Interrupts that become enabled are let in after one more instruction. Where one waits, or may come so soon, the stepper sees to that.
doOutSreg:
    {
        const std::uint8_t value = R[r->d];
        if ((value & ~ti & kI) != 0 && (cpu.bus_->interruptPending() || static_cast<std::uint32_t>(base + prefix[r - records]) + kSoon >= limit))
            goto slow;
        if (!isRepresentable(value))
            goto slow;
        f = LazyFlags(value);
        ti = value & (kT | kI);
    }
    ++r;
    goto *r->handler;

setI:
    if (cpu.bus_->interruptPending() || static_cast<std::uint32_t>(base + prefix[r - records]) + kSoon >= limit)
        goto slow;
    ti |= kI;
    ++r;
    goto *r->handler;

doReti:
    {
        const std::uint32_t sp = cpu.sp;
        if (cpu.bus_->interruptPending() || static_cast<std::uint32_t>(base + prefix[r - records]) + kSoon >= limit)
            goto slow;
        if ((access[sp + 1] | access[sp + 2] | access[sp + pcBytes]) != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint32_t to = pcBytes == 2 ? static_cast<std::uint32_t>((R[sp + 1] << 8) | R[sp + 2])
                                              : static_cast<std::uint32_t>((R[sp + 1] << 16) | (R[sp + 2] << 8) | R[sp + 3]);
        if (to >= flashWords) [[unlikely]]
            goto slow;
        ti |= kI;
        cpu.sp = static_cast<std::uint16_t>(sp + pcBytes);
        base += r->delta - prefix[to];
        r = records + to;
        cpu.bus_->interruptReturned(start + static_cast<std::uint32_t>(base + prefix[to]));
    }
    goto landed;

doLdsIo:
    R[r->d] = cpu.bus_->ioRead(r->k, enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records])) + 1);
    r += 2;
    goto afterIo;

doStsIo:
    cpu.bus_->ioWrite(r->k, R[r->d], enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records])) + 2);
    r += 2;
    goto afterIo;

doSbi:
    cpu.bus_->ioWriteBit(r->k, r->r, true, enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records])) + 2);
    ++r;
    goto afterIo;

doCbi:
    cpu.bus_->ioWriteBit(r->k, r->r, false, enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records])) + 2);
    ++r;
    goto afterIo;

doSbic:
    if (((cpu.bus_->ioRead(r->k, enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records]))) >> r->r) & 1U) == 0) {
        base += r->delta;
        r = records + r->target;
    } else {
        ++r;
    }
    goto afterSkip;

doSbis:
    if (((cpu.bus_->ioRead(r->k, enterIo(cpu, static_cast<std::uint32_t>(r - records), start + static_cast<std::uint32_t>(base + prefix[r - records]))) >> r->r) & 1U) != 0) {
        base += r->delta;
        r = records + r->target;
    } else {
        ++r;
    }
    // A skip is a transfer: time is looked at in any case.
afterSkip:
    if (cpu.deadline != deadline || cpu.stall != 0 || static_cast<std::uint32_t>(base) + r->need >= limit) [[unlikely]] {
        if (cpu.loadsAsk)
            goto leave;
        base += std::exchange(cpu.stall, 0);
        deadline = cpu.deadline;
        if (deadline <= start)
            goto leave;
        limit = static_cast<std::uint32_t>(std::min(deadline - start, kLongestSlice));
        goto arrived;
    }
    goto *r->handler;

    // The branch at the end of a counted delay loop, about to be taken: the loop does nothing but count down, so all rounds that fit before the
    // limit are gone through at once. The last round, and the one in which the limit lies, run as they are.
countByte:
    if (f.z == 0) {
        ++r;
        goto *r->handler;
    }
    {
        const std::uint32_t value = R[r->d];
        const std::uint32_t rounds = roundsToSkip(value, r->k, static_cast<std::uint32_t>(base + r->delta) + records[r->target].need, limit);
        if (rounds > 0) {
            R[r->d] = f.logic<kAllFlags>(value - rounds, value - rounds == 0x7F ? 0x80U : 0U);
            base += static_cast<std::int64_t>(rounds) * (2 * kOneInstruction + kByteLoop);
        }
    }
    goto taken;

countWord:
    if (f.z == 0) {
        ++r;
        goto *r->handler;
    }
    {
        const std::uint32_t value = pair(R, r->d);
        const std::uint32_t rounds = roundsToSkip(value, r->k, static_cast<std::uint32_t>(base + r->delta) + records[r->target].need, limit);
        if (rounds > 0) {
            setPair(R, r->d, f.subtractWord<kAllFlags>(value - rounds + 1, 1));
            base += static_cast<std::int64_t>(rounds) * (2 * kOneInstruction + kWordLoop);
        }
    }
    goto taken;

    // SUBI, then SBCI of one register after another; the branch has how many in r, and which, lowest first, in the bytes of next.
countLong:
    if (f.z == 0) {
        ++r;
        goto *r->handler;
    }
    {
        std::uint32_t value = 0;
        const auto part = [R](const Record* record, unsigned i) -> std::uint8_t& { return R[(record->next >> (8 * i)) & 31U]; };
        for (unsigned i = r->r; i-- > 0;)
            value = value << 8U | part(r, i);
        const std::uint32_t rounds = roundsToSkip(value, r->k, static_cast<std::uint32_t>(base + r->delta) + records[r->target].need, limit);
        if (rounds > 0) {
            std::uint32_t before = value - rounds + 1;
            part(r, 0) = f.subtract<kAllFlags, false>(before & 0xFFU, 1, 0);
            for (unsigned i = 1; i < r->r; ++i) {
                before >>= 8U;
                part(r, i) = f.subtract<kAllFlags, true>(before & 0xFFU, 0, f.c);
            }
            base += static_cast<std::int64_t>(rounds) * ((r->r + 1) * kOneInstruction + r->r + 2);
        }
    }
    goto taken;

addAll:
    R[r->d] = f.add<kAllFlags>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

addCz:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

addNone:
    R[r->d] = f.add<kNoFlags>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

adcAll:
    R[r->d] = f.add<kAllFlags>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

adcCz:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

adcNone:
    R[r->d] = f.add<kNoFlags>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

subAll:
    R[r->d] = f.subtract<kAllFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

subCz:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

subNone:
    R[r->d] = f.subtract<kNoFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

subiAll:
    R[r->d] = f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto *r->handler;

subiCz:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto *r->handler;

subiNone:
    R[r->d] = f.subtract<kNoFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto *r->handler;

sbcAll:
    R[r->d] = f.subtract<kAllFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

sbcCz:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

sbcNone:
    R[r->d] = f.subtract<kNoFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

sbciAll:
    R[r->d] = f.subtract<kAllFlags, true>(R[r->d], r->k, f.c);
    ++r;
    goto *r->handler;

sbciCz:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], r->k, f.c);
    ++r;
    goto *r->handler;

sbciNone:
    R[r->d] = f.subtract<kNoFlags, true>(R[r->d], r->k, f.c);
    ++r;
    goto *r->handler;

lsrAll:
    R[r->d] = f.shift<kAllFlags>(R[r->d], R[r->d] >> 1U);
    ++r;
    goto *r->handler;

lsrCz:
    R[r->d] = f.shift<kCarryZero>(R[r->d], R[r->d] >> 1U);
    ++r;
    goto *r->handler;

lsrNone:
    R[r->d] = f.shift<kNoFlags>(R[r->d], R[r->d] >> 1U);
    ++r;
    goto *r->handler;

rorAll:
    R[r->d] = f.shift<kAllFlags>(R[r->d], (R[r->d] >> 1U) | (f.c << 7U));
    ++r;
    goto *r->handler;

rorCz:
    R[r->d] = f.shift<kCarryZero>(R[r->d], (R[r->d] >> 1U) | (f.c << 7U));
    ++r;
    goto *r->handler;

rorNone:
    R[r->d] = f.shift<kNoFlags>(R[r->d], (R[r->d] >> 1U) | (f.c << 7U));
    ++r;
    goto *r->handler;

asrAll:
    R[r->d] = f.shift<kAllFlags>(R[r->d], (R[r->d] >> 1U) | (R[r->d] & 0x80U));
    ++r;
    goto *r->handler;

asrCz:
    R[r->d] = f.shift<kCarryZero>(R[r->d], (R[r->d] >> 1U) | (R[r->d] & 0x80U));
    ++r;
    goto *r->handler;

asrNone:
    R[r->d] = f.shift<kNoFlags>(R[r->d], (R[r->d] >> 1U) | (R[r->d] & 0x80U));
    ++r;
    goto *r->handler;

cpAll:
    f.subtract<kAllFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

cpCz:
    f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto *r->handler;

cpcAll:
    f.subtract<kAllFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

cpcCz:
    f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto *r->handler;

cpiAll:
    f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto *r->handler;

cpiCz:
    f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto *r->handler;

andAll:
    R[r->d] = f.logic<kAllFlags>(R[r->d] & R[r->r], 0);
    ++r;
    goto *r->handler;

andNone:
    R[r->d] = f.logic<kNoFlags>(R[r->d] & R[r->r], 0);
    ++r;
    goto *r->handler;

andiAll:
    R[r->d] = f.logic<kAllFlags>(R[r->d] & r->k, 0);
    ++r;
    goto *r->handler;

andiNone:
    R[r->d] = f.logic<kNoFlags>(R[r->d] & r->k, 0);
    ++r;
    goto *r->handler;

orAll:
    R[r->d] = f.logic<kAllFlags>(R[r->d] | R[r->r], 0);
    ++r;
    goto *r->handler;

orNone:
    R[r->d] = f.logic<kNoFlags>(R[r->d] | R[r->r], 0);
    ++r;
    goto *r->handler;

oriAll:
    R[r->d] = f.logic<kAllFlags>(R[r->d] | r->k, 0);
    ++r;
    goto *r->handler;

oriNone:
    R[r->d] = f.logic<kNoFlags>(R[r->d] | r->k, 0);
    ++r;
    goto *r->handler;

eorAll:
    R[r->d] = f.logic<kAllFlags>(R[r->d] ^ R[r->r], 0);
    ++r;
    goto *r->handler;

eorNone:
    R[r->d] = f.logic<kNoFlags>(R[r->d] ^ R[r->r], 0);
    ++r;
    goto *r->handler;

incAll:
    R[r->d] = f.logic<kAllFlags>((R[r->d] + 1U) & 0xFFU, R[r->d] == 0x7F ? 0x80U : 0U);
    ++r;
    goto *r->handler;

incNone:
    R[r->d] = f.logic<kNoFlags>((R[r->d] + 1U) & 0xFFU, R[r->d] == 0x7F ? 0x80U : 0U);
    ++r;
    goto *r->handler;

decAll:
    R[r->d] = f.logic<kAllFlags>((R[r->d] - 1U) & 0xFFU, R[r->d] == 0x80 ? 0x80U : 0U);
    ++r;
    goto *r->handler;

decNone:
    R[r->d] = f.logic<kNoFlags>((R[r->d] - 1U) & 0xFFU, R[r->d] == 0x80 ? 0x80U : 0U);
    ++r;
    goto *r->handler;

comAll:
    R[r->d] = f.logic<kAllFlags>(R[r->d] ^ 0xFFU, 0);
    f.c = 1;
    ++r;
    goto *r->handler;

negAll:
    R[r->d] = f.subtract<kAllFlags, false>(0, R[r->d], 0);
    ++r;
    goto *r->handler;

adiwAll:
    setPair(R, r->d, f.addWord<kAllFlags>(pair(R, r->d), r->k));
    ++r;
    goto *r->handler;

adiwCz:
    setPair(R, r->d, f.addWord<kCarryZero>(pair(R, r->d), r->k));
    ++r;
    goto *r->handler;

adiwNone:
    setPair(R, r->d, f.addWord<kNoFlags>(pair(R, r->d), r->k));
    ++r;
    goto *r->handler;

sbiwAll:
    setPair(R, r->d, f.subtractWord<kAllFlags>(pair(R, r->d), r->k));
    ++r;
    goto *r->handler;

sbiwCz:
    setPair(R, r->d, f.subtractWord<kCarryZero>(pair(R, r->d), r->k));
    ++r;
    goto *r->handler;

sbiwNone:
    setPair(R, r->d, f.subtractWord<kNoFlags>(pair(R, r->d), r->k));
    ++r;
    goto *r->handler;

mulAll:
    setPair(R, 0, f.product(R[r->d] * R[r->r], 0));
    ++r;
    goto *r->handler;

mulsAll:
    setPair(R, 0, f.product(signed8(R[r->d]) * signed8(R[r->r]), 0));
    ++r;
    goto *r->handler;

mulsuAll:
    setPair(R, 0, f.product(signed8(R[r->d]) * R[r->r], 0));
    ++r;
    goto *r->handler;

fmulAll:
    setPair(R, 0, f.product(R[r->d] * R[r->r], 1));
    ++r;
    goto *r->handler;

fmulsAll:
    setPair(R, 0, f.product(signed8(R[r->d]) * signed8(R[r->r]), 1));
    ++r;
    goto *r->handler;

fmulsuAll:
    setPair(R, 0, f.product(signed8(R[r->d]) * R[r->r], 1));
    ++r;
    goto *r->handler;

doSwap:
    R[r->d] = static_cast<std::uint8_t>((R[r->d] << 4) | (R[r->d] >> 4));
    ++r;
    goto *r->handler;

doMov:
    R[r->d] = R[r->r];
    ++r;
    goto *r->handler;

doMovw:
    setPair(R, r->d, pair(R, r->r));
    ++r;
    goto *r->handler;

doLdi:
    R[r->d] = static_cast<std::uint8_t>(r->k);
    ++r;
    goto *r->handler;

doLds:
    {
        const std::uint32_t address = r->k;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
    }
    r += 2;  // past the address word
    goto *r->handler;

doSts:
    {
        const std::uint32_t address = r->k;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
    }
    r += 2;  // past the address word
    goto *r->handler;

doLdX:
    {
        const std::uint32_t address = pair(R, 26);
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
    }
    ++r;
    goto *r->handler;

doStX:
    {
        const std::uint32_t address = pair(R, 26);
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
    }
    ++r;
    goto *r->handler;

doLdXInc:
    {
        const std::uint32_t address = pair(R, 26);
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 26, address + 1);
        R[r->d] = value;
    }
    ++r;
    goto *r->handler;

doLdXDec:
    {
        const std::uint32_t address = (pair(R, 26) - 1U) & 0xFFFFU;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 26, address);
        R[r->d] = value;
    }
    ++r;
    goto *r->handler;

doStXInc:
    {
        const std::uint32_t address = pair(R, 26);
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        const std::uint8_t value = R[r->d];
        setPair(R, 26, address + 1);
        R[address] = value;
    }
    ++r;
    goto *r->handler;

doStXDec:
    {
        const std::uint32_t address = (pair(R, 26) - 1U) & 0xFFFFU;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        const std::uint8_t value = R[r->d];
        setPair(R, 26, address);
        R[address] = value;
    }
    ++r;
    goto *r->handler;

doLddY:
    {
        const std::uint32_t address = pair(R, 28) + r->k;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
    }
    ++r;
    goto *r->handler;

doStdY:
    {
        const std::uint32_t address = pair(R, 28) + r->k;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
    }
    ++r;
    goto *r->handler;

doLdYInc:
    {
        const std::uint32_t address = pair(R, 28);
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 28, address + 1);
        R[r->d] = value;
    }
    ++r;
    goto *r->handler;

doLdYDec:
    {
        const std::uint32_t address = (pair(R, 28) - 1U) & 0xFFFFU;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 28, address);
        R[r->d] = value;
    }
    ++r;
    goto *r->handler;

doStYInc:
    {
        const std::uint32_t address = pair(R, 28);
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        const std::uint8_t value = R[r->d];
        setPair(R, 28, address + 1);
        R[address] = value;
    }
    ++r;
    goto *r->handler;

doStYDec:
    {
        const std::uint32_t address = (pair(R, 28) - 1U) & 0xFFFFU;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        const std::uint8_t value = R[r->d];
        setPair(R, 28, address);
        R[address] = value;
    }
    ++r;
    goto *r->handler;

doLddZ:
    {
        const std::uint32_t address = pair(R, 30) + r->k;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
    }
    ++r;
    goto *r->handler;

doStdZ:
    {
        const std::uint32_t address = pair(R, 30) + r->k;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
    }
    ++r;
    goto *r->handler;

doLdZInc:
    {
        const std::uint32_t address = pair(R, 30);
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 30, address + 1);
        R[r->d] = value;
    }
    ++r;
    goto *r->handler;

doLdZDec:
    {
        const std::uint32_t address = (pair(R, 30) - 1U) & 0xFFFFU;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 30, address);
        R[r->d] = value;
    }
    ++r;
    goto *r->handler;

doStZInc:
    {
        const std::uint32_t address = pair(R, 30);
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        const std::uint8_t value = R[r->d];
        setPair(R, 30, address + 1);
        R[address] = value;
    }
    ++r;
    goto *r->handler;

doStZDec:
    {
        const std::uint32_t address = (pair(R, 30) - 1U) & 0xFFFFU;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        const std::uint8_t value = R[r->d];
        setPair(R, 30, address);
        R[address] = value;
    }
    ++r;
    goto *r->handler;

doLpm:
    {
        const std::uint32_t z = pair(R, 30);
        if (z >= flashBytes) [[unlikely]]
            goto slow;
        R[r->d] = flash[z];
    }
    ++r;
    goto *r->handler;

doLpmInc:
    {
        const std::uint32_t z = pair(R, 30);
        if (z >= flashBytes) [[unlikely]]
            goto slow;
        setPair(R, 30, z + 1);
        R[r->d] = flash[z];
    }
    ++r;
    goto *r->handler;

doPush:
    {
        const std::uint32_t address = cpu.sp;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
        cpu.sp = static_cast<std::uint16_t>(address - 1);
        cpu.noteSp(cpu.sp);
    }
    ++r;
    goto *r->handler;

doPop:
    {
        const std::uint32_t address = cpu.sp + 1U;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
        cpu.sp = static_cast<std::uint16_t>(address);
    }
    ++r;
    goto *r->handler;

setC:
    f.c = 1;
    ++r;
    goto *r->handler;

clearC:
    f.c = 0;
    ++r;
    goto *r->handler;

setT:
    ti |= kT;
    ++r;
    goto *r->handler;

clearT:
    ti &= ~unsigned{kT};
    ++r;
    goto *r->handler;

clearI:
    ti &= ~unsigned{kI};
    ++r;
    goto *r->handler;

doBst:
    ti = (ti & ~unsigned{kT}) | (((R[r->d] >> r->r) & 1U) << 6U);
    ++r;
    goto *r->handler;

doBld:
    R[r->d] = static_cast<std::uint8_t>((R[r->d] & ~(1U << r->r)) | (((ti >> 6U) & 1U) << r->r));
    ++r;
    goto *r->handler;

doRjmp:
    goto taken;

doIjmp:
    {
        const std::uint32_t to = pair(R, 30);
        if (to >= flashWords) [[unlikely]]
            goto slow;
        base += r->delta - prefix[to];
        r = records + to;
    }
    goto landed;

doRcall:
    {
        const std::uint32_t sp = cpu.sp;
        if (sp - pcBytes - ramStart > ramSpan - pcBytes) [[unlikely]]
            goto slow;
        access[sp] = access[sp - 1] = Cpu::kPlain;
        R[sp] = static_cast<std::uint8_t>(r->next);
        R[sp - 1] = static_cast<std::uint8_t>(r->next >> 8);
        if (pcBytes == 3) {
            access[sp - 2] = Cpu::kPlain;
            R[sp - 2] = static_cast<std::uint8_t>(r->next >> 16);
        }
        cpu.sp = static_cast<std::uint16_t>(sp - pcBytes);
        cpu.noteSp(cpu.sp);
    }
    goto across;

doIcall:
    {
        const std::uint32_t sp = cpu.sp;
        if (sp - pcBytes - ramStart > ramSpan - pcBytes) [[unlikely]]
            goto slow;
        const std::uint32_t to = pair(R, 30);
        if (to >= flashWords) [[unlikely]]
            goto slow;
        access[sp] = access[sp - 1] = Cpu::kPlain;
        R[sp] = static_cast<std::uint8_t>(r->next);
        R[sp - 1] = static_cast<std::uint8_t>(r->next >> 8);
        if (pcBytes == 3) {
            access[sp - 2] = Cpu::kPlain;
            R[sp - 2] = static_cast<std::uint8_t>(r->next >> 16);
        }
        cpu.sp = static_cast<std::uint16_t>(sp - pcBytes);
        cpu.noteSp(cpu.sp);
        base += r->delta - prefix[to];
        r = records + to;
    }
    goto landed;

doRet:
    {
        const std::uint32_t sp = cpu.sp;
        if ((access[sp + 1] | access[sp + 2] | access[sp + pcBytes]) != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint32_t to = pcBytes == 2 ? static_cast<std::uint32_t>((R[sp + 1] << 8) | R[sp + 2])
                                              : static_cast<std::uint32_t>((R[sp + 1] << 16) | (R[sp + 2] << 8) | R[sp + 3]);
        if (to >= flashWords) [[unlikely]]
            goto slow;
        cpu.sp = static_cast<std::uint16_t>(sp + pcBytes);
        base += r->delta - prefix[to];
        r = records + to;
    }
    goto landed;

doCpse:
    if (R[r->d] == R[r->r])
        goto taken;
    ++r;
    goto *r->handler;

doSbrc:
    if (((R[r->d] >> r->r) & 1U) == 0)
        goto taken;
    ++r;
    goto *r->handler;

doSbrs:
    if (((R[r->d] >> r->r) & 1U) != 0)
        goto taken;
    ++r;
    goto *r->handler;

ifSetC:
    if (f.c != 0)
        goto taken;
    ++r;
    goto *r->handler;

ifClearC:
    if (!(f.c != 0))
        goto taken;
    ++r;
    goto *r->handler;

ifSetZ:
    if (f.z == 0)
        goto taken;
    ++r;
    goto *r->handler;

ifClearZ:
    if (!(f.z == 0))
        goto taken;
    ++r;
    goto *r->handler;

ifSetN:
    if (f.negative())
        goto taken;
    ++r;
    goto *r->handler;

ifClearN:
    if (!(f.negative()))
        goto taken;
    ++r;
    goto *r->handler;

ifSetV:
    if (f.overflow())
        goto taken;
    ++r;
    goto *r->handler;

ifClearV:
    if (!(f.overflow()))
        goto taken;
    ++r;
    goto *r->handler;

ifSetS:
    if (f.negative() != f.overflow())
        goto taken;
    ++r;
    goto *r->handler;

ifClearS:
    if (!(f.negative() != f.overflow()))
        goto taken;
    ++r;
    goto *r->handler;

ifSetH:
    if ((f.h & 16U) != 0)
        goto taken;
    ++r;
    goto *r->handler;

ifClearH:
    if (!((f.h & 16U) != 0))
        goto taken;
    ++r;
    goto *r->handler;

ifSetT:
    if ((ti & kT) != 0)
        goto taken;
    ++r;
    goto *r->handler;

ifClearT:
    if (!((ti & kT) != 0))
        goto taken;
    ++r;
    goto *r->handler;

ifSetI:
    if ((ti & kI) != 0)
        goto taken;
    ++r;
    goto *r->handler;

ifClearI:
    if (!((ti & kI) != 0))
        goto taken;
    ++r;
    goto *r->handler;

doNop:
    ++r;
    goto *r->handler;

    // Pairs that compilers write often: the first does its work, and the second follows without a look at its record's handler.
addCzThenAdcAll:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], 0);
    ++r;
    goto adcAll;

addCzThenAdcCz:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], 0);
    ++r;
    goto adcCz;

addCzThenAdcNone:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], 0);
    ++r;
    goto adcNone;

adcCzThenAdcAll:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], f.c);
    ++r;
    goto adcAll;

adcCzThenAdcCz:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], f.c);
    ++r;
    goto adcCz;

adcCzThenAdcNone:
    R[r->d] = f.add<kCarryZero>(R[r->d], R[r->r], f.c);
    ++r;
    goto adcNone;

subCzThenSbcAll:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto sbcAll;

subCzThenSbcCz:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto sbcCz;

subCzThenSbcNone:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto sbcNone;

sbcCzThenSbcAll:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto sbcAll;

sbcCzThenSbcCz:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto sbcCz;

sbcCzThenSbcNone:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto sbcNone;

subiCzThenSbciAll:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto sbciAll;

subiCzThenSbciCz:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto sbciCz;

subiCzThenSbciNone:
    R[r->d] = f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto sbciNone;

sbciCzThenSbciAll:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], r->k, f.c);
    ++r;
    goto sbciAll;

sbciCzThenSbciCz:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], r->k, f.c);
    ++r;
    goto sbciCz;

sbciCzThenSbciNone:
    R[r->d] = f.subtract<kCarryZero, true>(R[r->d], r->k, f.c);
    ++r;
    goto sbciNone;

lsrAllThenRorAll:
    R[r->d] = f.shift<kAllFlags>(R[r->d], R[r->d] >> 1U);
    ++r;
    goto rorAll;

rorAllThenRorAll:
    R[r->d] = f.shift<kAllFlags>(R[r->d], (R[r->d] >> 1U) | (f.c << 7U));
    ++r;
    goto rorAll;

lsrCzThenRorCz:
    R[r->d] = f.shift<kCarryZero>(R[r->d], R[r->d] >> 1U);
    ++r;
    goto rorCz;

lsrCzThenRorNone:
    R[r->d] = f.shift<kCarryZero>(R[r->d], R[r->d] >> 1U);
    ++r;
    goto rorNone;

rorCzThenRorCz:
    R[r->d] = f.shift<kCarryZero>(R[r->d], (R[r->d] >> 1U) | (f.c << 7U));
    ++r;
    goto rorCz;

rorCzThenRorNone:
    R[r->d] = f.shift<kCarryZero>(R[r->d], (R[r->d] >> 1U) | (f.c << 7U));
    ++r;
    goto rorNone;

cpCzThenCpcAll:
    f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto cpcAll;

cpCzThenCpcCz:
    f.subtract<kCarryZero, false>(R[r->d], R[r->r], 0);
    ++r;
    goto cpcCz;

cpcCzThenCpcAll:
    f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto cpcAll;

cpcCzThenCpcCz:
    f.subtract<kCarryZero, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto cpcCz;

cpiCzThenCpcAll:
    f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto cpcAll;

cpiCzThenCpcCz:
    f.subtract<kCarryZero, false>(R[r->d], r->k, 0);
    ++r;
    goto cpcCz;

cpAllThenIfSetZ:
    f.subtract<kAllFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto ifSetZ;

cpAllThenIfClearZ:
    f.subtract<kAllFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto ifClearZ;

cpAllThenIfSetC:
    f.subtract<kAllFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto ifSetC;

cpAllThenIfClearC:
    f.subtract<kAllFlags, false>(R[r->d], R[r->r], 0);
    ++r;
    goto ifClearC;

cpcAllThenIfSetZ:
    f.subtract<kAllFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto ifSetZ;

cpcAllThenIfClearZ:
    f.subtract<kAllFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto ifClearZ;

cpcAllThenIfSetC:
    f.subtract<kAllFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto ifSetC;

cpcAllThenIfClearC:
    f.subtract<kAllFlags, true>(R[r->d], R[r->r], f.c);
    ++r;
    goto ifClearC;

cpiAllThenIfSetZ:
    f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto ifSetZ;

cpiAllThenIfClearZ:
    f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto ifClearZ;

cpiAllThenIfSetC:
    f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto ifSetC;

cpiAllThenIfClearC:
    f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto ifClearC;

decAllThenIfSetZ:
    R[r->d] = f.logic<kAllFlags>((R[r->d] - 1U) & 0xFFU, R[r->d] == 0x80 ? 0x80U : 0U);
    ++r;
    goto ifSetZ;

decAllThenIfClearZ:
    R[r->d] = f.logic<kAllFlags>((R[r->d] - 1U) & 0xFFU, R[r->d] == 0x80 ? 0x80U : 0U);
    ++r;
    goto ifClearZ;

subiAllThenIfSetZ:
    R[r->d] = f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto ifSetZ;

subiAllThenIfClearZ:
    R[r->d] = f.subtract<kAllFlags, false>(R[r->d], r->k, 0);
    ++r;
    goto ifClearZ;

sbciAllThenIfSetZ:
    R[r->d] = f.subtract<kAllFlags, true>(R[r->d], r->k, f.c);
    ++r;
    goto ifSetZ;

sbciAllThenIfClearZ:
    R[r->d] = f.subtract<kAllFlags, true>(R[r->d], r->k, f.c);
    ++r;
    goto ifClearZ;

andAllThenIfSetZ:
    R[r->d] = f.logic<kAllFlags>(R[r->d] & R[r->r], 0);
    ++r;
    goto ifSetZ;

andAllThenIfClearZ:
    R[r->d] = f.logic<kAllFlags>(R[r->d] & R[r->r], 0);
    ++r;
    goto ifClearZ;

andiAllThenIfSetZ:
    R[r->d] = f.logic<kAllFlags>(R[r->d] & r->k, 0);
    ++r;
    goto ifSetZ;

andiAllThenIfClearZ:
    R[r->d] = f.logic<kAllFlags>(R[r->d] & r->k, 0);
    ++r;
    goto ifClearZ;

orAllThenIfSetZ:
    R[r->d] = f.logic<kAllFlags>(R[r->d] | R[r->r], 0);
    ++r;
    goto ifSetZ;

orAllThenIfClearZ:
    R[r->d] = f.logic<kAllFlags>(R[r->d] | R[r->r], 0);
    ++r;
    goto ifClearZ;

ldiThenLdi:
    R[r->d] = static_cast<std::uint8_t>(r->k);
    ++r;
    goto doLdi;

ldiThenEorAll:
    R[r->d] = static_cast<std::uint8_t>(r->k);
    ++r;
    goto eorAll;

ldiThenEorNone:
    R[r->d] = static_cast<std::uint8_t>(r->k);
    ++r;
    goto eorNone;

ldiThenSubAll:
    R[r->d] = static_cast<std::uint8_t>(r->k);
    ++r;
    goto subAll;

eorAllThenLdi:
    R[r->d] = f.logic<kAllFlags>(R[r->d] ^ R[r->r], 0);
    ++r;
    goto doLdi;

eorNoneThenLdi:
    R[r->d] = f.logic<kNoFlags>(R[r->d] ^ R[r->r], 0);
    ++r;
    goto doLdi;

movThenMov:
    R[r->d] = R[r->r];
    ++r;
    goto doMov;

movwThenMovw:
    setPair(R, r->d, pair(R, r->r));
    ++r;
    goto doMovw;

movwThenLdi:
    setPair(R, r->d, pair(R, r->r));
    ++r;
    goto doLdi;

movwThenMulAll:
    setPair(R, r->d, pair(R, r->r));
    ++r;
    goto mulAll;

mulAllThenMovw:
    setPair(R, 0, f.product(R[r->d] * R[r->r], 0));
    ++r;
    goto doMovw;

mulAllThenAddCz:
    setPair(R, 0, f.product(R[r->d] * R[r->r], 0));
    ++r;
    goto addCz;

lddYThenLddY:
    {
        const std::uint32_t address = pair(R, 28) + r->k;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
    }
    ++r;
    goto doLddY;

lddZThenLddZ:
    {
        const std::uint32_t address = pair(R, 30) + r->k;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
    }
    ++r;
    goto doLddZ;

ldXIncThenLdXInc:
    {
        const std::uint32_t address = pair(R, 26);
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        const std::uint8_t value = R[address];
        setPair(R, 26, address + 1);
        R[r->d] = value;
    }
    ++r;
    goto doLdXInc;

stdYThenStdY:
    {
        const std::uint32_t address = pair(R, 28) + r->k;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
    }
    ++r;
    goto doStdY;

pushThenPush:
    {
        const std::uint32_t address = cpu.sp;
        if (access[address] == Cpu::kAsk) [[unlikely]]
            goto slow;
        access[address] = Cpu::kPlain;
        R[address] = R[r->d];
        cpu.sp = static_cast<std::uint16_t>(address - 1);
        cpu.noteSp(cpu.sp);
    }
    ++r;
    goto doPush;

popThenPop:
    {
        const std::uint32_t address = cpu.sp + 1U;
        if (access[address] != Cpu::kPlain) [[unlikely]]
            goto slow;
        R[r->d] = R[address];
        cpu.sp = static_cast<std::uint16_t>(address);
    }
    ++r;
    goto doPop;
}

}  // namespace bramix::chip::avr
