#include "parts/sensors.h"

#include <algorithm>
#include <array>
#include <cmath>

#include <fmt/format.h>

#include "parts/logic.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;
using namespace std::chrono_literals;

constexpr LogicFamily kSensor{.leastVolts = 3.0, .mostVolts = 6.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 60};
constexpr LogicFamily kModule5{.leastVolts = 4.5, .mostVolts = 6.0, .lowShare = 0.2, .highShare = 0.5, .ohms = 100};
constexpr LogicFamily kAnalog{.leastVolts = 2.7, .mostVolts = 7.0};

// After a low of the host's, it answers in its own time: 80 µs low, 80 µs high, then forty bits of 50 µs low and 26 or 70 µs high.
class HumiditySensor final : public LogicPart {
public:
    HumiditySensor(PartContext& context, bool fine)
        : LogicPart(context, kSensor), fine_(fine), random_(context.seed, context.id), step_(context.queue, [this](Time due) { step(due); })
    {
        addInput(context, "DATA");
        addOutput(context, "DATA");
    }
    void setControl(std::string_view name, double value) override { (name == "temperature" ? warmth_ : humidity_) = value; }
    [[nodiscard]] double control(std::string_view name) const override { return name == "temperature" ? warmth_ : humidity_; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr Duration kSettle = 1s;  // after power-up it answers nothing
    static constexpr Duration kAnswer = 30us;

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(warmth_, humidity_, random_, onSince_, fellAt_, sampledAt_, bytes_, phase_, talking_, step_);
    }
    void powered(bool on) override
    {
        step_.disarm();
        talking_ = false;
        onSince_ = queue_.now();
        sampledAt_ = on ? queue_.now() - 10s : Time{};
        measure();
    }
    [[nodiscard]] Duration least() const { return fine_ ? 2s : 1s; }
    // What it measured last; it takes a new sample with each answer, so that an answer shows how things were at the one before, as these sensors do.
    void measure()
    {
        if (fine_) {
            const auto h = static_cast<unsigned>(std::clamp(std::lround(humidity_ * 10), 0L, 1000L));
            const long t = std::clamp(std::lround(warmth_ * 10), -400L, 800L);
            const unsigned m = static_cast<unsigned>(std::labs(t)) | (t < 0 ? 0x8000U : 0U);
            bytes_ = {static_cast<std::uint8_t>(h >> 8), static_cast<std::uint8_t>(h), static_cast<std::uint8_t>(m >> 8), static_cast<std::uint8_t>(m), 0};
        } else {
            bytes_ = {static_cast<std::uint8_t>(std::clamp(std::lround(humidity_), 20L, 90L)), 0, static_cast<std::uint8_t>(std::clamp(std::lround(warmth_), 0L, 50L)), 0, 0};
        }
        bytes_[4] = static_cast<std::uint8_t>(bytes_[0] + bytes_[1] + bytes_[2] + bytes_[3]);
    }
    void inputChanged(std::size_t, bool high, Time at) override
    {
        if (talking_)
            return;
        if (!high) {
            fellAt_ = at;
            return;
        }
        const Duration low = at - fellAt_;
        const Duration asked = fine_ ? Duration(1ms) : Duration(18ms);
        if (low < 500us)
            return;
        if (low < asked) {
            tell(false, "sensor-start", fmt::format("{} was called by a low of {}; its data sheet asks for {} at least, so it does not answer", id_, kernel::formatQuantity(kernel::seconds(low), kernel::Unit::second, 3), fine_ ? "1 ms" : "18 ms"));
            return;
        }
        if (at - onSince_ < kSettle) {
            tell(false, "sensor-start", id_ + " was called within a second of its power-up and does not answer yet");
            return;
        }
        if (at - sampledAt_ < least())
            tell(false, "sensor-too-often", fmt::format("{} was read {} after the last time; it measures every {} at most and gives the old values again", id_,
                                                        kernel::formatQuantity(kernel::seconds(at - sampledAt_), kernel::Unit::second, 3), fine_ ? "2 s" : "1 s"));
        else {
            measure();
            sampledAt_ = at;
        }
        talking_ = true;
        phase_ = 0;
        step_.arm(at + kAnswer);
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override
    {
        static constexpr std::array kFine{"humidity, upper byte", "humidity, lower byte", "temperature, upper byte", "temperature, lower byte", "checksum"};
        static constexpr std::array kCoarse{"humidity", "humidity, fraction", "temperature", "temperature, fraction", "checksum"};
        const int done = phase_ - 1, bit = (done - 2) / 2;
        if (!talking_ || done >= 82)
            return "its answer ends";
        if (done < 2)
            return done == 0 ? "its answer begins, 80 µs low" : "its answer begins, 80 µs high";
        const auto byte = static_cast<std::size_t>(bit / 8);
        const std::string which = fmt::format("bit {} of {}", 7 - bit % 8, (fine_ ? kFine : kCoarse)[byte]);
        return done % 2 == 0 ? "the pause before " + which : fmt::format("{}, a {}: {} µs high", which, bytes_[byte] >> (7 - bit % 8) & 1, (bytes_[byte] >> (7 - bit % 8) & 1) != 0 ? 70 : 26);
    }
    // 0: begins low, 1: high, then a low and a high a bit, a last low, and free again.
    void step(Time due)
    {
        if (!on())
            return;
        const int bit = (phase_ - 2) / 2;
        Duration stay = 80us;
        if (phase_ >= 2 && bit < 40)
            stay = phase_ % 2 == 0 ? Duration(50us) : (bytes_[static_cast<std::size_t>(bit / 8)] >> (7 - bit % 8) & 1) != 0 ? Duration(70us) : Duration(26us);
        else if (phase_ >= 2)
            stay = 50us;
        if (phase_ == 83) {
            release(0);
            talking_ = false;
            return;
        }
        phase_ % 2 == 0 ? drive(0, false) : release(0);
        // Its clock is an RC's: within three per cent.
        stay += Duration(stay.count() * (static_cast<std::int64_t>(random_.below(61)) - 30) / 1000);
        ++phase_;
        step_.arm(due + stay);
    }

    bool fine_;
    double warmth_ = 20, humidity_ = 50;
    kernel::Random random_;
    Time onSince_{}, fellAt_{}, sampledAt_{};
    std::array<std::uint8_t, 5> bytes_{};
    int phase_ = 0;
    bool talking_ = false;
    kernel::Alarm step_;
};

// CRC-8 of Maxim's one-wire parts: x^8 + x^5 + x^4 + 1, least bit first (application note 27).
std::uint8_t crc8(const std::uint8_t* bytes, std::size_t count)
{
    std::uint8_t crc = 0;
    for (std::size_t i = 0; i < count; ++i)
        for (int bit = 0; bit < 8; ++bit) {
            const bool mix = ((crc ^ (bytes[i] >> bit)) & 1) != 0;
            crc = static_cast<std::uint8_t>(crc >> 1 ^ (mix ? 0x8C : 0));
        }
    return crc;
}

// With VDD on ground it lives on its data line ("Parasite Power"): a capacitor inside takes it over the lows of the line, not through a measurement, which takes
// 1.5 mA: the line must be held high by more than a pull-up resistor then.
class OneWireThermometer final : public LogicPart {
public:
    explicit OneWireThermometer(PartContext& context)
        : LogicPart(context, kSensor, "VDD"), measuring_(context.circuit.addResistor(context.net("DQ"), context.net("GND"), {kNothingOhms}, context.id + " line")),
          measurement_(context.queue, [this](Time) { load(); }), drained_(context.queue, [this](Time) { drain(); }), sample_(context.queue, [this](Time) { sample(); }), hold_(context.queue, [this](Time) { release(0); }),
          presence_(context.queue, [this](Time due) { present(due); })
    {
        addInput(context, "DQ");
        addOutput(context, "DQ");
        alsoFollow(outputPin(0));
        kernel::Random serial(context.seed, context.id + " serial");
        rom_[0] = 0x28;
        for (std::size_t i = 1; i < 7; ++i)
            rom_[i] = static_cast<std::uint8_t>(serial.below(256));
        rom_[7] = crc8(rom_.data(), 7);
        pad_ = {0x50, 0x05, 0x4B, 0x46, 0x7F, 0xFF, 0x0C, 0x10, 0};
    }
    void setControl(std::string_view, double value) override { warmth_ = value; }
    [[nodiscard]] double control(std::string_view) const override { return warmth_; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum class Mode : std::uint8_t { asleep, rom, match, search, function, write, read, status, parasite };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(warmth_, pad_, kept_, mode_, bits_, byte_, reads_, fellAt_, searchPart_, doneAt_, converting_, sample_, hold_, presence_, presenceLow_, alarmed_, parasite_, failed_, loads_, charged_, measurement_, drained_);
        if constexpr (Archive::kLoading)
            circuit_.setResistance(measuring_, {loads_ ? kMeasuringOhms : kNothingOhms}, cause_);
    }
    static constexpr double kNothingOhms = 1e9, kMeasuringOhms = 3.0 / 1.5e-3;
    static constexpr double kParasiteVolts = 2.8;   // of the line, from which the capacitor is charged
    static constexpr double kOwnVolts = 2.0;        // of VDD, from which it is a supply
    static constexpr Duration kHolds = 4ms;         // the capacitor
    static constexpr Duration kTakesOver = 100us;

    [[nodiscard]] double supplyFrom(double vdd) override
    {
        parasite_ = vdd < kOwnVolts;
        if (!parasite_ || vdd < -0.5)
            return vdd;
        const double line = circuit_.voltage(circuit_.netOf(outputPin(0))).value - ground();
        if (line >= kParasiteVolts) {
            charged_ = std::max(line, 3.0);
            drained_.disarm();
        } else {
            if (charged_ > 0 && !drained_.armed())
                drained_.arm(queue_.now() + kHolds);
            if (loads_ && !failed_) {
                failed_ = true;
                tell(false, "parasite-power",
                     fmt::format("{} lives on its data line, and the line falls to {:.2g} V while it measures: it reads 85 °C; drive the line high, as an output, for the length of a measurement, or give VDD its supply", id_, line));
            }
        }
        return charged_;
    }
    // Begins when the line has had time to be driven high after the command, and ends with the measurement.
    void load()
    {
        loads_ = !loads_;
        circuit_.setResistance(measuring_, {loads_ ? kMeasuringOhms : kNothingOhms}, cause_);
        if (loads_)
            measurement_.arm(doneAt_);
    }
    void drain()
    {
        charged_ = 0;
        followSupply();
    }
    void powered(bool) override
    {
        pad_ = {0x50, 0x05, kept_[0], kept_[1], kept_[2], 0xFF, 0x0C, 0x10, 0};
        mode_ = Mode::asleep;
        converting_ = false;
    }
    void inputChanged(std::size_t, bool high, Time at) override
    {
        if (high) {
            const Duration low = at - fellAt_;
            if (low >= 480us && !presenceLow_) {
                sample_.disarm();
                presenceLow_ = false;
                presence_.arm(at + 30us);
            }
            return;
        }
        fellAt_ = at;
        if (presenceLow_)
            return;  // ours
        finishConversion();
        if (mode_ == Mode::asleep)
            return;
        // A slot: a bit of ours is held for its first 30 µs, one of the host's is looked at then.
        if (sends()) {
            if (!nextBit()) {
                drive(0, false);
                hold_.arm(at + 30us);
            }
        } else {
            sample_.arm(at + 30us);
        }
    }
    void present(Time due)
    {
        if (!on())
            return;
        presenceLow_ = !presenceLow_;
        if (presenceLow_) {
            drive(0, false);
            presence_.arm(due + 120us);
        } else {
            release(0);
            mode_ = Mode::rom;
            bits_ = 0;
            byte_ = 0;
        }
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override
    {
        if (presenceLow_)
            return "it answers the reset: it is there";
        if (!holds(0))
            return mode_ == Mode::rom && bits_ == 0 ? "its answer to the reset ends" : "its 0 ends";
        if (mode_ == Mode::search)
            return fmt::format("a 0: {}bit {} of its code, while all are searched", searchPart_ == 2 ? "the opposite of " : "", bits_);
        if (mode_ == Mode::parasite)
            return "a 0: it lives on this line";
        if (mode_ == Mode::status)
            return "a 0: it still measures";
        if (reads_ == 8)
            return fmt::format("a 0: bit {} of its code", (bits_ + 63) % 64);
        return fmt::format("a 0: bit {} of byte {} of its scratchpad, 0x{:02X}", (bits_ - 1) % 8, (bits_ - 1) / 8, pad_[std::min<std::size_t>((bits_ - 1) / 8, 8)]);
    }
    [[nodiscard]] bool sends() const { return mode_ == Mode::read || mode_ == Mode::status || mode_ == Mode::parasite || (mode_ == Mode::search && searchPart_ < 2); }
    [[nodiscard]] bool romBit() const { return (rom_[bits_ / 8] >> bits_ % 8 & 1) != 0; }
    bool nextBit()
    {
        if (mode_ == Mode::search)
            return searchPart_++ == 0 ? romBit() : !romBit();
        if (mode_ == Mode::parasite)
            return false;
        if (mode_ == Mode::status)
            return parasite_ || !converting_;
        const std::size_t size = reads_ == 8 ? 8 : 9;
        const std::uint8_t* from = reads_ == 8 ? rom_.data() : pad_.data();
        const bool bit = bits_ / 8 >= size || (from[bits_ / 8] >> bits_ % 8 & 1) != 0;
        ++bits_;
        if (reads_ == 8 && bits_ == 64) {
            mode_ = Mode::function;
            bits_ = 0;
        }
        return bit;
    }
    void sample()
    {
        const bool bit = level(0);
        if (mode_ == Mode::search) {
            // The host goes the way of one bit; whoever has the other falls asleep.
            const bool mine = romBit();
            searchPart_ = 0;
            ++bits_;
            mode_ = bit != mine ? Mode::asleep : bits_ == 64 ? Mode::function : Mode::search;
            if (bits_ == 64)
                bits_ = 0;
            return;
        }
        if (mode_ == Mode::match) {
            if (bit != romBit())
                mode_ = Mode::asleep;
            else if (++bits_ == 64) {
                mode_ = Mode::function;
                bits_ = 0;
            }
            return;
        }
        byte_ = static_cast<std::uint8_t>(byte_ >> 1 | (bit ? 0x80 : 0));
        if (++bits_ % 8 != 0)
            return;
        if (mode_ == Mode::rom) {
            bits_ = 0;
            reads_ = 8;
            searchPart_ = 0;
            switch (byte_) {
            case 0xCC: mode_ = Mode::function; break;
            case 0x55: mode_ = Mode::match; break;
            case 0xF0: mode_ = Mode::search; break;
            case 0xEC: mode_ = alarmed_ ? Mode::search : Mode::asleep; break;
            case 0x33: mode_ = Mode::read; break;
            default: mode_ = Mode::asleep;
            }
        } else if (mode_ == Mode::function) {
            bits_ = 0;
            switch (byte_) {
            case 0x44:
                converting_ = true;
                failed_ = false;
                doneAt_ = queue_.now() + Duration(93'750us) * (1 << (pad_[4] >> 5 & 3));
                if (parasite_ && !loads_)
                    measurement_.arm(queue_.now() + kTakesOver);
                mode_ = Mode::status;
                break;
            case 0xBE:
                pad_[8] = crc8(pad_.data(), 8);
                reads_ = 9;
                mode_ = Mode::read;
                break;
            case 0x4E: mode_ = Mode::write; break;
            case 0x48: kept_ = {pad_[2], pad_[3], pad_[4]}; mode_ = Mode::status; break;
            case 0xB8: std::copy(kept_.begin(), kept_.end(), pad_.begin() + 2); mode_ = Mode::status; break;
            case 0xB4: mode_ = parasite_ ? Mode::parasite : Mode::status; break;  // a supply of its own: ones
            default: mode_ = Mode::asleep;
            }
        } else if (mode_ == Mode::write) {
            const std::size_t n = bits_ / 8;
            pad_[1 + n] = n == 3 ? static_cast<std::uint8_t>((byte_ & 0x60) | 0x1F) : byte_;
            if (n == 3)
                mode_ = Mode::asleep;
        }
    }
    void finishConversion()
    {
        if (!converting_ || queue_.now() < doneAt_)
            return;
        converting_ = false;
        if (failed_) {
            pad_[0] = 0x50;
            pad_[1] = 0x05;
            return;
        }
        const int drop = 3 - (pad_[4] >> 5 & 3);
        const auto sixteenths = static_cast<std::int16_t>((static_cast<int>(std::floor(std::clamp(warmth_, -55.0, 125.0) * 16 + 0.5)) >> drop) << drop);
        pad_[0] = static_cast<std::uint8_t>(sixteenths);
        pad_[1] = static_cast<std::uint8_t>(sixteenths >> 8);
        const auto degrees = static_cast<std::int8_t>(sixteenths >> 4);
        alarmed_ = degrees >= static_cast<std::int8_t>(pad_[2]) || degrees <= static_cast<std::int8_t>(pad_[3]);
    }

    circuit::ElementId measuring_;
    bool parasite_ = false;  // lives on its data line
    bool failed_ = false;    // the line could not feed the measurement
    bool loads_ = false;     // a measurement takes its current from the line
    double charged_ = 0;
    kernel::Alarm measurement_, drained_;
    double warmth_ = 20;
    std::array<std::uint8_t, 8> rom_{};
    std::array<std::uint8_t, 9> pad_{};
    std::array<std::uint8_t, 3> kept_{0x4B, 0x46, 0x7F};
    Mode mode_ = Mode::asleep;
    std::uint32_t bits_ = 0;
    std::uint8_t byte_ = 0;
    std::uint8_t reads_ = 9;
    Time fellAt_{};
    std::uint8_t searchPart_ = 0;
    Time doneAt_{};
    bool converting_ = false;
    bool alarmed_ = false;
    kernel::Alarm sample_, hold_, presence_;
    bool presenceLow_ = false;
};

// Ten microseconds of trigger send eight cycles of 40 kHz; the echo line is high from then until the sound is back.
class EchoRanger final : public LogicPart {
public:
    explicit EchoRanger(PartContext& context) : LogicPart(context, kModule5), step_(context.queue, [this](Time due) { step(due); })
    {
        addInput(context, "TRIG");
        addOutput(context, "ECHO");
    }
    void setControl(std::string_view name, double value) override { (name == "distance" ? metres_ : name == "temperature" ? warmth_ : echo_) = value; }
    [[nodiscard]] double control(std::string_view name) const override { return name == "distance" ? metres_ : name == "temperature" ? warmth_ : echo_; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr Duration kTrigger = 10us;
    static constexpr Duration kBurst = 450us;  // from the trigger's end to the echo line's rise
    static constexpr Duration kNoEcho = 38ms;
    static constexpr double kLeast = 0.02, kMost = 4.0;

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(metres_, warmth_, echo_, roseAt_, phase_, step_, way_);
    }
    void powered(bool on) override
    {
        phase_ = 0;
        step_.disarm();
        if (on)
            drive(0, false);
    }
    void inputChanged(std::size_t, bool high, Time at) override
    {
        if (high) {
            roseAt_ = at;
            return;
        }
        if (phase_ != 0)
            return;  // it listens to nothing while it measures
        if (at - roseAt_ < kTrigger) {
            tell(false, "sensor-start", fmt::format("{} got a trigger of {}; it asks for 10 µs at least, so it does not measure", id_, kernel::formatQuantity(kernel::seconds(at - roseAt_), kernel::Unit::second, 3)));
            return;
        }
        phase_ = 1;
        step_.arm(at + kBurst);
    }
    void step(Time due)
    {
        if (!on())
            return;
        if (phase_ == 1) {
            way_ = echo_ != 0 && metres_ <= kMost ? std::max(metres_, kLeast) : 0;
            drive(0, true);
            phase_ = 2;
            // The speed of sound in dry air, from 331.3 m/s at 0 °C.
            const double speed = 331.3 * std::sqrt(1 + warmth_ / 273.15);
            step_.arm(due + (way_ > 0 ? Duration(static_cast<std::int64_t>(2 * way_ / speed * 1e12)) : Duration(kNoEcho)));
            return;
        }
        drive(0, false);
        phase_ = 0;
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override
    {
        if (phase_ == 2)
            return "its eight cycles of 40 kHz are out: it waits for the echo";
        return way_ > 0 ? fmt::format("the echo is back from {:.3g} m", way_) : fmt::format("no echo within {}", kernel::formatQuantity(kernel::seconds(kNoEcho), kernel::Unit::second));
    }

    double metres_ = 0.5, warmth_ = 20, echo_ = 1;
    Time roseAt_{};
    double way_ = 0;  // metres, of the sound that is out; 0: none comes back
    std::uint8_t phase_ = 0;
    kernel::Alarm step_;
};

// A voltage by a control, behind a resistance.
class AnalogSensor final : public LogicPart {
public:
    using Curve = double (*)(double value, double supply);
    AnalogSensor(PartContext& context, const char* plus, Curve curve, double ohms, double value) : LogicPart(context, kAnalog, plus), curve_(curve), ohms_(ohms), value_(value) { addOutput(context, "OUT"); }
    void setControl(std::string_view, double value) override
    {
        value_ = value;
        put();
    }
    [[nodiscard]] double control(std::string_view) const override { return value_; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    template <class Archive>
    void state(Archive& ar)
    {
        ar(value_);
        logicState(ar);
    }
    void put()
    {
        if (on())
            driveVolts(0, std::clamp(curve_(value_, supply()), 0.0, supply()), ohms_);
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override { return fmt::format("it gives {}", kernel::formatQuantity(std::clamp(curve_(value_, supply()), 0.0, supply()), kernel::Unit::volt, 3)); }
    void powered(bool) override { put(); }
    void supplyMoved() override { put(); }
    void inputChanged(std::size_t, bool, Time) override {}

    Curve curve_;
    double ohms_, value_;
};

class MotionSensor final : public LogicPart {
public:
    MotionSensor(PartContext& context, Duration hold, Duration settle) : LogicPart(context, kModule5), holdTime_(hold), settle_(settle), end_(context.queue, [this](Time) { end(); }) { addOutput(context, "OUT"); }
    void setControl(std::string_view, double value) override
    {
        // The time counts from the last movement.
        if (moves_ && value == 0 && high_)
            end_.arm(queue_.now() + holdTime_);
        moves_ = value != 0;
        look();
    }
    [[nodiscard]] double control(std::string_view) const override { return moves_ ? 1 : 0; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(moves_, settled_, high_, end_);
    }
    void put(bool high)
    {
        high_ = high;
        driveVolts(0, high ? 3.3 : 0, 100);  // the module's output has 3.3 V
    }
    void powered(bool on) override
    {
        settled_ = high_ = false;
        end_.disarm();
        if (on) {
            put(false);
            end_.arm(queue_.now() + std::max(settle_, Duration(1)));
        }
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override
    {
        if (high_)
            return "something moves";
        return fmt::format("nothing has moved for {}", kernel::formatQuantity(kernel::seconds(holdTime_), kernel::Unit::second));
    }
    void look()
    {
        if (!on() || !settled_ || !moves_)
            return;
        put(true);
        end_.arm(queue_.now() + holdTime_);  // each movement begins the time anew
    }
    void end()
    {
        if (!settled_) {
            settled_ = true;
            look();
        } else if (moves_) {
            end_.arm(queue_.now() + holdTime_);
        } else {
            put(false);
        }
    }
    void inputChanged(std::size_t, bool, Time) override {}

    Duration holdTime_, settle_;
    bool moves_ = false, settled_ = false, high_ = false;
    kernel::Alarm end_;
};

// The bridge gives 1 mV a volt of supply at its rated load; the converter's word is 24 bits over ±20 mV (gain 128), ±40 mV (64) or ±80 mV (32, the other channel, unwired).
class LoadCell final : public LogicPart {
public:
    LoadCell(PartContext& context, double rated, Duration period)
        : LogicPart(context, kSensor), rated_(rated), period_(period), random_(context.seed, context.id), ready_(context.queue, [this](Time due) { convert(due); })
    {
        addInput(context, "SCK");
        addOutput(context, "DOUT");
    }
    void setControl(std::string_view, double value) override { load_ = value; }
    [[nodiscard]] double control(std::string_view) const override { return load_; }
    [[nodiscard]] std::string face() const override { return kernel::formatQuantity(load_ * rated_, kernel::Unit::none, 4) + " g"; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr Duration kAsleep = 60us;  // SCK high for longer powers it down

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(load_, random_, word_, pulses_, gain_, available_, roseAt_, ready_);
    }
    void powered(bool on) override
    {
        pulses_ = 0;
        available_ = false;
        gain_ = 128;
        ready_.disarm();
        if (on) {
            drive(0, true);
            ready_.arm(queue_.now() + 4 * period_);  // settles in four conversions
        }
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override
    {
        if (available_)
            return "a new word is ready";
        const std::string word = fmt::format("its word 0x{:06X}", static_cast<std::uint32_t>(word_) & 0xFFFFFFU);
        return pulses_ >= 1 && pulses_ <= 24 ? fmt::format("bit {} of {}", 24 - pulses_, word) : pulses_ > 24 ? word + " is out" : "it begins to measure";
    }
    void convert(Time due)
    {
        if (!on())
            return;
        ready_.arm(due + period_);
        if (pulses_ > 0 && pulses_ < 25)
            return;  // not while it is read
        pulses_ = 0;
        const double volts = gain_ == 32 ? 0 : load_ * 0.001 * supply();
        const double full = 0.5 * supply() / gain_;  // half the reference, over the gain
        const double noise = (static_cast<double>(random_.below(2001)) - 1000) / 1000 * 40;
        word_ = static_cast<std::int32_t>(std::clamp(std::floor(volts / full * 8388608 + noise), -8388608.0, 8388607.0));
        available_ = true;
        drive(0, false);
    }
    void inputChanged(std::size_t, bool high, Time at) override
    {
        if (!high) {
            if (at - roseAt_ > kAsleep) {
                powered(true);
                return;
            }
            return;
        }
        roseAt_ = at;
        if (!available_ && pulses_ == 0)
            return;
        ++pulses_;
        available_ = false;
        if (pulses_ <= 24) {
            drive(0, (word_ >> (24 - pulses_) & 1) != 0);
        } else {
            // The 25th to 27th pulse choose the next conversion's gain.
            drive(0, true);
            gain_ = pulses_ == 25 ? 128 : pulses_ == 26 ? 32 : 64;
            ready_.arm(at + period_);  // the next conversion counts from here
        }
    }

    double rated_;
    Duration period_;
    double load_ = 0;
    kernel::Random random_;
    std::int32_t word_ = 0;
    int pulses_ = 0;
    int gain_ = 128;
    bool available_ = false;
    Time roseAt_{};
    kernel::Alarm ready_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeHumiditySensor(PartContext& context)
{
    const std::string model = context.setting("model");
    if (model != "DHT11" && model != "DHT22")
        return kernel::fail(context.id + ".model", "\"" + model + "\"; expected DHT11 or DHT22");
    return std::make_unique<HumiditySensor>(context, model == "DHT22");
}

kernel::Result<std::unique_ptr<Part>> makeOneWireThermometer(PartContext& context) { return std::make_unique<OneWireThermometer>(context); }
kernel::Result<std::unique_ptr<Part>> makeEchoRanger(PartContext& context) { return std::make_unique<EchoRanger>(context); }

kernel::Result<std::unique_ptr<Part>> makeAnalogThermometer(PartContext& context)
{
    return std::make_unique<AnalogSensor>(context, "VS", [](double celsius, double) { return 0.5 + 0.01 * celsius; }, 100, 20);
}

kernel::Result<std::unique_ptr<Part>> makeWaterLevel(PartContext& context)
{
    // The wetted traces switch the transistor on; its emitter follows, up to a base-emitter voltage below the supply.
    return std::make_unique<AnalogSensor>(context, "VCC", [](double level, double supply) { return level <= 0 ? 0.0 : (supply - 0.65) * (1 - std::exp(-3.2 * level)) / (1 - std::exp(-3.2)); }, 1000, 0);
}

kernel::Result<std::unique_ptr<Part>> makeMotionSensor(PartContext& context)
{
    const auto hold = kernel::parseDuration(context.setting("hold"));
    const auto settle = kernel::parseDuration(context.setting("settle"));
    if (!hold)
        return kernel::fail(context.id + ".hold", hold.error().what);
    if (!settle)
        return kernel::fail(context.id + ".settle", settle.error().what);
    return std::make_unique<MotionSensor>(context, *hold, *settle);
}

kernel::Result<std::unique_ptr<Part>> makeLoadCell(PartContext& context)
{
    const auto rated = context.quantity("rated", kernel::Unit::none, 1, 1e6);
    if (!rated)
        return tl::unexpected(rated.error());
    return std::make_unique<LoadCell>(context, *rated, context.setting("rate") == "80" ? Duration(12500us) : Duration(100ms));
}

}  // namespace bramix::parts
