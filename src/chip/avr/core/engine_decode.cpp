// Decoding flash into records: costs, targets, and which flags each instruction must still compute.
#include <algorithm>

#include "chip/avr/core/cpu.h"
#include "chip/avr/core/engine.h"
#include "chip/avr/core/engine_handlers.h"

namespace bramix::chip::avr {

namespace {

// What an instruction needs of the flags, and which it writes wholly. C and Z are one group, the rest (N V S H) another.
struct FlagUse {
    bool readsCz = false;
    bool readsRest = false;
    bool writesCz = false;
    bool writesRest = false;
};

FlagUse flagUse(Op op)
{
    switch (op) {
    case Op::add: case Op::sub: case Op::subi: case Op::cp: case Op::cpi: case Op::neg: return {false, false, true, true};
    case Op::adc: case Op::sbc: case Op::sbci: case Op::cpc: return {true, false, true, true};
    // Not written wholly: H survives shifts and word arithmetic, C and H survive logic. What was live before stays live.
    case Op::lsr: case Op::asr: case Op::adiw: case Op::sbiw: case Op::com: return {false, false, true, false};
    case Op::ror: return {true, false, true, false};
    case Op::and_: case Op::andi: case Op::or_: case Op::ori: case Op::eor: case Op::inc: case Op::dec: return {};
    case Op::mul: case Op::muls: case Op::mulsu: case Op::fmul: case Op::fmuls: case Op::fmulsu: return {false, false, true, false};
    case Op::mov: case Op::movw: case Op::ldi: case Op::swap: case Op::nop: case Op::bst: case Op::bld: return {};
    default: return {true, true, false, false};  // branches, memory, transfers, whatever may leave the engine
    }
}

}  // namespace

// The addresses of the handlers, known only inside fast().
const HandlerTable& Engine::handlers()
{
    static const HandlerTable table = [this] {
        HandlerTable t;
        fast(&t);
        return t;
    }();
    return table;
}

Engine::Engine(Cpu& cpu) : cpu_(cpu), handlers_(handlers()) {}

void Engine::decodeAll()
{
    const std::uint32_t words = cpu_.core_.flashWords;
    records_.assign(words + 2, Record{});
    prefix_.assign(words + 2, 0);
    records_[words].handler = records_[words + 1].handler = handlers_.special[kSlow];
    std::vector<std::uint32_t> toEnd(words + 2, 0);
    // Which flag groups somebody may see after the instruction that ends before pc.
    std::vector<std::uint8_t> live(words + 2, 3);
    exact_.assign(words + 2, 1);
    for (std::uint32_t pc = words; pc-- > 0;) {
        const Instruction i = cpu_.decodeAt(pc);
        const std::uint32_t next = pc + i.words;
        prefix_[pc] = prefix_[next] - (kOneInstruction + i.cycles);
        toEnd[pc] = endsRun(i.op) ? 0 : std::min(toEnd[next] + i.cycles, static_cast<std::uint32_t>(kLongestSlice));
        const FlagUse use = flagUse(i.op);
        const bool seesCz = endsRun(i.op) || (live[next] & 1) != 0;
        const bool seesRest = endsRun(i.op) || (live[next] & 2) != 0;
        const bool stopsHere = cpu_.isBreakpoint(pc);
        live[pc] = stopsHere ? 3 : static_cast<std::uint8_t>((use.readsCz || (seesCz && !use.writesCz) ? 1 : 0) | (use.readsRest || (seesRest && !use.writesRest) ? 2 : 0));
        exact_[pc] = live[pc] == 3 ? 1 : 0;
        fillRecord(pc, i, seesRest ? kAllFlags : seesCz ? kCarryZero : kNoFlags);
        records_[pc].need = static_cast<std::uint32_t>(prefix_[pc]) + toEnd[pc];
    }
    strides_.assign(words + 2, Stride{words, 0});
    for (std::uint32_t pc = 0; pc < words; ++pc) {
        constexpr int kStride = 8;
        std::uint32_t at = pc;
        for (int i = 0; i < kStride && at < words; ++i) {
            if (exact_[at] != 0)
                strides_[pc].lastExact = at - pc + 1;
            at += cpu_.decoded_[at].words;
        }
        strides_[pc].end = std::min(at, words);
    }
    // Targets lie anywhere, so what a transfer adds is known only now.
    for (std::uint32_t pc = 0; pc < words; ++pc) {
        const Instruction i = cpu_.decodeAt(pc);
        Record& record = records_[pc];
        std::int64_t cost = i.cycles;
        switch (i.op) {
        case Op::cpse: case Op::sbrc: case Op::sbrs: case Op::sbic: case Op::sbis: {
            const bool two = pc + 1 < words && isTwoWords(cpu_.flash_[pc + 1]);
            record.target = std::min(pc + (two ? 3 : 2), words);
            cost += two ? 2 : 1;
            break;
        }
        case Op::brbs: case Op::brbc: cost += 1; [[fallthrough]];
        case Op::rjmp: case Op::jmp: case Op::rcall: case Op::call:
            record.target = i.target;
            if (i.target >= words) {
                record.target = 0;
                record.handler = handlers_.special[kSlow];
            }
            break;
        default: break;
        }
        if (i.op == Op::brbc)
            findCountedLoop(pc, i);
        if (cpu_.codeTime != nullptr)
            markCrossings(pc, i);
        if (cpu_.isBreakpoint(pc))
            record.handler = handlers_.special[kBreakpoint];
        const bool computed = i.op == Op::ijmp || i.op == Op::icall || i.op == Op::ret || i.op == Op::reti;
        record.delta = prefix_[pc] + kOneInstruction + cost - (computed ? 0 : prefix_[record.target]);
    }
    fusePairs();
}

// Calls, returns and computed jumps look for themselves.
void Engine::markCrossings(std::uint32_t pc, const Instruction& i)
{
    const CodeTime& parts = *cpu_.codeTime;
    Record& record = records_[pc];
    switch (i.op) {
    case Op::jmp: case Op::rjmp:
        if (i.target < records_.size() && parts.crosses(pc, i.target) && record.handler != handlers_.special[kSlow])
            record.handler = handlers_.special[kAcross];
        return;
    case Op::ijmp: case Op::ret: case Op::reti: case Op::eijmp: return;
    case Op::rcall: case Op::call: case Op::icall: case Op::eicall: return;
    case Op::cpse: case Op::sbrc: case Op::sbrs: case Op::sbic: case Op::sbis: case Op::brbs: case Op::brbc:
        if (parts.crosses(pc, record.target))
            record.handler = handlers_.special[kSlow];
        break;
    default: break;
    }
    if (parts.crosses(pc, pc + i.words))
        record.handler = handlers_.special[kSlow];
}

// From behind, so that the second of a pair is looked at before it becomes the first of one.
void Engine::fusePairs()
{
    alone_.resize(records_.size());
    for (std::size_t pc = records_.size(); pc-- > 0;) {
        alone_[pc] = records_[pc].handler;
        if (pc + 1 == records_.size() || alone_[pc] == handlers_.special[kSlow])  // as all of the erased flash
            continue;
        if (const auto both = handlers_.pairs.find({alone_[pc], alone_[pc + 1]}); both != handlers_.pairs.end())
            records_[pc].handler = both->second;
    }
}

// Registers that the core itself holds: reading or writing them goes by way of the stepper.
bool Engine::isCoreRegister(std::uint16_t address) const
{
    return address == kSreg || address == kSpl || address == kSph || (address == kRampz && cpu_.core_.hasElpm) || (address == kEind && cpu_.core_.hasEind);
}

// The shapes in which compilers wait: a register, a pair, or two to four registers counted down to zero and nothing else.
//   dec d ; brne .-4        sbiw d,1 ; brne .-4        subi d,1 ; sbci e,0 ... ; brne to the subi
void Engine::findCountedLoop(std::uint32_t pc, const Instruction& branch)
{
    constexpr std::uint8_t kZeroFlag = 1;
    if (branch.op != Op::brbc || branch.r != kZeroFlag || branch.target >= pc || pc - branch.target > 4)
        return;
    for (std::uint32_t word = branch.target; word <= pc; ++word)
        if (cpu_.isBreakpoint(word))
            return;
    Record& record = records_[pc];
    const std::uint32_t length = pc - branch.target;
    const Instruction first = cpu_.decodeAt(branch.target);
    const auto loop = [&](Special handler, unsigned cost, unsigned registers) {
        record.handler = handlers_.special[handler];
        record.d = first.d;
        record.r = static_cast<std::uint8_t>(registers);
        record.k = static_cast<std::uint16_t>(cost);
    };
    if (length == 1 && first.op == Op::dec)
        loop(kCountByte, 3, 1);
    else if (length == 1 && first.op == Op::sbiw && first.k == 1)
        loop(kCountWord, 4, 2);
    else if (length >= 2 && first.op == Op::subi && first.k == 1) {
        std::uint32_t registers = first.d;
        for (std::uint32_t i = 1; i < length; ++i) {
            const Instruction next = cpu_.decodeAt(branch.target + i);
            if (next.op != Op::sbci || next.k != 0)
                return;
            for (std::uint32_t k = 0; k < i; ++k)
                if (((registers >> (8 * k)) & 31U) == next.d)
                    return;
            registers |= std::uint32_t{next.d} << (8 * i);
        }
        record.next = registers;
        loop(kCountLong, length + 2, length);
    }
}

// Whether the stepper must carry an instruction out because it may reach what is watched and the engine would not ask: I/O by its address, and
// calls, which push without a look.
bool Engine::mayTouchWatched(const Instruction& i) const
{
    switch (i.op) {
    case Op::in: case Op::out: case Op::sbi: case Op::cbi: case Op::sbic: case Op::sbis: return cpu_.isWatched(i.k);
    case Op::lds: case Op::sts: return i.k < cpu_.core_.ramStart && cpu_.isWatched(i.k);
    case Op::rcall: case Op::icall: case Op::call: return true;
    default: return false;
    }
}

void Engine::fillRecord(std::uint32_t pc, const Instruction& i, Live live)
{
    Record& record = records_[pc];
    record.handler = handlers_.byOp[static_cast<std::size_t>(i.op)][live];
    record.next = pc + i.words;
    record.k = i.k;
    record.d = i.d;
    record.r = i.r;
    if (!cpu_.watched_.empty() && mayTouchWatched(i)) {
        record.handler = handlers_.special[kSlow];
        return;
    }
    switch (i.op) {
    case Op::brbs: record.handler = handlers_.special[kIfSetC + 2U * i.r]; break;
    case Op::brbc: record.handler = handlers_.special[kIfSetC + 2U * i.r + 1]; break;
    case Op::bset: record.handler = handlers_.special[i.r == 0 ? kSetC : i.r == 6 ? kSetT : i.r == 7 ? kSetI : kSlow]; break;
    case Op::bclr: record.handler = handlers_.special[i.r == 0 ? kClearC : i.r == 6 ? kClearT : i.r == 7 ? kClearI : kSlow]; break;
    case Op::in:
        if (i.k == kSpl || i.k == kSph)
            record.handler = handlers_.special[kInSp];
        else if (i.k == kSreg)
            record.handler = handlers_.special[kInSreg];
        else if (isCoreRegister(i.k))
            record.handler = handlers_.special[kSlow];
        break;
    case Op::out:
        if (i.k == kSreg)
            record.handler = handlers_.special[kOutSreg];
        else if (isCoreRegister(i.k))
            record.handler = handlers_.special[kSlow];
        break;
    case Op::lds:
        if (i.k >= 0x20 && i.k < cpu_.core_.ramStart && !isCoreRegister(i.k))
            record.handler = handlers_.special[kLdsIo];
        break;
    case Op::sts:
        if (i.k >= 0x20 && i.k < cpu_.core_.ramStart && !isCoreRegister(i.k))
            record.handler = handlers_.special[kStsIo];
        break;
    case Op::rjmp: case Op::jmp:
        if (i.target == pc) {
            record.handler = handlers_.special[kSelfJump];
            record.k = i.cycles;
        }
        break;
    default: break;
    }
}

}  // namespace bramix::chip::avr
