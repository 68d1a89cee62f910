#include "chip/avr/chip.h"

#include <algorithm>
#include <bit>

#include <fmt/format.h>

#include "kernel/random.h"

namespace bramix::chip::avr {

namespace {

// MCUSR
constexpr std::uint8_t kPorf = 1, kExtrf = 2;
// MCUCR
constexpr std::uint8_t kPud = 0x10, kIvsel = 0x02;
// GTCCR
constexpr std::uint8_t kTsm = 0x80, kPsrAsync = 0x02, kPsrSync = 0x01;

// After reset is released (table 9-1, external crystal, the additional delay without the power-on part).
constexpr std::int64_t kResetClocks = 14;
// The core is halted for four cycles when an interrupt wakes it (10.2); from the modes that stop the crystal, 16 K clocks before that.
constexpr std::int64_t kWakeClocks = 4;
constexpr std::int64_t kCrystalStartClocks = 16'384;

}  // namespace

Chip::Chip(const ChipTable& table, const ChipOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, ChipObserver& observer)
    : table_(table), options_(options), queue_(queue), observer_(observer), clock_(options.clockHz != 0 ? options.clockHz : table.usualHz),
      cpu_(table.core, *this), ownerAt_(table.ioEnd), ownerOf_(table.vectors.size()), rowAt_(table.ioEnd), plain_(table.ioEnd), noted_(table.ioEnd)
{
    for (const RegisterRow& row : table.registers)
        rowAt_[row.address] = &row;
    Ports::Electrical electrical;
    electrical.supplyVolts = options.supplyVolts;
    ports_ = std::make_unique<Ports>(table, *this, circuit, electrical);
    peripherals_.push_back(ports_.get());
    for (const PortRow& row : table.ports)
        own(*ports_, {row.pin, row.ddr, row.port});
    for (const TimerRow& row : table.timers) {
        Timer& timer = *timers_.emplace_back(std::make_unique<Timer>(row, *this, row.asynchronous ? own_ : shared_));
        peripherals_.push_back(&timer);
        own(timer, {row.tccra, row.tccrb, row.tccrc, row.tcnt, row.ocra, row.ocrb, row.icr, row.timsk, row.tifr});
        if (row.width == 16)
            for (const std::uint16_t low : {row.tcnt, row.ocra, row.ocrb, row.icr})
                own(timer, {static_cast<std::uint16_t>(low + 1)});
        for (const std::uint8_t vector : {row.compA, row.compB, row.overflow, row.capture})
            ownerOf_[vector] = &timer;
    }
    for (const UsartRow& row : table.usarts) {
        Usart& usart = *usarts_.emplace_back(std::make_unique<Usart>(row, *this));
        peripherals_.push_back(&usart);
        own(usart, {row.ucsra, row.ucsrb, row.ucsrc, row.ubrr, static_cast<std::uint16_t>(row.ubrr + 1), row.udr});
        for (const std::uint8_t vector : {row.rxVector, row.udreVector, row.txVector})
            ownerOf_[vector] = &usart;
    }
    external_ = std::make_unique<ExternalInterrupts>(table, *this);
    peripherals_.push_back(external_.get());
    own(*external_, {table.eimsk, table.eifr, table.pcicr, table.pcifr});
    for (const ExternalInterruptRow& row : table.externalInterrupts) {
        own(*external_, {row.control});
        ownerOf_[row.vector] = external_.get();
    }
    for (const PinChangeRow& row : table.pinChanges) {
        own(*external_, {row.mask});
        ownerOf_[row.vector] = external_.get();
    }
    ownerOf_[0] = nullptr;
    powerOn();
}

Chip::~Chip() = default;

void Chip::own(Peripheral& p, std::initializer_list<std::uint16_t> addresses)
{
    for (const std::uint16_t address : addresses)
        if (address != 0)
            ownerAt_[address] = &p;
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
    const PortPin which = portPin(table_, name);
    if (!which.exists())
        return false;
    ports_->attach(which, id);
    return true;
}

void Chip::loadFlash(std::vector<std::uint16_t> words, bool bootCode)
{
    cpu_.loadFlash(std::move(words));
    cpu_.setErasedRunsOn(bootCode);
    ranOverErased_ = false;
}

void Chip::powerOn()
{
    // SRAM comes up with whatever it comes up with; registers are cleared for the sake of a readable start.
    std::fill(cpu_.data.begin(), cpu_.data.end(), std::uint8_t{0});
    kernel::Random noise(options_.seed, "sram");
    for (std::size_t i = table_.core.ramStart; i < cpu_.data.size(); ++i)
        cpu_.data[i] = static_cast<std::uint8_t>(noise.next());
    cpu_.lowestSp = UINT16_MAX;
    resetCore(kPorf);
    inReset_ = !resetLine_;
}

void Chip::resetCore(std::uint8_t cause)
{
    pending_ = enabledVectors_ = 0;
    for (Peripheral* p : peripherals_)
        p->reset();
    cpu_.reset();
    std::fill(plain_.begin(), plain_.end(), std::uint8_t{0});
    mcucr_ = smcr_ = gtccr_ = 0;
    shared_ = own_ = {};
    shared_.zeroCycle = own_.zeroCycle = cpu_.cycle;
    ioClockStopped_ = false;
    mcusr_ = cause == kPorf ? kPorf : static_cast<std::uint8_t>(mcusr_ | cause);
}

void Chip::setResetLine(bool high)
{
    if (high == resetLine_)
        return;
    resetLine_ = high;
    if (!high) {
        // The line may fall in the middle of an instruction; the core stops behind it.
        resetDue_ = true;
        cpu_.stopBy(INT64_MIN);
        if (!executing_)
            takeReset();
    } else if (inReset_) {
        inReset_ = false;
        cpu_.cycle = std::max(cpu_.cycle, clock_.firstCycleAtOrAfter(queue_.now()).n) + kResetClocks;
        shared_.zeroCycle = own_.zeroCycle = cpu_.cycle;
    }
}

void Chip::takeReset()
{
    resetDue_ = false;
    resetCore(kExtrf);
    inReset_ = !resetLine_;
}

std::int64_t Chip::targetCycle(kernel::Time until) const { return clock_.firstCycleAtOrAfter(std::min(until, queue_.nextDue())).n; }

void Chip::run(kernel::Time until)
{
    executing_ = true;
    runSlices(until);
    executing_ = false;
    if (resetDue_)
        takeReset();
}

void Chip::runSlices(kernel::Time until)
{
    while (!inReset_ && !faulted() && !resetDue_) {
        const std::int64_t target = targetCycle(until);
        if (cpu_.cycle >= target)
            return;
        if (interruptDue()) {
            enterPendingInterrupt();
            continue;
        }
        if (cpu_.sleeping) {
            if (cpu_.stopAtHalt && halted())
                return;
            cpu_.cycle = target;
            return;
        }
        cpu_.run(target);
        if (cpu_.stopAtHalt && halted())
            return;
        if (cpu_.holdInterrupts && pending_ != 0 && cpu_.cycle < targetCycle(until) && !faulted())
            cpu_.step();
    }
}

void Chip::stepInstruction(kernel::Time until)
{
    if (inReset_ || faulted())
        return;
    executing_ = true;
    cpu_.deadline = INT64_MAX;
    if (interruptDue())
        enterPendingInterrupt();
    else if (cpu_.sleeping)
        cpu_.cycle = std::max(cpu_.cycle, targetCycle(until));
    else
        cpu_.step();
    executing_ = false;
    if (resetDue_)
        takeReset();
}

void Chip::enterPendingInterrupt()
{
    if (cpu_.sleeping)
        wake();
    const auto vector = static_cast<std::uint8_t>(std::countr_zero(pending_));
    cpu_.deadline = INT64_MAX;
    cpu_.enterInterrupt(vector * table_.vectorWords);
    if (ownerOf_[vector] != nullptr)
        ownerOf_[vector]->interruptTaken(vector);
    observer_.chipInterrupt(vector, clock_.timeOf({cpu_.cycle}));
}

void Chip::wake()
{
    const Sleep mode = sleepMode();
    cpu_.sleeping = false;
    cpu_.cycle += kWakeClocks + (mode == Sleep::powerDown || mode == Sleep::powerSave ? kCrystalStartClocks : 0);
    if (ioClockStopped_) {
        ioClockStopped_ = false;
        for (Peripheral* p : peripherals_)
            p->clockStarted(cpu_.cycle);
    }
}

Sleep Chip::sleepMode() const
{
    switch ((smcr_ >> 1) & 7) {
    case 0: return Sleep::idle;
    case 1: return Sleep::noiseReduction;
    case 3:
    case 7: return Sleep::powerSave;
    default: return Sleep::powerDown;
    }
}

bool Chip::halted() const
{
    if (faulted() || inReset_)
        return false;
    const bool enabled = (cpu_.sreg & kI) != 0;
    if (!cpu_.sleeping)
        return !enabled && cpu_.atSelfJump();
    if (!enabled)
        return true;
    for (std::size_t v = 1; v < table_.vectors.size(); ++v)
        if (((enabledVectors_ >> v) & 1) != 0 && table_.vectors[v].deepest >= sleepMode())
            return false;
    return true;
}

void Chip::setInterrupt(std::uint8_t vector, bool flag, bool enabled)
{
    const std::uint64_t bit = std::uint64_t{1} << vector;
    enabledVectors_ = enabled ? enabledVectors_ | bit : enabledVectors_ & ~bit;
    const bool was = pending_ != 0;
    pending_ = flag && enabled ? pending_ | bit : pending_ & ~bit;
    if (!was && pending_ != 0)
        cpu_.stopBy(INT64_MIN);
}

void Chip::interruptsEnabled(std::int64_t cycle)
{
    if (pending_ != 0)
        cpu_.stopBy(cycle);
}

void Chip::sleepInstruction(std::int64_t cycle)
{
    if ((smcr_ & 1) == 0)
        return;  // SE is not set: SLEEP does nothing
    cpu_.sleeping = true;
    if (sleepMode() != Sleep::idle) {
        ioClockStopped_ = true;
        for (Peripheral* p : peripherals_)
            p->clockStopped(cycle);
    }
}

void Chip::watchdogReset(std::int64_t) {}

void Chip::storeProgramMemory(std::int64_t) { note("not-modelled", "SPM does nothing: self-programming is not modelled yet"); }

void Chip::erasedFlash(std::int64_t /*cycle*/)
{
    if (!ranOverErased_)
        note("erased-flash", "execution ran into erased flash and on towards the boot section; is the application missing?");
    ranOverErased_ = true;
}

// Whatever is due up to this access happens before it.
void Chip::catchUp(std::int64_t cycle) { queue_.advanceTo(clock_.timeOf({cycle})); }

// The access may have armed something earlier than the end of this slice.
void Chip::afterAccess()
{
    const kernel::Time due = queue_.nextDue();
    if (due != kernel::kNever)
        cpu_.stopBy(clock_.firstCycleAtOrAfter(due).n);
}

std::uint8_t Chip::ioRead(std::uint16_t address, std::int64_t cycle)
{
    catchUp(cycle);
    Peripheral* owner = ownerAt_[address];
    const std::uint8_t value = owner != nullptr ? owner->read(address, cycle) : readPlain(address, cycle);
    afterAccess();
    return value;
}

void Chip::ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    catchUp(cycle);
    Peripheral* owner = ownerAt_[address];
    if (owner != nullptr)
        owner->write(address, value, cycle);
    else
        writePlain(address, value, cycle);
    afterAccess();
}

void Chip::ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle)
{
    const auto mask = static_cast<std::uint8_t>(1 << bit);
    if (rowAt_[address] != nullptr && rowAt_[address]->kind == RegisterKind::flags) {
        if (value)
            ioWrite(address, mask, cycle);
        return;
    }
    // The read half comes in the first of the two cycles.
    const std::uint8_t old = ioRead(address, cycle - 1);
    ioWrite(address, static_cast<std::uint8_t>(value ? old | mask : old & ~mask), cycle);
}

void Chip::noteUnmodelled(std::uint16_t address)
{
    if (noted_[address] != 0)
        return;
    const RegisterRow* row = rowAt_[address];
    if (row != nullptr && row->kind != RegisterKind::later)
        return;
    noted_[address] = 1;
    if (row != nullptr)
        note("not-modelled", fmt::format("{} is plain storage: its peripheral is not modelled yet", row->name));
    else
        note("reserved-register", fmt::format("{} has no register at 0x{:02x}", table_.title, address));
}

std::uint8_t Chip::readPlain(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == table_.mcusr)
        return mcusr_;
    if (address == table_.mcucr)
        return mcucr_;
    if (address == table_.smcr)
        return smcr_;
    if (address == table_.gtccr)
        return gtccr_;
    noteUnmodelled(address);
    const RegisterRow* row = rowAt_[address];
    const std::uint8_t value = plain_[address];
    return row == nullptr ? value : static_cast<std::uint8_t>((value & ~row->readsClear) | row->readsSet);
}

void Chip::writePlain(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == table_.mcusr) {
        mcusr_ &= value;  // a reset flag can be cleared, not set
    } else if (address == table_.mcucr) {
        if ((value & kIvsel) != 0)
            note("not-modelled", "IVSEL is set, but moving the vectors to the boot section is not modelled yet");
        if (((mcucr_ ^ value) & kPud) != 0)
            ports_->setPullUpsDisabled((value & kPud) != 0);
        mcucr_ = value;
    } else if (address == table_.smcr) {
        smcr_ = value & 0x0F;
    } else if (address == table_.gtccr) {
        writePrescalerControl(value, cycle);
    } else {
        noteUnmodelled(address);
        plain_[address] = value;
    }
}

// GTCCR (17.4): a reset bit clears itself at once unless TSM holds it, and then the prescaler stands still.
void Chip::writePrescalerControl(std::uint8_t value, std::int64_t cycle)
{
    for (const auto& timer : timers_)
        timer->beforePrescalerChange(cycle);
    const bool hold = (value & kTsm) != 0;
    const auto apply = [&](Prescaler& p, std::uint8_t bit) {
        if ((value & bit) != 0 || p.held)
            p.zeroCycle = cycle;
        p.held = hold && (value & bit) != 0;
    };
    apply(shared_, kPsrSync);
    apply(own_, kPsrAsync);
    gtccr_ = hold ? value & (kTsm | kPsrAsync | kPsrSync) : 0;
    for (const auto& timer : timers_)
        timer->afterPrescalerChange(cycle);
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
    for (const PortRow& row : table_.ports)
        if (address == row.pin || address == row.ddr || address == row.port)
            return ports_->read(address, cpu_.cycle);
    if (address == table_.mcusr)
        return mcusr_;
    if (address == table_.mcucr)
        return mcucr_;
    return address == table_.smcr ? smcr_ : plain_[address];
}

void Chip::note(const char* rule, const std::string& text) { observer_.chipNote(rule, text, cpu_.current * 2, clock_.timeOf({cpu_.cycle})); }

}  // namespace bramix::chip::avr
