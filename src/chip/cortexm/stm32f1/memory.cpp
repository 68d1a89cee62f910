// What answers at which address: flash, SRAM, their bit-band aliases, and the registers of peripherals.
#include "chip/cortexm/stm32f1/chip.h"

#include <cstring>

#include <fmt/format.h>

#include "chip/cortexm/family.h"

namespace bramix::chip::cortexm {

const std::uint8_t* Stm32f1::plain(std::uint32_t a, unsigned size) const
{
    if (a >= kFlashBase && a - kFlashBase + size <= flash_.size())
        return &flash_[a - kFlashBase];
    if (std::uint64_t{a} + size <= flash_.size())
        return &flash_[a];  // the alias at 0, as BOOT0 low has it
    if (a >= kRamBase && a - kRamBase + size <= ram_.size())
        return &ram_[a - kRamBase];
    return nullptr;
}

std::uint16_t Stm32f1::fetch(std::uint32_t a)
{
    const std::uint8_t* at = plain(a, 2);
    if (at != nullptr)
        return static_cast<std::uint16_t>(at[0] | (at[1] << 8));
    // Peripherals and what lies above the external memories hold no code.
    const bool never = (a >= 0x40000000 && a < 0x60000000) || a >= 0xA0000000;
    throw never ? Abort{kMemManage, kInstructionAccess} : Abort{kBusFault, kInstructionBus};
}

std::uint32_t Stm32f1::read(std::uint32_t a, unsigned size, std::int64_t cycle)
{
    std::uint32_t out = 0;
    if (const std::uint8_t* at = plain(a, size); at != nullptr) [[likely]] {
        std::memcpy(&out, at, size);
    } else if (a >= 0x22000000 && a < 0x22000000 + ram_.size() * 32) {
        const std::uint32_t bit = (a - 0x22000000) / 4;
        out = (ram_[bit / 8] >> (bit % 8)) & 1U;
    } else if (a >= 0x42000000 && a < 0x44000000) {
        const std::uint32_t bit = (a - 0x42000000) / 4;
        catchUp(cycle);
        out = (readWord(0x40000000 + bit / 32 * 4) >> (bit % 32)) & 1U;
        accessDone();
    } else if ((a >= 0x40000000 && a < 0x40100000) || (a >= 0xE0000000 && a < 0xE0100000) || (a >= 0x1FFFF7E0 && a < 0x1FFFF810)) {
        if (a >= 0xE0000000 && !cpu_.privileged())
            throw Abort{kBusFault, kPreciseBus, a};
        catchUp(cycle);
        const std::uint32_t word = readWord(a & ~3U);
        out = size == 4 ? word : (word >> (8 * (a & 3U))) & ((1U << (8 * size)) - 1U);
        accessDone();
    } else {
        throw Abort{kBusFault, kPreciseBus, a};
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, out, out, false);
    return out;
}

void Stm32f1::write(std::uint32_t a, unsigned size, std::uint32_t value, std::int64_t cycle)
{
    std::uint32_t before = 0;
    if (a >= kRamBase && a - kRamBase + size <= ram_.size()) [[likely]] {
        std::memcpy(&before, &ram_[a - kRamBase], size);
        std::memcpy(&ram_[a - kRamBase], &value, size);
    } else if (a >= 0x22000000 && a < 0x22000000 + ram_.size() * 32) {
        const std::uint32_t bit = (a - 0x22000000) / 4;
        std::uint8_t& byte = ram_[bit / 8];
        before = byte;
        byte = static_cast<std::uint8_t>((byte & ~(1U << (bit % 8))) | ((value & 1U) << (bit % 8)));
        if (!watchpoints_.empty())
            noteAccess(kRamBase + bit / 8, 1, before, byte, true);
        return;
    } else if (a >= 0x42000000 && a < 0x44000000) {
        const std::uint32_t bit = (a - 0x42000000) / 4, to = 0x40000000 + bit / 32 * 4;
        catchUp(cycle);
        const std::uint32_t word = readWord(to);
        writeWord(to, (word & ~(1U << (bit % 32))) | (value & 1U) << (bit % 32));
        accessDone();
    } else if ((a >= 0x40000000 && a < 0x40100000) || (a >= 0xE0000000 && a < 0xE0100000)) {
        if (a >= 0xE0000000 && !cpu_.privileged() && a != 0xE000EF00)
            throw Abort{kBusFault, kPreciseBus, a};
        catchUp(cycle);
        before = peekWord(a & ~3U);
        std::uint32_t word = value;
        if (size != 4 && a >= 0xE0000000) {
            const unsigned shift = 8 * (a & 3U);
            const std::uint32_t mask = ((1U << (8 * size)) - 1U) << shift;
            word = (before & ~mask) | (value << shift & mask);
        } else if (size == 1) {
            word = value * 0x01010101U;  // the bridge repeats what is written
        } else if (size == 2) {
            word = value * 0x00010001U;
        }
        writeWord(a & ~3U, word);
        accessDone();
    } else if (a >= kFlashBase && a < kFlashBase + flash_.size()) {
        remark("flash-locked", "flash is written by an ordinary store while it is locked: nothing changes, and a bus fault follows on silicon");
        throw Abort{kBusFault, kPreciseBus, a};
    } else {
        throw Abort{kBusFault, kPreciseBus, a};
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, before, value, true);
}

std::optional<std::uint32_t> Stm32f1::masterRead(const char* master, std::uint32_t a, unsigned size)
{
    a &= ~(size - 1);  // the lower bits of an address are left out (RM0008 13.4.5)
    std::uint32_t out = 0;
    if (const std::uint8_t* at = plain(a, size); at != nullptr)
        std::memcpy(&out, at, size);
    else if (a >= 0x40000000 && a < 0x40100000)
        out = readWord(a & ~3U) >> (8 * (a & 3U)) & (size == 4 ? 0xFFFFFFFFU : (1U << (8 * size)) - 1U);
    else
        return std::nullopt;
    if (!watchpoints_.empty())
        noteAccess(a, size, out, out, false, master);
    return out;
}

bool Stm32f1::masterWrite(const char* master, std::uint32_t a, unsigned size, std::uint32_t value)
{
    a &= ~(size - 1);
    if (size != 4)
        value &= (1U << (8 * size)) - 1U;
    std::uint32_t before = 0;
    if (a >= kRamBase && a - kRamBase + size <= ram_.size()) {
        std::memcpy(&before, &ram_[a - kRamBase], size);
        std::memcpy(&ram_[a - kRamBase], &value, size);
    } else if (a >= 0x40000000 && a < 0x40100000) {
        before = peekWord(a & ~3U);
        writeWord(a & ~3U, size == 1 ? value * 0x01010101U : size == 2 ? value * 0x00010001U : value);
    } else {
        return false;
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, before, value, true, master);
    return true;
}

// Registers.

const Stm32f1::Slot* Stm32f1::slotAt(std::uint32_t a) const
{
    for (const Slot& slot : slots_)
        if (a >= slot.base && a < slot.base + 0x400)
            return &slot;
    return nullptr;
}

bool Stm32f1::clocked(const Slot& slot) const
{
    const std::uint32_t enable = slot.enable == 0x14 ? ahbEnable_ : slot.enable == 0x18 ? apb2Enable_ : apb1Enable_;
    return ((enable >> slot.bit) & 1U) != 0;
}

std::uint32_t Stm32f1::peekWord(std::uint32_t a) const
{
    if (a >= 0xE0000000)
        return peekPrivate(a).value_or(0);
    if (const Slot* slot = slotAt(a)) {
        if (slot->port >= 0)
            return const_cast<Gpio&>(gpio_).read(static_cast<unsigned>(slot->port), a - slot->base, false);
        if (slot->what != nullptr)
            return slot->what->peek(a - slot->base);
        switch (a - slot->base) {
        case 0x00: return evcr_;
        case 0x04: return mapr_;
        case 0x08: case 0x0C: case 0x10: case 0x14: return exticr_[(a - slot->base - 8) / 4];
        default: return 0;
        }
    }
    if (a >= kRccBase && a < kRccBase + 0x400)
        return rccRead(a - kRccBase);
    if (a >= kExtiBase && a < kExtiBase + 0x400)
        switch (a - kExtiBase) {
        case 0x00: return imr_;
        case 0x04: return emr_;
        case 0x08: return rtsr_;
        case 0x0C: return ftsr_;
        case 0x14: return extiPending_;
        default: return 0;
        }
    if (a == kFlashRegisters)
        return flashAcr_;
    if (a == 0x1FFFF7E0)
        return (model_.flashBytes >> 10U) | 0xFFFF0000U;
    if (a >= 0x1FFFF7E8 && a < 0x1FFFF7F4)
        return 0x42524D58U * ((a - 0x1FFFF7E4) / 4) + static_cast<std::uint32_t>(options_.seed);  // a unique number of each chip
    if (a >= 0x1FFFF800 && a < 0x1FFFF810)
        return a == 0x1FFFF800 ? 0x00FF5AA5 : 0x00FF00FF;  // option bytes as shipped
    return 0;
}

std::uint32_t Stm32f1::readWord(std::uint32_t a)
{
    if (const Slot* slot = slotAt(a)) {
        if (!clocked(*slot)) {
            remark("clock-disabled", fmt::format("{} is read while its clock is off in RCC: it reads as 0", slot->name));
            return 0;
        }
        if (slot->port >= 0)
            return gpio_.read(static_cast<unsigned>(slot->port), a - slot->base, true);
        if (slot->what != nullptr)
            return slot->what->read(a - slot->base);
    } else if (a == 0xE000E010) {
        const std::uint32_t out = peekPrivate(a).value_or(0);
        tickFlag_ = false;
        return out;
    } else if (a >= 0x40000000 && a < 0x40100000 && !(a >= kRccBase && a < kRccBase + 0x400) && !(a >= kExtiBase && a < kExtiBase + 0x400) && !(a >= kFlashRegisters && a < kFlashRegisters + 0x400)) {
        remark("not-modelled", fmt::format("the register at 0x{:08x} belongs to a peripheral that is not modelled yet: it reads as 0", a));
    }
    return peekWord(a);
}

void Stm32f1::writeWord(std::uint32_t a, std::uint32_t value)
{
    if (a >= 0xE0000000)
        return writePrivate(a, value);
    if (const Slot* slot = slotAt(a)) {
        if (!clocked(*slot)) {
            remark("clock-disabled", fmt::format("{} is written while its clock is off in RCC: the write has no effect; set its bit in {} first", slot->name, slot->enable == 0x18 ? "APB2ENR" : slot->enable == 0x1C ? "APB1ENR" : "AHBENR"));
            return;
        }
        if (slot->port >= 0) {
            gpio_.write(static_cast<unsigned>(slot->port), a - slot->base, value);
            // Which timers and serial ports show on pins may be others now.
            for (const auto& t : timers_)
                t->clockChanged();
        } else if (slot->what != nullptr) {
            slot->what->write(a - slot->base, value);
        } else {
            afioWrite(a - slot->base, value);
        }
        return;
    }
    if (a >= kRccBase && a < kRccBase + 0x400)
        return rccWrite(a - kRccBase, value);
    if (a >= kExtiBase && a < kExtiBase + 0x400)
        return extiWrite(a - kExtiBase, value);
    if (a == kFlashRegisters) {
        flashAcr_ = (value & 0x1FU) | 0x20U;
        return;
    }
    remark("not-modelled", fmt::format("the register at 0x{:08x} belongs to a peripheral that is not modelled yet: what is written has no effect", a));
}

}  // namespace bramix::chip::cortexm
