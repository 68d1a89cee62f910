// Physical quantities as types, and engineering notation as engineers write it.
//
//   quantity = number [prefix] [unit]      4.7k   4.7kΩ   100nF   16MHz   8e6   20 ms
//            | digits prefix-or-unit digits    4k7   2R2   3V3          (the letter stands for the decimal point)
//   prefix   = p n u µ m k K M G T          (R and Ω count as "times one" for resistances)
//
// Tested by tests/kernel/kernel_test.cpp.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "kernel/result.h"
#include "kernel/time.h"

namespace bramix::kernel {

template <class Tag>
struct Quantity {
    double value = 0;

    constexpr auto operator<=>(const Quantity&) const = default;
    constexpr Quantity operator+(Quantity o) const { return {value + o.value}; }
    constexpr Quantity operator-(Quantity o) const { return {value - o.value}; }
    constexpr Quantity operator*(double k) const { return {value * k}; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(value);
    }
};

using Volts = Quantity<struct VoltsTag>;
using Ohms = Quantity<struct OhmsTag>;
using Amps = Quantity<struct AmpsTag>;
using Farads = Quantity<struct FaradsTag>;
using Henries = Quantity<struct HenriesTag>;

enum class Unit { none, volt, ohm, ampere, farad, hertz, second, metre, henry, watt };

// "V", "Ω", "A" ...; empty for Unit::none.
std::string_view symbol(Unit unit);

// The unit of a word as manifests write it ("ohm", "volt", "farad" ...); Unit::none for any other.
Unit unitNamed(std::string_view word);

// Reads a quantity; a unit that is written must be the expected one. Errors leave `where` empty for the caller to fill.
[[nodiscard]] Result<double> parseQuantity(std::string_view text, Unit expected);

// Reads a span of time exactly, e.g. "20ms", "10us", "1.5 s"; never negative, at most 106 days.
[[nodiscard]] Result<Duration> parseDuration(std::string_view text);

// "4.7 kΩ", "330 Ω", "16 MHz": at most `digits` significant digits, no trailing zeros.
[[nodiscard]] std::string formatQuantity(double value, Unit unit, int digits = 4);

// The same, short, to be typed again: "4k7", "330", "100n".
[[nodiscard]] std::string formatCompact(double value);

// "0.003 214 512 s": seconds with digits in groups of three.
[[nodiscard]] std::string formatClock(Time t, int groups = 3);

}  // namespace bramix::kernel
