// What a debugger asks of the chip.
#include <cstring>

#include <fmt/format.h>

#include "chip/riscv/esp32c3/chip.h"
#include "chip/riscv/family.h"

namespace bramix::chip::riscv {

std::optional<FaultInfo> Esp32c3::fault() const { return fault_.empty() ? std::nullopt : std::optional(FaultInfo{fault_, faultAt_, faultCycle_}); }

std::uint64_t Esp32c3::readRegister(std::size_t index) const
{
    if (index < 32)
        return cpu_.x[index];
    if (index == kPcRegister)
        return cpu_.pc;
    return index - kFirstCsr < kCsrs.size() ? cpu_.csr(kCsrs[index - kFirstCsr]).value_or(0) : 0;
}

void Esp32c3::writeRegister(std::size_t index, std::uint64_t value)
{
    const auto v = static_cast<std::uint32_t>(value);
    if (index > 0 && index < 32)
        cpu_.x[index] = v;
    else if (index == kPcRegister) {
        cpu_.pc = cpu_.current = v & ~1U;
        moved();
    } else if (index >= kFirstCsr && index - kFirstCsr < kCsrs.size()) {
        cpu_.setCsr(kCsrs[index - kFirstCsr], v);
        leaveSlice();
    }
}

std::size_t Esp32c3::read(SpaceId, std::uint64_t at, std::span<std::uint8_t> out) const
{
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = readData(at + i);
    return out.size();
}

std::uint8_t Esp32c3::readData(std::uint64_t at) const
{
    if (at > UINT32_MAX)
        return 0;
    const auto a = static_cast<std::uint32_t>(at);
    if (const std::uint8_t* from = plain(a))
        return *from;
    if (const std::size_t sram = sram_.offsetOf(a); sram != SIZE_MAX)
        return sram_[sram];
    if (const std::size_t rtc = rtcSram_.offsetOf(a); rtc != SIZE_MAX)
        return rtcSram_[rtc];
    return a >= kPeripherals && a < kPeripheralsEnd ? static_cast<std::uint8_t>(peekWord(a & ~3U) >> (8 * (a & 3U))) : std::uint8_t{0};
}

bool Esp32c3::write(SpaceId, std::uint64_t at, std::uint8_t value)
{
    if (at > UINT32_MAX)
        return false;
    const auto a = static_cast<std::uint32_t>(at);
    if (const std::size_t sram = sram_.offsetOf(a); sram != SIZE_MAX) {
        sram_.write(sram, {&value, 1});
        return true;
    }
    if (const std::size_t rtc = rtcSram_.offsetOf(a); rtc != SIZE_MAX) {
        rtcSram_.write(rtc, {&value, 1});
        return true;
    }
    if (a < kPeripherals || a >= kPeripheralsEnd)
        return false;
    const unsigned shift = 8 * (a & 3U);
    writeWord(a & ~3U, (peekWord(a & ~3U) & ~(0xFFU << shift)) | std::uint32_t{value} << shift);
    return true;
}

InstructionInfo Esp32c3::instructionAt(std::uint32_t address) const
{
    const auto half = [this](std::uint32_t a) { return std::uint32_t{readData(a)} | std::uint32_t{readData(a + 1)} << 8; };
    const bool there = plain(address) != nullptr || sram_.offsetOf(address) != SIZE_MAX || rtcSram_.offsetOf(address) != SIZE_MAX;
    return there ? infoOf(decode(half(address) | half(address + 2) << 16), address) : InstructionInfo{};
}

std::optional<MemoryAccess> Esp32c3::nextAccess() const
{
    std::uint32_t word = 0;
    for (unsigned i = 0; i < 4; ++i)
        word |= std::uint32_t{readData(cpu_.pc + i)} << (8 * i);
    const Instruction i = decode(word);
    const bool load = i.op >= Op::lb && i.op <= Op::lhu, store = i.op >= Op::sb && i.op <= Op::sw;
    return load || store ? std::optional(MemoryAccess{cpu_.x[i.a] + static_cast<std::uint32_t>(i.imm), store}) : std::nullopt;
}

}  // namespace bramix::chip::riscv
