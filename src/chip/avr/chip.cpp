#include "chip/avr/chip.h"

#include <algorithm>
#include <bit>

#include <fmt/format.h>

#include "chip/avr/core/looked_bits.h"

#include "chip/avr/core/heard_bus.h"

namespace bramix::chip::avr {

namespace {

// The core is halted for four cycles when an interrupt wakes it (10.2); from standby six clocks before that.
constexpr std::int64_t kWakeClocks = 4;
constexpr std::int64_t kStandbyClocks = 6;

// Flags that are cleared by writing 1 and lie among control bits: SBI on another bit of the register leaves them alone.
constexpr std::array<std::string_view, 9> kMixedFlags{"ADIF", "ACI", "TWINT", "USISIF", "USIOIF", "USIPF", "WDIF", "TXC", "TXC0"};

}  // namespace

// A register in which several peripherals have bits.
class Chip::SharedRegister final : public Peripheral {
public:
    using Peripheral::Peripheral;
    void add(Peripheral& p)
    {
        if (std::find(owners_.begin(), owners_.end(), &p) == owners_.end())
            owners_.push_back(&p);
    }
    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override
    {
        std::uint8_t value = 0;
        for (Peripheral* p : owners_)
            value |= p->read(address, cycle);
        return value;
    }
    std::uint8_t peek(std::uint16_t address, std::int64_t cycle) override
    {
        std::uint8_t value = 0;
        for (Peripheral* p : owners_)
            value |= p->peek(address, cycle);
        return value;
    }
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override
    {
        for (Peripheral* p : owners_)
            p->write(address, value, cycle);
    }
    void reset() override {}
    void save(kernel::SaveArchive&) override {}
    void load(kernel::LoadArchive&) override {}

private:
    std::vector<Peripheral*> owners_;
};

template <class P, class... Args>
std::unique_ptr<P> Chip::make(Args&&... args)
{
    auto made = std::make_unique<P>(std::forward<Args>(args)...);
    peripherals_.push_back(made.get());
    return made;
}

Chip::Chip(const ChipTable& table, const ChipOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : ChipServices(table), options_(options), queue_(queue), observer_(observer), clock_(options.clockHz != 0 ? options.clockHz : table.usualHz),
      fuses_(options.fuses.value_or(idealFuses(table))), cpu_(table.core, *this), ownerAt_(table.ioEnd), ownerOf_(table.vectors.size()), rowAt_(table.ioEnd),
      bitsAt_(table.ioEnd, 0xFF), flagsAt_(table.ioEnd), circuit_(circuit), supplyVolts_(options.supplyVolts), noted_(table.ioEnd)
{
    for (const RegisterRow& row : table.registers) {
        rowAt_[row.address] = &row;
        if (row.bits.empty())
            continue;
        std::uint8_t bits = 0;
        eachWord(row.bits, [&](std::string_view name) { bits = static_cast<std::uint8_t>((bits << 1) | (name == "-" ? 0 : 1)); });
        bitsAt_[row.address] = bits;
    }
    for (const std::string_view flag : kMixedFlags)
        if (const BitRef b = names_.bit(flag); b.exists())
            flagsAt_[b.address] |= b.mask;
    // The ATmega32's UBRRH shares the address of UCSRC.
    if (const std::uint16_t ucsrc = names_.reg("UCSRC"); ucsrc != 0)
        bitsAt_[ucsrc] = 0xFF;
    const BitRef flag = names_.bit("PORF");
    resetFlagsAt_ = flag.address;
    watchdogResets_ = names_.bit("WDE");
    for (const char* name : {"PORF", "EXTRF", "BORF", "WDRF", "JTRF"})
        resetFlagBits_ |= names_.bit(name).mask;

    Ports::Electrical electrical;
    electrical.pullUpOhms = options.pullUpOhms;
    ports_ = make<Ports>(*this, circuit, electrical);
    ports_->doubtfulRead = [this](PortPin pin, bool floats) { observer_.uncertainRead(ports_->idOf(pin), floats, ports_->thresholds()); };
    system_ = make<SystemControl>(*this, !options.hasCrystal ? 0 : options.clockHz != 0 ? options.clockHz : table.usualHz);
    system_->powerChanged = [this](std::int64_t cycle) { powerChanged(cycle); };
    for (const TimerRow& row : table.timers)
        timers_.push_back(make<Timer>(row, *this, row.prescale == Prescale::asynchronous ? own_ : shared_));
    for (std::size_t i = 0; i < table.timers.size(); ++i)
        if (table.timers[i].number == '1')
            captureTimer_ = timers_[i].get();
    if (table.hasHighSpeedTimer)
        highSpeedTimer_ = make<HighSpeedTimer>(*this);
    prescalers_ = make<PrescalerControl>(*this, shared_, own_, timers_);
    for (const UsartRow& row : table.usarts)
        usarts_.push_back(make<Usart>(row, *this));
    external_ = make<ExternalInterrupts>(*this);
    if (names_.reg("SPCR") != 0)
        spi_ = make<Spi>(*this);
    if (names_.reg("TWCR") != 0)
        twi_ = make<Twi>(*this);
    if (names_.reg("USICR") != 0) {
        usi_ = make<Usi>(*this);
        usi_->clockedByTimer = [this](bool on, bool restored) {
            timers_[0]->onMatchA = on ? std::function<void()>([this] { usi_->timerMatch(); }) : std::function<void()>();
            if (!restored)
                timers_[0]->awaitedChanged();
        };
    }
    const auto voltsAt = [this](circuit::PinId pin) -> std::optional<double> {
        if (pin == circuit::kNoPin || circuit_.stateOf(circuit_.netOf(pin)) == circuit::NetState::floating)
            return std::nullopt;
        return circuit_.voltage(circuit_.netOf(pin)).value;
    };
    // A board joins AVCC to the supply by itself, and the ATtiny85 has none.
    adc_ = make<Adc>(*this, [this, voltsAt] { return voltsAt(aref_); }, [this, voltsAt] { return avcc_ == circuit::kNoPin ? std::optional(supplyVolts_) : voltsAt(avcc_); });
    comparator_ = make<Comparator>(*this, *adc_);
    eeprom_ = make<Eeprom>(*this);
    selfProgramming_ = make<SelfProgramming>(*this, cpu_, fuses_);
    watchdog_ = make<Watchdog>(*this);
    powerOn();
}

Chip::~Chip() = default;

void Chip::claim(Peripheral& who, std::uint16_t address)
{
    if (address == 0)
        return;
    Peripheral*& owner = ownerAt_[address];
    if (owner == nullptr || owner == &who) {
        owner = &who;
        return;
    }
    const auto found = std::find_if(sharedRegisters_.begin(), sharedRegisters_.end(), [&](const auto& s) { return s.get() == owner; });
    if (found != sharedRegisters_.end()) {
        (*found)->add(who);
        return;
    }
    auto shared = std::make_unique<SharedRegister>(*this);
    shared->add(*owner);
    shared->add(who);
    owner = shared.get();
    sharedRegisters_.push_back(std::move(shared));
}

void Chip::claimVector(Peripheral& who, std::uint8_t vector)
{
    if (vector != 0)
        ownerOf_[vector] = &who;
}

void Chip::claimPower(Peripheral& who, BitRef bit)
{
    if (bit.exists())
        powers_.push_back({&who, bit});
}

PortPin Chip::portPin(const ChipTable& table, std::string_view name)
{
    if (name.size() != 3 || name[0] != 'P' || name[2] < '0' || name[2] > '7')
        return {};
    for (const PortRow& row : table.ports)
        if (row.letter == name[1] && ((row.pins >> (name[2] - '0')) & 1) != 0)
            return pin(name[1], static_cast<unsigned>(name[2] - '0'));
    return {};
}

bool Chip::attachPin(std::string_view name, circuit::PinId id)
{
    if (name == "AREF") {
        aref_ = id;
        return true;
    }
    if (name == "AVCC") {
        avcc_ = id;
        return true;
    }
    if (name == "RESET" && !hasResetInput()) {
        // The port pin that it is then stands among its functions.
        bool found = false;
        for (const PackagePin& p : table_.package)
            if (p.name == name)
                eachWord(p.functions, [&](std::string_view word) { found = (portPin(table_, word).exists() && attachPin(word, id)) || found; });
        return found;
    }
    const PortPin which = portPin(table_, name);
    if (!which.exists())
        return false;
    ports_->attach(which, id);
    return true;
}

std::optional<std::uint8_t> Chip::lookedBits() const { return avr::lookedBits(table_.core, cpu_.flash(), cpu_.current); }

void Chip::loadProgram(const Firmware& firmware)
{
    loadFlash(firmware.words(), firmware.bootCode);
    setDataEnd(static_cast<std::uint16_t>(firmware.dataEnd > UINT16_MAX ? 0 : firmware.dataEnd));
}

std::optional<AnalogReading> Chip::analogReading(circuit::PinId pin) const
{
    const auto port = ports_->portPinOf(pin);
    const auto seen = port ? adc_->seen(*port) : std::nullopt;
    return seen ? std::optional(AnalogReading{seen->reference, seen->count}) : std::nullopt;
}

const std::vector<SerialPort>& Chip::serialPorts() const
{
    // Pins are joined to the circuit after the chip is made.
    serialPorts_.clear();
    for (std::size_t i = 0; i < usarts_.size(); ++i)
        serialPorts_.push_back({std::string(table_.usarts[i].name), ports_->idOf(usarts_[i]->txd()), ports_->idOf(usarts_[i]->rxd())});
    return serialPorts_;
}

SerialFormat Chip::serialFormat(std::size_t port) const
{
    const UartFormat f = usarts_[port]->format();
    return {f.transmits, f.receives, clock_.span(f.cyclesPerBit), static_cast<double>(clock_.hz()) / static_cast<double>(f.cyclesPerBit), f.dataBits, static_cast<SerialFormat::Parity>(f.parity), f.stopBits};
}

void Chip::loadFlash(std::vector<std::uint16_t> words, bool bootCode)
{
    cpu_.loadFlash(std::move(words));
    cpu_.setErasedRunsOn(bootCode);
    ranOverErased_ = false;
    badVectors_ = 0;
}

void Chip::powerChanged(std::int64_t cycle)
{
    for (const Power& p : powers_) {
        if (is(p.bit))
            p.who->stop(Peripheral::kByPowerReduction, cycle);
        else
            p.who->start(Peripheral::kByPowerReduction, cycle);
    }
}

void Chip::tellCodeTime(CodeTime* to, kernel::Duration stretch)
{
    codeTimeStretch_ = stretch;
    cpu_.tellCodeTime(to);
    if (to == nullptr)
        return;
    // A core that waits for its clock to settle after a reset stands at the cycle at which it will begin.
    constexpr std::int64_t kLongestInstruction = 64;
    const std::int64_t now = clock_.firstCycleAtOrAfter(queue_.now()).n;
    to->begin(CodeTime::kInReset, cpu_.cycle - now > kLongestInstruction ? now : cpu_.cycle, stretchOfCodeTime());
    if (!inReset())
        cpu_.moved(cpu_.cycle);
}

void Chip::setChangeListener(std::function<void(kernel::Time)> changed)
{
    heard_ = changed ? std::make_unique<HeardBus>(*this, std::move(changed)) : nullptr;
    cpu_.setBus(heard_ != nullptr ? static_cast<IoBus&>(*heard_) : *this);
}

// Running.

std::int64_t Chip::targetCycle(kernel::Time until)
{
    seenDue_ = queue_.nextDue();
    return clock_.firstCycleAtOrAfter(std::min(until, seenDue_)).n;
}

void Chip::run(kernel::Time until)
{
    runSlices(until, [] { return false; });
}

// Going back to the bench for each of a hundred thousand alarms a second would cost a twentieth of the time.
void Chip::runAlone(kernel::Time until, const bool& stop)
{
    runSlices(until, [this, until, &stop] {
        if (seenDue_ > until)
            return false;
        queue_.advanceTo(seenDue_);
        return !stop;
    });
}

// `due` deals with an alarm that is due, and tells whether to go on.
template <class Due>
void Chip::runSlices(kernel::Time until, const Due& due)
{
    executing_ = true;
    yields_ = false;
    slices(until, due);
    executing_ = false;
    if (pendingReset_ != 0)
        takeReset();
}

template <class Due>
void Chip::slices(kernel::Time until, const Due& due)
{
    while (!inReset() && !faulted() && pendingReset_ == 0 && !yields_) {
        const std::int64_t target = targetCycle(until);
        if (cpu_.cycle >= target) {
            if (!due())
                return;
            continue;
        }
        if (interruptDue()) {
            enterPendingInterrupt();
            if (debugStop().kind != DebugStop::Kind::none)
                return;
            continue;
        }
        if (cpu_.sleeping) {
            if (cpu_.stopAtHalt && halted())
                return;
            if (cpu_.counts != nullptr)
                cpu_.counts->asleep += target - cpu_.cycle;
            cpu_.cycle = target;
            continue;
        }
        cpu_.run(target);
        if (debugStop().kind != DebugStop::Kind::none && !comesLater())
            return;
        if (cpu_.stopAtHalt && halted())
            return;
        if (cpu_.holdInterrupts && pending_ != 0 && cpu_.cycle < targetCycle(until) && !faulted() && !cpu_.atBreakpoint())
            cpu_.stepCounted();
    }
}

void Chip::sleepTo(kernel::Time until)
{
    const std::int64_t to = clock_.firstCycleAtOrAfter(until).n;
    if (!cpu_.sleeping || inReset() || to <= cpu_.cycle)
        return;
    if (cpu_.counts != nullptr)
        cpu_.counts->asleep += to - cpu_.cycle;
    cpu_.cycle = to;
}

// A breakpoint counts when its instruction is the next to run: what is due first, alarms and interrupts, comes first.
bool Chip::comesLater()
{
    if (debugStop().kind != DebugStop::Kind::breakpoint || (!interruptDue() && queue_.nextDue() > now()))
        return false;
    clearDebugStop();
    return true;
}

void Chip::stepInstruction(kernel::Time until)
{
    if (inReset() || faulted())
        return;
    executing_ = true;
    cpu_.deadline = INT64_MAX;
    if (interruptDue()) {
        enterPendingInterrupt();
    } else if (cpu_.sleeping) {
        const std::int64_t to = std::max(cpu_.cycle, targetCycle(until));
        if (cpu_.counts != nullptr)
            cpu_.counts->asleep += to - cpu_.cycle;
        cpu_.cycle = to;
    } else {
        cpu_.stepCounted();
        cpu_.current = cpu_.pc;  // as at the end of a run: what happens between instructions happens here
    }
    executing_ = false;
    if (pendingReset_ != 0)
        takeReset();
}

void Chip::enterPendingInterrupt()
{
    const std::int64_t began = cpu_.cycle;
    if (cpu_.sleeping)
        wake();
    const auto vector = static_cast<std::uint8_t>(std::countr_zero(pending_));
    const std::uint32_t base = system_->vectorsInBoot() ? selfProgramming_->bootStart() / 2 : 0;
    cpu_.deadline = INT64_MAX;
    cpu_.enterInterrupt(base + vector * table_.vectorWords);
    if (((badVectors_ >> vector) & 1) == 0)
        checkHandler(vector);
    if (ownerOf_[vector] != nullptr)
        ownerOf_[vector]->interruptTaken(vector);
    InterruptCount& count = interruptCounts_[vector];
    const std::int64_t latency = std::max<std::int64_t>(cpu_.cycle - pendingSince_[vector], 0);
    ++count.count;
    count.totalLatency += latency;
    count.worstLatency = std::max(count.worstLatency, latency);
    if (cpu_.counts != nullptr) {
        cpu_.counts->entries += cpu_.cycle - began;
        cpu_.counts->entered(vector, cpu_.cycle);
    }
    if (((interruptStops_ >> vector) & 1) != 0 && debugStop().kind == DebugStop::Kind::none)
        cpu_.debugStop = {DebugStop::Kind::interrupt, cpu_.pc, 0, 0, 0, false, vector};
    observer_.exceptionEntered(vector, clock_.timeOf({cpu_.cycle}));
    if (heard_ != nullptr)
        heard_->tell(cpu_.cycle);
}

// A vector without a handler leads, through a jump of the run-time library's, to address 0.
void Chip::checkHandler(std::uint8_t vector)
{
    badVectors_ |= std::uint64_t{1} << vector;
    std::uint32_t at = cpu_.pc;
    for (int hops = 0; hops < 3; ++hops) {
        const Instruction i = cpu_.decodeAt(at);
        if (i.op != Op::jmp && i.op != Op::rjmp)
            return;
        at = i.target;
        if (at == 0) {
            cpu_.current = cpu_.pc;
            note("no-handler", fmt::format("{} is enabled and came, but the firmware has no handler for it: it starts again at its reset vector", table_.vectors[vector].name));
            return;
        }
    }
}

void Chip::wake()
{
    cpu_.sleeping = false;
    const bool deep = sleepMode_ == Sleep::powerDown || sleepMode_ == Sleep::powerSave;
    reckonConsumption();
    cpu_.cycle += kWakeClocks + (!deep ? 0 : system_->isStandby() ? kStandbyClocks : system_->startClocks());
    if (sleepMode_ == Sleep::idle)
        return;
    for (Peripheral* p : peripherals_)
        p->start(Peripheral::kBySleep, cpu_.cycle);
}

bool Chip::halted() const
{
    if (faulted() || inReset())
        return false;
    if (is(watchdogResets_))
        return false;  // the watchdog will reset it
    const bool enabled = (cpu_.sreg & kI) != 0;
    if (!cpu_.sleeping)
        return !enabled && cpu_.atSelfJump();
    if (!enabled)
        return true;
    for (std::size_t v = 1; v < table_.vectors.size(); ++v) {
        if (((enabledVectors_ >> v) & 1) == 0 || table_.vectors[v].deepest < sleepMode_)
            continue;
        // Timer2 works in power-save only by its own crystal.
        if (table_.vectors[v].deepest == Sleep::powerSave && ownerOf_[v]->runsIn() < sleepMode_)
            continue;
        return false;
    }
    return true;
}

// Interrupts.

void Chip::setInterrupt(std::uint8_t vector, bool flag, bool enabled)
{
    if (vector == 0)
        return;
    const std::uint64_t bit = std::uint64_t{1} << vector;
    enabledVectors_ = enabled ? enabledVectors_ | bit : enabledVectors_ & ~bit;
    const bool rose = flag && (flags_ & bit) == 0;
    flags_ = flag ? flags_ | bit : flags_ & ~bit;
    const bool was = pending_ != 0;
    if (flag && enabled && (pending_ & bit) == 0)
        pendingSince_[vector] = clock_.firstCycleAtOrAfter(queue_.now()).n;
    pending_ = flag && enabled ? pending_ | bit : pending_ & ~bit;
    if (!was && pending_ != 0) {
        cpu_.stopBy(INT64_MIN);
        if (cpu_.sleeping) {
            sleepTo(queue_.now());
            observer_.woken();
        }
    }
    if (rose && vector == awaited_)
        adc_->trigger(clock_.firstCycleAtOrAfter(queue_.now()).n);
}

void Chip::awaitTrigger(std::uint8_t vector)
{
    if (vector == awaited_)
        return;
    awaited_ = vector;
    for (Peripheral* p : peripherals_)
        p->awaitedChanged();
}

void Chip::comparatorChanged(bool level, kernel::Time at)
{
    if (captureTimer_ != nullptr)
        captureTimer_->comparatorChanged(level, at);
}

void Chip::interruptsEnabled(std::int64_t cycle)
{
    if (pending_ != 0)
        cpu_.stopBy(cycle);
}

void Chip::sleepInstruction(std::int64_t cycle)
{
    if (!system_->sleepEnabled()) {
        note("sleep-disabled", "SLEEP was executed with SE clear, and does nothing");
        return;
    }
    cpu_.sleeping = true;
    sleepMode_ = system_->sleepMode();
    if (sleepMode_ != Sleep::idle)  // in which nothing but the core stands
        for (Peripheral* p : peripherals_)
            if (p->runsIn() < sleepMode_)
                p->stop(Peripheral::kBySleep, cycle);
    adc_->sleepEntered(sleepMode_, cycle);
    reckonConsumption(cycle);
}

void Chip::watchdogReset(std::int64_t cycle)
{
    catchUp(cycle);
    watchdog_->restart();
    afterAccess();
}

void Chip::storeProgramMemory(std::int64_t cycle)
{
    catchUp(cycle);
    selfProgramming_->storeProgramMemory(cycle);
    afterAccess();
}

std::uint8_t Chip::loadProgramMemory(std::uint32_t byteAddress, std::int64_t cycle)
{
    catchUp(cycle);
    return selfProgramming_->loadProgramMemory(byteAddress, cycle);
}

void Chip::erasedFlash(std::int64_t /*cycle*/)
{
    if (!ranOverErased_)
        note("erased-flash", "execution ran into erased flash and on towards the boot section; is the application missing?");
    ranOverErased_ = true;
}

void Chip::unwrittenRead(std::uint16_t address)
{
    note("unwritten-ram", fmt::format("SRAM at 0x{:04x} is read although nothing has been written there since power-up: its value is random", address));
}

void Chip::stackInData(std::uint16_t sp) { note("stack-in-data", fmt::format("the stack has grown to 0x{:04x}, into the firmware's variables, which end at 0x{:04x}", sp, cpu_.dataEnd)); }

// Registers.

// Whatever is due up to this access happens before it.
[[gnu::always_inline]] inline void Chip::catchUp(std::int64_t cycle)
{
    accessCycle_ = cycle;
    queue_.advanceTo(clock_.timeOf({cycle}));
}

// The access may have armed something earlier than the end of this slice.
[[gnu::always_inline]] inline void Chip::afterAccess()
{
    const kernel::Time due = queue_.nextDue();
    if (due == seenDue_) [[likely]]
        return;
    seenDue_ = due;
    if (due != kernel::kNever)
        cpu_.stopBy(clock_.firstCycleAtOrAfter(due).n);
}

std::uint8_t Chip::ioRead(std::uint16_t address, std::int64_t cycle)
{
    catchUp(cycle);
    Peripheral* owner = ownerAt_[address];
    const std::uint8_t value = owner != nullptr ? owner->read(address, cycle) : readPlain(address);
    afterAccess();
    return value;
}

void Chip::ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    catchUp(cycle);
    const auto kept = static_cast<std::uint8_t>(value & bitsAt_[address]);
    if (kept != value && rowAt_[address] != nullptr)
        noteOnce(address, "reserved-bits", fmt::format("{} was written 0x{:02x}, which sets bits that {} does not have", rowAt_[address]->name, value, table_.title));
    Peripheral* owner = ownerAt_[address];
    if (owner == nullptr)
        writePlain(address, kept);
    else if (owner->stoppedBy(Peripheral::kByPowerReduction))
        noteOnce(address, "power-reduced", fmt::format("{} was written while its peripheral is switched off in the power reduction register: the write has no effect", rowAt_[address]->name));
    else
        owner->write(address, kept, cycle);
    afterAccess();
}

void Chip::ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle)
{
    const auto mask = static_cast<std::uint8_t>(1 << bit);
    if (ownerAt_[address] == ports_.get() && ((bitsAt_[address] >> bit) & 1) != 0) [[likely]] {
        catchUp(cycle);
        ports_->writeBit(address, bit, value);
        afterAccess();
        return;
    }
    if (table_.bitwiseFlags && rowAt_[address] != nullptr && rowAt_[address]->kind == RegisterKind::flags) {
        if (value)
            ioWrite(address, mask, cycle);
        return;
    }
    // The read half comes in the first of the two cycles.
    std::uint8_t old = ioRead(address, cycle - 1);
    if (table_.bitwiseFlags)
        old = static_cast<std::uint8_t>(old & ~flagsAt_[address]);
    ioWrite(address, static_cast<std::uint8_t>(value ? old | mask : old & ~mask), cycle);
}

void Chip::noteOnce(std::uint16_t address, const char* rule, const std::string& text)
{
    if (noted_[address] != 0)
        return;
    noted_[address] = 1;
    note(rule, text);
}

std::uint8_t Chip::readPlain(std::uint16_t address)
{
    if (rowAt_[address] == nullptr)
        noteOnce(address, "reserved-register", fmt::format("{} has no register at 0x{:02x}", table_.title, address));
    return registers_[address];
}

void Chip::writePlain(std::uint16_t address, std::uint8_t value)
{
    const RegisterRow* row = rowAt_[address];
    if (row == nullptr) {
        noteOnce(address, "reserved-register", fmt::format("{} has no register at 0x{:02x}", table_.title, address));
        return;
    }
    if (row->kind == RegisterKind::later)
        noteOnce(address, "not-modelled", fmt::format("{} is plain storage: what it belongs to is not modelled", row->name));
    registers_[address] = value;
}

std::uint8_t Chip::peek(std::uint16_t address) const
{
    if (address < 0x20 || address >= table_.ioEnd)
        return address < cpu_.data.size() ? cpu_.data[address] : 0;
    switch (address) {
    case kSreg: return cpu_.sreg;
    case kSpl: return static_cast<std::uint8_t>(cpu_.sp);
    case kSph: return static_cast<std::uint8_t>(cpu_.sp >> 8);
    default: break;
    }
    return peekRegister(address, cpu_.cycle);
}

std::uint8_t Chip::peekRegister(std::uint16_t address, std::int64_t cycle) const
{
    Peripheral* owner = ownerAt_[address];
    return owner != nullptr ? owner->peek(address, cycle) : registers_[address];
}

void Chip::note(const char* rule, const std::string& text)
{
    // What leaves firmware doing something else than it says is a warning; what is merely odd, a note.
    constexpr std::array<std::string_view, 7> kNotes{"reserved-bits", "reserved-register", "not-modelled", "adc-clock", "sleep-disabled", "unwritten-ram", "clock-too-fast"};
    const std::string_view name(rule);
    const Weight weight = name == "no-clock" ? Weight::error : std::find(kNotes.begin(), kNotes.end(), name) != kNotes.end() ? Weight::note : Weight::warning;
    observer_.remark(weight, rule, text, cpu_.current * 2, clock_.timeOf({cpu_.cycle}));
}

}  // namespace bramix::chip::avr
