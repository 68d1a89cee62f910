#include "chip/toy/toy.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>
#include <set>

#include <fmt/format.h>

#include "chip/families.h"
#include "chip/toy/toy_debug.h"
#include "kernel/event_queue.h"

namespace bramix::toy {

using chip::Flow;
using chip::InstructionInfo;
using kernel::Time;

namespace {

constexpr double kOutputOhms = 30, kPullUpOhms = 40'000;
constexpr std::uint32_t kPins = 8;

struct Decoded {
    Op op = Op::none;
    unsigned d = 0, a = 0, b = 0;
    std::int32_t immediate = 0;
};

Decoded decodeWord(std::uint32_t word)
{
    const std::uint32_t op = word >> 24;
    if (op >= static_cast<std::uint32_t>(Op::count))
        return {};
    return {static_cast<Op>(op), (word >> 20) & 15U, (word >> 16) & 15U, word & 15U, static_cast<std::int16_t>(word & 0xFFFFU)};
}

InstructionInfo infoOf(const Decoded& i, std::uint32_t at)
{
    InstructionInfo out;
    out.size = 4;
    out.flow = Flow::next;
    const std::uint32_t target = at + 4 + static_cast<std::uint32_t>(i.immediate) * 4;
    const auto reads = [&](std::initializer_list<std::size_t> list) {
        for (const std::size_t r : list)
            out.reads.set(r);
    };
    const auto writes = [&](std::initializer_list<std::size_t> list) {
        for (const std::size_t r : list)
            out.writes.set(r);
    };
    switch (i.op) {
    case Op::none: case Op::count: out.flow = Flow::none; break;
    case Op::nop: case Op::wfi: break;
    case Op::ldi: writes({i.d}); break;
    case Op::lui: reads({i.d}), writes({i.d}); break;
    case Op::addi: reads({i.a}), writes({i.d, kStatus}); break;
    case Op::add: case Op::sub: reads({i.a, i.b}), writes({i.d, kStatus}); break;
    case Op::ldw: reads({i.a}), writes({i.d}); break;
    case Op::stw: reads({i.a, i.d}), out.stores = true; break;
    case Op::beq: case Op::bne: reads({i.d, i.a}), out.flow = Flow::branch, out.target = target; break;
    case Op::jmp: out.flow = Flow::jump, out.target = target; break;
    case Op::call: writes({kLink}), out.flow = Flow::call, out.target = target; break;
    case Op::callr: reads({i.a}), writes({kLink}), out.flow = Flow::indirectCall; break;
    case Op::ret: reads({kLink}), out.flow = Flow::return_; break;
    case Op::eret: reads({kStack}), writes({kStack, kLink, kStatus}), out.flow = Flow::exceptionReturn; break;
    case Op::push: reads({i.d, kStack}), writes({kStack}), out.stores = true; break;
    case Op::pop: reads({kStack}), writes({kStack, i.d}); break;
    }
    return out;
}

class Toy final : public chip::Mcu, private circuit::PinListener {
public:
    Toy(const chip::McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, chip::McuObserver& observer)
        : options_(options), queue_(queue), circuit_(circuit), observer_(observer), clock_(options.clockHz != 0 ? options.clockHz : device().usualHz), flash_(kFlashBytes, 0xFF), ram_(kRamBytes, 0),
          volts_(options.supplyVolts), timers_{kernel::Alarm(queue, [this](Time) { timerDue(0); }), kernel::Alarm(queue, [this](Time) { timerDue(1); })}, dma_(queue, [this](Time) { dmaDue(); }),
          bit_(queue, [this](Time) { bitDue(); })
    {
        ports_ = {{"uart0", circuit::kNoPin, circuit::kNoPin}};
        pinIds_.fill(circuit::kNoPin);
        powered_ = volts_ > 1;
        powerOn();
    }

    // Wiring.
    bool attachPin(std::string_view pin, circuit::PinId id) override
    {
        if (pin == "TXD") {
            ports_[0].transmit = id;
            circuit_.drive(id, {volts_, kOutputOhms}, cause());
            return true;
        }
        if (pin == "RXD") {
            ports_[0].receive = id;
            return true;
        }
        if (pin.size() != 2 || pin[0] != 'P' || pin[1] < '0' || pin[1] >= static_cast<char>('0' + kPins))
            return false;
        pinIds_[static_cast<std::size_t>(pin[1] - '0')] = id;
        circuit_.setLimit(id, {0.02});
        circuit_.listen(id, *this, thresholds());
        return true;
    }
    [[nodiscard]] bool hasResetInput() const override { return true; }
    void setResetLine(bool high) override
    {
        if (high == resetLine_)
            return;
        resetLine_ = high;
        if (!high)
            reset(1);
        else
            cycle_ = std::max(cycle_, clock_.firstCycleAtOrAfter(queue_.now()).n);
    }
    void setSupply(double volts) override
    {
        if (volts == volts_)
            return;
        volts_ = volts;
        const bool on = volts > 1.5;
        if (on != powered_) {
            powered_ = on;
            powerOn();
            cycle_ = std::max(cycle_, clock_.firstCycleAtOrAfter(queue_.now()).n);
        }
        refreshPins();
    }
    [[nodiscard]] double supplyVolts() const override { return volts_; }
    [[nodiscard]] double supplySiemens() const override { return powered_ ? 1e-3 : 0; }
    [[nodiscard]] double chargeTaken() const override { return 0; }
    void refreshPins() override
    {
        for (std::uint32_t p = 0; p < kPins; ++p)
            if (pinIds_[p] != circuit::kNoPin) {
                circuit_.setThresholds(pinIds_[p], thresholds());
                drive(p);
            }
        if (ports_[0].transmit != circuit::kNoPin)
            circuit_.drive(ports_[0].transmit, {line_ ? volts_ : 0, kOutputOhms}, cause());
    }
    [[nodiscard]] std::optional<double> outputOhms(circuit::PinId pin) const override { return std::find(pinIds_.begin(), pinIds_.end(), pin) == pinIds_.end() ? std::nullopt : std::optional(kOutputOhms); }
    [[nodiscard]] std::optional<chip::AnalogReading> analogReading(circuit::PinId) const override { return std::nullopt; }
    [[nodiscard]] std::vector<chip::PinStatus> pins() const override
    {
        std::vector<chip::PinStatus> out;
        for (std::uint32_t p = 0; p < kPins; ++p) {
            chip::PinStatus s;
            s.name = fmt::format("P{}", p);
            s.output = ((dir_ >> p) & 1) != 0;
            s.latch = ((out_ >> p) & 1) != 0;
            s.level = level(p);
            s.floats = !s.output && pinIds_[p] != circuit::kNoPin && circuit_.stateOf(circuit_.netOf(pinIds_[p])) == circuit::NetState::floating;
            out.push_back(s);
        }
        return out;
    }
    [[nodiscard]] const std::vector<chip::SerialPort>& serialPorts() const override { return ports_; }
    [[nodiscard]] chip::SerialFormat serialFormat(std::size_t) const override
    {
        return {true, false, clock_.span(kCyclesOfABit), static_cast<double>(clock_.hz()) / static_cast<double>(kCyclesOfABit), 8, chip::SerialFormat::Parity::none, 1};
    }
    [[nodiscard]] std::uint32_t sentBy(std::size_t) const override { return sentBy_; }

    // Contents.
    void loadProgram(const chip::Firmware& firmware) override
    {
        std::fill(flash_.begin(), flash_.end(), std::uint8_t{0xFF});
        std::copy_n(firmware.flash.begin(), std::min(firmware.flash.size(), flash_.size()), flash_.begin());
    }
    [[nodiscard]] bool hasChangedProgram() const override { return false; }
    [[nodiscard]] std::span<const std::uint8_t> nonVolatile() const override { return {}; }
    [[nodiscard]] std::uint64_t nonVolatileRevision() const override { return 0; }
    void programNonVolatile(const std::vector<std::uint8_t>&) override {}
    void powerOn() override
    {
        ram_.fill(0);
        reset(0);
    }
    void startAt(Time t) override
    {
        cycle_ = 0;
        clock_.restart(t, {0}, clock_.hz());
    }

    // Running.
    void run(Time until) override { slices(until, nullptr); }
    void runAlone(Time until, const bool& stop) override { slices(until, &stop); }
    void stepInstruction(Time until) override
    {
        if (inReset() || faulted())
            return;
        if (due() != 0)
            enter(due());
        else if (sleeping_)
            sleepOn(std::max(cycle_, clock_.firstCycleAtOrAfter(std::min(until, queue_.nextDue())).n));
        else
            execute();
    }
    void yield() override { yields_ = true; }
    [[nodiscard]] bool liesStill() const override { return sleeping_ && due() == 0; }
    void sleepTo(Time until) override
    {
        if (sleeping_ && !inReset())
            sleepOn(std::max(cycle_, clock_.firstCycleAtOrAfter(until).n));
    }
    [[nodiscard]] Time now() const override { return clock_.timeOf({cycle_}); }
    [[nodiscard]] bool inReset() const override { return !resetLine_ || !powered_; }
    [[nodiscard]] bool faulted() const override { return !fault_.empty(); }
    [[nodiscard]] bool halted() const override { return sleeping_ && enabled_ == 0; }
    void stopWhenHalted(bool stop) override { stopAtHalt_ = stop; }
    [[nodiscard]] bool stopsWhenHalted() const override { return stopAtHalt_; }
    [[nodiscard]] const kernel::ClockDomain& clock() const override { return clock_; }
    [[nodiscard]] circuit::Cause cause() const override { return {options_.actor, current_}; }
    void setChangeListener(std::function<void(Time)> changed) override { changed_ = std::move(changed); }
    void countInto(chip::CycleCounts* counts) override
    {
        counts_ = counts;
        if (counts != nullptr) {
            counts->cycles.resize(kFlashBytes / 4);
            counts->times.resize(kFlashBytes / 4);
        }
    }
    void tellCodeTime(chip::CodeTime* to, kernel::Duration stretch) override
    {
        codeTime_ = to;
        stretch_ = stretch;
        if (to != nullptr) {
            to->begin(chip::CodeTime::kInReset, cycle_, stretchOfCodeTime());
            moved();
        }
    }
    [[nodiscard]] std::int64_t stretchOfCodeTime() const override { return std::max<std::int64_t>(static_cast<std::int64_t>(static_cast<double>(clock_.hz()) * kernel::seconds(stretch_)), 64); }
    [[nodiscard]] std::uint32_t codeSlot() const override { return pc() < kFlash ? UINT32_MAX : (pc() - kFlash) / 4; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(clock_, registers_, ram_, cycle_, instructions_, sleeping_, resetLine_, powered_, volts_, fault_, faultAt_, faultCycle_, lowest_, current_, enabled_, pending_, active_, out_, dir_, period_, running_, next_, dmaFrom_,
           dmaTo_, dmaLeft_, shift_, bits_, line_, sentBy_, since_, status_, timers_[0], timers_[1], dma_, bit_);
        if constexpr (Archive::kLoading) {
            stop_ = {};
            passedAt_ = -1;
        }
    }

    // DebugPort.
    [[nodiscard]] const chip::Device& device() const override { return toy::device(); }
    [[nodiscard]] std::int64_t cycles() const override { return cycle_; }
    [[nodiscard]] std::int64_t instructions() const override { return instructions_; }
    [[nodiscard]] std::uint32_t codeAddress() const override { return pc(); }
    [[nodiscard]] std::uint64_t stackPointer() const override { return registers_[kStack]; }
    [[nodiscard]] std::optional<std::uint64_t> lowestStack() const override { return lowest_ == UINT32_MAX ? std::nullopt : std::optional<std::uint64_t>(lowest_); }
    [[nodiscard]] bool isSleeping() const override { return sleeping_; }
    [[nodiscard]] bool exceptionPending() const override { return due() != 0; }
    [[nodiscard]] chip::ExceptionStatus exception(unsigned n) const override
    {
        const auto bit = [n](std::uint64_t set) { return ((set >> n) & 1) != 0; };
        return {bit(pending_), bit(enabled_), bit(pending_ & enabled_), status_[n].count, status_[n].worst, status_[n].total};
    }
    [[nodiscard]] std::optional<chip::FaultInfo> fault() const override { return fault_.empty() ? std::nullopt : std::optional(chip::FaultInfo{fault_, faultAt_, faultCycle_}); }
    [[nodiscard]] std::uint64_t readRegister(std::size_t i) const override { return i < kRegisters ? registers_[i] : 0; }
    void writeRegister(std::size_t i, std::uint64_t value) override
    {
        if (i < kRegisters)
            registers_[i] = static_cast<std::uint32_t>(value);
        if (i == kPc)
            moved();
    }
    [[nodiscard]] std::size_t read(chip::SpaceId, std::uint64_t at, std::span<std::uint8_t> out) const override
    {
        for (std::size_t i = 0; i < out.size(); ++i)
            out[i] = readData(at + i);
        return out.size();
    }
    [[nodiscard]] std::uint8_t readData(std::uint64_t at) const override
    {
        const auto a = static_cast<std::uint32_t>(at);
        if (a >= kPeripherals && a < kPeripherals + kPeripheralBytes)
            return static_cast<std::uint8_t>(peripheral(a & ~3U, cycle_) >> (8 * (a & 3U)));
        const std::uint8_t* byte = memory(a, 1);
        return byte == nullptr ? std::uint8_t{0} : *byte;
    }
    [[nodiscard]] std::uint8_t readDataAt(std::uint64_t at, Time when) const override
    {
        const auto a = static_cast<std::uint32_t>(at);
        return static_cast<std::uint8_t>(peripheral(a & ~3U, clock_.firstCycleAtOrAfter(when).n) >> (8 * (a & 3U)));
    }
    bool write(chip::SpaceId, std::uint64_t at, std::uint8_t value) override
    {
        const auto a = static_cast<std::uint32_t>(at);
        if (a >= kPeripherals && a < kPeripherals + kPeripheralBytes) {
            const unsigned shift = 8 * (a & 3U);
            setPeripheral(a & ~3U, (peripheral(a & ~3U, cycle_) & ~(0xFFU << shift)) | (std::uint32_t{value} << shift));
            return true;
        }
        if (a < kRam || a >= kRam + kRamBytes)
            return false;
        ram_.write(a - kRam, value);
        return true;
    }
    [[nodiscard]] chip::CodeView code() const override { return {flash_, kFlash}; }
    [[nodiscard]] InstructionInfo instructionAt(std::uint32_t at) const override
    {
        const std::uint8_t* word = memory(at, 4);
        return word == nullptr ? InstructionInfo{} : infoOf(decodeWord(wordOf(word)), at);
    }
    [[nodiscard]] std::optional<chip::MemoryAccess> nextAccess() const override
    {
        const std::uint8_t* word = memory(pc(), 4);
        const Decoded i = word == nullptr ? Decoded{} : decodeWord(wordOf(word));
        if (i.op != Op::ldw && i.op != Op::stw)
            return std::nullopt;
        return chip::MemoryAccess{registers_[i.a] + static_cast<std::uint32_t>(i.immediate), i.op == Op::stw};
    }
    void setBreakpoints(std::span<const std::uint32_t> addresses) override { breakpoints_ = {addresses.begin(), addresses.end()}; }
    void setWatchpoints(std::span<const chip::Watchpoint> watchpoints) override { watchpoints_ = {watchpoints.begin(), watchpoints.end()}; }
    void stopAtExceptions(const chip::ExceptionSet& which) override { exceptionStops_ = which; }
    void stopAtResets(bool stop) override { resetStops_ = stop; }
    [[nodiscard]] bool hasStopped() const override { return stop_.kind != chip::StopInfo::Kind::none; }
    [[nodiscard]] chip::StopInfo stopInfo() const override { return stop_; }
    void resume(bool passBreakpoint) override
    {
        stop_ = {};
        if (passBreakpoint)
            passedAt_ = instructions_;
    }

private:
    struct Served {
        std::int64_t count = 0, worst = 0, total = 0;
        template <class Archive>
        void state(Archive& ar)
        {
            ar(count, worst, total);
        }
    };

    [[nodiscard]] std::uint32_t pc() const { return registers_[kPc]; }
    static std::uint32_t wordOf(const std::uint8_t* at)
    {
        std::uint32_t word = 0;
        std::memcpy(&word, at, sizeof word);
        return word;
    }
    // Flash and RAM by address, within a page; null elsewhere.
    [[nodiscard]] const std::uint8_t* memory(std::uint32_t at, std::uint32_t bytes) const
    {
        if (at >= kFlash && at + bytes <= kFlash + kFlashBytes)
            return &flash_[at - kFlash];
        if (at >= kRam && at + bytes <= kRam + kRamBytes && (at - kRam) % kernel::PagedMemory::kPageBytes + bytes <= kernel::PagedMemory::kPageBytes)
            return ram_.page((at - kRam) / kernel::PagedMemory::kPageBytes) + (at - kRam) % kernel::PagedMemory::kPageBytes;
        return nullptr;
    }
    void putWord(std::uint32_t at, std::uint32_t value)
    {
        std::array<std::uint8_t, 4> bytes{};
        std::memcpy(bytes.data(), &value, sizeof value);
        ram_.write(at - kRam, bytes);
    }
    [[nodiscard]] circuit::Thresholds thresholds() const { return {0.3 * std::max(volts_, 1.0), 0.7 * std::max(volts_, 1.0)}; }
    void pinChanged(circuit::PinId, bool, Time) override {}
    [[nodiscard]] bool level(std::uint32_t p) const { return pinIds_[p] != circuit::kNoPin && circuit_.level(pinIds_[p]); }
    void drive(std::uint32_t p)
    {
        if (pinIds_[p] != circuit::kNoPin)
            circuit_.drive(pinIds_[p], ((dir_ >> p) & 1) != 0 ? circuit::Drive{((out_ >> p) & 1) != 0 ? volts_ : 0, kOutputOhms} : circuit::kFloating, cause());
    }

    void reset(unsigned cause)
    {
        registers_.fill(0);
        registers_[kPc] = wordOf(flash_.data());
        sleeping_ = false;
        enabled_ = pending_ = 0;
        active_.clear();
        out_ = dir_ = 0;
        running_ = {};
        dmaLeft_ = 0;
        bits_ = 0;
        line_ = true;
        fault_.clear();
        lowest_ = UINT32_MAX;
        for (kernel::Alarm* alarm : {&timers_[0], &timers_[1], &dma_, &bit_})
            alarm->disarm();
        refreshPins();
        if (resetStops_ && stop_.kind == chip::StopInfo::Kind::none && cause != 0)
            stop_ = {.kind = chip::StopInfo::Kind::reset, .code = pc()};
        if (counts_ != nullptr)
            counts_->forgetOpen();
        moved();
        observer_.resetTaken(cause, queue_.now());
        tell();
    }

    // The exception to be entered now, or 0: the most urgent of those that are pending and enabled, if it is more urgent than what runs.
    [[nodiscard]] unsigned due() const
    {
        unsigned best = 0;
        for (std::uint64_t left = pending_ & enabled_; left != 0; left &= left - 1)
            if (const auto n = static_cast<unsigned>(std::countr_zero(left)); best == 0 || priorityOf(n) > priorityOf(best))
                best = n;
        return best != 0 && priorityOf(best) > (registers_[kStatus] & kPriority) ? best : 0;
    }
    void pend(unsigned n)
    {
        if (((pending_ >> n) & 1) == 0)
            since_[n] = clock_.firstCycleAtOrAfter(queue_.now()).n;
        pending_ |= std::uint64_t{1} << n;
        yields_ = true;
        if (sleeping_ && due() != 0) {
            sleepTo(queue_.now());
            observer_.woken();
        }
    }

    void slices(Time until, const bool* stop)
    {
        yields_ = false;
        while (!inReset() && !faulted() && !hasStopped()) {
            const Time next = queue_.nextDue();
            if (cycle_ >= clock_.firstCycleAtOrAfter(std::min(until, next)).n) {
                if (stop == nullptr || next > until)
                    return;
                queue_.advanceTo(next);
                yields_ = false;
                if (*stop)
                    return;
                continue;
            }
            if (const unsigned n = due(); n != 0) {
                enter(n);
                continue;
            }
            if (sleeping_) {
                if (stopAtHalt_ && halted())
                    return;
                sleepOn(clock_.firstCycleAtOrAfter(std::min(until, next)).n);
                continue;
            }
            if (breakpoints_.contains(pc()) && passedAt_ != instructions_) {
                stop_ = {.kind = chip::StopInfo::Kind::breakpoint, .code = pc()};
                return;
            }
            execute();
            if (yields_ && stop == nullptr)
                return;
        }
    }
    void sleepOn(std::int64_t to)
    {
        if (counts_ != nullptr)
            counts_->asleep += to - cycle_;
        cycle_ = to;
    }

    void enter(unsigned n)
    {
        const std::int64_t began = cycle_;
        sleeping_ = false;
        const std::uint32_t sp = registers_[kStack] - 12;
        registers_[kStack] = sp;
        noteStack();
        if (sp >= kRam && sp + 12 <= kRam + kRamBytes) {
            putWord(sp, pc());
            putWord(sp + 4, registers_[kLink]);
            putWord(sp + 8, registers_[kStatus]);
        } else {
            return fail(fmt::format("the stack lies outside RAM, at 0x{:x}", sp));
        }
        pending_ &= ~(std::uint64_t{1} << n);
        active_.push_back(static_cast<std::uint8_t>(n));
        registers_[kStatus] = (registers_[kStatus] & ~kPriority) | priorityOf(n);
        registers_[kPc] = wordOf(&flash_[std::size_t{n} * 4]);
        cycle_ += kCyclesOfAnEntry;
        moved();
        Served& s = status_[n];
        const std::int64_t latency = cycle_ - since_[n];
        ++s.count;
        s.total += latency;
        s.worst = std::max(s.worst, latency);
        if (counts_ != nullptr) {
            counts_->entries += cycle_ - began;
            counts_->entered(n, cycle_);
        }
        if (exceptionStops_[n] && !hasStopped())
            stop_ = {.kind = chip::StopInfo::Kind::exception, .code = pc(), .exception = n};
        observer_.exceptionEntered(n, now());
        tell();
    }

    void fail(const std::string& what)
    {
        fault_ = what;
        faultAt_ = current_;
        faultCycle_ = cycle_;
    }
    void noteStack()
    {
        if (registers_[kStack] != 0)
            lowest_ = std::min(lowest_, registers_[kStack]);
    }
    void moved()
    {
        if (codeTime_ != nullptr)
            codeTime_->enter(sleeping_ ? chip::CodeTime::kAsleep : inReset() ? chip::CodeTime::kInReset : codeTime_->partAt(codeSlot()), cycle_);
    }
    void tell()
    {
        if (changed_)
            changed_(now());
    }

    void execute()
    {
        current_ = pc();
        const std::uint8_t* at = memory(pc(), 4);
        if (at == nullptr || (pc() & 3U) != 0)
            return fail(fmt::format("execution outside memory, at 0x{:04x}", pc()));
        const Decoded i = decodeWord(wordOf(at));
        auto& r = registers_;
        const std::int64_t began = cycle_;
        const std::size_t slot = codeSlot();
        const std::uint32_t after = pc() + 4, target = after + static_cast<std::uint32_t>(i.immediate) * 4;
        std::uint32_t next = after;
        std::int64_t cycles = 1;
        bool returned = false;
        const auto result = [&](std::uint32_t value) {
            r[i.d] = value;
            r[kStatus] = (r[kStatus] & kPriority) | (value == 0 ? kZero : 0) | ((value >> 31) != 0 ? kNegative : 0);
        };
        switch (i.op) {
        case Op::none: case Op::count: return fail(fmt::format("undefined instruction 0x{:08x}", wordOf(at)));
        case Op::nop: break;
        case Op::ldi: r[i.d] = static_cast<std::uint32_t>(i.immediate); break;
        case Op::lui: r[i.d] = (r[i.d] & 0xFFFFU) | static_cast<std::uint32_t>(i.immediate) << 16; break;
        case Op::addi: result(r[i.a] + static_cast<std::uint32_t>(i.immediate)); break;
        case Op::add: result(r[i.a] + r[i.b]); break;
        case Op::sub: result(r[i.a] - r[i.b]); break;
        case Op::ldw:
            cycles = 2;
            if (!loadWord(r[i.a] + static_cast<std::uint32_t>(i.immediate), r[i.d], began + cycles))
                return;
            break;
        case Op::stw:
            cycles = 2;
            if (!storeWord(r[i.a] + static_cast<std::uint32_t>(i.immediate), r[i.d], began + cycles))
                return;
            break;
        case Op::beq: case Op::bne:
            if ((r[i.d] == r[i.a]) == (i.op == Op::beq))
                next = target, cycles = 2;
            break;
        case Op::jmp: next = target, cycles = 2; break;
        case Op::call: r[kLink] = after, next = target, cycles = 3; break;
        case Op::callr: r[kLink] = after, next = r[i.a], cycles = 3; break;
        case Op::ret: next = r[kLink], cycles = 3; break;
        case Op::eret: {
            const std::uint8_t* frame = memory(r[kStack], 12);
            if (frame == nullptr || active_.empty())
                return fail("eret outside an exception");
            next = wordOf(frame);
            r[kLink] = wordOf(frame + 4);
            r[kStatus] = wordOf(frame + 8);
            r[kStack] += 12;
            cycles = 3;
            active_.pop_back();
            returned = true;
            break;
        }
        case Op::wfi: sleeping_ = true; break;
        case Op::push:
            cycles = 2;
            r[kStack] -= 4;
            noteStack();
            if (!storeWord(r[kStack], r[i.d], began + cycles))
                return;
            break;
        case Op::pop:
            cycles = 2;
            if (!loadWord(r[kStack], r[i.d], began + cycles))
                return;
            r[kStack] += 4;
            break;
        }
        r[kPc] = next;
        cycle_ = began + cycles;
        ++instructions_;
        if (counts_ != nullptr && slot < counts_->cycles.size()) {
            counts_->cycles[slot] += cycles;
            ++counts_->times[slot];
            counts_->stack.note(cycle_, r[kStack]);
        }
        moved();
        if (returned) {
            if (counts_ != nullptr)
                counts_->returned(cycle_);
            observer_.exceptionReturned(now());
        }
        current_ = pc();
    }

    void noteAccess(std::uint32_t at, std::uint32_t before, std::uint32_t value, bool write, const char* by)
    {
        if (hasStopped())
            return;
        for (const chip::Watchpoint& w : watchpoints_)
            if ((write ? w.writes : w.reads) && at < w.address + w.length && at + 4 > w.address) {
                stop_ = {.kind = chip::StopInfo::Kind::access, .code = current_, .address = std::max<std::uint64_t>(at, w.address), .before = before, .value = value, .write = write, .by = by};
                return;
            }
    }
    bool loadWord(std::uint32_t at, std::uint32_t& into, std::int64_t cycle)
    {
        if (at >= kPeripherals && at < kPeripherals + kPeripheralBytes && (at & 3U) == 0) {
            queue_.advanceTo(clock_.timeOf({cycle}));
            if (at == kIn)
                lookForDoubt();
            into = peripheral(at, cycle);
            tell();
        } else if (const std::uint8_t* from = memory(at, 4); from != nullptr) {
            into = wordOf(from);
        } else {
            fail(fmt::format("access outside memory, at 0x{:04x}", at));
            return false;
        }
        noteAccess(at, into, into, false, "");
        return true;
    }
    bool storeWord(std::uint32_t at, std::uint32_t value, std::int64_t cycle)
    {
        std::uint32_t before = 0;
        if (at >= kPeripherals && at < kPeripherals + kPeripheralBytes && (at & 3U) == 0) {
            queue_.advanceTo(clock_.timeOf({cycle}));
            before = peripheral(at, cycle);
            setPeripheral(at, value);
            tell();
        } else if (at >= kRam && at + 4 <= kRam + kRamBytes) {
            const std::uint8_t* old = memory(at, 4);
            before = old == nullptr ? 0 : wordOf(old);
            putWord(at, value);
        } else {
            fail(fmt::format("access outside memory, at 0x{:04x}", at));
            return false;
        }
        noteAccess(at, before, value, true, "");
        return true;
    }
    void lookForDoubt()
    {
        for (std::uint32_t p = 0; p < kPins; ++p)
            if (pinIds_[p] != circuit::kNoPin && ((dir_ >> p) & 1) == 0 && circuit_.stateOf(circuit_.netOf(pinIds_[p])) == circuit::NetState::floating)
                observer_.uncertainRead(pinIds_[p], true, thresholds());
    }

    // Peripherals.
    [[nodiscard]] std::uint32_t peripheral(std::uint32_t at, std::int64_t /*cycle*/) const
    {
        switch (at) {
        case kOut: return out_;
        case kDir: return dir_;
        case kIn: {
            std::uint32_t value = 0;
            for (std::uint32_t p = 0; p < kPins; ++p)
                value |= (level(p) ? 1U : 0U) << p;
            return value;
        }
        case kTimerAPeriod: return period_[0];
        case kTimerBPeriod: return period_[1];
        case kTimerARun: return running_[0];
        case kTimerBRun: return running_[1];
        case kDmaFrom: return dmaFrom_;
        case kDmaTo: return dmaTo_;
        case kDmaCount: return dmaLeft_;
        case kEnable: return static_cast<std::uint32_t>(enabled_);
        case kEnableHigh: return static_cast<std::uint32_t>(enabled_ >> 32);
        case kPend: return static_cast<std::uint32_t>(pending_);
        case kPendHigh: return static_cast<std::uint32_t>(pending_ >> 32);
        case kSending: return bits_ > 0 || bit_.armed() ? 1 : 0;
        default: return 0;
        }
    }
    void setPeripheral(std::uint32_t at, std::uint32_t value)
    {
        const auto timer = [&](std::size_t t) {
            running_[t] = value & 1U;
            if (running_[t] == 0 || period_[t] == 0)
                return timers_[t].disarm();
            next_[t] = clock_.firstCycleAtOrAfter(queue_.now()).n + period_[t];
            timers_[t].arm(clock_.timeOf({next_[t]}));
        };
        switch (at) {
        case kOut: case kDir: {
            std::uint32_t& which = at == kOut ? out_ : dir_;
            const std::uint32_t changed = which ^ value;
            which = value;
            for (std::uint32_t p = 0; p < kPins; ++p)
                if (((changed >> p) & 1) != 0)
                    drive(p);
            break;
        }
        case kTimerAPeriod: period_[0] = value; break;
        case kTimerBPeriod: period_[1] = value; break;
        case kTimerARun: timer(0); break;
        case kTimerBRun: timer(1); break;
        case kDmaFrom: dmaFrom_ = value; break;
        case kDmaTo: dmaTo_ = value; break;
        case kDmaCount: dmaLeft_ = value; break;
        case kDmaGo:
            if (dmaLeft_ > 0)
                dma_.arm(queue_.now() + clock_.span(kCyclesOfADmaWord));
            break;
        case kEnable: enabled_ = (enabled_ & ~std::uint64_t{0xFFFFFFFF}) | value; break;
        case kEnableHigh: enabled_ = (enabled_ & 0xFFFFFFFFU) | std::uint64_t{value} << 32; break;
        case kPend: case kPendHigh:
            for (std::uint32_t left = value; left != 0; left &= left - 1)
                if (const unsigned n = static_cast<unsigned>(std::countr_zero(left)) + (at == kPend ? 0 : 32); n > 0 && n < kExceptions)
                    pend(n);
            break;
        case kSend:
            if (bits_ == 0 && !bit_.armed()) {
                shift_ = (value & 0xFFU) << 1 | 0x200;  // start bit, byte, stop bit
                bits_ = 10;
                sentBy_ = current_;
                bitDue();
            }
            break;
        default: break;
        }
    }
    void timerDue(std::size_t t)
    {
        next_[t] += period_[t];
        timers_[t].arm(clock_.timeOf({next_[t]}));
        pend(t == 0 ? kTimerA : kTimerB);
    }
    void dmaDue()
    {
        const std::uint8_t* from = memory(dmaFrom_, 4);
        const std::uint8_t* to = memory(dmaTo_, 4);
        if (from != nullptr && to != nullptr && dmaTo_ >= kRam) {
            const std::uint32_t before = wordOf(to), value = wordOf(from);
            putWord(dmaTo_, value);
            noteAccess(dmaTo_, before, value, true, "DMA");
            yields_ = yields_ || hasStopped();
        }
        dmaFrom_ += 4;
        dmaTo_ += 4;
        if (--dmaLeft_ > 0)
            dma_.arm(queue_.now() + clock_.span(kCyclesOfADmaWord));
        else
            pend(kDma);
    }
    void bitDue()
    {
        if (bits_ == 0)
            return;
        line_ = (shift_ & 1) != 0;
        shift_ >>= 1;
        if (ports_[0].transmit != circuit::kNoPin)
            circuit_.drive(ports_[0].transmit, {line_ ? volts_ : 0, kOutputOhms}, {options_.actor, sentBy_});
        --bits_;
        bit_.arm(queue_.now() + clock_.span(kCyclesOfABit));
    }

    const chip::McuOptions options_;
    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    chip::McuObserver& observer_;
    kernel::ClockDomain clock_;
    std::array<std::uint32_t, kRegisters> registers_{};
    std::vector<std::uint8_t> flash_;
    kernel::PagedMemory ram_;
    std::int64_t cycle_ = 0, instructions_ = 0;
    bool sleeping_ = false, resetLine_ = true, powered_ = true, yields_ = false, stopAtHalt_ = false;
    double volts_ = 5;
    std::string fault_;
    std::uint32_t faultAt_ = 0;
    std::int64_t faultCycle_ = 0;
    std::uint32_t lowest_ = UINT32_MAX, current_ = 0;
    std::uint64_t enabled_ = 0, pending_ = 0;
    std::vector<std::uint8_t> active_;
    std::uint32_t out_ = 0, dir_ = 0;
    std::array<std::uint32_t, 2> period_{}, running_{};
    std::array<std::int64_t, 2> next_{};
    std::uint32_t dmaFrom_ = 0, dmaTo_ = 0, dmaLeft_ = 0, shift_ = 0, bits_ = 0;
    bool line_ = true;
    std::uint32_t sentBy_ = UINT32_MAX;
    std::array<std::int64_t, kExceptions> since_{};
    std::array<Served, kExceptions> status_{};
    std::array<circuit::PinId, kPins> pinIds_{};
    std::vector<chip::SerialPort> ports_;
    std::array<kernel::Alarm, 2> timers_;
    kernel::Alarm dma_, bit_;

    std::set<std::uint32_t> breakpoints_;
    std::vector<chip::Watchpoint> watchpoints_;
    chip::ExceptionSet exceptionStops_;
    bool resetStops_ = false;
    chip::StopInfo stop_;
    std::int64_t passedAt_ = -1;
    std::function<void(Time)> changed_;
    chip::CycleCounts* counts_ = nullptr;
    chip::CodeTime* codeTime_ = nullptr;
    kernel::Duration stretch_ = kUsualStretch;
};

chip::Device make()
{
    chip::Device d;
    d.family = "toy";
    d.behaviour = &family();
    d.id = "toy32";
    d.title = "Toy32";
    d.about = "a chip of tests";
    d.debuggerArchitecture = "toy";
    d.spaces = {{"memory", "Memory"}};
    d.regions = {{"flash", 0, chip::RegionKind::flash, kFlash, kFlashBytes, 256, kFlash}, {"RAM", 0, chip::RegionKind::ram, kRam, kRamBytes, 0, kRam}};
    for (int r = 0; r < 10; ++r)
        d.coreRegisters.push_back({fmt::format("r{}", r), 32, chip::CoreRole::general, r, r});
    d.coreRegisters.push_back({"lr", 32, chip::CoreRole::link, static_cast<int>(kLink), static_cast<int>(kLink)});
    d.coreRegisters.push_back({"sp", 32, chip::CoreRole::stackPointer, static_cast<int>(kStack), static_cast<int>(kStack)});
    d.coreRegisters.push_back({"pc", 32, chip::CoreRole::programCounter, static_cast<int>(kPc), static_cast<int>(kPc)});
    d.coreRegisters.push_back({"status", 8, chip::CoreRole::status, -1, static_cast<int>(kStatus), "ZN"});
    for (unsigned n = 0; n < kExceptions; ++n)
        d.exceptions.push_back({n, n == 0 ? "RESET" : n == kTimerA ? "TIMER_A" : n == kTimerB ? "TIMER_B" : n == kDma ? "DMA" : fmt::format("LINE{}", n), fmt::format("handler_{}", n), kFlash + 4 * n});
    d.ramBegin = kRam;
    d.ramEnd = kRam + kRamBytes - 1;
    d.codeBegin = kFlash;
    d.codeEnd = kFlash + kFlashBytes;
    d.codeStep = d.longestInstruction = 4;
    d.storeBytes = 4;
    d.makeRegisters = [](const chip::Device&) {
    chip::PeripheralGroup port{"Port", {}, kPeripherals, {}, {}};
    for (const auto& [name, at] : std::initializer_list<std::pair<const char*, std::uint32_t>>{{"OUT", kOut}, {"DIR", kDir}, {"IN", kIn}}) {
        chip::PeripheralRegister reg;
        reg.name = name;
        reg.address = at;
        port.registers.push_back(reg);
    }
    chip::RegisterMap map;
    map.peripherals.push_back(std::move(port));
    return map;
    };
    const std::vector<std::string> names{"VCC", "GND", "RESET", "P0", "P1", "P2", "P3", "P4", "P5", "P6", "P7", "TXD", "RXD"};
    for (unsigned n = 0; n < names.size(); ++n)
        d.package.push_back({n + 1, names[n], n == 0 ? "supply" : n == 1 ? "ground" : n == 2 ? "reset" : "port"});
    d.usualHz = 10'000'000;
    d.highestVolts = 5.5;
    d.resetInput = chip::ResetInput{};
    d.leastPullUpOhms = 30e3;
    d.mostPullUpOhms = 50e3;
    d.image.machine = "Toy";
    d.image.compiler = "the tests' assembler";
    d.image.ranges = {{kFlash, kFlash + kFlashBytes, chip::ImageMap::Range::Into::program}};
    d.image.programBytes = kFlashBytes;
    return d;
}

InstructionInfo decodeAt(const chip::Device&, const chip::CodeView& code, std::uint32_t address)
{
    if (address < code.begin || address - code.begin + 4 > code.bytes.size())
        return {};
    std::uint32_t word = 0;
    std::memcpy(&word, &code.bytes[address - code.begin], sizeof word);
    return infoOf(decodeWord(word), address);
}

}  // namespace

const chip::Device& device()
{
    static const chip::Device it = make();
    return it;
}

const chip::Family& family()
{
    static const chip::Family all{
        .name = "toy",
        .devices = [] {
            static const std::array<const chip::Device*, 1> list{&device()};
            return std::span<const chip::Device* const>(list);
        },
        .make = [](const chip::Device&, const chip::McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, chip::McuObserver& observer) -> std::unique_ptr<chip::Mcu> { return std::make_unique<Toy>(options, queue, circuit, observer); },
        .optionValue = [](const chip::Device&, const chip::OptionBytes&, std::string_view) { return 0U; },
        .setOption = [](const chip::Device&, chip::OptionBytes&, std::string_view name, std::string_view) -> kernel::Result<void> { return kernel::fail(std::string(name), "is no option of this chip"); },
        .loadFirmware = [](const std::string& file, const chip::Device& d) { return chip::readImage(file, d); },
        .isPortPin = [](const chip::Device&, std::string_view pin) { return pin.size() == 2 && pin[0] == 'P'; },
        .decode = decodeAt,
    };
    return all;
}

void install()
{
    static const bool once = [] {
        chip::addFamily(family());
        debug::addArchitecture(architecture());
        return true;
    }();
    (void)once;
}

const std::vector<std::uint32_t>& Assembler::words()
{
    for (const auto& [index, name] : open_) {
        const std::uint32_t from = begin_ + 4 * static_cast<std::uint32_t>(index) + 4;
        words_[index] = (words_[index] & 0xFFFF0000U) | (((at(name) - from) / 4) & 0xFFFFU);
    }
    open_.clear();
    return words_;
}

std::vector<std::uint8_t> image(Assembler& code, const std::map<unsigned, std::string>& handlers)
{
    std::vector<std::uint32_t> words(kExceptions);
    words[0] = code.at("main");
    for (const auto& [n, name] : handlers)
        words[n] = code.at(name);
    words.insert(words.end(), code.words().begin(), code.words().end());
    std::vector<std::uint8_t> out(words.size() * 4);
    std::memcpy(out.data(), words.data(), out.size());
    return out;
}

}  // namespace bramix::toy
