// A timer/counter with up to three compare units, 8 or 16 bits wide (ATmega328P datasheet ch. 15 "8-bit Timer/Counter0", 16 "16-bit
// Timer/Counter1", 18 "8-bit Timer/Counter2"; ATmega2560 ch. 16, 17, 20; ATmega32 "Timer/Counter0" to "2"). All waveform modes, input
// capture with noise canceller, external clock, and the asynchronous operation of Timer2.
//
// Lazy: the count is brought up to the present when somebody looks, in steps from one point to the next at which something
// happens (a match, the top, the bottom). An alarm is set only for a tick that raises an enabled interrupt, moves a pin or starts a conversion.
//
// One timer clock, as the timing diagrams 15-8 to 15-11 draw it: a tick acts on the count before it. Where that count equals
// OCRnx, the tick sets OCFnx and works the compare output; where it equals TOP, the tick wraps or turns the count.
// In the dual-slope modes the compare output follows the direction after the tick, so OCR = TOP holds the pin high and OCR = BOTTOM low.
//
//   shape        output x, COM = 1      COM = 2                           COM = 3
//   normal, CTC  toggle on match        clear on match                    set on match
//   fast         toggle (A, TOP=OCRA)   clear on match, set at bottom     the reverse
//   phase        toggle (A, TOP=OCRA)   clear going up, set going down    the reverse
//
// Writes take effect at the clock edge that ends the instruction, and win over a count at the same edge; a write to TCNT blocks a compare
// match in the timer clock after it.
//
// Ticks are numbered from the prescaler's zero. Its source is the system clock, or for an asynchronous Timer2 the crystal on TOSC; on an
// external clock pin each edge is one tick, two and a half to three and a half cycles after it (15.0, "External Clock Source").
// Asynchronous writes are latched at the second rising edge of the crystal after them, and the busy flag stands until then (18.9).
//
// Invariant: alarm_ is due at the earliest tick that anybody could notice, or is idle.
// Tested by tests/chip/avr/peripherals/timer_test.cpp and tests/chip/avr/peripherals/timer_clock_test.cpp.
#pragma once

#include <array>
#include <deque>

#include <optional>

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

// The prescaler that several timers share: a free-running counter, which a reset puts back to zero.
struct Prescaler {
    std::int64_t zeroCycle = 0;  // cycle of its source at which it last counted from zero
    bool held = false;           // GTCCR.TSM with PSR set

    template <class Archive>
    void state(Archive& ar)
    {
        ar(zeroCycle, held);
    }
};

inline constexpr std::uint64_t kWatchCrystalHz = 32'768;

class Timer final : public StatefulPeripheral<Timer>, public PinWatcher {
public:
    Timer(const TimerRow& row, ChipServices& chip, Prescaler& prescaler);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    std::uint8_t peek(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    [[nodiscard]] Sleep runsIn() const override { return asynchronous() ? Sleep::powerSave : Sleep::idle; }
    void clockStopped(std::int64_t cycle) override;
    void clockStarted(std::int64_t cycle) override;
    void clockChanged(std::int64_t /*cycle*/) override { schedule(); }
    void awaitedChanged() override { schedule(); }
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;

    // The analog comparator in place of the capture pin (ACSR.ACIC).
    void comparatorChanged(bool level, kernel::Time at);

    // Brackets a change of the prescaler: bring the count up to before it, take up the new phase after it.
    void beforePrescalerChange(std::int64_t cycle) { sync(cycle); }
    void afterPrescalerChange(std::int64_t cycle) { rebase(cycle); }

    [[nodiscard]] bool asynchronous() const { return chip_.is(as2_); }
    // The present cycle of the prescaler's source.
    [[nodiscard]] std::int64_t sourceCycle(std::int64_t cycle) const;

    // The byte address of the code that last wrote the compare register of the unit which has this pin; nothing where none has.
    [[nodiscard]] std::optional<std::uint32_t> compareSetBy(PortPin pin) const
    {
        for (unsigned u = 0; u < unitCount_; ++u)
            if (connected(u) && units_[u].pin == pin && setBy_[u] != kNobody)
                return setBy_[u] * 2;
        return std::nullopt;
    }

    // Told of every compare match A, where somebody has asked (the USI's clock).
    std::function<void()> onMatchA;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(counter_, ocr_, ocrBuffer_, icr_, temp_, lastTick_, outputs_, edges_, captures_, latches_, alarm_, edgeAlarm_, captureAlarm_, latchAlarm_, setBy_);
        if constexpr (Archive::kLoading) {
            takeMode();
            told_ = kNothingTold;
            forgetPlans();
        }
    }

private:
    enum class Shape : std::uint8_t { normal, ctc, fast, phase, phaseFrequency, reserved };
    enum class Top : std::uint8_t { fixed, ocra, icr };

    struct Mode {
        Shape shape = Shape::normal;
        Top top = Top::fixed;
        std::uint16_t fixedTop = 0xFF;
        bool toggleA = false;  // COMnA = 1 toggles in a PWM mode
    };

    static const std::array<Mode, 8> kModes8;
    static const std::array<Mode, 16> kModes16;
    static constexpr std::size_t kMostUnits = 3;

    // What one tick does, by the count before it.
    enum Event : unsigned { kMatchA = 1, kMatchB = 2, kMatchC = 4, kAtTop = 8, kAtMax = 16, kAtBottom = 32, kTurned = 64 };

    struct Counter {
        std::uint32_t count = 0;
        bool down = false;
        bool blocked = false;  // TCNT has just been written: no match in the next tick

        constexpr bool operator==(const Counter&) const = default;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(count, down, blocked);
        }
    };

    // What the counter comes by from one place until something happens that somebody outside would notice. It comes to the same places in each of its
    // cycles, so the last few are kept until a register changes.
    struct Plan {
        static constexpr unsigned kMostSteps = 4;
        Counter from;
        unsigned wanted = 0;     // the events that somebody would notice; 0: there is no plan here
        std::int64_t ticks = 0;  // until the last step has been done
        unsigned steps = 0;
        std::array<unsigned, kMostSteps> events{};
        std::array<Counter, kMostSteps> after{};
    };

    // One compare unit as the chip's registers have it.
    struct Unit {
        std::uint16_t ocr = 0;  // the low byte
        BitRef com1, com0, force;
        InterruptSource match;
        PortPin pin;
        Override lane = Override::compareA;
    };

    // A change of the capture input on its way.
    struct Capture {
        kernel::Time at{};
        bool level = false;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(at, level);
        }
    };

    // A write to an asynchronous register that waits for the crystal.
    struct Latch {
        kernel::Time at{};
        std::uint16_t address = 0;
        std::uint8_t value = 0;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(at, address, value);
        }
    };

    void takeMode();
    [[nodiscard]] const Mode& mode() const { return *mode_; }
    [[nodiscard]] std::uint32_t max() const { return row_.width == 16 ? 0xFFFF : 0xFF; }
    [[nodiscard]] std::uint32_t top() const;
    [[nodiscard]] bool dualSlope() const { return mode().shape == Shape::phase || mode().shape == Shape::phaseFrequency; }
    [[nodiscard]] bool buffered() const { return mode().shape == Shape::fast || dualSlope(); }
    [[nodiscard]] unsigned com(unsigned unit) const { return com_[unit]; }
    [[nodiscard]] bool externalClock() const { return row_.prescale == Prescale::external && clockSelect_ >= 6; }
    [[nodiscard]] unsigned divisor() const;
    [[nodiscard]] std::int64_t tickAt(std::int64_t cycle) const;
    [[nodiscard]] kernel::Time timeOfTick(std::int64_t tick) const;
    [[nodiscard]] bool connected(unsigned unit) const { return connected_[unit]; }
    void takeConnections();
    [[nodiscard]] bool awaits(const InterruptSource& s) const { return !chip_.is(s.flag) && (chip_.is(s.enable) || chip_.awaited(s.vector)); }

    [[nodiscard]] std::int64_t ticksToPoint(const Counter& c) const;
    [[nodiscard]] unsigned tick(Counter& c) const;
    void actOn(unsigned events);
    void matchOutput(unsigned unit, bool bottom, bool down);
    [[nodiscard]] unsigned noticed() const;

    void ring(kernel::Time due);
    void armFor(const Plan& plan);
    void forgetPlans();
    void sync(std::int64_t cycle);
    void advance(std::int64_t ticks);
    void rebase(std::int64_t cycle);
    void schedule();
    void updateInterrupts();
    void updatePins();
    void loadBuffers();
    void forceCompare(std::uint16_t address, std::uint8_t value);
    [[nodiscard]] std::uint16_t readWord(std::uint16_t lowAddress) const;
    void apply(std::uint16_t address, std::uint8_t value, std::int64_t cycle);
    bool latchLater(std::uint16_t address, std::uint8_t value, std::int64_t cycle);
    [[nodiscard]] BitRef busyBit(std::uint16_t address) const;
    void latch(kernel::Time now);
    void writeAssr(std::uint8_t value, std::int64_t cycle);

    void countEdge(kernel::Time due);
    void inputChanged(bool level, kernel::Time at);
    void captureDue(kernel::Time due);

    const TimerRow& row_;
    Prescaler& prescaler_;
    kernel::ClockDomain watch_{kWatchCrystalHz};
    kernel::Alarm alarm_;
    kernel::Alarm edgeAlarm_;
    kernel::Alarm captureAlarm_;
    kernel::Alarm latchAlarm_;

    unsigned unitCount_ = 0;
    std::array<Unit, kMostUnits> units_{};
    InterruptSource overflow_, capture_;
    std::uint16_t tcnt_ = 0, icrAt_ = 0, timsk_ = 0, tifr_ = 0, assr_ = 0;
    std::array<BitRef, 4> wgm_{};
    std::array<BitRef, 3> cs_{};
    BitRef noiseCanceller_, captureEdge_, as2_, fromComparator_;
    PortPin clockPin_, capturePin_;
    std::uint8_t flagMask_ = 0, enableMask_ = 0;
    static constexpr unsigned kNothingTold = ~0U;
    unsigned told_ = kNothingTold;  // flags and enable bits at the last updateInterrupts()
    // What the control registers say, taken from them at each write.
    const Mode* mode_ = nullptr;
    unsigned clockSelect_ = 0;
    std::array<std::uint8_t, kMostUnits> com_{};
    std::array<bool, kMostUnits> connected_{};
    std::array<Plan, 4> plans_{};
    std::size_t nextPlan_ = 0;       // the place of the next new one
    const Plan* armed_ = nullptr;    // whose end alarm_ is armed for, where that is known
    std::int64_t armedAt_ = 0;       // lastTick_ then

    Counter counter_;
    std::array<std::uint16_t, kMostUnits> ocr_{};
    std::array<std::uint16_t, kMostUnits> ocrBuffer_{};
    std::uint16_t icr_ = 0;
    std::uint8_t temp_ = 0;  // high byte of a 16-bit access in flight
    std::array<bool, kMostUnits> outputs_{};
    static constexpr std::uint32_t kNobody = UINT32_MAX;
    std::array<std::uint32_t, kMostUnits> setBy_{kNobody, kNobody, kNobody};  // word address of the code that wrote the compare register last
    std::int64_t lastTick_ = 0;  // index of the prescaled tick up to which the count stands
    std::deque<kernel::Time> edges_;   // of the external clock, on their way through the synchroniser
    std::deque<Capture> captures_;
    std::deque<Latch> latches_;
};

}  // namespace bramix::chip::avr
