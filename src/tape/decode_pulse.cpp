// Lines whose widths say something.
#include <array>
#include <cmath>
#include <optional>
#include <utility>

#include <fmt/format.h>

#include "kernel/units.h"
#include "tape/decode_kinds.h"

namespace bramix::tape {

namespace {

using namespace std::chrono_literals;

std::string seconds(Duration d) { return kernel::formatQuantity(kernel::seconds(d), kernel::Unit::second, 4); }

// WS2812B data sheet: 0.4 us high is 0, 0.8 us is 1, each within 0.15 us; a pause of 50 us (280 us of later ones) shows what has come.
class PixelDecoder final : public CopiedDecoder<PixelDecoder> {
public:
    explicit PixelDecoder(bool redFirst) : redFirst_(redFirst) {}

    void edge(std::size_t, bool level, Time at) override
    {
        if (level) {
            pause(at);
            rose_ = at;
            return;
        }
        if (!rose_)
            return;
        const Duration high = at - *rose_;
        fell_ = at;
        const bool good = high >= 200ns && high <= 1us;
        good_ = good_ && good;
        if (bits_ == 0) {
            first_ = *rose_;
            word_ = 0;
            good_ = good;
        }
        word_ = word_ << 1U | (high > 600ns ? 1U : 0U);
        if (++bits_ < 24)
            return;
        bits_ = 0;
        const unsigned a = word_ >> 16U & 0xFFU, b = word_ >> 8U & 0xFFU, blue = word_ & 0xFFU;
        const unsigned red = redFirst_ ? a : b, green = redFirst_ ? b : a;
        put(first_, at, "pixel", red << 16U | green << 8U | blue, good_ ? fmt::format("#{:02x}{:02x}{:02x}", red, green, blue) : "a pulse too short or too long", good_);
        ++pixels_;
    }

    void finish(Time at) override { pause(at); }

private:
    void pause(Time at)
    {
        if (!fell_ || at - *fell_ < 50us)
            return;
        if (bits_ != 0)
            put(first_, *fell_, "incomplete", word_, fmt::format("{} of 24 bits", bits_), false);
        if (pixels_ != 0)
            put(*fell_, at, "shown", pixels_, fmt::format("{} lights", pixels_));
        bits_ = 0;
        pixels_ = 0;
        fell_.reset();
    }

    const bool redFirst_;
    std::optional<Time> rose_, fell_;
    unsigned bits_ = 0;
    std::uint32_t word_ = 0;
    std::uint64_t pixels_ = 0;
    bool good_ = true;
    Time first_{};
};

// From rise to rise. The value is the duty in ten-thousandths.
class PulseDecoder final : public CopiedDecoder<PulseDecoder> {
public:
    void edge(std::size_t, bool level, Time at) override
    {
        if (!level) {
            if (rose_)
                fell_ = at;
            return;
        }
        if (rose_ && fell_ && at > *rose_) {
            const std::pair lengths(at - *rose_, *fell_ - *rose_);
            const double period = kernel::seconds(lengths.first), high = kernel::seconds(lengths.second);
            // As a rule one period is as the one before.
            if (std::exchange(told_, lengths) != lengths)
                text_ = fmt::format("{}, {:.2f} %", kernel::formatQuantity(1 / period, kernel::Unit::hertz, 5), high / period * 100);
            put(*rose_, at, "period", static_cast<std::uint64_t>(std::llround(high / period * 1e4)), text_);
        }
        rose_ = at;
        fell_.reset();
    }

private:
    std::optional<Time> rose_, fell_;
    std::pair<Duration, Duration> told_{};
    std::string text_;
};

// 1 to 2 ms for a quarter turn, 1.5 ms in the middle; many take 0.5 to 2.5 ms for half a turn. The value is the width in microseconds.
class ServoDecoder final : public CopiedDecoder<ServoDecoder> {
public:
    void edge(std::size_t, bool level, Time at) override
    {
        if (level) {
            rose_ = at;
            return;
        }
        if (!rose_)
            return;
        const Duration high = at - *rose_;
        const double micros = kernel::seconds(high) * 1e6;
        const bool good = high >= 500us && high <= 2500us;
        // One pulse is mostly as long as the one before, and its words the same.
        if (high != told_)
            words_ = good ? fmt::format("{}, {:+.1f} degrees from the middle", seconds(high), (micros - 1500) * 0.09) : seconds(high) + ", no servo's pulse";
        told_ = high;
        put(*rose_, at, "pulse", static_cast<std::uint64_t>(std::llround(micros)), words_, good);
        rose_.reset();
    }

private:
    std::optional<Time> rose_;
    Duration told_ = Duration::min();
    std::string words_;
};

// Two lines a quarter period apart: A before B counts up. The value is the count, as a signed number.
class QuadratureDecoder final : public CopiedDecoder<QuadratureDecoder> {
public:
    void edge(std::size_t role, bool level, Time at) override
    {
        bool& line = role == 0 ? a_ : b_;
        if (level == line)
            return;
        if (!std::exchange(heard_[role == 0 ? 0 : 1], true) && known_ && at == last_) {
            // Both come up for the first time, as their pull-ups get their supply: counted from here.
            line = level;
            count_ = 0;
            return;
        }
        if (known_ && at == last_) {
            put(at, at, "step", static_cast<std::uint64_t>(count_), "both lines at once", false);
            line = level;
            return;
        }
        line = level;
        const bool up = role == 0 ? a_ != b_ : a_ == b_;
        count_ += up ? 1 : -1;
        put(known_ ? last_ : at, at, "step", static_cast<std::uint64_t>(count_), fmt::format("{}, now {}", up ? "up" : "down", count_));
        last_ = at;
        known_ = true;
    }

private:
    bool a_ = false, b_ = false, known_ = false;
    std::array<bool, 2> heard_{};
    Time last_{};
    std::int64_t count_ = 0;
};

// DHT11 and DHT22: the host holds low 1 ms or more, the sensor answers 80 us low and 80 us high, then 40 bits, each 50 us low and 26 us (0) or 70 us (1) high, the
// highest first; the last byte is the sum of the others.
class HumidityDecoder final : public CopiedDecoder<HumidityDecoder> {
public:
    explicit HumidityDecoder(bool fine) : fine_(fine) {}

    void edge(std::size_t, bool level, Time at) override
    {
        if (!level) {
            if (rose_ && listening_)
                high(at - *rose_, at);
            fell_ = at;
            return;
        }
        if (fell_ && at - *fell_ >= 800us) {
            if (bits_ != 0)
                incomplete(*fell_);
            put(*fell_, at, "ask", 0, "asked");
            listening_ = true;
            answered_ = false;
            bits_ = 0;
        }
        rose_ = at;
    }

    void finish(Time at) override
    {
        if (bits_ != 0 && rose_ && at - *rose_ > 1ms)
            incomplete(at);
    }

private:
    void incomplete(Time at)
    {
        put(first_, at, "incomplete", bits_, fmt::format("{} of 40 bits", bits_), false);
        bits_ = 0;
    }

    void high(Duration length, Time at)
    {
        // The first high that follows is the line let go, the second the sensor's answer.
        if (!answered_) {
            answered_ = fell_ && *rose_ - *fell_ < 800us && *rose_ - *fell_ > 60us;
            return;
        }
        if (bits_ == 0) {
            first_ = *rose_ - 50us;
            word_ = 0;
        }
        word_ = word_ << 1U | (length > 48us ? 1U : 0U);
        if (++bits_ < 40)
            return;
        bits_ = 0;
        listening_ = false;
        const auto byte = [this](unsigned i) { return static_cast<unsigned>(word_ >> (8 * (4 - i)) & 0xFFU); };
        const bool good = ((byte(0) + byte(1) + byte(2) + byte(3)) & 0xFFU) == byte(4);
        const double humidity = fine_ ? (byte(0) * 256 + byte(1)) / 10.0 : byte(0) + byte(1) / 10.0;
        const double celsius = fine_ ? ((byte(2) & 0x7FU) * 256 + byte(3)) / 10.0 * ((byte(2) & 0x80U) != 0 ? -1 : 1) : byte(2) + byte(3) / 10.0;
        put(first_, at, "frame", word_, good ? fmt::format("{:.1f} %, {:.1f} °C", humidity, celsius) : fmt::format("checksum 0x{:02x}, expected 0x{:02x}", byte(4), (byte(0) + byte(1) + byte(2) + byte(3)) & 0xFFU), good);
    }

    const bool fine_;
    std::optional<Time> rose_, fell_;
    bool listening_ = false, answered_ = false;
    unsigned bits_ = 0;
    std::uint64_t word_ = 0;
    Time first_{};
};

}  // namespace

MadeDecoder makePixelDecoder(const Options& o)
{
    if (o.at("colors") != "grb" && o.at("colors") != "rgb")
        return kernel::fail("ws2812", fmt::format("colors \"{}\"; expected grb or rgb", o.at("colors")));
    return std::make_unique<PixelDecoder>(o.at("colors") == "rgb");
}

MadeDecoder makePulseDecoder(const Options&) { return std::make_unique<PulseDecoder>(); }
MadeDecoder makeServoDecoder(const Options&) { return std::make_unique<ServoDecoder>(); }
MadeDecoder makeQuadratureDecoder(const Options&) { return std::make_unique<QuadratureDecoder>(); }

MadeDecoder makeHumidityDecoder(const Options& o)
{
    if (o.at("type") != "11" && o.at("type") != "22")
        return kernel::fail("dht", fmt::format("type \"{}\"; expected 11 or 22", o.at("type")));
    return std::make_unique<HumidityDecoder>(o.at("type") == "22");
}

}  // namespace bramix::tape
