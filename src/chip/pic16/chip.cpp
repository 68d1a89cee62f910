#include "chip/pic16/chip.h"

#include <algorithm>

#include <fmt/format.h>

#include "chip/pic16/family.h"

namespace bramix::chip::pic16 {

namespace {

// DS30487C 18.1 to 18.3: POR ends at about 1.5 V; 1.8 mA at 4 MHz and 5 V, 9 mA at 20 MHz; 25 mA a pin, 200 mA together; VOL 0.6 V at 8.5 mA; TTL and Schmitt inputs.
constexpr SupplyFigures kSupply{1.7, 1.5, 0.2e-3, 1.6e-3, 0.01, 5.0};
constexpr PinElectrics kPins{60, 20e3, 20e3, 0.025, 0.2, 0.16, 0.4};
constexpr double kSchmittLow = 0.2, kSchmittHigh = 0.8;
constexpr std::uint16_t kTimer0 = 1, kOption = 0x81;
enum : std::uint8_t { kGie = 0x80, kPeie = 0x40, kT0ie = 0x20, kInte = 0x10, kRbie = 8, kT0if = 4, kIntf = 2, kRbif = 1 };
constexpr kernel::Duration kWatchdogPeriod = std::chrono::milliseconds(18), kEepromWrite = std::chrono::milliseconds(4);

}  // namespace

Pic16::Pic16(const Model& model, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : RunningChip(deviceOf(model), options, queue, circuit, observer, cpu_, std::max<std::uint64_t>((options.clockHz != 0 ? options.clockHz : 4'000'000) / 4, 1), kSupply), model_(model), cpu_(*this, model.words),
      pins_(circuit, model.ports.size() * 8, [&] {
          PinElectrics electrics = kPins;
          if (options.pullUpOhms != 0)
              electrics.pullUpOhms = options.pullUpOhms;
          return electrics;
      }(), [this] { return cause(); }),
      codeBytes_(std::size_t{model.words} * 2, 0xFF), eeprom_(model.eepromBytes, 0xFF), config_(configOf(options.options.empty() ? deviceOf(model).ideal : options.options)), timerDue_(*this, [this](std::int64_t cycle) {
          catchTimer(cycle);
          planTimer();
      }),
      eepromDone_(queue, [this](kernel::Time) {
          std::uint8_t& control = cpu_.file[model_.eepromControl];
          control &= static_cast<std::uint8_t>(~2U);
          if (model_.hasPeripheralInterrupts)
              cpu_.file[0x0D] |= 0x10;
          else
              control |= 0x10;
          flagsChanged();
      }),
      watchdog_(queue, [this](kernel::Time) { watchdogDue(); })
{
    setUpMap();
    for (std::size_t p = 0; p < model_.ports.size(); ++p)
        for (unsigned b = 0; b < 8; ++b)
            if (((model_.ports[p].schmitt >> b) & 1U) != 0)
                pins_.setThresholds(static_cast<unsigned>(p) * 8 + b, kSchmittLow, kSchmittHigh);
    pins_.changed = [this](unsigned pin, bool level) { pinChanged(pin, level); };
    refreshPins();
    powerOn();
}

// Which register an address means (register file maps: DS35007B figure 2-2, DS30487C figure 2-2, DS39582B figure 2-3).
void Pic16::setUpMap()
{
    auto& own = cpu_.own;
    own.fill(kNowhere);
    const unsigned banks = model_.banks;
    for (unsigned bank = 0; bank < banks; ++bank)
        for (const std::uint16_t f : {0, 2, 3, 4, 0x0A, 0x0B})
            own[bank * 128U + f] = f;
    for (unsigned bank = 0; bank < banks; bank += 2) {
        own[bank * 128U + 1] = kTimer0;
        own[bank * 128U + 0x81] = kOption;
    }
    for (const Port& p : model_.ports) {
        own[p.latch] = p.latch;
        own[p.direction] = p.direction;
    }
    if (banks == 4) {
        own[0x106] = 0x06;
        own[0x186] = 0x86;
        // Everything else of the first two banks below general memory, and the control registers of the upper two.
        for (std::uint16_t f = 0x0C; f < 0x20; ++f) {
            own[f] = f;
            own[0x80 + f] = static_cast<std::uint16_t>(0x80 + f);
        }
        for (std::uint16_t f = 0x105; f < 0x110; ++f)
            if (own[f] == kNowhere)
                own[f] = f;
        for (const std::uint16_t f : {0x18C, 0x18D})
            own[f] = f;
        for (const auto& [first, last] : model_.memory)
            for (std::uint16_t f = first; f <= last; ++f)
                own[f] = f;
        // Sixteen bytes are in every bank.
        for (unsigned bank = 1; bank < 4; ++bank)
            for (unsigned f = 0x70; f < 0x80; ++f)
                own[bank * 128 + f] = static_cast<std::uint16_t>(f);
    } else {
        for (const std::uint16_t f : {0x08, 0x09, 0x88, 0x89})
            own[f] = f;
        for (const auto& [first, last] : model_.memory)
            for (std::uint16_t f = first; f <= last; ++f) {
                own[f] = f;
                own[f + 0x80U] = f;  // both banks have the same
            }
    }
    auto& special = cpu_.special;
    special.fill(0);
    for (const std::uint16_t f : {kTimer0, kIntcon, kOption})
        special[f] = 1;
    for (const Port& p : model_.ports)
        special[p.latch] = special[p.direction] = 1;
    for (unsigned i = 0; i < 2; ++i)
        special[model_.eepromControl + i] = 1;
    if (banks == 4)
        for (std::uint16_t f = 0x0C; f < 0x20; ++f)
            special[f] = special[0x80 + f] = 1;
    if (model_.hasInternalOscillator)
        special[0x105] = 1;
}

std::optional<unsigned> Pic16::pinNamed(const Model& model, std::string_view name)
{
    if (name.size() != 3 || name[0] != 'R' || name[2] < '0' || name[2] > '7')
        return std::nullopt;
    for (std::size_t p = 0; p < model.ports.size(); ++p)
        if (model.ports[p].letter == name[1] && ((model.ports[p].pins >> (name[2] - '0')) & 1) != 0)
            return static_cast<unsigned>(p) * 8 + static_cast<unsigned>(name[2] - '0');
    return std::nullopt;
}

bool Pic16::attachPin(std::string_view name, circuit::PinId id)
{
    const auto pin = pinNamed(model_, name);
    if (!pin)
        return false;
    pins_.attach(*pin, id);
    return true;
}

std::vector<PinStatus> Pic16::pins() const
{
    std::vector<PinStatus> out;
    for (std::size_t p = 0; p < model_.ports.size(); ++p)
        for (unsigned b = 0; b < 8; ++b) {
            if (((model_.ports[p].pins >> b) & 1U) == 0)
                continue;
            const unsigned pin = static_cast<unsigned>(p) * 8 + b;
            PinStatus s;
            s.name = fmt::format("R{}{}", model_.ports[p].letter, b);
            s.output = ((directions_[p] >> b) & 1U) == 0;
            s.pullUp = pins_.drives(pin) == PinBank::Drives::pullUp;
            s.latch = ((latches_[p] >> b) & 1U) != 0;
            s.level = pins_.level(pin);
            s.floats = !s.output && pins_.floats(pin);
            s.digital = ((analogOf(p) >> b) & 1U) == 0;
            if (timerExternal() && p == 0 && b == 4)
                s.function = "T0CKI";
            out.push_back(std::move(s));
        }
    return out;
}

void Pic16::loadProgram(const Firmware& firmware)
{
    std::fill(codeBytes_.begin(), codeBytes_.end(), std::uint8_t{0xFF});
    std::copy_n(firmware.flash.begin(), std::min(firmware.flash.size(), codeBytes_.size()), codeBytes_.begin());
    for (std::size_t w = 0; w < cpu_.program.size(); ++w)
        cpu_.program[w] = static_cast<std::uint16_t>((codeBytes_[2 * w] | codeBytes_[2 * w + 1] << 8) & 0x3FFF);
    if (!firmware.options.empty())
        config_ = configOf(firmware.options);
}

void Pic16::programNonVolatile(const std::vector<std::uint8_t>& image)
{
    std::fill(eeprom_.begin(), eeprom_.end(), std::uint8_t{0xFF});
    std::copy_n(image.begin(), std::min(image.size(), eeprom_.size()), eeprom_.begin());
}

// Resets (DS30487C 15.3 to 15.9, table 15-4).

void Pic16::fillMemories()
{
    std::uint64_t noise = fillWithNoise(cpu_.file);
    for (std::uint8_t& latch : latches_)
        latch = static_cast<std::uint8_t>(noise >>= 3U);
    cpu_.w = static_cast<std::uint8_t>(noise);
    cpu_.file[kStatus] = static_cast<std::uint8_t>(0x18 | (cpu_.file[kStatus] & 7U));
    timerValue_ = cpu_.file[kTimer0];
}

unsigned Pic16::oscillator() const
{
    return model_.id == "pic16f88" ? (config_ & 3U) | ((config_ >> 2) & 4U) : config_ & 3U;
}

void Pic16::selectClock()
{
    std::uint64_t hz = options_.clockHz != 0 ? options_.clockHz : 4'000'000;
    const unsigned which = oscillator();
    const bool internal = model_.hasInternalOscillator && (which == 4 || which == 5 || (cpu_.file[0x8F] & 3U) == 2);
    if (internal) {
        static constexpr std::uint64_t kHz[] = {31'250, 125'000, 250'000, 500'000, 1'000'000, 2'000'000, 4'000'000, 8'000'000};
        hz = kHz[(cpu_.file[0x8F] >> 4) & 7U];
    }
    noClock_ = !internal && which <= 2 && !options_.hasCrystal;
    if (noClock_)
        remarkOnce(Weight::error, "no-clock", fmt::format("{} waits for its crystal, and none is wired to its oscillator pins", device_.title));
    if (hz > model_.mostHz)
        remarkOnce(Weight::note, "clock-too-fast", fmt::format("{} runs at {:g} MHz; it is made for {:g} MHz at most", device_.title, static_cast<double>(hz) / 1e6, static_cast<double>(model_.mostHz) / 1e6));
    setClock(std::max<std::uint64_t>(hz / 4, 1));
}

void Pic16::resetState(unsigned cause)
{
    auto& file = cpu_.file;
    const bool power = cause == kPowerOnCause;
    if (cause == kByWatchdog)
        file[kStatus] = static_cast<std::uint8_t>((file[kStatus] & 7U) | kPd);
    else
        file[kStatus] = static_cast<std::uint8_t>((file[kStatus] & 7U) | (power ? kTo | kPd : file[kStatus] & (kTo | kPd)));
    file[kIntcon] &= kRbif;
    if (power)
        file[kIntcon] = 0;
    file[kOption] = 0xFF;
    file[kPclath] = 0;
    cpu_.pc = 0;
    cpu_.depth = 0;
    cpu_.handlers = 0;
    if (model_.banks == 4) {
        for (const std::uint16_t f : {0x0C, 0x0D, 0x10, 0x12, 0x14, 0x17, 0x18, 0x1D, 0x1F, 0x8C, 0x8D, 0x8F, 0x90, 0x93, 0x94, 0x98, 0x99, 0x9F})
            file[f] = 0;
        file[0x92] = 0xFF;
        file[0x9C] = 7;
        if (model_.analog == AnalogBy::ansel) {
            file[0x9B] = 0x7F;
            file[0x105] = 8;
        }
    }
    file[model_.eepromControl] = 0;
    unlock_ = 0;
    eepromDone_.disarm();
    directions_.fill(0xFF);
    selectClock();
    for (std::size_t p = 0; p < model_.ports.size(); ++p)
        showPort(p);
    watchdogWakes_ = wasPending_ = false;
    setTimer(timerValue_, cpu_.cycle);
    timerDue_.disarm();
    // Power-up timer 72 ms; a crystal has 1024 clocks to start.
    if (!options_.startsAtOnce && power) {
        const std::int64_t powerUp = (config_ & 8U) == 0 ? static_cast<std::int64_t>(0.072 * static_cast<double>(clock_.hz())) : 0;
        cpu_.cycle += powerUp + (oscillator() <= 2 ? 256 : 0);
    }
    feed();
}

// Ports (DS30487C chapter 5).

std::uint8_t Pic16::analogOf(std::size_t port) const
{
    const char letter = model_.ports[port].letter;
    if (model_.analog == AnalogBy::ansel) {
        const std::uint8_t ansel = cpu_.file[0x9B];
        return static_cast<std::uint8_t>(letter == 'A' ? ansel & 0x1FU : letter == 'B' ? (ansel & 0x60U) << 1U : 0U);
    }
    if (model_.analog == AnalogBy::adcon1) {
        // DS39582B register 11-2: how many of AN0 to AN7 are analog; VREF inputs are.
        static constexpr std::uint8_t kAnalog[] = {0xFF, 0xFF, 0x1F, 0x1F, 0x0B, 0x0B, 0, 0, 0xFF, 0x3F, 0x3F, 0x3F, 0x1F, 0x0F, 0x01, 0x0D};
        const std::uint8_t which = kAnalog[cpu_.file[0x9F] & 15U];
        return static_cast<std::uint8_t>(letter == 'A' ? (which & 0x0FU) | (which & 0x10U) << 1U : letter == 'E' ? which >> 5U : 0U);
    }
    return 0;
}

std::uint8_t Pic16::readPort(std::size_t port) const
{
    std::uint8_t out = 0;
    for (unsigned b = 0; b < 8; ++b)
        if (pins_.level(static_cast<unsigned>(port) * 8 + b))
            out |= static_cast<std::uint8_t>(1U << b);
    return static_cast<std::uint8_t>(out & model_.ports[port].pins & ~analogOf(port));
}

void Pic16::showPort(std::size_t port)
{
    using Drives = PinBank::Drives;
    const Port& p = model_.ports[port];
    const bool pulls = p.letter == 'B' && (option() & 0x80U) == 0;
    for (unsigned b = 0; b < 8; ++b) {
        if (((p.pins >> b) & 1U) == 0)
            continue;
        const bool in = ((directions_[port] >> b) & 1U) != 0 || ((p.inputOnly >> b) & 1U) != 0, high = ((latches_[port] >> b) & 1U) != 0;
        Drives what = in ? (pulls ? Drives::pullUp : Drives::nothing) : high ? Drives::high : Drives::low;
        if (!in && high && ((p.openDrain >> b) & 1U) != 0)
            what = Drives::nothing;
        pins_.drive(static_cast<unsigned>(port) * 8 + b, what);
    }
}

void Pic16::checkPortB()
{
    const auto now = static_cast<std::uint8_t>(readPort(1) & 0xF0U & directions_[1]);
    if (((now ^ portB_) & 0xF0U & directions_[1]) != 0)
        raise(kRbif);
}

void Pic16::pinChanged(unsigned pin, bool level)
{
    const unsigned port = pin / 8, bit = pin % 8;
    if (port == 1 && bit == 0 && level == ((option() & 0x40U) != 0))
        raise(kIntf);
    if (port == 1 && bit >= 4 && ((directions_[1] >> bit) & 1U) != 0)
        checkPortB();
    if (port == 0 && bit == 4 && timerExternal() && !cpu_.sleeping && level == ((option() & 0x10U) == 0)) {
        // A count of the external clock, behind the prescaler.
        if (++prescale_ >= static_cast<std::uint32_t>(timerDivider())) {
            prescale_ = 0;
            if (++timerValue_ == 0)
                raise(kT0if);
        }
    }
}

// Interrupts (DS30487C 15.11).

bool Pic16::pending() const
{
    const std::uint8_t c = cpu_.file[kIntcon];
    if (((c >> 3) & c & 7U) != 0)
        return true;
    if ((c & kPeie) == 0)
        return false;
    if (!model_.hasPeripheralInterrupts)
        return (cpu_.file[model_.eepromControl] & 0x10U) != 0;
    return (cpu_.file[0x0C] & cpu_.file[0x8C]) != 0 || (cpu_.file[0x0D] & cpu_.file[0x8D]) != 0;
}

void Pic16::flagsChanged()
{
    const bool now = pending();
    if (now && !wasPending_) {
        pendingSince_ = std::max(cycleNow(), clock_.firstCycleAtOrAfter(queue_.now()).n);
        requestedNow(1);
    }
    wasPending_ = now;
    if (now)
        leaveSlice();
}

void Pic16::raise(std::uint8_t bit)
{
    cpu_.file[kIntcon] |= bit;
    flagsChanged();
}

// The flag is looked at in each cycle; the instruction that is fetched by then still runs: latency is three or four cycles (15.11.1).
bool Pic16::enterDue()
{
    if (!wasPending_ || (cpu_.file[kIntcon] & kGie) == 0 || cpu_.cycle <= pendingSince_)
        return false;
    cpu_.interrupt();
    return true;
}

bool Pic16::halted() const
{
    const bool mayCome = (cpu_.file[kIntcon] & 0x78U) != 0;
    if (cpu_.sleeping)
        return !mayCome && !watchdogOn();
    const Instruction i = decode(cpu_.program[cpu_.pc]);
    return i.op == Op::goto_ && cpu_.target(i.k) == cpu_.pc && ((cpu_.file[kIntcon] & kGie) == 0 || !mayCome);
}

// Timer 0 and its prescaler (DS30487C chapter 6).

std::uint8_t Pic16::timerNow(std::int64_t cycle) const
{
    if (timerExternal() || cpu_.sleeping)
        return timerValue_;
    const std::int64_t passed = std::max<std::int64_t>(cycle - timerBase_, 0) / timerDivider();
    return static_cast<std::uint8_t>(timerValue_ + passed);
}

// Up to a cycle, with the flag of an overflow on the way.
void Pic16::catchTimer(std::int64_t cycle)
{
    if (timerExternal() || cpu_.sleeping)
        return;
    const std::int64_t divider = timerDivider(), passed = std::max<std::int64_t>(cycle - timerBase_, 0) / divider;
    if (passed == 0)
        return;
    const bool over = timerValue_ + passed >= 256;
    timerValue_ = static_cast<std::uint8_t>(timerValue_ + passed);
    timerBase_ += passed * divider;
    if (over)
        raise(kT0if);
}

void Pic16::setTimer(std::uint8_t value, std::int64_t from)
{
    timerValue_ = value;
    timerBase_ = from;
    prescale_ = 0;
}

// An alarm stands only where the overflow interrupts.
void Pic16::planTimer()
{
    if (timerExternal() || cpu_.sleeping || (cpu_.file[kIntcon] & kT0ie) == 0)
        timerDue_.disarm();
    else
        timerDue_.arm(timerBase_ + (256 - timerValue_) * timerDivider());
}

// Watchdog (DS30487C 15.12); sleep (15.14).

bool Pic16::watchdogOn() const { return (config_ & 4U) != 0 || (model_.hasInternalOscillator && (cpu_.file[0x105] & 1U) != 0); }

kernel::Duration Pic16::watchdogPeriod() const
{
    std::int64_t scale256 = 256;
    if (model_.hasInternalOscillator)
        scale256 = (std::int64_t{32} << std::min((cpu_.file[0x105] >> 1) & 15, 11)) / 2;  // 1:512 is the usual period
    const std::int64_t after = (option() & 8U) != 0 ? std::int64_t{1} << (option() & 7U) : 1;
    return kWatchdogPeriod * after * scale256 / 256;
}

void Pic16::feed()
{
    watchdogSince_ = std::max(queue_.now(), clock_.timeOf({cpu_.cycle}));
    planWatchdog();
}

void Pic16::planWatchdog()
{
    if (watchdogOn() && !noClock_)
        watchdog_.arm(watchdogSince_ + watchdogPeriod());
    else
        watchdog_.disarm();
}

void Pic16::watchdogDue()
{
    if (inReset())
        return;
    if (cpu_.sleeping) {
        watchdogWakes_ = true;
        rouse();
        return;
    }
    remarkOnce(Weight::warning, "watchdog-reset", fmt::format("the watchdog resets the chip: it was not cleared for {:g} ms (CLRWDT, or WDTE in the configuration word)", kernel::seconds(watchdogPeriod()) * 1e3));
    resetNow(kByWatchdog);
    yield();
}

void Pic16::sleepEntered()
{
    auto& status = cpu_.file[kStatus];
    if (pending()) {
        // It completes as a NOP.
        cpu_.sleeping = false;
        status |= kPd;
        return;
    }
    cpu_.sleeping = false;
    catchTimer(cpu_.cycle + 1);
    cpu_.sleeping = true;
    timerDue_.disarm();
    feed();
}

void Pic16::wake()
{
    cpu_.sleeping = false;
    auto& status = cpu_.file[kStatus];
    if (watchdogWakes_)
        status &= static_cast<std::uint8_t>(~(kTo | kPd));
    watchdogWakes_ = false;
    // A crystal starts anew.
    if (oscillator() <= 2)
        cpu_.cycle += 256;
    pendingSince_ = cpu_.cycle;
    setTimer(timerValue_, cpu_.cycle);
    planTimer();
    feed();
}

void Pic16::stackWrapped(bool over)
{
    remarkOnce(Weight::warning, "stack-overflow", over ? fmt::format("the ninth call deep, by the instruction at 0x{:04x}, has overwritten the oldest of eight return addresses: that return goes wrong", cpu_.current)
                                                       : fmt::format("the instruction at 0x{:04x} returns although nothing was called: it goes to what the stack held", cpu_.current));
}

}  // namespace bramix::chip::pic16
