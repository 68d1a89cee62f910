#include "chip/arm9/arm926/chip.h"

#include <algorithm>
#include <cstring>

#include <fmt/format.h>

#include "chip/arm9/family.h"

namespace bramix::chip::arm9 {

namespace {

// A core of that time in 130 nm: about half a milliampere a megahertz at 3.3 V of the board.
constexpr SupplyFigures kSupply{2.7, 2.6, 5e-3, 0.45e-3, 0.3, 3.3};
constexpr PinElectrics kPins{30, 45e3, 45e3, 0.02, 0.2, 0.25, 0.6};
constexpr unsigned kTimerSources[] = {4, 5};
constexpr unsigned kFirstUartSource = 12;

}  // namespace

Arm926::Arm926(const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : RunningChip(arm926(), options, queue, circuit, observer, cpu_, options.clockHz != 0 ? options.clockHz : kCoreHz, kSupply), ram_(map_, kRamBytes), cpu_(*this, map_), pins_(circuit, 2 * kUarts, kPins, [this] { return cause(); }),
      controller_([this] { linesChanged(); }), timers_{DualTimer(*this, kTimerSources[0]), DualTimer(*this, kTimerSources[1])}
{
    for (unsigned u = 0; u < kUarts; ++u)
        uarts_[u] = std::make_unique<Uart>(static_cast<Host&>(*this), fmt::format("UART{}", u), kFirstUartSource + u, [this, u](bool level) { pins_.drive(2 * u, level ? PinBank::Drives::high : PinBank::Drives::low); });
    slots_ = {{0x10140000, &controller_}, {0x101E2000, &timers_[0]}, {0x101E3000, &timers_[1]}, {0x101F1000, uarts_[0].get()}, {0x101F2000, uarts_[1].get()}, {0x101F3000, uarts_[2].get()}};
    ram_.place(0);
    pins_.changed = [this](unsigned pin, bool level) {
        if (pin % 2 == 1)
            uarts_[pin / 2]->inputChanged(level);
    };
    for (unsigned u = 0; u < kUarts; ++u)
        pins_.drive(2 * u + 1, PinBank::Drives::pullUp);
    refreshPins();
    powerOn();
}

std::optional<unsigned> Arm926::pinNamed(std::string_view name)
{
    if (name.size() != 4 || name[0] != 'U' || name[1] < '0' || name[1] >= static_cast<char>('0' + kUarts) || (name.substr(2) != "TX" && name.substr(2) != "RX"))
        return std::nullopt;
    return 2 * static_cast<unsigned>(name[1] - '0') + (name[2] == 'R' ? 1U : 0U);
}

bool Arm926::attachPin(std::string_view name, circuit::PinId id)
{
    const auto pin = pinNamed(name);
    if (!pin)
        return false;
    pins_.attach(*pin, id);
    return true;
}

std::optional<double> Arm926::outputOhms(circuit::PinId pin) const
{
    const auto known = pins_.pinAt(pin);
    return known && *known % 2 == 0 ? std::optional(pins_.electrics().outputOhms) : std::nullopt;
}

std::vector<PinStatus> Arm926::pins() const
{
    std::vector<PinStatus> out;
    for (unsigned p = 0; p < 2 * kUarts; ++p) {
        PinStatus s;
        s.name = fmt::format("U{}{}", p / 2, p % 2 == 0 ? "TX" : "RX");
        s.output = p % 2 == 0;
        s.pullUp = !s.output;
        s.level = s.latch = pins_.level(p);
        s.function = p % 2 == 0 ? "TXD" : "RXD";
        out.push_back(std::move(s));
    }
    return out;
}

const std::vector<SerialPort>& Arm926::serialPorts() const
{
    serialPorts_.clear();
    for (unsigned u = 0; u < kUarts; ++u)
        serialPorts_.push_back({fmt::format("uart{}", u), pins_.idOf(2 * u), pins_.idOf(2 * u + 1)});
    return serialPorts_;
}

void Arm926::loadProgram(const Firmware& firmware)
{
    program_ = firmware.flash;
    chunks_ = firmware.memory;
    entry_ = firmware.entry;
    if (!firmware.isElf) {
        const auto first = std::find_if(program_.begin(), program_.end(), [](std::uint8_t b) { return b != 0xFF; });
        entry_ = firmware.file.ends_with(".bin") ? kRawEntry : static_cast<std::uint32_t>(first - program_.begin()) & ~3U;
    }
    shown_.clear();
    shownAt_ = -1;
}

void Arm926::fillMemories()
{
    ram_.fill(static_cast<std::uint8_t>(0xA5U ^ options_.seed));
    constexpr std::size_t kPage = PageMap::kPageBytes;
    for (std::size_t page = 0; page < program_.size(); page += kPage) {
        const std::span<const std::uint8_t> bytes(program_.data() + page, std::min(kPage, program_.size() - page));
        // Where the image says nothing memory is as it comes up.
        if (std::any_of(bytes.begin(), bytes.end(), [](std::uint8_t b) { return b != 0xFF; }))
            ram_.write(page, bytes);
    }
    for (const Firmware::Chunk& chunk : chunks_)
        for (std::size_t at = 0; at < chunk.bytes.size();) {
            const std::size_t to = chunk.address + at, count = std::min(chunk.bytes.size() - at, kPage - to % kPage);
            if (to + count <= ram_.size())
                ram_.write(to, std::span(chunk.bytes).subspan(at, count));
            at += count;
        }
}

void Arm926::resetState(unsigned)
{
    fault_.clear();
    irqWas_ = fiqWas_ = false;
    cpu_.reset(entry_);
    controller_.reset();
    for (DualTimer& t : timers_)
        t.reset();
    for (const auto& u : uarts_)
        u->reset();
    uarts_[0]->setUpByMonitor();
}

void Arm926::linesChanged()
{
    const bool irq = controller_.irq(), fiq = controller_.fiq();
    if (irq && !irqWas_)
        requestedNow(kIrqVector);
    if (fiq && !fiqWas_)
        requestedNow(kFiqVector);
    irqWas_ = irq;
    fiqWas_ = fiq;
    if (irq || fiq)
        leaveSlice();
}

void Arm926::step()
{
    const std::uint32_t at = cpu_.r[15];
    cpu_.step();
    if (cpu_.entered == 0)
        return;
    if (cpu_.entered == kPrefetchVector && at == cpu_.r[15]) {
        fault_ = fmt::format("no handler: a prefetch abort at its own vector 0x{:08x}", at);
        faultAt_ = at;
        faultCycle_ = cpu_.cycle;
        leaveSlice();
    } else if (cpu_.entered == kUndefinedVector && at == cpu_.r[15]) {
        fault_ = fmt::format("no handler: there is no instruction at the vector of undefined instructions, 0x{:08x}", at);
        faultAt_ = at;
        faultCycle_ = cpu_.cycle;
        leaveSlice();
    } else if (cpu_.entered == kDataVector) {
        remark("abort-taken", fmt::format("data abort at 0x{:08x} (status 0x{:x}) by the instruction at 0x{:08x}", cpu_.faultAddress, cpu_.dataStatus, at));
    } else if (cpu_.entered == kPrefetchVector) {
        remark("abort-taken", fmt::format("prefetch abort at 0x{:08x} (status 0x{:x})", at, cpu_.fetchStatus));
    } else if (cpu_.entered == kUndefinedVector) {
        remark("abort-taken", fmt::format("undefined instruction at 0x{:08x}", at));
    }
}

bool Arm926::enterDue()
{
    if (controller_.fiq() && (cpu_.cpsr & kFiqOff) == 0)
        cpu_.interrupt(kFiqVector);
    else if (controller_.irq() && (cpu_.cpsr & kIrqOff) == 0)
        cpu_.interrupt(kIrqVector);
    else
        return false;
    return true;
}

bool Arm926::jumpsToItself() const
{
    const auto at = cpu_.physical(cpu_.r[15]);
    const std::uint8_t* from = at ? map_.readable(*at) : nullptr;
    if (from == nullptr)
        return false;
    std::uint32_t word = 0;
    std::memcpy(&word, from, cpu_.thumb() ? 2 : 4);
    return cpu_.thumb() ? word == 0xE7FE : word == 0xEAFFFFFE;
}

bool Arm926::halted() const
{
    const bool mayCome = controller_.enabled() != 0;
    if (cpu_.sleeping)
        return !mayCome;
    const bool loops = jumpsToItself();
    const bool off = (cpu_.cpsr & (kIrqOff | kFiqOff)) == (kIrqOff | kFiqOff);
    return loops && (off || !mayCome);
}

void Arm926::remark(const char* rule, const std::string& text) { remarkOnce(std::string_view(rule) == "not-modelled" ? Weight::note : Weight::warning, rule, text); }

// Memory.

void Arm926::watchpointsChanged()
{
    std::vector<bool> pages(kRamBytes / PageMap::kPageBytes);
    for (const Watchpoint& w : watchpoints_)
        for (std::uint64_t a = w.address & ~std::uint64_t{PageMap::kPageBytes - 1}; a < w.address + w.length && a < kRamBytes; a += PageMap::kPageBytes)
            pages[a / PageMap::kPageBytes] = true;
    ram_.watch(std::move(pages));
}

WordPeripheral* Arm926::at(std::uint32_t a) const
{
    for (const Slot& slot : slots_)
        if (a - slot.base < 0x1000)
            return slot.what;
    return nullptr;
}

std::uint32_t Arm926::fetch(std::uint32_t a, unsigned size)
{
    if (a >= kRamBytes || kRamBytes - a < size)
        throw Abort{a, 8, true};
    std::uint32_t out = 0;
    for (unsigned i = 0; i < size; ++i)
        out |= std::uint32_t{ram_[a + i]} << (8 * i);
    return out;
}

std::uint32_t Arm926::read(std::uint32_t a, unsigned size, std::int64_t cycle)
{
    std::uint32_t out = 0;
    if (a < kRamBytes && kRamBytes - a >= size) {
        for (unsigned i = 0; i < size; ++i)
            out |= std::uint32_t{ram_[a + i]} << (8 * i);
    } else if (WordPeripheral* what = at(a)) {
        catchUp(cycle);
        const std::uint32_t word = what->read(a & 0xFFCU);
        out = size == 4 ? word : (word >> (8 * (a & 3U))) & ((1U << (8 * size)) - 1U);
        accessDone();
    } else {
        throw Abort{a, 8};
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, out, out, false);
    return out;
}

void Arm926::write(std::uint32_t a, unsigned size, std::uint32_t value, std::int64_t cycle)
{
    std::uint32_t before = 0;
    if (a < kRamBytes && kRamBytes - a >= size) {
        std::array<std::uint8_t, 4> bytes{};
        std::memcpy(bytes.data(), &value, 4);
        for (unsigned i = 0; i < size; ++i)
            before |= std::uint32_t{ram_[a + i]} << (8 * i);
        ram_.write(a, std::span(bytes).first(size));
    } else if (WordPeripheral* what = at(a)) {
        catchUp(cycle);
        before = what->peek(a & 0xFFCU);
        // Narrower writes come on their lanes; these peripherals take what stands on the lowest.
        what->write(a & 0xFFCU, value);
        accessDone();
    } else {
        throw Abort{a, 8};
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, before, value, true);
}

// Debugging.

std::optional<FaultInfo> Arm926::fault() const { return fault_.empty() ? std::nullopt : std::optional(FaultInfo{fault_, faultAt_, faultCycle_}); }

std::uint64_t Arm926::readRegister(std::size_t index) const
{
    if (index < 16)
        return cpu_.r[index];
    if (index == kCpsrRegister)
        return cpu_.cpsr;
    if (index - kFirstBanked >= bankedRegisters().size())
        return 0;
    const BankedRegister& b = bankedRegisters()[index - kFirstBanked];
    return b.number == 16 ? cpu_.spsrOf(b.mode) : cpu_.registerOf(b.mode, b.number);
}

void Arm926::writeRegister(std::size_t index, std::uint64_t value)
{
    const auto v = static_cast<std::uint32_t>(value);
    if (index < 15) {
        cpu_.r[index] = v;
    } else if (index == 15) {
        cpu_.r[15] = cpu_.current = v & (cpu_.thumb() ? ~1U : ~3U);
        moved();
    } else if (index == kCpsrRegister) {
        cpu_.setCpsr(v);
        leaveSlice();
    } else if (index - kFirstBanked < bankedRegisters().size()) {
        const BankedRegister& b = bankedRegisters()[index - kFirstBanked];
        if (b.number == 16)
            cpu_.setSpsrOf(b.mode, v);
        else
            cpu_.setRegisterOf(b.mode, b.number, v);
    }
}

std::size_t Arm926::read(SpaceId, std::uint64_t from, std::span<std::uint8_t> out) const
{
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = readData(from + i);
    return out.size();
}

// As the program sees it: through the MMU, where that is on.
std::uint8_t Arm926::readData(std::uint64_t address) const
{
    if (address > UINT32_MAX)
        return 0;
    const auto a = cpu_.physical(static_cast<std::uint32_t>(address));
    if (!a)
        return 0;
    if (*a < kRamBytes)
        return ram_[*a];
    const WordPeripheral* what = at(*a);
    return what == nullptr ? std::uint8_t{0} : static_cast<std::uint8_t>(what->peek(*a & 0xFFCU) >> (8 * (*a & 3U)));
}

bool Arm926::write(SpaceId, std::uint64_t address, std::uint8_t value)
{
    const auto a = address > UINT32_MAX ? std::nullopt : cpu_.physical(static_cast<std::uint32_t>(address));
    if (!a)
        return false;
    if (*a < kRamBytes) {
        ram_.write(*a, {&value, 1});
        shownAt_ = -1;
        return true;
    }
    WordPeripheral* what = at(*a);
    if (what == nullptr)
        return false;
    const unsigned shift = 8 * (*a & 3U);
    what->write(*a & 0xFFCU, (what->peek(*a & 0xFFCU) & ~(0xFFU << shift)) | std::uint32_t{value} << shift);
    return true;
}

// The part of memory that the image lies in, as it stands now: taken anew when the core has gone on.
CodeView Arm926::code() const
{
    if (shownAt_ != cpu_.cycle || shown_.size() != program_.size()) {
        shown_.resize(program_.size());
        ram_.read(0, shown_);
        shownAt_ = cpu_.cycle;
    }
    return {shown_, 0};
}

InstructionInfo Arm926::instructionAt(std::uint32_t address) const
{
    const auto byte = [&](std::uint32_t a) { return std::uint32_t{readData(a)}; };
    const auto there = cpu_.physical(address);
    if (!there || *there >= kRamBytes)
        return {};
    const std::uint32_t word = byte(address) | byte(address + 1) << 8 | byte(address + 2) << 16 | byte(address + 3) << 24;
    return cpu_.thumb() ? infoOfThumb(static_cast<std::uint16_t>(word), static_cast<std::uint16_t>(word >> 16), address) : infoOfArm(word, address);
}

std::optional<MemoryAccess> Arm926::nextAccess() const
{
    const auto byte = [&](std::uint32_t a) { return std::uint32_t{readData(a)}; };
    const std::uint32_t pc = cpu_.r[15];
    std::uint32_t w = byte(pc) | byte(pc + 1) << 8 | byte(pc + 2) << 16 | byte(pc + 3) << 24;
    std::uint32_t ahead = pc + 8;
    if (cpu_.thumb()) {
        const Expanded e = expandThumb(static_cast<std::uint16_t>(w));
        if (e.kind != Expanded::Kind::arm)
            return std::nullopt;
        w = e.word;
        ahead = (pc + 4) & ~3U;
    }
    const auto reg = [&](unsigned n) { return n == kPc ? ahead : cpu_.r[n]; };
    const bool pre = (w >> 24 & 1U) != 0, up = (w >> 23 & 1U) != 0;
    const std::uint32_t base = reg(w >> 16 & 15U);
    if ((w & 0x0C000000U) == 0x04000000U) {
        const std::uint32_t offset = (w >> 25 & 1U) == 0 ? w & 0xFFFU : (w & 0x60U) == 0 ? reg(w & 15U) << (w >> 7 & 31U) : 0;
        return MemoryAccess{!pre ? base : up ? base + offset : base - offset, (w >> 20 & 1U) == 0};
    }
    if ((w & 0x0E000090U) == 0x90U && (w & 0x60U) != 0) {
        const std::uint32_t offset = (w >> 22 & 1U) != 0 ? (w >> 4 & 0xF0U) | (w & 15U) : reg(w & 15U);
        const bool store = (w >> 20 & 1U) == 0 && (w & 0x60U) != 0x40U;
        return MemoryAccess{!pre ? base : up ? base + offset : base - offset, store};
    }
    return std::nullopt;
}

}  // namespace bramix::chip::arm9
