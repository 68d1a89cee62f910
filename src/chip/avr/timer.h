// A timer/counter with two compare units, 8 or 16 bits wide (ATmega328P datasheet ch. 15 "8-bit Timer/Counter0", 16 "16-bit
// Timer/Counter1", 18 "8-bit Timer/Counter2"). All waveform modes of these units.
//
// Lazy: the count is brought up to the present when somebody looks, in steps from one point to the next at which something
// happens (a match, the top, the bottom). An alarm is set only for a tick that raises an enabled interrupt or moves a pin.
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
// Invariant: alarm_ is due at the earliest tick that anybody could notice, or is idle.
// Tested by tests/chip/avr/timer_test.cpp.
#pragma once

#include <array>

#include "chip/avr/peripheral.h"
#include "chip/avr/ports.h"

namespace bramix::chip::avr {

// The prescaler that several timers share: a free-running counter, which a reset puts back to zero.
struct Prescaler {
    std::int64_t zeroCycle = 0;  // cycle at which it last counted from zero
    bool held = false;           // GTCCR.TSM with PSR set

    template <class Archive>
    void state(Archive& ar)
    {
        ar(zeroCycle, held);
    }
};

class Timer final : public StatefulPeripheral<Timer> {
public:
    Timer(const TimerRow& row, ChipServices& chip, Prescaler& prescaler);

    [[nodiscard]] const TimerRow& row() const { return row_; }

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void clockStopped(std::int64_t cycle) override;
    void clockStarted(std::int64_t cycle) override;

    // Brackets a change of the prescaler: bring the count up to before it, take up the new phase after it.
    void beforePrescalerChange(std::int64_t cycle) { sync(cycle); }
    void afterPrescalerChange(std::int64_t cycle) { rebase(cycle); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(counter_, ocr_, ocrBuffer_, icr_, tccra_, tccrb_, timsk_, flags_, temp_, lastTick_, frozen_, outputs_, alarm_);
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

    // What one tick does, by the count before it.
    enum Event : unsigned { kMatchA = 1, kMatchB = 2, kAtTop = 4, kAtMax = 8, kAtBottom = 16, kTurned = 32 };

    struct Counter {
        std::uint32_t count = 0;
        bool down = false;
        bool blocked = false;  // TCNT has just been written: no match in the next tick

        template <class Archive>
        void state(Archive& ar)
        {
            ar(count, down, blocked);
        }
    };

    // Bits of TIMSKn and TIFRn.
    static constexpr std::uint8_t kOverflow = 1, kCompareA = 2, kCompareB = 4, kCapture = 32;

    [[nodiscard]] const Mode& mode() const;
    [[nodiscard]] std::uint32_t max() const { return row_.width == 16 ? 0xFFFF : 0xFF; }
    [[nodiscard]] std::uint32_t top() const;
    [[nodiscard]] bool dualSlope() const { return mode().shape == Shape::phase || mode().shape == Shape::phaseFrequency; }
    [[nodiscard]] bool buffered() const { return mode().shape == Shape::fast || dualSlope(); }
    [[nodiscard]] unsigned com(unsigned unit) const { return (tccra_ >> (6 - 2 * unit)) & 3; }
    [[nodiscard]] unsigned divisor() const;
    [[nodiscard]] std::int64_t tickAt(std::int64_t cycle) const;
    [[nodiscard]] bool connected(unsigned unit) const;

    [[nodiscard]] std::int64_t ticksToPoint(const Counter& c) const;
    [[nodiscard]] unsigned tick(Counter& c) const;
    void actOn(unsigned events);
    void matchOutput(unsigned unit, bool bottom, bool down);
    [[nodiscard]] unsigned noticed() const;

    void sync(std::int64_t cycle);
    void advance(std::int64_t ticks);
    void rebase(std::int64_t cycle);
    void schedule();
    void updateInterrupts();
    void updatePins();
    void loadBuffers();
    void writeCompare(unsigned unit, std::uint16_t value);
    void forceCompare(std::uint8_t bits);
    std::uint16_t readWord(std::uint16_t lowAddress);

    const TimerRow& row_;
    ChipServices& chip_;
    Prescaler& prescaler_;
    kernel::Alarm alarm_;

    Counter counter_;
    std::array<std::uint16_t, 2> ocr_{};
    std::array<std::uint16_t, 2> ocrBuffer_{};
    std::uint16_t icr_ = 0;
    std::uint8_t tccra_ = 0, tccrb_ = 0, timsk_ = 0, flags_ = 0;
    std::uint8_t temp_ = 0;  // high byte of a 16-bit access in flight
    std::array<bool, 2> outputs_{};
    std::int64_t lastTick_ = 0;  // index of the prescaled tick up to which the count stands
    bool frozen_ = false;
};

}  // namespace bramix::chip::avr
