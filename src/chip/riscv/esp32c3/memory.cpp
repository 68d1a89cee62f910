// What answers at which address that is not plain memory: registers of peripherals, the interrupt matrix, memory that is watched; and CSRs of this chip.
#include <algorithm>
#include <bit>
#include <cstring>

#include <fmt/format.h>

#include "chip/riscv/esp32c3/chip.h"

namespace bramix::chip::riscv {

namespace {

constexpr std::uint32_t kSystem = 0x600C0000, kMatrix = 0x600C2000, kMmuTable = 0x600C5000, kGpioBase = 0x60004000, kMuxBase = 0x60009000;
constexpr unsigned kFromCpuSource = 50;

}  // namespace

// Memory as it stands, whether it is watched or not; null: it is none.
const std::uint8_t* Esp32c3::plain(std::uint32_t a) const
{
    if (const std::uint8_t* at = map_.readable(a))
        return at;
    for (const std::uint32_t window : {kCodeWindow, kDataWindow})
        if (a - window < 128 * kMmuPageBytes) {
            const std::uint32_t entry = mmu_[(a - window) / kMmuPageBytes];
            const std::size_t from = std::size_t{entry} * kMmuPageBytes + a % kMmuPageBytes;
            return (entry & 0x100U) == 0 && from < flash_.size() ? &flash_[from] : nullptr;
        }
    return nullptr;
}

std::uint16_t Esp32c3::fetch(std::uint32_t a)
{
    if (a >= kRom && a < kRomEnd) {
        remark("rom-call", fmt::format("the instruction at 0x{:08x} goes to 0x{:08x} in the mask ROM, which is not here: build for direct boot, without functions of the ROM", cpu_.current == a ? cpu_.x[1] - 4 : cpu_.current, a));
        throw Trap{kInstructionFault, a};
    }
    std::uint16_t out = 0;
    for (unsigned i = 0; i < 2; ++i) {
        std::uint8_t byte = 0;
        if (const std::uint8_t* at = plain(a + i); at != nullptr)
            byte = *at;
        else if (const std::size_t sram = sram_.offsetOf(a + i); sram != SIZE_MAX)
            byte = sram_[sram];
        else
            throw Trap{kInstructionFault, a};
        out = static_cast<std::uint16_t>(out | byte << (8 * i));
    }
    return out;
}

std::uint32_t Esp32c3::read(std::uint32_t a, unsigned size, std::int64_t cycle)
{
    std::uint32_t out = 0;
    if (a >= kPeripherals && a < kPeripheralsEnd) {
        catchUp(cycle);
        const std::uint32_t word = readWord(a & ~3U);
        out = size == 4 ? word : (word >> (8 * (a & 3U))) & ((1U << (8 * size)) - 1U);
        accessDone();
    } else {
        for (unsigned i = 0; i < size; ++i) {
            if (const std::uint8_t* at = plain(a + i); at != nullptr)
                out |= std::uint32_t{*at} << (8 * i);
            else if (const std::size_t sram = sram_.offsetOf(a + i); sram != SIZE_MAX)
                out |= std::uint32_t{sram_[sram]} << (8 * i);
            else if (const std::size_t rtc = rtcSram_.offsetOf(a + i); rtc != SIZE_MAX)
                out |= std::uint32_t{rtcSram_[rtc]} << (8 * i);
            else
                throw Trap{kLoadFault, a};
        }
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, out, out, false);
    return out;
}

void Esp32c3::write(std::uint32_t a, unsigned size, std::uint32_t value, std::int64_t cycle)
{
    std::uint32_t before = 0;
    std::array<std::uint8_t, 4> bytes{};
    std::memcpy(bytes.data(), &value, 4);
    const auto into = [&](MappedRam& ram, std::size_t at) {
        for (unsigned i = 0; i < size; ++i)
            before |= std::uint32_t{ram[at + i]} << (8 * i);
        ram.write(at, std::span(bytes).first(size));
    };
    if (const std::size_t sram = sram_.offsetOf(a); sram != SIZE_MAX) {
        into(sram_, sram);
    } else if (const std::size_t rtc = rtcSram_.offsetOf(a); rtc != SIZE_MAX) {
        into(rtcSram_, rtc);
    } else if (a >= kPeripherals && a < kPeripheralsEnd) {
        catchUp(cycle);
        before = peekWord(a & ~3U);
        std::uint32_t word = value;
        if (size != 4) {
            const unsigned shift = 8 * (a & 3U);
            const std::uint32_t mask = ((1U << (8 * size)) - 1U) << shift;
            word = (before & ~mask) | (value << shift & mask);
        }
        writeWord(a & ~3U, word);
        accessDone();
    } else {
        if (plain(a) != nullptr)
            remark("flash-written", fmt::format("the instruction at 0x{:08x} stores to 0x{:08x} in a window of the flash, which can only be read", cpu_.current, a));
        throw Trap{kStoreFault, a};
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, before, value, true);
}

// Registers.

const Esp32c3::Slot* Esp32c3::slotAt(std::uint32_t a) const
{
    for (const Slot& slot : slots_)
        if (a - slot.base < slot.size)
            return &slot;
    return nullptr;
}

std::uint32_t Esp32c3::peekWord(std::uint32_t a) const
{
    if (const Slot* slot = slotAt(a))
        return slot->what->peek(a - slot->base);
    if (a - kGpioBase < 0x700)
        return gpio_.peek(a - kGpioBase);
    if (a - kMuxBase < 0x100)
        return gpio_.peekMux(a - kMuxBase);
    if (a - kMatrix < 0x800)
        return peekMatrix(a - kMatrix);
    if (a - kMmuTable < 0x200)
        return mmu_[(a - kMmuTable) / 4];
    if (a == kSystem + 0x08)
        return cpuClock_;
    if (a == kSystem + 0x58)
        return systemClock_ | 40U << 12;
    if (a >= kSystem + 0x28 && a < kSystem + 0x38)
        return fromCpu_[(a - kSystem - 0x28) / 4];
    const auto known = kept_.find(a);
    return known == kept_.end() ? 0 : known->second;
}

std::uint32_t Esp32c3::readWord(std::uint32_t a)
{
    if (const Slot* slot = slotAt(a))
        return slot->what->read(a - slot->base);
    if (a - kGpioBase < 0x700)
        return gpio_.read(a - kGpioBase);
    return peekWord(a);
}

void Esp32c3::writeWord(std::uint32_t a, std::uint32_t value)
{
    if (const Slot* slot = slotAt(a)) {
        slot->what->write(a - slot->base, value);
    } else if (a - kGpioBase < 0x700) {
        gpio_.write(a - kGpioBase, value);
    } else if (a - kMuxBase < 0x100) {
        gpio_.writeMux(a - kMuxBase, value);
    } else if (a - kMatrix < 0x800) {
        writeMatrix(a - kMatrix, value);
    } else if (a - kMmuTable < 0x200) {
        mmu_[(a - kMmuTable) / 4] = value & 0x1FFU;
        placeFlash();
    } else if (a == kSystem + 0x08) {
        cpuClock_ = value & 0xFU;
        selectClock();
    } else if (a == kSystem + 0x58) {
        systemClock_ = value & 0xFFFU;
        selectClock();
    } else if (a >= kSystem + 0x28 && a < kSystem + 0x38) {
        fromCpu_[(a - kSystem - 0x28) / 4] = value & 1U;
        setSource(kFromCpuSource + (a - kSystem - 0x28) / 4, (value & 1U) != 0);
    } else {
        if (a - kSystem >= 0x1000)
            remark("not-modelled", fmt::format("the register at 0x{:08x} belongs to a peripheral that is not modelled yet: it keeps what is written, without effect", a));
        kept_[a] = value;
    }
}

// The interrupt matrix (TRM chapter 8).

std::uint32_t Esp32c3::peekMatrix(std::uint32_t offset) const
{
    if (offset < 4 * kSources)
        return route_[offset / 4];
    switch (offset) {
    case 0xF8: case 0xFC: {
        std::uint32_t out = 0;
        for (unsigned s = 0; s < 32; ++s)
            if (const unsigned source = (offset - 0xF8) * 8 + s; source < kSources && sources_[source] != 0)
                out |= 1U << s;
        return out;
    }
    case 0x104: return interruptEnable_;
    case 0x108: return interruptType_;
    case 0x110: return pendingLines();
    case 0x194: return threshold_;
    default: return offset >= 0x114 && offset < 0x194 ? priority_[(offset - 0x114) / 4] : 0;
    }
}

void Esp32c3::writeMatrix(std::uint32_t offset, std::uint32_t value)
{
    if (offset < 4 * kSources)
        route_[offset / 4] = value & 31U;
    else if (offset == 0x104)
        interruptEnable_ = value & ~1U;
    else if (offset == 0x108)
        interruptType_ = value;
    else if (offset == 0x10C)
        latched_ &= ~value;
    else if (offset == 0x194)
        threshold_ = value & 15U;
    else if (offset >= 0x114 && offset < 0x194)
        priority_[(offset - 0x114) / 4] = value & 15U;
    linesChanged();
}

unsigned Esp32c3::due() const
{
    std::uint32_t wants = pendingLines() & interruptEnable_;
    unsigned out = 0, best = 0;
    for (; wants != 0; wants &= wants - 1) {
        const auto n = static_cast<unsigned>(std::countr_zero(wants));
        if (priority_[n] != 0 && priority_[n] >= threshold_ && priority_[n] > best)
            out = n, best = priority_[n];
    }
    return out;
}

void Esp32c3::setSource(unsigned source, bool high)
{
    if ((sources_[source] != 0) == high)
        return;
    sources_[source] = high ? 1 : 0;
    linesChanged();
}

void Esp32c3::linesChanged()
{
    const std::uint32_t before = pendingLines();
    std::uint32_t lines = 0;
    for (unsigned s = 0; s < kSources; ++s)
        if (sources_[s] != 0)
            lines |= 1U << route_[s];
    lines &= ~1U;
    latched_ |= lines & ~lines_;
    lines_ = lines;
    for (std::uint32_t fresh = pendingLines() & ~before; fresh != 0; fresh &= fresh - 1)
        requestedNow(exceptionOf(kInterrupt | static_cast<std::uint32_t>(std::countr_zero(fresh))));
    if (due() != 0)
        leaveSlice();
}

void Esp32c3::remark(const char* rule, const std::string& text)
{
    const std::string_view name(rule);
    remarkOnce(name == "rom-call" ? Weight::error : name == "not-modelled" ? Weight::note : Weight::warning, rule, text);
}

// CSRs of this chip (TRM 1.4): identity, memory protection and triggers that keep what is written, the cycle counter, quick access to pads.

std::optional<std::uint32_t> Esp32c3::readCsr(unsigned number)
{
    switch (number) {
    case 0xF11: return 0x612;
    case 0xF12: return 0x80000001;
    case 0xF13: return 1;
    case 0x7E2: return static_cast<std::uint32_t>(cpu_.cycle - counterBase_);
    case 0x804: catchUp(cpu_.cycle + 1); return gpio_.peek(0x3C);
    default: break;
    }
    const bool known = (number >= 0x3A0 && number < 0x3A4) || (number >= 0x3B0 && number < 0x3C0) || (number >= 0x7A0 && number < 0x7A6) || number == 0x7E0 || number == 0x7E1 || number == 0x803 || number == 0x805;
    if (!known)
        return std::nullopt;
    const auto kept = csrs_.find(number);
    return kept == csrs_.end() ? 0 : kept->second;
}

bool Esp32c3::writeCsr(unsigned number, std::uint32_t value)
{
    if (number == 0x7E2) {
        counterBase_ = cpu_.cycle - value;
        return true;
    }
    if (!readCsr(number))
        return false;
    if (number == 0x803 || number == 0x805)
        remark("not-modelled", "quick access to pads by CSRs is not modelled: what is written has no effect");
    csrs_[number] = value;
    return true;
}

}  // namespace bramix::chip::riscv
