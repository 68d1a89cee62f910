#include "chip/cortexm/stm32f1/chip.h"

#include <algorithm>
#include <bit>
#include <cstring>

#include <fmt/format.h>

#include "chip/cortexm/family.h"

namespace bramix::chip::cortexm {

namespace {

constexpr std::uint64_t kHsi = 8'000'000;
constexpr double kPowerOnVolts = 1.9, kPowerOffVolts = 1.8;  // DS5319 table 11, POR and PDR
constexpr double kRunAmps = 0.5e-3, kRunAmpsPerMhz = 0.5e-3, kSleepShare = 0.35;  // DS5319 table 13: 36 mA at 72 MHz with all peripherals

constexpr std::uint32_t kRccBase = 0x40021000, kFlashRegisters = 0x40022000, kAfioBase = 0x40010000, kExtiBase = 0x40010400, kGpioBase = 0x40010800;

}  // namespace

Stm32f1::Stm32f1(const Model& model, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : model_(model), device_(deviceOf(model)), options_(options), queue_(queue), circuit_(circuit), observer_(observer), clock_(kHsi), exceptions_(kInterrupts), cpu_(*this, exceptions_),
      gpio_(*this, circuit, options.pullUpOhms != 0 ? options.pullUpOhms : 40e3, [this] { return cause(); }), flash_(model.flashBytes, 0xFF), ram_(model.ramBytes), volts_(options.supplyVolts),
      hseReady_(*this, [this](std::int64_t) { rccCr_ |= 1U << 17; }), pllReady_(*this, [this](std::int64_t) { rccCr_ |= 1U << 25; }), tick_(*this, [this](std::int64_t cycle) { tickDue(cycle); })
{
    usarts_.push_back(std::make_unique<Usart>(*this, gpio_, "USART1", BusOf::apb2, 37, pinOf('A', 9), pinOf('A', 10)));
    usarts_.push_back(std::make_unique<Usart>(*this, gpio_, "USART2", BusOf::apb1, 38, pinOf('A', 2), pinOf('A', 3)));
    if (model.id != "stm32f103r6")
        usarts_.push_back(std::make_unique<Usart>(*this, gpio_, "USART3", BusOf::apb1, 39, pinOf('B', 10), pinOf('B', 11)));
    timers_.push_back(std::make_unique<Timer>(*this, gpio_, "TIM2", BusOf::apb1, 28, std::array{pinOf('A', 0), pinOf('A', 1), pinOf('A', 2), pinOf('A', 3)}));
    timers_.push_back(std::make_unique<Timer>(*this, gpio_, "TIM3", BusOf::apb1, 29, std::array{pinOf('A', 6), pinOf('A', 7), pinOf('B', 0), pinOf('B', 1)}));
    if (model.id != "stm32f103r6")
        timers_.push_back(std::make_unique<Timer>(*this, gpio_, "TIM4", BusOf::apb1, 30, std::array{pinOf('B', 6), pinOf('B', 7), pinOf('B', 8), pinOf('B', 9)}));
    for (unsigned t = 0; t < timers_.size(); ++t)
        slots_.push_back({0x40000000 + 0x400 * t, 0x1C, t, timers_[t].get(), timers_[t]->name().c_str()});
    constexpr std::uint32_t kUsartBases[] = {0x40013800, 0x40004400, 0x40004800};
    constexpr std::pair<std::uint32_t, unsigned> kUsartGates[] = {{0x18, 14}, {0x1C, 17}, {0x1C, 18}};
    for (unsigned u = 0; u < usarts_.size(); ++u)
        slots_.push_back({kUsartBases[u], kUsartGates[u].first, kUsartGates[u].second, usarts_[u].get(), usarts_[u]->name().c_str()});
    static constexpr const char* kPortNames[] = {"GPIOA", "GPIOB", "GPIOC", "GPIOD"};
    for (unsigned p = 0; p < 4; ++p)
        slots_.push_back({kGpioBase + 0x400 * p, 0x18, 2 + p, nullptr, kPortNames[p], static_cast<int>(p)});
    slots_.push_back({kAfioBase, 0x18, 0, nullptr, "AFIO"});
    gpio_.changed = [this](Pin pin, bool level) { pinChanged(pin, level); };
    gpio_.doubtfulRead = [this](circuit::PinId id, bool floats, circuit::Thresholds thresholds) { observer_.uncertainRead(id, floats, thresholds); };
    powered_ = volts_ > kPowerOnVolts;
    powerOn();
}

Pin Stm32f1::pinNamed(std::string_view name)
{
    if (name.size() < 3 || name.size() > 4 || name[0] != 'P' || name[1] < 'A' || name[1] > 'D')
        return {};
    unsigned bit = 0;
    for (const char c : name.substr(2)) {
        if (c < '0' || c > '9')
            return {};
        bit = bit * 10 + static_cast<unsigned>(c - '0');
    }
    return bit < 16 ? pinOf(name[1], bit) : Pin{};
}

// Wiring and supply.

bool Stm32f1::attachPin(std::string_view name, circuit::PinId id)
{
    const Pin pin = pinNamed(name);
    if (!pin.exists())
        return false;
    gpio_.attach(pin, id);
    return true;
}

void Stm32f1::setResetLine(bool high)
{
    if (high == resetLine_)
        return;
    resetLine_ = high;
    if (!high)
        reset(1U << 26);
    else
        cpu_.cycle = std::max(cpu_.cycle, clock_.firstCycleAtOrAfter(queue_.now()).n);
    moved();
}

void Stm32f1::setSupply(double volts)
{
    if (volts == volts_)
        return;
    volts_ = volts;
    const bool on = powered_ ? volts > kPowerOffVolts : volts > kPowerOnVolts;
    if (on != powered_) {
        powered_ = on;
        powerOn();
        cpu_.cycle = std::max(cpu_.cycle, clock_.firstCycleAtOrAfter(queue_.now()).n);
    }
    refreshPins();
}

double Stm32f1::supplySiemens() const
{
    if (!powered_)
        return 0;
    const double amps = kRunAmps + kRunAmpsPerMhz * static_cast<double>(clock_.hz()) / 1e6;
    return amps * (cpu_.sleeping ? kSleepShare : 1) / 3.3;
}

double Stm32f1::chargeTaken() const { return charge_ + supplySiemens() * volts_ * static_cast<double>(cpu_.cycle - chargedAt_) / static_cast<double>(clock_.hz()); }

std::vector<PinStatus> Stm32f1::pins() const
{
    std::vector<PinStatus> out;
    for (const char port : {'A', 'B', 'C', 'D'})
        for (unsigned b = 0; b < 16; ++b) {
            const std::string name = fmt::format("P{}{}", port, b);
            if (std::none_of(device_.package.begin(), device_.package.end(), [&](const PackagePin& p) { return p.name == name; }))
                continue;
            PinStatus s = gpio_.statusOf(pinOf(port, b));
            for (const auto& timer : timers_)
                if (const auto code = timer->compareSetBy(pinOf(port, b)); code && !s.function.empty())
                    s.setBy = *code;
            out.push_back(std::move(s));
        }
    return out;
}

const std::vector<SerialPort>& Stm32f1::serialPorts() const
{
    serialPorts_.clear();
    for (std::size_t u = 0; u < usarts_.size(); ++u)
        serialPorts_.push_back({fmt::format("usart{}", u + 1), gpio_.idOf(usarts_[u]->tx()), gpio_.idOf(usarts_[u]->rx())});
    return serialPorts_;
}

void Stm32f1::loadProgram(const Firmware& firmware)
{
    std::fill(flash_.begin(), flash_.end(), std::uint8_t{0xFF});
    std::copy_n(firmware.flash.begin(), std::min(firmware.flash.size(), flash_.size()), flash_.begin());
}

void Stm32f1::powerOn()
{
    // What RAM comes up with is a pattern of the chip's own.
    std::uint64_t noise = options_.seed * 0x9E3779B97F4A7C15U + 1;
    for (std::uint8_t& byte : ram_) {
        noise ^= noise << 13U;
        noise ^= noise >> 7U;
        noise ^= noise << 17U;
        byte = static_cast<std::uint8_t>(noise);
    }
    told_.clear();
    served_ = {};
    reset(3U << 26);  // power-on and pin
}

void Stm32f1::startAt(kernel::Time t)
{
    cpu_.cycle = 0;
    chargedAt_ = 0;
    clock_.restart(t, {0}, clock_.hz());
}

void Stm32f1::reset(unsigned cause)
{
    rccCr_ = 0x83;
    rccCfgr_ = rccCir_ = apb2Reset_ = apb1Reset_ = apb2Enable_ = apb1Enable_ = 0;
    ahbEnable_ = 0x14;
    rccCsr_ = (rccCsr_ & 0xFC000000U) | cause;
    flashAcr_ = 0x30;
    evcr_ = mapr_ = 0;
    exticr_ = {};
    imr_ = emr_ = rtsr_ = ftsr_ = extiPending_ = 0;
    tickControl_ = tickLoad_ = tickFrom_ = 0;
    tickFlag_ = false;
    demcr_ = 0;
    dwtControl_ = 0x40000000;
    for (CycleAlarm* alarm : {&hseReady_, &pllReady_, &tick_})
        alarm->disarm();
    gpio_.reset();
    for (const auto& u : usarts_)
        u->reset();
    for (const auto& t : timers_)
        t->reset();
    exceptions_.reset();
    selectClock();
    accessCycle_ = 0;
    cpu_.reset();
    lowest_ = UINT32_MAX;
    if (resetStops_ && !hasStopped() && (cause & 1U << 27) == 0)
        stop_ = {.kind = StopInfo::Kind::reset, .code = cpu_.pc()};
    if (counts_ != nullptr)
        counts_->forgetOpen();
    moved();
    observer_.resetTaken(cause, queue_.now());
    tell();
}

// Running.

bool Stm32f1::wakes() const { return cpu_.due() != 0 || (cpu_.primask && exceptions_.anyPending()) || (cpu_.event && cpu_.sleepsForEvent); }

void Stm32f1::slices(kernel::Time until, const bool* stop)
{
    yields_ = false;
    while (!inReset() && !faulted() && !hasStopped()) {
        const kernel::Time next = queue_.nextDue();
        const std::int64_t target = clock_.firstCycleAtOrAfter(std::min(until, next)).n;
        if (cpu_.cycle >= target) {
            if (stop == nullptr || next > until)
                return;
            queue_.advanceTo(next);
            yields_ = false;
            if (*stop)
                return;
            continue;
        }
        if (cpu_.sleeping) {
            if (wakes()) {
                cpu_.wake();
                moved();
                continue;
            }
            if (stopAtHalt_ && halted())
                return;
            sleepOn(target);
            continue;
        }
        if (enterDue())
            continue;
        // So far nothing else happens than instructions; one of them may set an earlier alarm.
        do {
            if (!breakpoints_.empty() && breakpoints_.contains(cpu_.pc()) && passedAt_ != cpu_.instructions) {
                stop_ = {.kind = StopInfo::Kind::breakpoint, .code = cpu_.pc()};
                return;
            }
            execute();
        } while (cpu_.cycle < target && !yields_ && !cpu_.sleeping && !hasStopped() && !faulted() && !inReset() && !exceptions_.anyPending() && queue_.nextDue() == next);
        if (stopAtHalt_ && halted())
            return;
        if (yields_) {
            if (stop == nullptr)
                return;
            yields_ = false;
            if (*stop)
                return;
        }
    }
}

void Stm32f1::stepInstruction(kernel::Time until)
{
    if (inReset() || faulted())
        return;
    if (cpu_.sleeping && wakes()) {
        cpu_.wake();
        moved();
    }
    if (enterDue())
        return;
    if (cpu_.sleeping)
        sleepOn(std::max(cpu_.cycle, clock_.firstCycleAtOrAfter(std::min(until, queue_.nextDue())).n));
    else
        execute();
}

void Stm32f1::sleepOn(std::int64_t to)
{
    if (counts_ != nullptr)
        counts_->asleep += to - cpu_.cycle;
    cpu_.cycle = to;
}

void Stm32f1::sleepTo(kernel::Time until)
{
    if (cpu_.sleeping && !inReset())
        sleepOn(std::max(cpu_.cycle, clock_.firstCycleAtOrAfter(until).n));
}

void Stm32f1::execute()
{
    const std::int64_t before = cpu_.cycle;
    const std::size_t slot = codeSlot();
    const bool slept = cpu_.sleeping;
    cpu_.step();
    accessCycle_ = 0;
    if (counts_ != nullptr && slot < counts_->cycles.size()) {
        counts_->cycles[slot] += cpu_.cycle - before;
        ++counts_->times[slot];
        counts_->stack.note(cpu_.cycle, cpu_.r[13]);
    }
    if (cpu_.sleeping != slept)
        observer_.loadChanged();
    if (cpu_.r[13] < lowest_ && cpu_.r[13] >= kRamBase)
        lowest_ = cpu_.r[13];
    if (exceptions_.resetWanted) {
        reset(1U << 28);
        return;
    }
    after();
}

// What a step has entered and left is told in its order.
void Stm32f1::after()
{
    moved();
    if (cpu_.returned) {
        if (counts_ != nullptr)
            counts_->returned(cpu_.cycle);
        observer_.exceptionReturned(now());
    }
    if (const unsigned n = cpu_.entered; n != 0) {
        Served& s = served_[n];
        const std::int64_t latency = std::max<std::int64_t>(cpu_.cycle - since_[n], 0);
        ++s.count;
        s.total += latency;
        s.worst = std::max(s.worst, latency);
        if (counts_ != nullptr)
            counts_->entered(n, cpu_.cycle);
        if (exceptionStops_[n] && !hasStopped())
            stop_ = {.kind = StopInfo::Kind::exception, .code = cpu_.pc(), .exception = n};
        observer_.exceptionEntered(n, now());
        if (n == kHardFault || (n >= kMemManage && n <= kUsageFault))
            remark("fault-taken", fmt::format("{} was taken by the instruction at 0x{:08x} (CFSR 0x{:08x}{})", device_.exceptions[n].name, cpu_.current, exceptions_.faultStatus,
                                              (exceptions_.faultStatus & kBusAddressValid) != 0 ? fmt::format(", address 0x{:08x}", exceptions_.busAddress) : std::string()));
        tell();
    }
    cpu_.entered = 0;
    cpu_.returned = false;
}

bool Stm32f1::enterDue()
{
    if (cpu_.due() == 0)
        return false;
    const std::int64_t before = cpu_.cycle;
    cpu_.current = cpu_.pc();
    if (!cpu_.enterDue())
        return false;
    if (counts_ != nullptr)
        counts_->entries += cpu_.cycle - before;
    if (cpu_.r[13] < lowest_ && cpu_.r[13] >= kRamBase)
        lowest_ = cpu_.r[13];
    after();
    return true;
}

bool Stm32f1::halted() const
{
    if (cpu_.sleeping)
        return !exceptions_.anyPending() && tickControl_ == 0 && std::none_of(alarms_.begin(), alarms_.end(), [](const CycleAlarm* a) { return a->armed(); }) && imr_ == 0;
    const Instruction i = const_cast<Cpu&>(cpu_).at(cpu_.pc());
    const bool loops = i.op == Op::b && i.condition == kAlways && cpu_.pc() + 4 + i.imm == cpu_.pc();
    return loops && (cpu_.primask || (std::none_of(alarms_.begin(), alarms_.end(), [](const CycleAlarm* a) { return a->armed(); }) && imr_ == 0));
}

void Stm32f1::moved()
{
    if (codeTime_ != nullptr)
        codeTime_->enter(inReset() ? CodeTime::kInReset : cpu_.sleeping ? CodeTime::kAsleep : codeTime_->partAt(codeSlot()), cpu_.cycle);
}

void Stm32f1::tell()
{
    if (changed_)
        changed_(now());
}

void Stm32f1::countInto(CycleCounts* counts)
{
    counts_ = counts;
    if (counts != nullptr) {
        counts->cycles.resize(flash_.size() / 2);
        counts->times.resize(flash_.size() / 2);
    }
}

void Stm32f1::tellCodeTime(CodeTime* to, kernel::Duration stretch)
{
    codeTime_ = to;
    stretch_ = stretch;
    if (to == nullptr)
        return;
    to->begin(CodeTime::kInReset, cpu_.cycle, stretchOfCodeTime());
    moved();
}

template <class Archive>
void Stm32f1::state(Archive& ar)
{
    ar(clock_, cpu_, exceptions_, gpio_, ram_, volts_, powered_, resetLine_, charge_, chargedAt_, accessCycle_, lowest_, rccCr_, rccCfgr_, rccCir_, apb2Reset_, apb1Reset_, ahbEnable_, apb2Enable_, apb1Enable_, rccBdcr_, rccCsr_,
       flashAcr_, hseReady_, pllReady_, evcr_, mapr_, exticr_, imr_, emr_, rtsr_, ftsr_, extiPending_, tickControl_, tickLoad_, tickFrom_, tickFlag_, tickBase_, tick_, demcr_, dwtControl_, dwtBase_, dwtFrom_, since_, served_);
    for (const auto& u : usarts_)
        u->state(ar);
    for (const auto& t : timers_)
        t->state(ar);
}

void Stm32f1::load(kernel::LoadArchive& ar)
{
    state(ar);
    stop_ = {};
    passedAt_ = -1;
    yields_ = false;
}

// Memory.

const std::uint8_t* Stm32f1::plain(std::uint32_t a, unsigned size) const
{
    if (a >= kFlashBase && a - kFlashBase + size <= flash_.size())
        return &flash_[a - kFlashBase];
    if (a + size <= flash_.size())
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

void Stm32f1::catchUp(std::int64_t cycle)
{
    accessCycle_ = cycle;
    queue_.advanceTo(clock_.timeOf({cycle}));
}

void Stm32f1::noteAccess(std::uint32_t at, unsigned size, std::uint32_t before, std::uint32_t value, bool write)
{
    if (hasStopped())
        return;
    for (const Watchpoint& w : watchpoints_)
        if ((write ? w.writes : w.reads) && at < w.address + w.length && at + size > w.address) {
            stop_ = {.kind = StopInfo::Kind::access, .code = cpu_.current, .address = std::max<std::uint64_t>(at, w.address), .before = before, .value = value, .write = write};
            return;
        }
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
        tell();
    } else if ((a >= 0x40000000 && a < 0x40100000) || (a >= 0xE0000000 && a < 0xE0100000) || (a >= 0x1FFFF7E0 && a < 0x1FFFF810)) {
        if (a >= 0xE0000000 && !cpu_.privileged())
            throw Abort{kBusFault, kPreciseBus, a};
        catchUp(cycle);
        const std::uint32_t word = readWord(a & ~3U);
        out = size == 4 ? word : (word >> (8 * (a & 3U))) & ((1U << (8 * size)) - 1U);
        tell();
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
        tell();
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
        tell();
    } else if (a >= kFlashBase && a < kFlashBase + flash_.size()) {
        remark("flash-locked", "flash is written by an ordinary store while it is locked: nothing changes, and a bus fault follows on silicon");
        throw Abort{kBusFault, kPreciseBus, a};
    } else {
        throw Abort{kBusFault, kPreciseBus, a};
    }
    if (!watchpoints_.empty())
        noteAccess(a, size, before, value, true);
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

// RM0008 7.3.

std::uint32_t Stm32f1::rccRead(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return rccCr_;
    case 0x04: return rccCfgr_;
    case 0x08: return rccCir_;
    case 0x0C: return apb2Reset_;
    case 0x10: return apb1Reset_;
    case 0x14: return ahbEnable_;
    case 0x18: return apb2Enable_;
    case 0x1C: return apb1Enable_;
    case 0x20: return rccBdcr_;
    case 0x24: return rccCsr_;
    default: return 0;
    }
}

std::uint64_t Stm32f1::pllHz() const
{
    const std::uint64_t hse = options_.clockHz != 0 ? options_.clockHz : 8'000'000;
    const std::uint64_t in = (rccCfgr_ & 1U << 16) == 0 ? kHsi / 2 : (rccCfgr_ & 1U << 17) != 0 ? hse / 2 : hse;
    return in * std::min(((rccCfgr_ >> 18) & 15U) + 2, 16U);
}

void Stm32f1::rccWrite(std::uint32_t offset, std::uint32_t value)
{
    const std::int64_t now = cycleNow();
    const auto later = [&](double seconds) { return now + static_cast<std::int64_t>(seconds * static_cast<double>(clock_.hz())); };
    constexpr double kHseStart = 2e-3, kPllLock = 200e-6;  // DS5319 tables 22 and 26
    switch (offset) {
    case 0x00: {
        const std::uint32_t before = rccCr_, source = (rccCfgr_ >> 2) & 3U;
        rccCr_ = (value & 0x010D00F9U) | (before & 0x02020002U) | (before & 0xFF00U);
        // What the system runs by cannot be switched off.
        if (source == 0)
            rccCr_ |= 1U;
        if (source == 1 || source == 2)
            rccCr_ |= before & (source == 1 ? 1U << 16 : 1U << 24);
        rccCr_ = (rccCr_ & 1U) != 0 ? rccCr_ | 2U : rccCr_ & ~2U;
        if ((rccCr_ & 1U << 16) == 0)
            rccCr_ &= ~(1U << 17), hseReady_.disarm();
        else if ((before & 1U << 16) == 0 && options_.hasCrystal)
            hseReady_.arm(later((rccCr_ & 1U << 18) != 0 ? 0 : kHseStart));
        else if ((before & 1U << 16) == 0)
            remark("no-clock", fmt::format("{} waits for an external oscillator, and nothing is wired to OSC_IN and OSC_OUT", device_.title));
        if ((rccCr_ & 1U << 24) == 0)
            rccCr_ &= ~(1U << 25), pllReady_.disarm();
        else if ((before & 1U << 24) == 0)
            pllReady_.arm(later(kPllLock));
        break;
    }
    case 0x04: {
        rccCfgr_ = (value & 0x077FFFF3U) | (rccCfgr_ & 0x0CU);
        const std::uint32_t wanted = value & 3U;
        const bool ready = wanted == 0 ? (rccCr_ & 2U) != 0 : wanted == 1 ? (rccCr_ & 1U << 17) != 0 : wanted == 2 && (rccCr_ & 1U << 25) != 0;
        if (ready)
            rccCfgr_ = (rccCfgr_ & ~0x0CU) | wanted << 2;
        selectClock();
        break;
    }
    case 0x08: rccCir_ = value & 0x1F00U; break;
    case 0x0C: apb2Reset_ = value; break;
    case 0x10: apb1Reset_ = value; break;
    case 0x14: ahbEnable_ = value & 0x557U; break;
    case 0x18: apb2Enable_ = value & 0x38FFFDU; break;
    case 0x1C: apb1Enable_ = value & 0x3AFEC9FFU; break;
    case 0x20: rccBdcr_ = (value & 0x18305U) | ((value & 1U) != 0 ? 2U : 0U); break;
    case 0x24:
        rccCsr_ = (rccCsr_ & 0xFC000000U) | (value & 1U) | ((value & 1U) != 0 ? 2U : 0U);
        if ((value & 1U << 24) != 0)
            rccCsr_ &= 0x00FFFFFFU;
        break;
    default: break;
    }
    // A reset of a peripheral by its bit.
    if (offset == 0x0C || offset == 0x10)
        for (const Slot& slot : slots_)
            if (slot.what != nullptr && slot.enable == offset + 0x0C && ((value >> slot.bit) & 1U) != 0)
                slot.what->reset();
}

void Stm32f1::selectClock()
{
    const std::uint32_t source = (rccCfgr_ >> 2) & 3U;
    std::uint64_t hz = source == 0 ? kHsi : source == 1 ? (options_.clockHz != 0 ? options_.clockHz : 8'000'000) : pllHz();
    static constexpr unsigned kDivide[] = {1, 1, 1, 1, 1, 1, 1, 1, 2, 4, 8, 16, 64, 128, 256, 512};
    hz /= kDivide[(rccCfgr_ >> 4) & 15U];
    if (hz == clock_.hz())
        return;
    const std::int64_t cycle = cycleNow();
    charge_ = chargeTaken();
    chargedAt_ = cycle;
    if (codeTime_ != nullptr)
        codeTime_->cut(cycle, std::max<std::int64_t>(static_cast<std::int64_t>(static_cast<double>(hz) * kernel::seconds(stretch_)), 64));
    clock_.restart(clock_.timeOf({cycle}), {cycle}, hz);
    for (CycleAlarm* alarm : alarms_)
        alarm->followClock();
    for (const auto& t : timers_)
        t->clockChanged();
    yields_ = true;
    constexpr std::uint64_t kMost = 72'000'000;
    if (hz > kMost)
        remark("clock-too-fast", fmt::format("{} runs at {:g} MHz; it is made for 72 MHz at most", device_.title, static_cast<double>(hz) / 1e6));
    const unsigned waits = flashAcr_ & 7U, needed = hz > 48'000'000 ? 2 : hz > 24'000'000 ? 1 : 0;
    if (waits < needed)
        remark("flash-wait-states", fmt::format("{} runs at {:g} MHz with {} wait states of flash; it needs {}: silicon reads wrong code; set LATENCY in FLASH_ACR first", device_.title, static_cast<double>(hz) / 1e6, waits, needed));
    observer_.loadChanged();
}

std::int64_t Stm32f1::cyclesPerBusClock(BusOf bus) const
{
    if (bus == BusOf::ahb)
        return 1;
    const std::uint32_t field = (rccCfgr_ >> (bus == BusOf::apb1 ? 8 : 11)) & 7U;
    return field < 4 ? 1 : 2 << (field - 4);
}

std::int64_t Stm32f1::cyclesPerTimerClock(BusOf bus) const
{
    const std::int64_t divided = cyclesPerBusClock(bus);
    return divided == 1 ? 1 : divided / 2;
}

// AFIO and EXTI (RM0008 9.4, 10.3).

void Stm32f1::afioWrite(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case 0x00: evcr_ = value & 0xFFU; break;
    case 0x04:
        mapr_ = value;
        remapPins();
        break;
    case 0x08: case 0x0C: case 0x10: case 0x14: exticr_[(offset - 8) / 4] = value & 0xFFFFU; break;
    default: break;
    }
}

void Stm32f1::remapPins()
{
    const bool one = (mapr_ & 4U) != 0;
    usarts_[0]->remap(one ? pinOf('B', 6) : pinOf('A', 9), one ? pinOf('B', 7) : pinOf('A', 10));
    const std::uint32_t tim2 = (mapr_ >> 8) & 3U, tim3 = (mapr_ >> 10) & 3U;
    timers_[0]->remap({(tim2 & 1U) != 0 ? pinOf('A', 15) : pinOf('A', 0), (tim2 & 1U) != 0 ? pinOf('B', 3) : pinOf('A', 1), (tim2 & 2U) != 0 ? pinOf('B', 10) : pinOf('A', 2), (tim2 & 2U) != 0 ? pinOf('B', 11) : pinOf('A', 3)});
    if (tim3 == 3)
        timers_[1]->remap({pinOf('C', 6), pinOf('C', 7), pinOf('C', 8), pinOf('C', 9)});
    else
        timers_[1]->remap({tim3 == 2 ? pinOf('B', 4) : pinOf('A', 6), tim3 == 2 ? pinOf('B', 5) : pinOf('A', 7), pinOf('B', 0), pinOf('B', 1)});
    for (const auto& t : timers_)
        t->clockChanged();
}

void Stm32f1::extiWrite(std::uint32_t offset, std::uint32_t value)
{
    constexpr std::uint32_t kLines = 0x7FFFF;
    value &= kLines;
    switch (offset) {
    case 0x00: imr_ = value; break;
    case 0x04: emr_ = value; break;
    case 0x08: rtsr_ = value; break;
    case 0x0C: ftsr_ = value; break;
    case 0x10: extiPending_ |= value & imr_; break;
    case 0x14: extiPending_ &= ~value; break;
    default: break;
    }
    updateExti();
}

void Stm32f1::updateExti()
{
    const std::uint32_t wants = extiPending_ & imr_;
    for (unsigned line = 0; line < 5; ++line)
        setInterrupt(6 + line, ((wants >> line) & 1U) != 0);
    setInterrupt(23, (wants & 0x3E0U) != 0);
    setInterrupt(40, (wants & 0xFC00U) != 0);
}

void Stm32f1::pinChanged(Pin pin, bool level)
{
    for (const auto& u : usarts_)
        u->pinChanged(pin, level);
    const std::uint32_t selected = (exticr_[pin.bit / 4U] >> (pin.bit % 4U * 4)) & 15U, line = 1U << pin.bit;
    if (selected != pin.port || ((level ? rtsr_ : ftsr_) & line) == 0)
        return;
    if ((emr_ & line) != 0) {
        cpu_.event = true;
        rouse();
    }
    extiPending_ |= line;
    updateExti();
}

// What has just come may wake the core.
void Stm32f1::rouse()
{
    if (cpu_.sleeping && wakes()) {
        sleepTo(queue_.now());
        observer_.woken();
    }
}

void Stm32f1::setInterrupt(unsigned number, bool high)
{
    const unsigned n = kFirstInterrupt + number;
    const bool was = exceptions_.pending(n);
    exceptions_.setLine(n, high);
    if (was || !exceptions_.pending(n))
        return;
    since_[n] = clock_.firstCycleAtOrAfter(queue_.now()).n;
    yields_ = true;
    rouse();
}

void Stm32f1::remark(const char* rule, const std::string& text)
{
    if (!told_.insert(std::string(rule) + text).second)
        return;
    const std::string_view name(rule);
    const Weight weight = name == "no-clock" ? Weight::error : name == "not-modelled" || name == "clock-too-fast" ? Weight::note : Weight::warning;
    observer_.remark(weight, rule, text, cpu_.current, now());
}

// SysTick, DWT and system control (PM0056 4.5; ARM DDI 0403E C1.8).

std::uint32_t Stm32f1::tickCount() const
{
    if ((tickControl_ & 1U) == 0)
        return tickFrom_;
    const std::int64_t per = (tickControl_ & 4U) != 0 ? 1 : 8, ticks = std::max<std::int64_t>(cycleNow() - tickBase_, 0) / per;
    if (ticks <= tickFrom_)
        return tickFrom_ - static_cast<std::uint32_t>(ticks);
    return tickLoad_ == 0 ? 0 : tickLoad_ - static_cast<std::uint32_t>((ticks - tickFrom_ - 1) % (std::int64_t{tickLoad_} + 1));
}

void Stm32f1::tickStart()
{
    if ((tickControl_ & 1U) == 0 || (tickLoad_ == 0 && tickFrom_ == 0)) {
        tick_.disarm();
        return;
    }
    const std::int64_t per = (tickControl_ & 4U) != 0 ? 1 : 8;
    // From 0 the first clock reloads.
    const std::int64_t to = tickFrom_ == 0 ? std::int64_t{tickLoad_} + 1 : tickFrom_;
    tick_.arm(tickBase_ + to * per);
}

// It has counted to 0.
void Stm32f1::tickDue(std::int64_t cycle)
{
    tickFlag_ = true;
    if ((tickControl_ & 2U) != 0 && !exceptions_.pending(kSysTick)) {
        exceptions_.setPending(kSysTick);
        since_[kSysTick] = cycle;
        yields_ = true;
        rouse();
    }
    tickFrom_ = 0;
    tickBase_ = cycle;
    tickStart();
}

std::optional<std::uint32_t> Stm32f1::peekPrivate(std::uint32_t a) const
{
    switch (a) {
    case 0xE000E010: return (tickControl_ & 7U) | (tickFlag_ ? 1U << 16 : 0U);
    case 0xE000E014: return tickLoad_;
    case 0xE000E018: return tickCount();
    case 0xE000E01C: return 9000;  // 1 ms at 72 MHz / 8
    case 0xE000EDFC: return demcr_;
    case 0xE0001000: return dwtControl_;
    case 0xE0001004: return (dwtControl_ & 1U) != 0 ? dwtFrom_ + static_cast<std::uint32_t>(cycleNow() - dwtBase_) : dwtFrom_;
    case 0xE0042000: return 0x20036410;  // DBGMCU_IDCODE: medium density
    default: return exceptions_.read(a);
    }
}

void Stm32f1::writePrivate(std::uint32_t a, std::uint32_t value)
{
    switch (a) {
    case 0xE000E010: {
        const std::uint32_t count = tickCount();
        tickFrom_ = count;
        tickBase_ = cycleNow();
        tickControl_ = value & 7U;
        tickStart();
        break;
    }
    case 0xE000E014: {
        const std::uint32_t count = tickCount();
        tickLoad_ = value & 0xFFFFFFU;
        tickFrom_ = count;
        tickBase_ = cycleNow();
        tickStart();
        break;
    }
    case 0xE000E018:
        tickFrom_ = 0;
        tickFlag_ = false;
        tickBase_ = cycleNow();
        tickStart();
        break;
    case 0xE000EDFC: demcr_ = value & 0x010F07F1U; break;
    case 0xE0001000:
        dwtFrom_ = peekPrivate(0xE0001004).value_or(0);
        dwtBase_ = cycleNow();
        dwtControl_ = 0x40000000U | ((demcr_ & 1U << 24) != 0 ? value & 1U : 0U);
        break;
    case 0xE0001004:
        dwtFrom_ = value;
        dwtBase_ = cycleNow();
        break;
    default: (void)exceptions_.write(a, value); break;
    }
}

// DebugPort.

ExceptionStatus Stm32f1::exception(unsigned n) const
{
    if (n >= exceptions_.count())
        return {};
    return {exceptions_.pending(n), exceptions_.enabled(n), exceptions_.pending(n) && exceptions_.enabled(n), served_[n].count, served_[n].worst, served_[n].total};
}

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
