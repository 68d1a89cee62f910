#include "chip/arm9/core/cpu.h"

#include <bit>
#include <cstring>

namespace bramix::chip::arm9 {

namespace {

constexpr std::uint32_t kMmu = 1, kAlign = 2, kHighVectors = 1U << 13, kLoadsIgnoreThumb = 1U << 15, kControlMask = 0x0000F387, kControlOnes = 0x00050078;
constexpr int kRefill = 2;

// What an instruction that cannot be throws.
struct Undefined {};

}  // namespace

void Cpu::reset(std::uint32_t entry)
{
    cpsr = kSupervisor | kIrqOff | kFiqOff;
    control = kControlOnes;
    tableBase = domains = dataStatus = fetchStatus = faultAddress = processId = contextId = 0;
    tlb_ = {};
    handlers = 0;
    entered = 0;
    returned = sleeping = false;
    r[15] = entry & ~3U;
    if ((entry & 1U) != 0) {
        cpsr |= kThumb;
        r[15] = entry & ~1U;
    }
    r[13] = 0;
}

unsigned Cpu::bankOf(std::uint32_t mode)
{
    switch (mode & 0x1FU) {
    case kFiq: return 1;
    case kIrq: return 2;
    case kSupervisor: return 3;
    case kAbort: return 4;
    case kUndefined: return 5;
    default: return 0;
    }
}

void Cpu::switchMode(std::uint32_t mode)
{
    const unsigned from = bankOf(cpsr), to = bankOf(mode);
    cpsr = (cpsr & ~0x1FU) | (mode & 0x1FU);
    if (from == to)
        return;
    // r8 to r12 are FIQ's own or everybody's.
    const unsigned fromLow = from == 1 ? 1 : 0, toLow = to == 1 ? 1 : 0;
    if (fromLow != toLow)
        for (unsigned n = 0; n < 5; ++n) {
            banked_[fromLow][n] = r[8 + n];
            r[8 + n] = banked_[toLow][n];
        }
    for (unsigned n = 5; n < 7; ++n) {
        banked_[from][n] = r[8 + n];
        r[8 + n] = banked_[to][n];
    }
}

void Cpu::setCpsr(std::uint32_t value)
{
    const std::uint32_t mode = value & 0x1FU;
    switchMode(mode == kUser || mode == kFiq || mode == kIrq || mode == kSupervisor || mode == kAbort || mode == kUndefined || mode == kSystem ? mode : cpsr & 0x1FU);
    cpsr = (value & 0xF80000E0U) | (cpsr & 0x1FU);
}

std::uint32_t Cpu::registerOf(std::uint32_t mode, unsigned n) const
{
    const unsigned bank = bankOf(mode), now = bankOf(cpsr);
    if (n < 8 || n > 14)
        return r[n & 15U];
    if (n < 13) {
        const unsigned low = bank == 1 ? 1 : 0, present = now == 1 ? 1 : 0;
        return low == present ? r[n] : banked_[low][n - 8];
    }
    return bank == now ? r[n] : banked_[bank][n - 8];
}

void Cpu::setRegisterOf(std::uint32_t mode, unsigned n, std::uint32_t value)
{
    const unsigned bank = bankOf(mode), now = bankOf(cpsr);
    if (n < 8 || n > 14) {
        r[n & 15U] = value;
    } else if (n < 13) {
        const unsigned low = bank == 1 ? 1 : 0, present = now == 1 ? 1 : 0;
        (low == present ? r[n] : banked_[low][n - 8]) = value;
    } else {
        (bank == now ? r[n] : banked_[bank][n - 8]) = value;
    }
}

bool Cpu::holds(std::uint32_t condition) const
{
    const bool n = (cpsr & kN) != 0, z = (cpsr & kZ) != 0, c = (cpsr & kC) != 0, v = (cpsr & kV) != 0;
    bool out = true;
    switch (condition >> 1) {
    case 0: out = z; break;
    case 1: out = c; break;
    case 2: out = n; break;
    case 3: out = v; break;
    case 4: out = c && !z; break;
    case 5: out = n == v; break;
    case 6: out = n == v && !z; break;
    default: return true;
    }
    return (condition & 1U) != 0 ? !out : out;
}

// Memory.

std::uint32_t Cpu::tableWord(std::uint32_t physical) const
{
    std::uint32_t out = 0;
    if (const std::uint8_t* at = map_.readable(physical & ~3U)) {
        std::memcpy(&out, at, 4);
        return out;
    }
    return bus_.read(physical & ~3U, 4, cycle);
}

// DDI 0198E 3.3: first-level descriptors, coarse and fine tables, access permissions by domain.
Cpu::Walk Cpu::walk(std::uint32_t a) const
{
    Walk out;
    std::uint32_t first = 0, second = 0;
    try {
        first = tableWord((tableBase & 0xFFFFC000U) | (a >> 20) << 2);
        const std::uint32_t domain = (first >> 5) & 15U;
        std::uint32_t ap = 0;
        const auto place = [&](std::uint32_t base, std::uint32_t bytes) { out.physical = (base & ~(bytes - 1)) | (a & (bytes - 1)); };
        switch (first & 3U) {
        case 0: out.status = 5, out.section = true; return out;
        case 2:
            out.section = true;
            place(first, 1U << 20);
            ap = (first >> 10) & 3U;
            break;
        default: {
            const bool fine = (first & 3U) == 3U;
            second = tableWord(fine ? (first & 0xFFFFF000U) | ((a >> 10) & 0x3FFU) << 2 : (first & 0xFFFFFC00U) | ((a >> 12) & 0xFFU) << 2);
            switch (second & 3U) {
            case 0: out.status = 7 | domain << 4; return out;
            case 1: place(second, 1U << 16), ap = (second >> (4 + 2 * ((a >> 14) & 3U))) & 3U; break;
            case 2: place(second, 1U << 12), ap = (second >> (4 + 2 * ((a >> 10) & 3U))) & 3U; break;
            default: place(second, 1U << 10), ap = (second >> 4) & 3U; break;
            }
            break;
        }
        }
        // Whose permissions are looked at (3.4, table 3-11 and 3-12).
        switch ((domains >> (2 * domain)) & 3U) {
        case 0: case 2: out.status = (out.section ? 9U : 0xBU) | domain << 4; return out;
        case 3: out.rights = 15; break;
        default:
            switch (ap) {
            case 0: out.rights = static_cast<std::uint8_t>((control & 0x100U) != 0 && (control & 0x200U) == 0 ? 1 : (control & 0x200U) != 0 ? 5 : 0); break;
            case 1: out.rights = 3; break;
            case 2: out.rights = 7; break;
            default: out.rights = 15; break;
            }
        }
        out.status = (out.section ? 0xDU : 0xFU) | domain << 4;  // of a right that is not there
    } catch (const Abort&) {
        out.status = 0xC;  // external abort on translation
        out.rights = 0;
    }
    return out;
}

std::uint32_t Cpu::translate(std::uint32_t address, Wants wants, bool privilegedAccess)
{
    if ((control & kMmu) == 0)
        return modified(address);
    const std::uint32_t a = modified(address), page = a & ~0x3FFU;
    // Entries of a kilobyte: the smallest page, and the parts of larger ones that have permissions of their own.
    Entry& e = tlb_[(a >> 10) % kEntries];
    if (e.tag != page) {
        const Walk w = walk(a);
        if (w.rights == 0)
            throw Abort{address, w.status, wants == Wants::fetch};
        e = {page, w.physical & ~0x3FFU, w.rights};
    }
    const unsigned need = (wants == Wants::write ? 2U : 1U) << (privilegedAccess ? 0 : 2);
    if ((e.rights & need) == 0)
        throw Abort{address, walk(a).status, wants == Wants::fetch};
    return e.physical | (a & 0x3FFU);
}

std::optional<std::uint32_t> Cpu::physical(std::uint32_t address) const
{
    if ((control & kMmu) == 0)
        return modified(address);
    const Walk w = walk(modified(address));
    return w.rights == 0 ? std::nullopt : std::optional(w.physical);
}

std::uint32_t Cpu::fetched()
{
    const unsigned size = thumb() ? 2 : 4;
    try {
        const std::uint32_t at = translate(r[15], Wants::fetch, privileged());
        if (const std::uint8_t* from = map_.readable(at)) {
            std::uint32_t out = 0;
            std::memcpy(&out, from, size);
            return out;
        }
        return bus_.fetch(at, size);
    } catch (Abort& abort) {
        abort.address = r[15];
        abort.prefetch = true;
        throw;
    }
}

std::uint32_t Cpu::load(std::uint32_t address, unsigned size, bool asUser)
{
    if ((control & kAlign) != 0 && (address & (size - 1)) != 0)
        throw Abort{address, 1};
    const std::uint32_t aligned = address & ~(size - 1), at = translate(aligned, Wants::read, privileged() && !asUser);
    if (const std::uint8_t* from = map_.readable(at)) {
        std::uint32_t out = 0;
        std::memcpy(&out, from, size);
        return out;
    }
    try {
        return bus_.read(at, size, cycle + cycles_);
    } catch (Abort& abort) {
        abort.address = address;
        throw;
    }
}

void Cpu::store(std::uint32_t address, unsigned size, std::uint32_t value, bool asUser)
{
    if ((control & kAlign) != 0 && (address & (size - 1)) != 0)
        throw Abort{address, 1};
    const std::uint32_t aligned = address & ~(size - 1), at = translate(aligned, Wants::write, privileged() && !asUser);
    if (std::uint8_t* to = map_.writable(at)) {
        std::memcpy(to, &value, size);
        return;
    }
    try {
        bus_.write(at, size, size == 4 ? value : value & ((1U << (8 * size)) - 1U), cycle + cycles_);
    } catch (Abort& abort) {
        abort.address = address;
        throw;
    }
}

// Exceptions (DDI 0100I A2.6).

void Cpu::enter(Vector which, std::uint32_t mode, std::uint32_t returnAddress, bool fiqOff)
{
    const std::uint32_t before = cpsr;
    switchMode(mode);
    r[14] = returnAddress;
    spsr_[bankOf(mode)] = before;
    cpsr = (cpsr & ~kThumb) | kIrqOff | (fiqOff ? kFiqOff : 0U);
    r[15] = ((control & kHighVectors) != 0 ? 0xFFFF0000U : 0U) + 4 * which;
    ++handlers;
    entered = which;
    cycle += 3;
}

void Cpu::interrupt(Vector which) { enter(which, which == kFiqVector ? kFiq : kIrq, r[15] + 4, which == kFiqVector); }

void Cpu::undefined() { throw Undefined{}; }

void Cpu::restoreStatus()
{
    if (bankOf(cpsr) == 0)
        return;  // unpredictable: user and system mode have none
    setCpsr(spsr_[bankOf(cpsr)]);
    if (handlers != 0) {
        --handlers;
        returned = true;
    }
    bus_.interruptsEnabled();
}

void Cpu::step()
{
    cycles_ = 1;
    branched_ = false;
    const std::uint32_t at = r[15];
    const bool inThumb = thumb();
    const unsigned size = inThumb ? 2 : 4;
    next_ = at + size;
    try {
        const std::uint32_t word = fetched();
        r[15] = at + 2 * size;
        if (inThumb)
            executeThumb(static_cast<std::uint16_t>(word));
        else if ((word >> 28) == 15 || holds(word >> 28))
            executeArm(word);
        r[15] = next_;
        cycle += cycles_ + (branched_ ? kRefill : 0);
        ++instructions;
    } catch (const Abort& abort) {
        cycle += cycles_;
        if (abort.prefetch) {
            fetchStatus = abort.status;
            enter(kPrefetchVector, kAbort, at + 4, false);
        } else {
            dataStatus = abort.status;
            faultAddress = abort.address;
            enter(kDataVector, kAbort, at + 8, false);
        }
    } catch (const Undefined&) {
        cycle += cycles_;
        enter(kUndefinedVector, kUndefined, at + size, false);
    }
}

void Cpu::branchExchange(std::uint32_t address)
{
    cpsr = (cpsr & ~kThumb) | ((address & 1U) != 0 ? kThumb : 0U);
    branchTo(address);
}

std::uint32_t Cpu::addWithCarry(std::uint32_t a, std::uint32_t b, bool carry, bool flags)
{
    const std::uint64_t sum = std::uint64_t{a} + b + (carry ? 1 : 0);
    const auto out = static_cast<std::uint32_t>(sum);
    if (flags) {
        setNz(out);
        setFlag(kC, (sum >> 32) != 0);
        setFlag(kV, ((~(a ^ b) & (a ^ out)) >> 31) != 0);
    }
    return out;
}

std::uint32_t Cpu::saturated(std::int64_t value)
{
    if (value > INT32_MAX) {
        cpsr |= kQ;
        return 0x7FFFFFFF;
    }
    if (value < INT32_MIN) {
        cpsr |= kQ;
        return 0x80000000;
    }
    return static_cast<std::uint32_t>(value);
}

void Cpu::executeThumb(std::uint16_t half)
{
    const Expanded e = expandThumb(half);
    using Kind = Expanded::Kind;
    switch (e.kind) {
    case Kind::arm: {
        // What is relative to PC counts from a multiple of four.
        const bool relative = (half & 0xF800U) == 0x4800U || (half & 0xF800U) == 0xA000U;
        if (relative)
            r[15] &= ~3U;
        if ((e.word & 0x0F000000U) == 0x0F000000U) {
            enter(kCallVector, kSupervisor, next_, false);
            next_ = r[15];
            return;
        }
        return executeArm(e.word);
    }
    case Kind::branch:
        if (holds(e.word >> 28))
            branchTo(r[15] + static_cast<std::uint32_t>(e.offset));
        return;
    case Kind::linkHigh: r[14] = r[15] + static_cast<std::uint32_t>(e.offset); return;
    case Kind::linkLow: case Kind::linkLowArm: {
        const std::uint32_t to = r[14] + static_cast<std::uint32_t>(e.offset);
        r[14] = next_ | 1U;
        if (e.kind == Kind::linkLowArm) {
            cpsr &= ~kThumb;
            next_ = to & ~3U;
            branched_ = true;
        } else {
            branchTo(to);
        }
        return;
    }
    case Kind::undefined: undefined();
    }
}

void Cpu::executeArm(std::uint32_t w)
{
    if ((w >> 28) == 15) {
        // Unconditional: PLD, BLX, and what version 5 does not have.
        if ((w & 0x0D70F000U) == 0x0550F000U)
            return;
        if ((w & 0x0E000000U) == 0x0A000000U) {
            r[14] = next_;
            const std::uint32_t to = r[15] + (static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6) | (w >> 23 & 2U));
            cpsr |= kThumb;
            return branchTo(to);
        }
        if ((w & 0x0F000000U) == 0x0E000000U || (w & 0x0E000000U) == 0x0C000000U)
            return coprocessor(w);
        undefined();
    }
    switch ((w >> 25) & 7U) {
    case 0:
        if ((w & 0x90U) == 0x90U) {
            if ((w & 0x60U) != 0)
                return extra(w);
            if ((w & 0x0FC00000U) == 0 || (w & 0x0F800000U) == 0x00800000U)
                return multiply(w);
            if ((w & 0x0FB00F00U) == 0x01000000U)
                return swap(w);
            undefined();
        }
        if ((w & 0x01900000U) == 0x01000000U)
            return miscellaneous(w);
        return dataProcessing(w);
    case 1:
        if ((w & 0x01900000U) == 0x01000000U) {
            if ((w & 0x0FB00000U) == 0x03200000U) {
                bool carry = false;
                return statusWrite(w, shifterOperand(w, carry));
            }
            undefined();
        }
        return dataProcessing(w);
    case 2: return single(w);
    case 3:
        if ((w & 0x10U) != 0)
            undefined();
        return single(w);
    case 4: return block(w);
    case 5:
        if ((w & 1U << 24) != 0)
            r[14] = next_;
        return branchTo(r[15] + static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6));
    case 6: return coprocessor(w);
    default:
        if ((w & 1U << 24) != 0) {
            enter(kCallVector, kSupervisor, next_, false);
            next_ = r[15];
            return;
        }
        return coprocessor(w);
    }
}

// A5.1.
std::uint32_t Cpu::shifterOperand(std::uint32_t w, bool& carry) const
{
    if ((w & 1U << 25) != 0) {
        const unsigned by = ((w >> 8) & 15U) * 2;
        const std::uint32_t out = std::rotr(w & 0xFFU, static_cast<int>(by));
        if (by != 0)
            carry = (out >> 31) != 0;
        return out;
    }
    const bool byRegister = (w & 0x10U) != 0;
    // A register that gives the amount makes PC one instruction further on.
    std::uint32_t value = r[w & 15U] + (byRegister && (w & 15U) == kPc ? 4U : 0U);
    unsigned amount = byRegister ? r[(w >> 8) & 15U] & 0xFFU : (w >> 7) & 31U;
    const unsigned type = (w >> 5) & 3U;
    if (byRegister && amount == 0)
        return value;
    switch (type) {
    case 0:
        if (amount == 0)
            return value;
        carry = amount <= 32 && ((amount == 32 ? value & 1U : value >> (32 - amount) & 1U) != 0);
        return amount >= 32 ? 0 : value << amount;
    case 1:
        if (amount == 0)
            amount = 32;
        carry = amount <= 32 && (value >> (amount - 1) & 1U) != 0;
        return amount >= 32 ? 0 : value >> amount;
    case 2:
        if (amount == 0 || amount >= 32) {
            carry = (value >> 31) != 0;
            return static_cast<std::uint32_t>(static_cast<std::int32_t>(value) >> 31);
        }
        carry = (value >> (amount - 1) & 1U) != 0;
        return static_cast<std::uint32_t>(static_cast<std::int32_t>(value) >> amount);
    default:
        if (!byRegister && amount == 0) {
            const bool in = carry;
            carry = (value & 1U) != 0;
            return value >> 1 | (in ? 0x80000000U : 0U);
        }
        value = std::rotr(value, static_cast<int>(amount & 31U));
        carry = (value >> 31) != 0;
        return value;
    }
}

void Cpu::dataProcessing(std::uint32_t w)
{
    bool carry = (cpsr & kC) != 0;
    const bool carryIn = carry, flags = (w & 1U << 20) != 0, byRegister = (w & 0x02000010U) == 0x10U;
    const unsigned op = (w >> 21) & 15U, d = (w >> 12) & 15U, n = (w >> 16) & 15U;
    const std::uint32_t b = shifterOperand(w, carry), a = r[n] + (byRegister && n == kPc ? 4U : 0U);
    if (byRegister)
        ++cycles_;
    const bool toPc = d == kPc && (op < 8 || op > 11);
    // With PC as the destination the flags are SPSR's.
    const bool own = flags && !toPc;
    std::uint32_t out = 0;
    bool logic = false;
    switch (op) {
    case 0: case 8: out = a & b, logic = true; break;
    case 1: case 9: out = a ^ b, logic = true; break;
    case 2: case 10: out = addWithCarry(a, ~b, true, own); break;
    case 3: out = addWithCarry(b, ~a, true, own); break;
    case 4: case 11: out = addWithCarry(a, b, false, own); break;
    case 5: out = addWithCarry(a, b, carryIn, own); break;
    case 6: out = addWithCarry(a, ~b, carryIn, own); break;
    case 7: out = addWithCarry(b, ~a, carryIn, own); break;
    case 12: out = a | b, logic = true; break;
    case 13: out = b, logic = true; break;
    case 14: out = a & ~b, logic = true; break;
    default: out = ~b, logic = true; break;
    }
    if (logic && own) {
        setNz(out);
        setFlag(kC, carry);
    }
    if (op >= 8 && op <= 11)
        return;
    if (!toPc) {
        r[d] = out;
        return;
    }
    if (flags)
        restoreStatus();
    branchTo(out);
}

void Cpu::multiply(std::uint32_t w)
{
    const unsigned d = (w >> 16) & 15U, n = (w >> 12) & 15U, s = (w >> 8) & 15U, m = w & 15U;
    const bool flags = (w & 1U << 20) != 0;
    if ((w & 1U << 23) == 0) {
        r[d] = r[m] * r[s] + ((w & 1U << 21) != 0 ? r[n] : 0U);
        cycles_ = flags ? 4 : 2;
        if (flags)
            setNz(r[d]);
        return;
    }
    std::uint64_t product = (w & 1U << 22) != 0 ? static_cast<std::uint64_t>(std::int64_t{static_cast<std::int32_t>(r[m])} * static_cast<std::int32_t>(r[s])) : std::uint64_t{r[m]} * r[s];
    if ((w & 1U << 21) != 0)
        product += std::uint64_t{r[d]} << 32 | r[n];
    r[n] = static_cast<std::uint32_t>(product);
    r[d] = static_cast<std::uint32_t>(product >> 32);
    cycles_ = flags ? 5 : 3;
    if (flags)
        cpsr = (cpsr & ~(kN | kZ)) | (r[d] & kN) | (product == 0 ? kZ : 0U);
}

void Cpu::statusWrite(std::uint32_t w, std::uint32_t value)
{
    std::uint32_t mask = 0;
    for (unsigned f = 0; f < 4; ++f)
        if ((w >> (16 + f) & 1U) != 0)
            mask |= 0xFFU << (8 * f);
    if ((w & 1U << 22) != 0) {
        if (const unsigned bank = bankOf(cpsr); bank != 0)
            spsr_[bank] = (spsr_[bank] & ~mask) | (value & mask);
        return;
    }
    if (!privileged())
        mask &= 0xFF000000U;
    const std::uint32_t before = cpsr;
    // The Thumb bit is not changed this way.
    setCpsr((cpsr & ~mask) | (value & mask & ~kThumb) | (cpsr & kThumb));
    if ((mask & 0xFFU) != 0) {
        cycles_ += 2;
        // Whoever goes from a handler's mode to another's thread by itself has left it.
        if ((before & ~cpsr & (kIrqOff | kFiqOff)) != 0)
            bus_.interruptsEnabled();
    }
}

void Cpu::miscellaneous(std::uint32_t w)
{
    const unsigned m = w & 15U, d = (w >> 12) & 15U;
    switch ((w >> 4) & 15U) {
    case 0:
        if ((w & 1U << 21) != 0)
            return statusWrite(w, r[m]);
        r[d] = (w & 1U << 22) != 0 ? spsr_[bankOf(cpsr)] : cpsr;
        ++cycles_;
        return;
    case 1:
        if ((w & 0x00600000U) == 0x00200000U)
            return branchExchange(r[m]);
        if ((w & 0x00600000U) == 0x00600000U) {
            r[d] = static_cast<std::uint32_t>(std::countl_zero(r[m]));
            return;
        }
        undefined();
    case 2:  // BXJ, without the extension: BX
        if ((w & 0x00600000U) == 0x00200000U)
            return branchExchange(r[m]);
        undefined();
    case 3:
        if ((w & 0x00600000U) == 0x00200000U) {
            const std::uint32_t to = r[m];
            r[14] = next_ | (thumb() ? 1U : 0U);
            return branchExchange(to);
        }
        undefined();
    case 5: {
        const std::int64_t a = static_cast<std::int32_t>(r[m]), n = static_cast<std::int32_t>(r[(w >> 16) & 15U]);
        switch ((w >> 21) & 3U) {
        case 0: r[d] = saturated(a + n); return;
        case 1: r[d] = saturated(a - n); return;
        case 2: r[d] = saturated(a + static_cast<std::int32_t>(saturated(2 * n))); return;
        default: r[d] = saturated(a - static_cast<std::int32_t>(saturated(2 * n))); return;
        }
    }
    case 7: {
        // A breakpoint is a prefetch abort.
        const std::uint32_t at = r[15] - (thumb() ? 4U : 8U);
        throw Abort{at, 2, true};
    }
    default:
        if ((w & 0x90U) == 0x80U)
            return signedMultiply(w);
        undefined();
    }
}

// Halves multiplied, with accumulation that may set Q.
void Cpu::signedMultiply(std::uint32_t w)
{
    const unsigned d = (w >> 16) & 15U, n = (w >> 12) & 15U;
    const auto half = [](std::uint32_t value, bool top) { return static_cast<std::int32_t>(static_cast<std::int16_t>(top ? value >> 16 : value)); };
    const std::uint32_t m = r[w & 15U], s = r[(w >> 8) & 15U];
    const bool x = (w & 0x20U) != 0, y = (w & 0x40U) != 0;
    const auto accumulate = [&](std::uint32_t product) {
        const std::int64_t sum = std::int64_t{static_cast<std::int32_t>(product)} + static_cast<std::int32_t>(r[n]);
        if (sum != static_cast<std::int32_t>(sum))
            cpsr |= kQ;
        return static_cast<std::uint32_t>(sum);
    };
    switch ((w >> 21) & 3U) {
    case 0: r[d] = accumulate(static_cast<std::uint32_t>(half(m, x) * half(s, y))); return;
    case 1: {
        const auto product = static_cast<std::uint32_t>((std::int64_t{static_cast<std::int32_t>(m)} * half(s, y)) >> 16);
        r[d] = x ? product : accumulate(product);
        return;
    }
    case 2: {
        std::uint64_t sum = std::uint64_t{r[d]} << 32 | r[n];
        sum += static_cast<std::uint64_t>(std::int64_t{half(m, x)} * half(s, y));
        r[n] = static_cast<std::uint32_t>(sum);
        r[d] = static_cast<std::uint32_t>(sum >> 32);
        cycles_ = 2;
        return;
    }
    default: r[d] = static_cast<std::uint32_t>(half(m, x) * half(s, y)); return;
    }
}

void Cpu::single(std::uint32_t w)
{
    const bool pre = (w & 1U << 24) != 0, up = (w & 1U << 23) != 0, byte = (w & 1U << 22) != 0, write = (w & 1U << 21) != 0, isLoad = (w & 1U << 20) != 0;
    const unsigned n = (w >> 16) & 15U, d = (w >> 12) & 15U;
    std::uint32_t offset = w & 0xFFFU;
    if ((w & 1U << 25) != 0) {
        bool carry = (cpsr & kC) != 0;
        offset = shifterOperand(w & ~(1U << 25), carry);
    }
    const std::uint32_t base = r[n], moved = up ? base + offset : base - offset, address = pre ? moved : base;
    const bool asUser = !pre && write;
    if (isLoad) {
        std::uint32_t value = load(address, byte ? 1 : 4, asUser);
        if (!byte && (address & 3U) != 0)
            value = std::rotr(value, static_cast<int>(8 * (address & 3U)));
        if (!pre || write)
            r[n] = moved;
        if (d == kPc) {
            cycles_ += 2;
            if ((control & kLoadsIgnoreThumb) != 0)
                return branchTo(value);
            return branchExchange(value);
        }
        r[d] = value;
        return;
    }
    store(address, byte ? 1 : 4, d == kPc ? r[15] + (thumb() ? 2U : 4U) : r[d], asUser);
    if (!pre || write)
        r[n] = moved;
}

// Halfwords, signed bytes, doublewords (A5.3).
void Cpu::extra(std::uint32_t w)
{
    const bool pre = (w & 1U << 24) != 0, up = (w & 1U << 23) != 0, write = (w & 1U << 21) != 0, isLoad = (w & 1U << 20) != 0;
    const unsigned n = (w >> 16) & 15U, d = (w >> 12) & 15U, what = (w >> 5) & 3U;
    const std::uint32_t offset = (w & 1U << 22) != 0 ? ((w >> 4) & 0xF0U) | (w & 15U) : r[w & 15U];
    const std::uint32_t base = r[n], moved = up ? base + offset : base - offset, address = pre ? moved : base;
    const auto writeBack = [&] {
        if (!pre || write)
            r[n] = moved;
    };
    if (isLoad) {
        std::uint32_t value = 0;
        switch (what) {
        case 1: value = load(address, 2); break;
        case 2: value = static_cast<std::uint32_t>(static_cast<std::int8_t>(load(address, 1))); break;
        default: value = static_cast<std::uint32_t>(static_cast<std::int16_t>(load(address, 2))); break;
        }
        writeBack();
        if (d == kPc)
            return branchTo(value);
        r[d] = value;
        return;
    }
    if (what == 1) {
        store(address, 2, r[d]);
    } else {
        if ((d & 1U) != 0 || d == kLr)
            undefined();
        ++cycles_;
        if (what == 2) {
            const std::uint32_t low = load(address, 4), high = load(address + 4, 4);
            writeBack();
            r[d] = low;
            r[d + 1] = high;
            return;
        }
        store(address, 4, r[d]);
        store(address + 4, 4, r[d + 1]);
    }
    writeBack();
}

void Cpu::swap(std::uint32_t w)
{
    const bool byte = (w & 1U << 22) != 0;
    const std::uint32_t address = r[(w >> 16) & 15U];
    std::uint32_t value = load(address, byte ? 1 : 4);
    if (!byte && (address & 3U) != 0)
        value = std::rotr(value, static_cast<int>(8 * (address & 3U)));
    store(address, byte ? 1 : 4, r[w & 15U]);
    r[(w >> 12) & 15U] = value;
    cycles_ = 2;
}

void Cpu::block(std::uint32_t w)
{
    const bool pre = (w & 1U << 24) != 0, up = (w & 1U << 23) != 0, status = (w & 1U << 22) != 0, write = (w & 1U << 21) != 0, isLoad = (w & 1U << 20) != 0;
    const unsigned n = (w >> 16) & 15U;
    const std::uint32_t list = w & 0xFFFFU;
    const auto count = static_cast<std::uint32_t>(std::popcount(list));
    const std::uint32_t base = r[n], low = up ? base : base - 4 * count;
    std::uint32_t address = (low + (pre == up ? 4U : 0U)) & ~3U;
    const std::uint32_t moved = up ? base + 4 * count : base - 4 * count;
    const bool toPc = isLoad && (list & 0x8000U) != 0;
    const bool user = status && !toPc;  // the registers of user mode
    if (isLoad) {
        // All are loaded before any is changed: an abort leaves them as they were.
        std::array<std::uint32_t, 16> values{};
        for (unsigned i = 0; i < 16; ++i)
            if ((list >> i & 1U) != 0) {
                values[i] = load(address, 4);
                address += 4;
            }
        if (write)
            r[n] = moved;
        for (unsigned i = 0; i < 15; ++i)
            if ((list >> i & 1U) != 0) {
                if (user)
                    setRegisterOf(kUser, i, values[i]);
                else
                    r[i] = values[i];
            }
        cycles_ = static_cast<int>(std::max(count, 1U));
        if (toPc) {
            cycles_ += 2;
            if (status) {
                restoreStatus();
                return branchTo(values[15]);
            }
            if ((control & kLoadsIgnoreThumb) != 0)
                return branchTo(values[15]);
            return branchExchange(values[15]);
        }
        return;
    }
    bool first = true;
    for (unsigned i = 0; i < 16; ++i)
        if ((list >> i & 1U) != 0) {
            std::uint32_t value = i == 15 ? r[15] + (thumb() ? 2U : 4U) : user ? registerOf(kUser, i) : r[i];
            // The base in its own list: as it was where it is the first, else as it will be.
            if (i == n && write && !first && !user)
                value = moved;
            store(address, 4, value);
            address += 4;
            first = false;
        }
    if (write)
        r[n] = moved;
    cycles_ = static_cast<int>(std::max(count, 1U));
}

// The system control coprocessor (DDI 0198E chapter 2); there is no other.
void Cpu::coprocessor(std::uint32_t w)
{
    const unsigned which = (w >> 8) & 15U;
    if (which != 15 || (w & 0x0F000010U) != 0x0E000010U || !privileged() || (w >> 28) == 15)
        undefined();
    const bool isRead = (w & 1U << 20) != 0;
    const unsigned n = (w >> 16) & 15U, d = (w >> 12) & 15U, m = w & 15U, op2 = (w >> 5) & 7U;
    const auto give = [&](std::uint32_t value) {
        if (d == kPc)
            cpsr = (cpsr & 0x0FFFFFFFU) | (value & 0xF0000000U);
        else
            r[d] = value;
    };
    const std::uint32_t value = r[d];
    switch (n) {
    case 0:
        if (isRead)
            give(op2 == 1 ? 0x1D152152U : op2 == 2 ? 0U : 0x41069265U);
        return;
    case 1:
        if (isRead)
            return give(control);
        control = (value & kControlMask) | kControlOnes;
        tlb_ = {};
        return;
    case 2: return isRead ? give(tableBase) : void(tableBase = value & 0xFFFFC000U);
    case 3:
        if (isRead)
            return give(domains);
        domains = value;
        tlb_ = {};
        return;
    case 5: return isRead ? give(op2 == 0 ? dataStatus : fetchStatus) : void((op2 == 0 ? dataStatus : fetchStatus) = value & 0xFFU);
    case 6: return isRead ? give(faultAddress) : void(faultAddress = value);
    case 7:
        if (isRead) {
            // Test and clean: nothing is dirty.
            if ((m == 10 || m == 14) && op2 == 3)
                give(kZ);
            return;
        }
        if ((m == 0 && op2 == 4) || (m == 8 && op2 == 2))
            sleeping = true;
        return;
    case 8:
        tlb_ = {};
        return;
    case 13:
        if (op2 == 0) {
            if (isRead)
                return give(processId);
            processId = value & 0xFE000000U;
        } else if (isRead) {
            give(contextId);
        } else {
            contextId = value;
        }
        return;
    case 9: case 10: case 15:
        if (isRead)
            give(0);
        return;
    default: undefined();
    }
}

}  // namespace bramix::chip::arm9
