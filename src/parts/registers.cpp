#include "parts/registers.h"

#include <array>

#include <fmt/format.h>

#include "parts/logic.h"

namespace bramix::parts {

namespace {

using kernel::Time;
using namespace std::chrono_literals;

constexpr LogicFamily kHc{.leastVolts = 2.0, .mostVolts = 7.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 40};
constexpr LogicFamily k4000{.leastVolts = 3.0, .mostVolts = 20.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 60};
constexpr auto kDelay = 15ns;      // clock to output
constexpr auto k4511Delay = 500ns; // data to segments

// Outputs follow a moment after what changed them, so that registers in a chain take what stood before the clock.
template <class Self>
class Delayed : public LogicPart {
protected:
    Delayed(PartContext& context, const LogicFamily& family, kernel::Duration delay)
        : LogicPart(context, family), delay_(delay), alarm_(context.queue, [this](Time) { static_cast<Self*>(this)->show(); })
    {
    }
    void later(Time at) { alarm_.arm(at + delay_); }
    kernel::Duration delay_;
    kernel::Alarm alarm_;
};

class ShiftOut final : public Delayed<ShiftOut> {
public:
    explicit ShiftOut(PartContext& context) : Delayed(context, kHc, kDelay)
    {
        for (const char* pin : {"SER", "SRCLK", "RCLK", "OE", "SRCLR"})
            addInput(context, pin);
        for (const char* pin : {"QA", "QB", "QC", "QD", "QE", "QF", "QG", "QH", "QH'"}) {
            const auto out = addOutput(context, pin);
            circuit_.setLimit(outputPin(out), {0.035}, circuit::Circuit::kNoGroup);
        }
    }
    void show()
    {
        const circuit::Circuit::Batch together(circuit_);
        for (std::size_t i = 0; i < 8; ++i)
            level(kOe) ? release(i) : drive(i, (latch_ >> i & 1) != 0);
        drive(8, (shift_ >> 7 & 1) != 0);
    }
    [[nodiscard]] std::string face() const override
    {
        std::string out;
        for (int i = 7; i >= 0; --i)
            out += on() ? ((latch_ >> i & 1) != 0 ? '1' : '0') : '-';
        return out;
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum Input : std::size_t { kSer, kSrclk, kRclk, kOe, kSrclr };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(shift_, before_, shiftedAt_, latch_, alarm_);
    }
    [[nodiscard]] std::string whyOutput(std::size_t output) const override
    {
        if (output == 8)
            return fmt::format("bit 7 of what has been shifted in, 0x{:02X}", shift_);
        return level(kOe) ? "OE is high: its outputs let go" : fmt::format("bit {} of what RCLK has stored, 0x{:02X}", output, latch_);
    }
    void powered(bool on) override
    {
        // Comes up with whatever; here with the pattern that a person notices.
        shift_ = latch_ = on ? 0xA5 : 0;
        if (on)
            later(queue_.now());
    }
    void inputChanged(std::size_t input, bool high, Time at) override
    {
        if (input == kSrclk && high && level(kSrclr)) {
            before_ = shift_;
            shiftedAt_ = at;
            shift_ = static_cast<std::uint8_t>(shift_ << 1 | (level(kSer) ? 1 : 0));
        } else if (input == kSrclr && !high) {
            shift_ = 0;
        } else if (input == kRclk && high) {
            // With both clocks on one wire the storage is a step behind.
            latch_ = at == shiftedAt_ ? before_ : shift_;
        } else if (input != kOe) {
            return;
        }
        later(at);
    }

    std::uint8_t shift_ = 0, before_ = 0, latch_ = 0;
    Time shiftedAt_{kernel::Duration(-1)};
};

class ShiftIn final : public Delayed<ShiftIn> {
public:
    explicit ShiftIn(PartContext& context) : Delayed(context, kHc, kDelay)
    {
        for (const char* pin : {"SH/LD", "CLK", "INH", "SER", "A", "B", "C", "D", "E", "F", "G", "H"})
            addInput(context, pin);
        addOutput(context, "QH");
        addOutput(context, "QH'");
    }
    void show()
    {
        const circuit::Circuit::Batch together(circuit_);
        drive(0, (shift_ & 0x80) != 0);
        drive(1, (shift_ & 0x80) == 0);
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum Input : std::size_t { kLoad, kClk, kInhibit, kSer, kA };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(shift_, alarm_);
    }
    [[nodiscard]] std::string whyOutput(std::size_t output) const override { return fmt::format("{} 7 of its register, 0x{:02X}, {}", output == 0 ? "bit" : "the opposite of number", shift_, level(kLoad) ? "which CLK shifts" : "which follows its inputs while SH/LD is low"); }
    void powered(bool on) override
    {
        shift_ = 0;
        if (on)
            later(queue_.now());
    }
    void inputChanged(std::size_t input, bool high, Time at) override
    {
        // While SH/LD is low the register is the inputs.
        if (!level(kLoad)) {
            shift_ = 0;
            for (std::size_t i = 0; i < 8; ++i)
                shift_ = static_cast<std::uint8_t>(shift_ | (level(kA + i) ? 1U << i : 0U));
        } else if (input == kClk && high && !level(kInhibit)) {
            shift_ = static_cast<std::uint8_t>(shift_ << 1 | (level(kSer) ? 1 : 0));
        } else {
            return;
        }
        later(at);
    }

    std::uint8_t shift_ = 0;
};

class BcdDecoder final : public Delayed<BcdDecoder> {
public:
    explicit BcdDecoder(PartContext& context) : Delayed(context, k4000, k4511Delay)
    {
        for (const char* pin : {"A", "B", "C", "D", "LE", "BL", "LT"})
            addInput(context, pin);
        for (const char* pin : {"a", "b", "c", "d", "e", "f", "g"}) {
            const auto out = addOutput(context, pin);
            circuit_.setLimit(outputPin(out), {0.025}, circuit::Circuit::kNoGroup);
        }
    }
    void show()
    {
        // Segments a to g in bits 0 to 6; 6 and 9 without tails, as this decoder draws them.
        constexpr std::array<std::uint8_t, 10> kDigits{0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7C, 0x07, 0x7F, 0x67};
        const std::uint8_t lit = !level(kLt) ? 0x7F : !level(kBl) || value_ > 9 ? 0 : kDigits[value_];
        const circuit::Circuit::Batch together(circuit_);
        for (std::size_t i = 0; i < 7; ++i)
            drive(i, (lit >> i & 1) != 0);
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum Input : std::size_t { kA, kB, kC, kD, kLe, kBl, kLt };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(value_, alarm_);
    }
    [[nodiscard]] std::string whyOutput(std::size_t output) const override
    {
        if (!level(kLt))
            return "LT is low: all segments";
        return !level(kBl) ? std::string("BL is low: no segment") : fmt::format("segment {} of the digit {}", static_cast<char>('a' + static_cast<int>(output)), value_);
    }
    void powered(bool on) override
    {
        value_ = 0;
        if (on)
            inputChanged(kA, false, queue_.now());
    }
    void inputChanged(std::size_t, bool, Time at) override
    {
        if (!level(kLe))
            value_ = static_cast<std::uint8_t>((level(kA) ? 1 : 0) | (level(kB) ? 2 : 0) | (level(kC) ? 4 : 0) | (level(kD) ? 8 : 0));
        later(at);
    }

    std::uint8_t value_ = 0;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeShiftOut(PartContext& context) { return std::make_unique<ShiftOut>(context); }
kernel::Result<std::unique_ptr<Part>> makeShiftIn(PartContext& context) { return std::make_unique<ShiftIn>(context); }
kernel::Result<std::unique_ptr<Part>> makeBcdDecoder(PartContext& context) { return std::make_unique<BcdDecoder>(context); }

}  // namespace bramix::parts
