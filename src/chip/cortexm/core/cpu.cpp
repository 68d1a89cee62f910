#include "chip/cortexm/core/cpu.h"

#include <bit>

namespace bramix::chip::cortexm {

namespace {

constexpr unsigned kN = 31, kZ = 30, kC = 29, kV = 28, kQ = 27;
constexpr int kEntryCycles = 12, kChainCycles = 6, kRefill = 2;

}  // namespace

void Cpu::reset()
{
    r.fill(0);
    otherSp = 0;
    apsr = ipsr = 0;
    itState = 0;
    thumb = true;
    primask = faultmask = false;
    basepri = control = 0;
    sleeping = event = lockedUp = exclusive = false;
    entered = 0;
    returned = false;
    try {
        r[13] = bus_.read(0, 4, cycle) & ~3U;
        const std::uint32_t entry = bus_.read(4, 4, cycle);
        thumb = (entry & 1U) != 0;
        r[15] = entry & ~1U;
    } catch (const Abort&) {
        lockedUp = true;
    }
    r[14] = 0xFFFFFFFF;
    current = r[15];
}

void Cpu::setControl(std::uint32_t v)
{
    const bool before = usesProcessStack();
    control = v & 3U;
    if (before != usesProcessStack())
        std::swap(r[13], otherSp);
}

void Cpu::setXpsr(std::uint32_t v)
{
    const bool before = usesProcessStack();
    apsr = v & 0xF8000000U;
    ipsr = v & 0x1FFU;
    thumb = ((v >> 24) & 1U) != 0;
    itState = static_cast<std::uint8_t>(((v >> 25) & 3U) | ((v >> 10) & 0x3FU) << 2);
    if (before != usesProcessStack())
        std::swap(r[13], otherSp);
}

bool Cpu::holds(unsigned condition) const
{
    bool out = true;
    switch (condition >> 1) {
    case 0: out = flag(kZ); break;
    case 1: out = flag(kC); break;
    case 2: out = flag(kN); break;
    case 3: out = flag(kV); break;
    case 4: out = flag(kC) && !flag(kZ); break;
    case 5: out = flag(kN) == flag(kV); break;
    case 6: out = flag(kN) == flag(kV) && !flag(kZ); break;
    default: return true;
    }
    return (condition & 1U) != 0 ? !out : out;
}

void Cpu::put(unsigned n, std::uint32_t value)
{
    if (n == 15)
        branchTo(value);
    else
        r[n] = n == 13 ? value & ~3U : value;
}

// A2.2.1, A7.4.2.
std::uint32_t Cpu::shifted(std::uint32_t value, Shift type, unsigned amount, bool& carry) const
{
    if (type == Shift::rrx) {
        const bool in = carry;
        carry = (value & 1U) != 0;
        return value >> 1 | (in ? 0x80000000U : 0U);
    }
    if (amount == 0)
        return value;
    switch (type) {
    case Shift::lsl:
        carry = amount <= 32 && ((value >> (32 - amount)) & 1U) != 0;
        if (amount == 32)
            carry = (value & 1U) != 0;
        return amount >= 32 ? 0 : value << amount;
    case Shift::lsr:
        carry = amount <= 32 && ((value >> (amount - 1)) & 1U) != 0;
        return amount >= 32 ? 0 : value >> amount;
    case Shift::asr: {
        const unsigned by = amount >= 32 ? 31 : amount;
        carry = amount >= 32 ? (value >> 31) != 0 : ((value >> (amount - 1)) & 1U) != 0;
        return static_cast<std::uint32_t>(static_cast<std::int32_t>(value) >> by);
    }
    default: {
        const std::uint32_t out = std::rotr(value, static_cast<int>(amount & 31U));
        carry = (out >> 31) != 0;
        return out;
    }
    }
}

std::uint32_t Cpu::addWithCarry(std::uint32_t a, std::uint32_t b, bool carry, bool setFlags)
{
    const std::uint64_t sum = std::uint64_t{a} + b + (carry ? 1 : 0);
    const auto out = static_cast<std::uint32_t>(sum);
    if (setFlags) {
        setNz(out);
        setFlag(kC, (sum >> 32) != 0);
        setFlag(kV, ((~(a ^ b) & (a ^ out)) >> 31) != 0);
    }
    return out;
}

// Unaligned halfwords and words are read byte by byte, as the bus does, unless that is trapped.
std::uint32_t Cpu::load(std::uint32_t address, unsigned size)
{
    if ((address & (size - 1)) == 0)
        return bus_.read(address, size, cycle + cycles_);
    if ((exceptions_.control & 8U) != 0)
        fail(kUsageFault, kUnaligned);
    std::uint32_t out = 0;
    for (unsigned i = 0; i < size; ++i)
        out |= bus_.read(address + i, 1, cycle + cycles_) << (8 * i);
    cycles_ += static_cast<int>(size / 2);
    return out;
}

void Cpu::store(std::uint32_t address, unsigned size, std::uint32_t value)
{
    if (exclusive && (address & ~7U) == (exclusiveAt & ~7U))
        exclusive = false;
    if ((address & (size - 1)) == 0)
        return bus_.write(address, size, value, cycle + cycles_);
    if ((exceptions_.control & 8U) != 0)
        fail(kUsageFault, kUnaligned);
    for (unsigned i = 0; i < size; ++i)
        bus_.write(address + i, 1, (value >> (8 * i)) & 0xFFU, cycle + cycles_);
    cycles_ += static_cast<int>(size / 2);
}

void Cpu::branchExchange(std::uint32_t address)
{
    if (inHandler() && address >= 0xF0000000U)
        return leave(address);
    thumb = (address & 1U) != 0;
    branchTo(address);
}

const Instruction& Cpu::fetched(std::uint32_t address)
{
    static const std::vector<Instruction> kNarrow = [] {
        std::vector<Instruction> all;
        for (unsigned first = 0; isWide(static_cast<std::uint16_t>(first)) == false; ++first)
            all.push_back(decode(static_cast<std::uint16_t>(first), 0));
        return all;
    }();
    const std::uint16_t first = bus_.fetch(address);
    if (first < kNarrow.size())
        return kNarrow[first];
    const std::uint32_t halves = std::uint32_t{first} << 16U | bus_.fetch(address + 2);
    Decoded& slot = decoded_[(halves ^ halves >> 13U) % kDecoded];
    if (slot.halves != halves)
        slot = {halves, decode(first, static_cast<std::uint16_t>(halves))};
    return slot.instruction;
}

Instruction Cpu::at(std::uint32_t address)
{
    try {
        return fetched(address);
    } catch (const Abort&) {
        return {.op = Op::undefined, .size = 0};
    }
}

void Cpu::step()
{
    entered = 0;
    returned = false;
    current = r[15];
    cycles_ = 1;
    branched_ = false;
    try {
        if (!thumb)
            fail(kUsageFault, kInvalidState);
        const Instruction& i = fetched(current);
        pcValue_ = current + 4;
        next_ = current + i.size;
        const std::uint8_t it = itState;
        const bool inIt = (it & 15U) != 0;
        setFlags_ = i.flags == Flags::always || (i.flags == Flags::outsideIt && !inIt);
        // The block goes on before the instruction, which may itself begin another or leave by a branch.
        if (inIt)
            itState = (it & 7U) == 0 ? 0 : static_cast<std::uint8_t>((it & 0xE0U) | ((it << 1) & 0x1FU));
        try {
            if (!inIt || i.op == Op::bkpt || holds(it >> 4))
                execute(i);
        } catch (const Abort&) {
            itState = it;  // it will run again
            throw;
        }
        r[15] = next_;
        cycle += cycles_ + (branched_ ? kRefill : 0);
        ++instructions;
    } catch (const Abort& abort) {
        raise(abort);
    }
}

void Cpu::execute(const Instruction& i)
{
    switch (i.op) {
    case Op::and_: case Op::bic: case Op::orr: case Op::orn: case Op::eor: case Op::add: case Op::adc: case Op::sub: case Op::sbc: case Op::rsb: case Op::mov: case Op::mvn: case Op::tst: case Op::teq: case Op::cmp: case Op::cmn:
        return dataProcessing(i, setFlags_);
    case Op::movt: r[i.d] = (r[i.d] & 0xFFFFU) | i.imm << 16; return;
    case Op::bfi: case Op::bfc: {
        const std::uint32_t mask = (i.imm >= 32 ? ~0U : (1U << i.imm) - 1U) << i.amount;
        r[i.d] = (r[i.d] & ~mask) | (i.op == Op::bfi ? (r[i.n] << i.amount) & mask : 0U);
        return;
    }
    case Op::sbfx: r[i.d] = static_cast<std::uint32_t>(static_cast<std::int32_t>(r[i.n] << (32U - i.amount - i.imm)) >> (32U - i.imm)); return;
    case Op::ubfx: r[i.d] = r[i.n] << (32U - i.amount - i.imm) >> (32U - i.imm); return;
    case Op::ssat: case Op::usat: {
        bool carry = flag(kC);
        const auto value = static_cast<std::int32_t>(shifted(r[i.m], i.shift, i.amount, carry));
        const std::int64_t most = i.op == Op::ssat ? (std::int64_t{1} << (i.imm - 1)) - 1 : (std::int64_t{1} << i.imm) - 1, least = i.op == Op::ssat ? -most - 1 : 0;
        const std::int64_t out = std::clamp<std::int64_t>(value, least, most);
        if (out != value)
            setFlag(kQ, true);
        r[i.d] = static_cast<std::uint32_t>(out);
        return;
    }
    case Op::mul:
        r[i.d] = r[i.n] * r[i.m];
        if (setFlags_)
            setNz(r[i.d]);
        return;
    case Op::mla: r[i.d] = r[i.a] + r[i.n] * r[i.m], cycles_ = 2; return;
    case Op::mls: r[i.d] = r[i.a] - r[i.n] * r[i.m], cycles_ = 2; return;
    case Op::smull: case Op::umull: case Op::smlal: case Op::umlal: {
        const bool isSigned = i.op == Op::smull || i.op == Op::smlal;
        std::uint64_t product = isSigned ? static_cast<std::uint64_t>(std::int64_t{static_cast<std::int32_t>(r[i.n])} * static_cast<std::int32_t>(r[i.m])) : std::uint64_t{r[i.n]} * r[i.m];
        if (i.op == Op::smlal || i.op == Op::umlal)
            product += std::uint64_t{r[i.d]} << 32 | r[i.a];
        r[i.a] = static_cast<std::uint32_t>(product);
        r[i.d] = static_cast<std::uint32_t>(product >> 32);
        cycles_ = i.op == Op::smull || i.op == Op::umull ? 4 : 5;
        return;
    }
    case Op::sdiv: case Op::udiv: {
        if (r[i.m] == 0) {
            if ((exceptions_.control & 16U) != 0)
                fail(kUsageFault, kDivideByZero);
            r[i.d] = 0;
        } else if (i.op == Op::udiv) {
            r[i.d] = r[i.n] / r[i.m];
        } else {
            r[i.d] = static_cast<std::uint32_t>(static_cast<std::int32_t>(std::int64_t{static_cast<std::int32_t>(r[i.n])} / static_cast<std::int32_t>(r[i.m])));
        }
        // 2 to 12, by the bits of the quotient.
        cycles_ = 2 + (static_cast<int>(std::bit_width(i.op == Op::udiv || static_cast<std::int32_t>(r[i.d]) >= 0 ? r[i.d] : ~r[i.d])) + 2) / 4;
        return;
    }
    case Op::clz: r[i.d] = static_cast<std::uint32_t>(std::countl_zero(r[i.m])); return;
    case Op::rbit: {
        std::uint32_t out = 0;
        for (unsigned b = 0; b < 32; ++b)
            out |= ((r[i.m] >> b) & 1U) << (31 - b);
        r[i.d] = out;
        return;
    }
    case Op::rev: r[i.d] = __builtin_bswap32(r[i.m]); return;
    case Op::rev16: r[i.d] = (r[i.m] >> 8 & 0x00FF00FFU) | (r[i.m] << 8 & 0xFF00FF00U); return;
    case Op::revsh: r[i.d] = static_cast<std::uint32_t>(static_cast<std::int16_t>(__builtin_bswap16(static_cast<std::uint16_t>(r[i.m])))); return;
    case Op::sxtb: r[i.d] = static_cast<std::uint32_t>(static_cast<std::int8_t>(std::rotr(r[i.m], i.amount))); return;
    case Op::sxth: r[i.d] = static_cast<std::uint32_t>(static_cast<std::int16_t>(std::rotr(r[i.m], i.amount))); return;
    case Op::uxtb: r[i.d] = std::rotr(r[i.m], i.amount) & 0xFFU; return;
    case Op::uxth: r[i.d] = std::rotr(r[i.m], i.amount) & 0xFFFFU; return;
    case Op::ldr: case Op::ldrb: case Op::ldrh: case Op::ldrsb: case Op::ldrsh: case Op::str: case Op::strb: case Op::strh: case Op::ldrd: case Op::strd:
    case Op::ldrex: case Op::ldrexb: case Op::ldrexh: case Op::strex: case Op::strexb: case Op::strexh: case Op::clrex: return memory(i);
    case Op::ldm: case Op::stm: return multiple(i);
    case Op::b:
        if (i.condition == kAlways || holds(i.condition))
            branchTo(pcValue_ + i.imm);
        return;
    case Op::bl:
        r[14] = next_ | 1U;
        return branchTo(pcValue_ + i.imm);
    case Op::bx: return branchExchange(reg(i.m));
    case Op::blx: {
        const std::uint32_t to = reg(i.m);
        r[14] = next_ | 1U;
        thumb = (to & 1U) != 0;
        return branchTo(to);
    }
    case Op::cbz: case Op::cbnz:
        if ((r[i.n] == 0) == (i.op == Op::cbz))
            branchTo(pcValue_ + i.imm);
        return;
    case Op::tbb: cycles_ = 2; return branchTo(pcValue_ + 2 * load(reg(i.n) + reg(i.m), 1));
    case Op::tbh: cycles_ = 2; return branchTo(pcValue_ + 2 * load(reg(i.n) + 2 * reg(i.m), 2));
    case Op::it: itState = static_cast<std::uint8_t>(i.imm); return;
    default: return system(i);
    }
}

void Cpu::dataProcessing(const Instruction& i, bool setFlags)
{
    bool carry = flag(kC);
    std::uint32_t operand = i.imm;
    switch (i.operand) {
    case Operand::immediate:
        if (i.carries)
            carry = (operand >> 31) != 0;
        break;
    case Operand::shifted: operand = shifted(reg(i.m), i.shift, i.amount, carry); break;
    case Operand::byRegister: operand = shifted(r[i.m], i.shift, r[i.n] & 0xFFU, carry); break;
    }
    const std::uint32_t n = i.n == 15 && i.operand == Operand::immediate ? pcValue_ & ~3U : reg(i.n);
    const auto logic = [&](std::uint32_t value) {
        if (setFlags) {
            setNz(value);
            setFlag(kC, carry);
        }
        return value;
    };
    const bool c = flag(kC);
    switch (i.op) {
    case Op::and_: return put(i.d, logic(n & operand));
    case Op::bic: return put(i.d, logic(n & ~operand));
    case Op::orr: return put(i.d, logic(n | operand));
    case Op::orn: return put(i.d, logic(n | ~operand));
    case Op::eor: return put(i.d, logic(n ^ operand));
    case Op::mov: return put(i.d, logic(operand));
    case Op::mvn: return put(i.d, logic(~operand));
    case Op::tst: (void)logic(n & operand); return;
    case Op::teq: (void)logic(n ^ operand); return;
    case Op::add: return put(i.d, addWithCarry(n, operand, false, setFlags));
    case Op::adc: return put(i.d, addWithCarry(n, operand, c, setFlags));
    case Op::sub: return put(i.d, addWithCarry(n, ~operand, true, setFlags));
    case Op::sbc: return put(i.d, addWithCarry(n, ~operand, c, setFlags));
    case Op::rsb: return put(i.d, addWithCarry(~n, operand, true, setFlags));
    case Op::cmp: (void)addWithCarry(n, ~operand, true, true); return;
    default: (void)addWithCarry(n, operand, false, true); return;
    }
}

void Cpu::memory(const Instruction& i)
{
    cycles_ = 2;
    switch (i.op) {
    case Op::clrex: exclusive = false; cycles_ = 1; return;
    case Op::ldrex: case Op::ldrexb: case Op::ldrexh: {
        const unsigned size = i.op == Op::ldrex ? 4 : i.op == Op::ldrexh ? 2 : 1;
        const std::uint32_t address = r[i.n] + i.imm;
        if ((address & (size - 1)) != 0)
            fail(kUsageFault, kUnaligned);
        r[i.d] = load(address, size);
        exclusive = true;
        exclusiveAt = address;
        return;
    }
    case Op::strex: case Op::strexb: case Op::strexh: {
        const unsigned size = i.op == Op::strex ? 4 : i.op == Op::strexh ? 2 : 1;
        const std::uint32_t address = r[i.n] + i.imm;
        if ((address & (size - 1)) != 0)
            fail(kUsageFault, kUnaligned);
        const bool mine = exclusive && exclusiveAt == address;
        exclusive = false;
        if (mine)
            store(address, size, r[i.a]);
        r[i.d] = mine ? 0 : 1;
        return;
    }
    default: break;
    }
    const std::uint32_t base = i.n == 15 ? pcValue_ & ~3U : r[i.n];
    const std::uint32_t offset = i.operand == Operand::shifted ? r[i.m] << i.amount : i.imm;
    const std::uint32_t moved = i.up ? base + offset : base - offset, address = i.index ? moved : base;
    std::uint32_t value = 0, upper = 0;
    switch (i.op) {
    case Op::ldr: value = load(address, 4); break;
    case Op::ldrb: value = load(address, 1); break;
    case Op::ldrh: value = load(address, 2); break;
    case Op::ldrsb: value = static_cast<std::uint32_t>(static_cast<std::int8_t>(load(address, 1))); break;
    case Op::ldrsh: value = static_cast<std::uint32_t>(static_cast<std::int16_t>(load(address, 2))); break;
    case Op::str: store(address, 4, r[i.d]); break;
    case Op::strb: store(address, 1, r[i.d] & 0xFFU); break;
    case Op::strh: store(address, 2, r[i.d] & 0xFFFFU); break;
    case Op::ldrd: case Op::strd:
        if ((address & 3U) != 0)
            fail(kUsageFault, kUnaligned);
        cycles_ = 3;
        if (i.op == Op::strd) {
            store(address, 4, r[i.d]);
            store(address + 4, 4, r[i.a]);
        } else {
            value = load(address, 4);
            upper = load(address + 4, 4);
        }
        break;
    default: break;
    }
    if (i.writeBack)
        put(i.n, moved);
    if (i.op == Op::str || i.op == Op::strb || i.op == Op::strh || i.op == Op::strd)
        return;
    if (i.op == Op::ldrd)
        r[i.a] = upper;
    if (i.d == 15)
        return branchExchange(value);
    put(i.d, value);
}

void Cpu::multiple(const Instruction& i)
{
    const auto count = static_cast<std::uint32_t>(std::popcount(i.list));
    const std::uint32_t base = r[i.n];
    if ((base & 3U) != 0)
        fail(kUsageFault, kUnaligned);
    std::uint32_t address = i.up ? base : base - 4 * count;
    const std::uint32_t moved = i.up ? base + 4 * count : address;
    cycles_ = 1 + static_cast<int>(count);
    if (i.op == Op::stm) {
        for (unsigned n = 0; n < 15; ++n)
            if (((i.list >> n) & 1) != 0) {
                store(address, 4, r[n]);
                address += 4;
            }
        if (i.writeBack)
            put(i.n, moved);
        return;
    }
    // All is read before anything changes: a fault leaves the registers as they were.
    std::array<std::uint32_t, 16> values{};
    for (unsigned n = 0; n < 16; ++n)
        if (((i.list >> n) & 1) != 0) {
            values[n] = load(address, 4);
            address += 4;
        }
    if (i.writeBack)
        put(i.n, moved);
    for (unsigned n = 0; n < 15; ++n)
        if (((i.list >> n) & 1) != 0)
            put(n, values[n]);
    if (((i.list >> 15) & 1) != 0)
        branchExchange(values[15]);
}

void Cpu::system(const Instruction& i)
{
    switch (i.op) {
    case Op::nop: case Op::yield: case Op::dbg: case Op::pld: return;
    case Op::dsb: case Op::dmb: case Op::isb: cycles_ = i.op == Op::isb ? 4 : 3; return;
    case Op::wfi:
        sleeping = true;
        sleepsForEvent = false;
        return;
    case Op::wfe:
        sleeping = sleepsForEvent = !event;
        event = false;
        return;
    case Op::sev: event = true; return;
    case Op::svc: {
        // It comes before anything else of its priority: behind this instruction.
        if (priority() <= exceptions_.priorityOf(kSvCall))
            throw Abort{kHardFault, 0};
        exceptions_.setPending(kSvCall);
        return;
    }
    case Op::bkpt: return;
    case Op::cps:
        if (!privileged())
            return;
        if ((i.imm & 2U) != 0)
            primask = (i.imm & 16U) != 0;
        if ((i.imm & 1U) != 0 && ((i.imm & 16U) == 0 || priority() > -1))
            faultmask = (i.imm & 16U) != 0;
        return;
    case Op::mrs: {
        cycles_ = 2;
        std::uint32_t value = 0;
        switch (i.imm) {
        case 0: case 1: case 2: case 3: value = apsr | ((i.imm & 1U) != 0 ? ipsr : 0U); break;
        case 5: value = ipsr; break;
        case 6: case 7: value = (i.imm & 1U) != 0 ? ipsr : 0U; break;
        case 8: value = privileged() ? mainSp() : 0; break;
        case 9: value = privileged() ? processSp() : 0; break;
        case 16: value = privileged() && primask ? 1 : 0; break;
        case 17: case 18: value = privileged() ? basepri : 0; break;
        case 19: value = privileged() && faultmask ? 1 : 0; break;
        case 20: value = control; break;
        default: break;
        }
        return put(i.d, value);
    }
    case Op::msr: {
        cycles_ = 2;
        const std::uint32_t value = r[i.n];
        if (i.imm < 4) {
            if ((i.list & 2U) != 0)
                apsr = value & 0xF8000000U;
            return;
        }
        if (!privileged())
            return;
        switch (i.imm) {
        case 8: return setMainSp(value);
        case 9: return setProcessSp(value);
        case 16: primask = (value & 1U) != 0; return;
        case 17: basepri = value & 0xF0U; return;
        case 18:
            if ((value & 0xF0U) != 0 && (basepri == 0 || (value & 0xF0U) < basepri))
                basepri = value & 0xF0U;
            return;
        case 19:
            if ((value & 1U) == 0 || priority() > -1)
                faultmask = (value & 1U) != 0;
            return;
        case 20: return setControl((value & 1U) | (inHandler() ? control & 2U : value & 2U));
        default: return;
        }
    }
    case Op::coprocessor: fail(kUsageFault, kNoCoprocessor);
    default: fail(kUsageFault, kUndefinedInstruction);
    }
}

// A fault goes to its handler where that is enabled and more urgent than what runs, else to the hard fault; at its priority and above the core locks up (B1.5.14).
void Cpu::raise(const Abort& abort)
{
    exceptions_.faultStatus |= abort.status;
    if (abort.address) {
        if (abort.exception == kMemManage)
            exceptions_.memAddress = *abort.address, exceptions_.faultStatus |= kMemAddressValid;
        else if (abort.exception == kBusFault)
            exceptions_.busAddress = *abort.address, exceptions_.faultStatus |= kBusAddressValid;
    }
    cycle += cycles_;
    ++instructions;
    unsigned to = abort.exception;
    const int now = priority();
    if (to != kHardFault && (!exceptions_.enabled(to) || exceptions_.priorityOf(to) >= now)) {
        exceptions_.hardFaultStatus |= 1U << 30;  // FORCED
        to = kHardFault;
    }
    if (to == kHardFault && now <= -1) {
        lockedUp = true;
        return;
    }
    exceptions_.setPending(to);
    // It comes at once, and returns to the instruction at fault.
    (void)enterDue();
}

bool Cpu::push(std::uint32_t returnAddress)
{
    const bool align = (exceptions_.control & 0x200U) != 0 && (r[13] & 4U) != 0;
    std::uint32_t sp = r[13] - (align ? 4U : 0U) - 32;
    r[13] = sp;
    const std::uint32_t frame[] = {r[0], r[1], r[2], r[3], r[12], r[14], returnAddress, xpsr() | (align ? 1U << 9 : 0U)};
    try {
        for (const std::uint32_t word : frame) {
            bus_.write(sp, 4, word, cycle);
            sp += 4;
        }
    } catch (const Abort&) {
        exceptions_.faultStatus |= kBusStack;
        return false;
    }
    return true;
}

// Control to a handler.
void Cpu::vector(unsigned number)
{
    exceptions_.activate(number);
    const bool before = usesProcessStack();
    ipsr = number;
    if (before)
        std::swap(r[13], otherSp);
    control &= ~2U;
    itState = 0;
    exclusive = false;
    event = true;  // an exception is an event for WFE
    entered = number;
    try {
        const std::uint32_t to = bus_.read(exceptions_.vectorTable + 4 * number, 4, cycle);
        thumb = (to & 1U) != 0;
        r[15] = to & ~1U;
    } catch (const Abort&) {
        exceptions_.hardFaultStatus |= 2U;  // VECTTBL
        lockedUp = number == kHardFault;
        exceptions_.setPending(kHardFault);
    }
}

bool Cpu::enterDue()
{
    unsigned number = due();
    if (number == 0)
        return false;
    sleeping = false;
    entered = 0;
    returned = false;
    const bool process = usesProcessStack();
    const std::uint32_t how = inHandler() ? 0xFFFFFFF1U : process ? 0xFFFFFFFDU : 0xFFFFFFF9U;
    if (!push(r[15]) && exceptions_.enabled(kBusFault) && exceptions_.priorityOf(kBusFault) < priority())
        exceptions_.setPending(kBusFault);
    cycle += kEntryCycles;
    r[14] = how;
    // Whoever has come meanwhile and is more urgent goes first: the frame is the same.
    if (const unsigned later = due(); later != 0)
        number = later;
    vector(number);
    return true;
}

// EXC_RETURN (B1.5.8): to another exception that waits, or to what was interrupted.
void Cpu::leave(std::uint32_t how)
{
    const unsigned number = ipsr;
    const std::uint32_t kind = how & 15U;
    if ((how & 0x0FFFFFF0U) != 0x0FFFFFF0U || (kind != 1 && kind != 9 && kind != 13) || !exceptions_.active(number))
        fail(kUsageFault, kInvalidPc);
    const bool nested = exceptions_.activeCount() > 1;
    if ((kind == 1) != nested && (exceptions_.control & 1U) == 0)
        fail(kUsageFault, kInvalidPc);
    exceptions_.deactivate(number);
    if (number != kNmi)
        faultmask = false;
    returned = true;
    // Tail chaining: the frame stays where it is.
    const std::uint32_t wasIpsr = ipsr;
    ipsr = 0;
    const unsigned waits = exceptions_.due(priority());
    ipsr = wasIpsr;
    if (waits != 0) {
        cycle += kChainCycles;
        r[14] = how;
        // The stack pointer in use is the main one until the frame is taken off.
        exceptions_.activate(waits);
        ipsr = waits;
        entered = waits;
        itState = 0;
        const std::uint32_t to = bus_.read(exceptions_.vectorTable + 4 * waits, 4, cycle);
        thumb = (to & 1U) != 0;
        branchTo(to);
        cycles_ = 0;
        return;
    }
    // Which stack the frame lies on.
    const bool process = kind == 13;
    std::uint32_t sp = process ? otherSp : r[13];
    std::array<std::uint32_t, 8> frame{};
    for (std::size_t i = 0; i < frame.size(); ++i)
        frame[i] = bus_.read(sp + 4 * static_cast<std::uint32_t>(i), 4, cycle);
    sp += 32 + ((frame[7] >> 9 & 1U) != 0 ? 4U : 0U);
    (process ? otherSp : r[13]) = sp;
    r[0] = frame[0], r[1] = frame[1], r[2] = frame[2], r[3] = frame[3], r[12] = frame[4], r[14] = frame[5];
    // To thread mode: which stack it uses comes with the return.
    ipsr = kind == 1 ? frame[7] & 0x1FFU : 0;
    apsr = frame[7] & 0xF8000000U;
    thumb = (frame[7] >> 24 & 1U) != 0;
    itState = static_cast<std::uint8_t>(((frame[7] >> 25) & 3U) | ((frame[7] >> 10) & 0x3FU) << 2);
    if (process) {
        control |= 2U;
        std::swap(r[13], otherSp);
    }
    branchTo(frame[6]);
    cycles_ = 10 - kRefill;
    exclusive = false;
    // SLEEPONEXIT.
    if (kind != 1 && (exceptions_.systemControl & 2U) != 0) {
        sleeping = true;
        sleepsForEvent = false;
    }
}

}  // namespace bramix::chip::cortexm
