#include "chip/cortexm/stm32f1/chip.h"

#include <algorithm>
#include <bit>
#include <cstring>

#include <fmt/format.h>

#include "chip/cortexm/family.h"

namespace bramix::chip::cortexm {

namespace {

constexpr double kPowerOnVolts = 1.9, kPowerOffVolts = 1.8;  // DS5319 table 11, POR and PDR
constexpr double kRunAmps = 0.5e-3, kRunAmpsPerMhz = 0.5e-3, kSleepShare = 0.35;  // DS5319 table 13: 36 mA at 72 MHz with all peripherals

}  // namespace

Stm32f1::Stm32f1(const Model& model, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : model_(model), device_(deviceOf(model)), options_(options), queue_(queue), circuit_(circuit), observer_(observer), clock_(kInternalHz), exceptions_(kInterrupts), cpu_(*this, exceptions_),
      gpio_(*this, circuit, options.pullUpOhms != 0 ? options.pullUpOhms : 40e3, [this] { return cause(); }), adc_(*this, gpio_, [this] { return cyclesPerBusClock(BusOf::apb2) * 2 * (1 + ((rccCfgr_ >> 14) & 3)); }, [this] { return volts_; }), dma_(*this), flash_(model.flashBytes, 0xFF), ram_(model.ramBytes), volts_(options.supplyVolts),
      hseReady_(*this, [this](std::int64_t) { rccCr_ |= 1U << 17; }), pllReady_(*this, [this](std::int64_t) { rccCr_ |= 1U << 25; }), tick_(*this, [this](std::int64_t cycle) { tickDue(cycle); })
{
    usarts_.push_back(std::make_unique<Usart>(*this, gpio_, "USART1", BusOf::apb2, 37, pinOf('A', 9), pinOf('A', 10), 3, 4));
    usarts_.push_back(std::make_unique<Usart>(*this, gpio_, "USART2", BusOf::apb1, 38, pinOf('A', 2), pinOf('A', 3), 6, 5));
    if (model.id != "stm32f103r6")
        usarts_.push_back(std::make_unique<Usart>(*this, gpio_, "USART3", BusOf::apb1, 39, pinOf('B', 10), pinOf('B', 11), 1, 2));
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
    slots_.push_back({0x40012400, 0x18, 9, &adc_, "ADC1"});
    slots_.push_back({0x40020000, 0x14, 0, &dma_, "DMA1"});
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
        serialPorts_.push_back({fmt::format("uart{}", u), gpio_.idOf(usarts_[u]->tx()), gpio_.idOf(usarts_[u]->rx()), fmt::format("usart{}", u + 1)});
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
    dma_.reset();
    gpio_.reset();
    for (const auto& u : usarts_)
        u->reset();
    for (const auto& t : timers_)
        t->reset();
    adc_.reset();
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
    adc_.state(ar);
    dma_.state(ar);
}

void Stm32f1::load(kernel::LoadArchive& ar)
{
    state(ar);
    stop_ = {};
    passedAt_ = -1;
    yields_ = false;
}

}  // namespace bramix::chip::cortexm
