#include "kernel/units.h"

#include <array>
#include <cmath>
#include <cstdlib>
#include <optional>

#include <fmt/format.h>

namespace bramix::kernel {

namespace {

struct UnitSpelling {
    Unit unit;
    std::string_view text;
};

// The first spelling of a unit is its symbol.
constexpr std::array kSpellings{
    UnitSpelling{Unit::volt, "V"},    UnitSpelling{Unit::ohm, "Ω"},   UnitSpelling{Unit::ohm, "Ohm"}, UnitSpelling{Unit::ohm, "ohm"},
    UnitSpelling{Unit::ohm, "R"},     UnitSpelling{Unit::ampere, "A"}, UnitSpelling{Unit::farad, "F"}, UnitSpelling{Unit::hertz, "Hz"},
    UnitSpelling{Unit::hertz, "hz"}, UnitSpelling{Unit::second, "s"}, UnitSpelling{Unit::metre, "m"},
    UnitSpelling{Unit::henry, "H"},  UnitSpelling{Unit::watt, "W"},
};

struct Prefix {
    std::string_view text;
    int exponent;
};

constexpr std::array kPrefixes{
    Prefix{"p", -12}, Prefix{"n", -9}, Prefix{"u", -6}, Prefix{"µ", -6}, Prefix{"μ", -6},
    Prefix{"m", -3},  Prefix{"k", 3},  Prefix{"K", 3},  Prefix{"M", 6},  Prefix{"G", 9}, Prefix{"T", 12},
};

// A decimal number held exactly: mantissa * 10^exponent.
struct Decimal {
    std::int64_t mantissa = 0;
    int exponent = 0;
    bool negative = false;
};

bool isDigit(char c) { return c >= '0' && c <= '9'; }

bool take(std::string_view& text, std::string_view lead)
{
    if (!text.starts_with(lead))
        return false;
    text.remove_prefix(lead.size());
    return true;
}

// Eats digits into the mantissa; digits beyond what 18 places hold only move the exponent.
int takeDigits(std::string_view& text, Decimal& out, bool fraction)
{
    int count = 0;
    while (!text.empty() && isDigit(text.front())) {
        if (out.mantissa < 100'000'000'000'000'000) {
            out.mantissa = out.mantissa * 10 + (text.front() - '0');
            out.exponent -= fraction ? 1 : 0;
        } else {
            out.exponent += fraction ? 0 : 1;
        }
        text.remove_prefix(1);
        ++count;
    }
    return count;
}

Unit unitNamedIn(std::string_view word)
{
    constexpr std::array<std::pair<std::string_view, Unit>, 9> kWords{{{"volt", Unit::volt}, {"ohm", Unit::ohm}, {"ampere", Unit::ampere}, {"farad", Unit::farad}, {"hertz", Unit::hertz},
                                                                       {"second", Unit::second}, {"metre", Unit::metre}, {"henry", Unit::henry}, {"watt", Unit::watt}}};
    for (const auto& [text, unit] : kWords)
        if (text == word)
            return unit;
    return Unit::none;
}

std::string expectation(Unit unit)
{
    switch (unit) {
    case Unit::none: return "expected a number, such as 12 or 4k7";
    case Unit::volt: return "expected a voltage, such as 5V or 3.3V";
    case Unit::ohm: return "expected a resistance, such as 330 or 4k7";
    case Unit::ampere: return "expected a current, such as 20mA";
    case Unit::farad: return "expected a capacitance, such as 100n or 10uF";
    case Unit::hertz: return "expected a frequency, such as 16MHz or 8e6";
    case Unit::second: return "expected a time, such as 2s, 350ms or 10us";
    case Unit::metre: return "expected a length, such as 2.14m";
    case Unit::henry: return "expected an inductance, such as 10mH or 470u";
    case Unit::watt: return "expected a power, such as 250mW";
    }
    return {};
}

void trim(std::string_view& text)
{
    while (!text.empty() && text.front() == ' ')
        text.remove_prefix(1);
    while (!text.empty() && text.back() == ' ')
        text.remove_suffix(1);
}

// What follows the digits: a unit, a prefix, or a prefix and a unit. Nothing else is accepted.
std::optional<int> readSuffix(std::string_view rest, Unit expected)
{
    const auto isUnit = [&](std::string_view text) {
        for (const UnitSpelling& s : kSpellings)
            if (s.unit == expected && s.text == text)
                return true;
        return text.empty();
    };
    if (isUnit(rest))
        return 0;
    for (const Prefix& p : kPrefixes) {
        std::string_view tail = rest;
        if (take(tail, p.text) && isUnit(tail))
            return p.exponent;
    }
    return std::nullopt;
}

Result<Decimal> parseDecimal(std::string_view text, Unit expected)
{
    const auto wrong = [&] { return fail("", fmt::format("cannot read \"{}\": {}", text, expectation(expected))); };
    std::string_view rest = text;
    trim(rest);
    Decimal out;
    if (take(rest, "-"))
        out.negative = true;
    else
        take(rest, "+");
    int digits = takeDigits(rest, out, false);
    const bool point = take(rest, ".");
    if (point)
        digits += takeDigits(rest, out, true);
    if (digits == 0)
        return wrong();
    // An exponent: 8e6. "e" begins no prefix and no unit.
    if (rest.size() >= 2 && (rest[0] == 'e' || rest[0] == 'E') && (isDigit(rest[1]) || rest[1] == '-' || rest[1] == '+')) {
        rest.remove_prefix(1);
        const bool negative = take(rest, "-");
        if (!negative)
            take(rest, "+");
        Decimal power;
        if (takeDigits(rest, power, false) == 0 || power.mantissa > 300)
            return wrong();
        out.exponent += static_cast<int>(negative ? -power.mantissa : power.mantissa);
    }
    trim(rest);
    // A letter in place of the decimal point: 4k7, 2R2, 3V3.
    std::size_t letters = 0;
    while (letters < rest.size() && !isDigit(rest[letters]))
        ++letters;
    if (!point && letters > 0 && letters < rest.size()) {
        const auto exponent = readSuffix(rest.substr(0, letters), expected);
        rest.remove_prefix(letters);
        if (!exponent || takeDigits(rest, out, true) == 0)
            return wrong();
        out.exponent += *exponent;
        if (!rest.empty() && readSuffix(rest, expected) != 0)
            return wrong();
        return out;
    }
    const auto exponent = readSuffix(rest, expected);
    if (!exponent)
        return wrong();
    out.exponent += *exponent;
    return out;
}

}  // namespace

Unit unitNamed(std::string_view word) { return unitNamedIn(word); }

std::string_view symbol(Unit unit)
{
    for (const UnitSpelling& s : kSpellings)
        if (s.unit == unit)
            return s.text;
    return {};
}

Result<double> parseQuantity(std::string_view text, Unit expected)
{
    return parseDecimal(text, expected).map([](const Decimal& d) {
        // strtod rounds correctly; multiplying by a power of ten would not.
        const double v = std::strtod(fmt::format("{}e{}", d.mantissa, d.exponent).c_str(), nullptr);
        return d.negative ? -v : v;
    });
}

Result<Duration> parseDuration(std::string_view text)
{
    const auto decimal = parseDecimal(text, Unit::second);
    if (!decimal)
        return tl::unexpected(decimal.error());
    const auto range = [&] { return fail("", fmt::format("\"{}\" is out of range: expected a time from 0 to 106 days", text)); };
    if (decimal->negative && decimal->mantissa != 0)
        return range();
    __int128 picos = decimal->mantissa;
    for (int e = decimal->exponent + 12; e > 0 && picos != 0; --e) {
        picos *= 10;
        if (picos > INT64_MAX)
            return range();
    }
    for (int e = decimal->exponent + 12; e < 0; ++e) {
        if (picos % 10 != 0)
            return fail("", fmt::format("\"{}\" is finer than a picosecond: expected a whole number of picoseconds", text));
        picos /= 10;
    }
    if (picos > INT64_MAX)
        return range();
    return Duration(static_cast<std::int64_t>(picos));
}

std::string formatQuantity(double value, Unit unit, int digits)
{
    static constexpr std::array<std::string_view, 9> kNames{"p", "n", "µ", "m", "", "k", "M", "G", "T"};
    if (!std::isfinite(value))
        return value > 0 ? "∞ " + std::string(symbol(unit)) : "?";
    int step = 4;
    double scaled = std::fabs(value);
    constexpr double kNothing = 1e-15;  // a thousandth of the smallest unit that has a name here: rounding, for whatever is measured
    if (scaled < kNothing)
        scaled = 0;
    if (scaled != 0) {
        // Round first, so that 999.96 mV becomes 1 V and not 1000 mV.
        const double magnitude = std::pow(10.0, digits - 1 - std::floor(std::log10(scaled)));
        scaled = std::round(scaled * magnitude) / magnitude;
        while (scaled >= 999.9999999 && step < 8) {
            scaled /= 1000;
            ++step;
        }
        while (scaled < 0.9999999999 && step > 0) {
            scaled *= 1000;
            --step;
        }
    }
    std::string text = fmt::format("{}{:.{}g} {}{}", value < 0 && scaled != 0 ? "-" : "", scaled, digits, kNames[step], symbol(unit));
    while (!text.empty() && text.back() == ' ')
        text.pop_back();
    return text;
}

std::string formatCompact(double value)
{
    std::string text = formatQuantity(value, Unit::none, 6);
    const std::size_t space = text.find(' ');
    if (space == std::string::npos)
        return text;
    const std::string letter = text.substr(space + 1) == "µ" ? "u" : text.substr(space + 1);
    text.resize(space);
    const std::size_t point = text.find('.');
    return point == std::string::npos ? text + letter : text.substr(0, point) + letter + text.substr(point + 1);
}

std::string formatClock(Time t, int groups)
{
    const std::int64_t picos = t.time_since_epoch().count();
    std::string text = fmt::format("{}.", picos / kPicosPerSecond);
    std::int64_t rest = picos % kPicosPerSecond;
    std::int64_t scale = kPicosPerSecond / 1000;
    for (int g = 0; g < groups && scale > 0; ++g) {
        text += fmt::format("{}{:03}", g == 0 ? "" : " ", rest / scale);
        rest %= scale;
        scale /= 1000;
    }
    return text + " s";
}

}  // namespace bramix::kernel
