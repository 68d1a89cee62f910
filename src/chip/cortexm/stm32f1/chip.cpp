#include "chip/cortexm/stm32f1/chip.h"

#include <algorithm>
#include <bit>
#include <cstring>

#include <fmt/format.h>

#include "chip/cortexm/family.h"

namespace bramix::chip::cortexm {

namespace {

// DS5319 table 11, POR and PDR; table 13: 36 mA at 72 MHz with all peripherals.
constexpr SupplyFigures kSupply{1.9, 1.8, 0.5e-3, 0.5e-3, 0.35, 3.3};

}  // namespace

Stm32f1::Stm32f1(const Model& model, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : RunningChip(deviceOf(model), options, queue, circuit, observer, cpu_, kInternalHz, kSupply), model_(model), exceptions_(kInterrupts), cpu_(*this, exceptions_),
      gpio_(*this, circuit, options.pullUpOhms != 0 ? options.pullUpOhms : 40e3, [this] { return cause(); }), adc_(*this, gpio_, [this] { return cyclesPerBusClock(BusOf::apb2) * 2 * (1 + ((rccCfgr_ >> 14) & 3)); }, [this] { return volts_; }), dma_(*this), flash_(model.flashBytes, 0xFF), ram_(model.ramBytes),
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

void Stm32f1::resetState(unsigned cause)
{
    rccCr_ = 0x83;
    rccCfgr_ = rccCir_ = apb2Reset_ = apb1Reset_ = apb2Enable_ = apb1Enable_ = 0;
    ahbEnable_ = 0x14;
    rccCsr_ = (rccCsr_ & 0xFC000000U) | (cause == kByPin ? 1U << 26 : cause == kByProgram ? 1U << 28 : 3U << 26);  // PINRSTF, SFTRSTF, PORRSTF
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
    cpu_.reset();
}

// Running.

bool Stm32f1::wakes() const { return cpu_.due() != 0 || (cpu_.primask && exceptions_.anyPending()) || (cpu_.event && cpu_.sleepsForEvent); }

void Stm32f1::step()
{
    cpu_.step();
    if (cpu_.entered != 0)
        tellFault();
    if (exceptions_.resetWanted)
        resetNow(kByProgram);
    // Each may be due now, or once a mask has gone.
    if (exceptions_.anyPending() || cpu_.lockedUp)
        leaveSlice();
}

bool Stm32f1::enterDue()
{
    if (!cpu_.enterDue())
        return false;
    tellFault();
    return true;
}

void Stm32f1::tellFault()
{
    const unsigned n = cpu_.entered;
    if (n == kHardFault || (n >= kMemManage && n <= kUsageFault))
        remark("fault-taken", fmt::format("{} was taken by the instruction at 0x{:08x} (CFSR 0x{:08x}{})", device_.exceptions[n].name, cpu_.current, exceptions_.faultStatus,
                                          (exceptions_.faultStatus & kBusAddressValid) != 0 ? fmt::format(", address 0x{:08x}", exceptions_.busAddress) : std::string()));
}

// At an unconditional branch to itself.
bool Stm32f1::loops() const
{
    const Instruction i = const_cast<Cpu&>(cpu_).at(cpu_.pc());
    return i.op == Op::b && i.condition == kAlways && cpu_.pc() + 4 + i.imm == cpu_.pc();
}

std::int64_t Stm32f1::loopCycles() const { return loops() && (cpu_.itState & 15U) == 0 && !exceptions_.anyPending() ? 3 : 0; }

bool Stm32f1::halted() const
{
    if (cpu_.sleeping)
        return !exceptions_.anyPending() && tickControl_ == 0 && !anyAlarm() && imr_ == 0;
    return loops() && (cpu_.primask || (!anyAlarm() && imr_ == 0));
}

template <class Archive>
void Stm32f1::state(Archive& ar)
{
    baseState(ar);
    ar(cpu_, exceptions_, gpio_, ram_, rccCr_, rccCfgr_, rccCir_, apb2Reset_, apb1Reset_, ahbEnable_, apb2Enable_, apb1Enable_, rccBdcr_, rccCsr_,
       flashAcr_, hseReady_, pllReady_, evcr_, mapr_, exticr_, imr_, emr_, rtsr_, ftsr_, extiPending_, tickControl_, tickLoad_, tickFrom_, tickFlag_, tickBase_, tick_, demcr_, dwtControl_, dwtBase_, dwtFrom_);
    for (const auto& u : usarts_)
        u->state(ar);
    for (const auto& t : timers_)
        t->state(ar);
    adc_.state(ar);
    dma_.state(ar);
}

template void Stm32f1::state(kernel::SaveArchive& ar);
template void Stm32f1::state(kernel::LoadArchive& ar);

}  // namespace bramix::chip::cortexm
