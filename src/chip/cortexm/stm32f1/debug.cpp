// What a debugger asks of the chip.
#include "chip/cortexm/stm32f1/chip.h"

#include <cstring>

#include <fmt/format.h>

#include "chip/cortexm/family.h"

namespace bramix::chip::cortexm {

std::optional<FaultInfo> Stm32f1::fault() const
{
    if (!cpu_.lockedUp)
        return std::nullopt;
    return FaultInfo{fmt::format("lock-up: a fault within the hard fault (CFSR 0x{:08x}, HFSR 0x{:08x})", exceptions_.faultStatus, exceptions_.hardFaultStatus), cpu_.current, cpu_.cycle};
}

std::uint64_t Stm32f1::readRegister(std::size_t index) const
{
    switch (index) {
    case kXpsrRegister: return cpu_.xpsr();
    case kMspRegister: return cpu_.mainSp();
    case kPspRegister: return cpu_.processSp();
    case kPrimaskRegister: return cpu_.primask ? 1 : 0;
    case kBasepriRegister: return cpu_.basepri;
    case kFaultmaskRegister: return cpu_.faultmask ? 1 : 0;
    case kControlRegister: return cpu_.control;
    default: return index < 16 ? cpu_.r[index] : 0;
    }
}

void Stm32f1::writeRegister(std::size_t index, std::uint64_t value)
{
    const auto v = static_cast<std::uint32_t>(value);
    switch (index) {
    case kXpsrRegister: return cpu_.setXpsr((v & ~0x1FFU) | cpu_.ipsr);
    case kMspRegister: return cpu_.setMainSp(v);
    case kPspRegister: return cpu_.setProcessSp(v);
    case kPrimaskRegister: cpu_.primask = (v & 1U) != 0; return;
    case kBasepriRegister: cpu_.basepri = v & 0xF0U; return;
    case kFaultmaskRegister: cpu_.faultmask = (v & 1U) != 0; return;
    case kControlRegister: return cpu_.setControl(v);
    case 15:
        cpu_.r[15] = cpu_.current = v & ~1U;
        return moved();
    default:
        if (index < 15)
            cpu_.r[index] = v;
    }
}

std::size_t Stm32f1::read(SpaceId, std::uint64_t at, std::span<std::uint8_t> out) const
{
    const auto a = static_cast<std::uint32_t>(at);
    if (const std::uint8_t* from = plain(a, static_cast<unsigned>(out.size())); from != nullptr && at <= UINT32_MAX) {
        std::copy_n(from, out.size(), out.begin());
        return out.size();
    }
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = readData(at + i);
    return out.size();
}

std::uint8_t Stm32f1::readData(std::uint64_t at) const
{
    if (at > UINT32_MAX)
        return 0;
    const auto a = static_cast<std::uint32_t>(at);
    if (const std::uint8_t* from = plain(a, 1))
        return *from;
    return static_cast<std::uint8_t>(peekWord(a & ~3U) >> (8 * (a & 3U)));
}

bool Stm32f1::write(SpaceId, std::uint64_t at, std::uint8_t value)
{
    const auto a = static_cast<std::uint32_t>(at);
    if (at > UINT32_MAX || (a < kRamBase && !(a >= 0x1FFFF7E0)))
        return false;
    if (a >= kRamBase && a - kRamBase < ram_.size()) {
        ram_[a - kRamBase] = value;
        return true;
    }
    if ((a >= 0x40000000 && a < 0x40100000) || (a >= 0xE0000000 && a < 0xE0100000)) {
        const unsigned shift = 8 * (a & 3U);
        writeWord(a & ~3U, (peekWord(a & ~3U) & ~(0xFFU << shift)) | std::uint32_t{value} << shift);
        return true;
    }
    return false;
}

InstructionInfo Stm32f1::instructionAt(std::uint32_t address) const
{
    const auto half = [this](std::uint32_t a) {
        const std::uint8_t* at = plain(a, 2);
        return at == nullptr ? std::uint16_t{0} : static_cast<std::uint16_t>(at[0] | (at[1] << 8));
    };
    if (plain(address, 2) == nullptr)
        return {};
    return infoOf(decode(half(address), half(address + 2)), address);
}

std::optional<MemoryAccess> Stm32f1::nextAccess() const
{
    const Instruction i = const_cast<Cpu&>(cpu_).at(cpu_.pc());
    const bool store = i.op == Op::str || i.op == Op::strb || i.op == Op::strh || i.op == Op::strd || i.op == Op::strex || i.op == Op::strexb || i.op == Op::strexh;
    const bool load = i.op == Op::ldr || i.op == Op::ldrb || i.op == Op::ldrh || i.op == Op::ldrsb || i.op == Op::ldrsh || i.op == Op::ldrd || i.op == Op::ldrex || i.op == Op::ldrexb || i.op == Op::ldrexh;
    if (!store && !load)
        return std::nullopt;
    const std::uint32_t base = i.n == kPc ? (cpu_.pc() + 4) & ~3U : cpu_.r[i.n], offset = i.operand == Operand::shifted ? cpu_.r[i.m] << i.amount : i.imm;
    return MemoryAccess{!i.index ? base : i.up ? base + offset : base - offset, store};
}

}  // namespace bramix::chip::cortexm
