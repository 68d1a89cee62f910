#include "session/serial/serial_numbers.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cmath>
#include <optional>

namespace bramix::session {

namespace {

constexpr std::size_t kLongestName = 40;
constexpr std::size_t kMostNumbers = 32;

bool isLetter(char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_' || static_cast<unsigned char>(c) >= 0x80; }
bool isDigit(char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; }

std::string_view trimmed(std::string_view text)
{
    while (!text.empty() && (text.front() == ' ' || text.front() == '\t'))
        text.remove_prefix(1);
    while (!text.empty() && (text.back() == ' ' || text.back() == '\t' || text.back() == '\r'))
        text.remove_suffix(1);
    return text;
}

// A number at the beginning of the text, and how many characters it takes.
std::optional<double> numberAt(std::string_view text, std::size_t& length)
{
    std::size_t at = 0;
    if (at < text.size() && (text[at] == '+' || text[at] == '-'))
        ++at;
    if (at >= text.size() || !(isDigit(text[at]) || (text[at] == '.' && at + 1 < text.size() && isDigit(text[at + 1]))))
        return std::nullopt;
    if (text.substr(at).starts_with("0x") || text.substr(at).starts_with("0X")) {
        std::uint64_t value = 0;
        const auto done = std::from_chars(text.data() + at + 2, text.data() + text.size(), value, 16);
        if (done.ec != std::errc{})
            return std::nullopt;
        length = static_cast<std::size_t>(done.ptr - text.data());
        return text.front() == '-' ? -static_cast<double>(value) : static_cast<double>(value);
    }
    double value = 0;
    const char* const begin = text.data() + (text.front() == '+' ? 1 : 0);
    const auto done = std::from_chars(begin, text.data() + text.size(), value);
    if (done.ec != std::errc{} || !std::isfinite(value))
        return std::nullopt;
    length = static_cast<std::size_t>(done.ptr - text.data());
    return value;
}

// The words of a line, parted by commas, semicolons, tabs or, where there is none of these, by spaces.
std::vector<std::string_view> words(std::string_view line)
{
    const bool parted = line.find_first_of(",;\t") != std::string_view::npos;
    std::vector<std::string_view> out;
    for (std::size_t at = 0; at <= line.size();) {
        const std::size_t end = std::min(parted ? line.find_first_of(",;\t", at) : line.find(' ', at), line.size());
        if (const std::string_view word = trimmed(line.substr(at, end - at)); !word.empty())
            out.push_back(word);
        at = end + 1;
    }
    return out;
}

// "3.2", "3.2 m", "80%": a number with at most a short unit behind it.
std::optional<double> wholeNumber(std::string_view word)
{
    std::size_t length = 0;
    const auto value = numberAt(word, length);
    constexpr std::size_t kLongestUnit = 6;
    const std::string_view unit = value ? trimmed(word.substr(length)) : std::string_view();
    if (!value || unit.size() > kLongestUnit || std::any_of(unit.begin(), unit.end(), [](char c) { return isDigit(c) || c == ':' || c == '='; }))
        return std::nullopt;
    return value;
}

// A word of its own behind a number that only says what it counts.
bool isUnit(std::string_view word)
{
    static constexpr std::array<std::string_view, 50> kUnits{"C",  "°C", "F",   "K",   "V",   "mV", "uV", "µV", "A",  "mA", "uA", "µA", "W",  "mW",  "m",   "cm", "mm", "km", "s",
                                                             "ms", "us", "µs",  "Hz",  "kHz", "MHz", "%", "ohm", "Ω",  "lux", "lx", "rpm", "deg", "°", "Pa", "hPa", "kg", "g", "l", "dm", "ml", "dB", "bar", "mbar", "kPa", "N", "Nm", "J", "ppm", "min", "h"};
    while (!word.empty() && (word.back() == ',' || word.back() == ';'))
        word.remove_suffix(1);
    return std::find(kUnits.begin(), kUnits.end(), word) != kUnits.end();
}

}  // namespace

std::vector<NamedNumber> NumberReader::read(std::string_view line)
{
    line = trimmed(line);
    std::vector<NamedNumber> out;
    // Names with ":" or "=" and a number behind them, wherever they stand. Times of day (12:30) have no name before the colon.
    for (std::size_t at = 0; at < line.size() && out.size() < kMostNumbers; ++at) {
        if (line[at] != ':' && line[at] != '=')
            continue;
        std::size_t begin = at;
        while (begin > 0 && (isLetter(line[begin - 1]) || isDigit(line[begin - 1]) || line[begin - 1] == ' ' || line[begin - 1] == '.' || line[begin - 1] == '[' || line[begin - 1] == ']'))
            --begin;
        // Behind another number the name begins at its last word: "a=1 b=2".
        std::string_view name = trimmed(line.substr(begin, at - begin));
        if (!out.empty())
            if (const std::size_t space = name.find_last_of(' '); space != std::string_view::npos && isDigit(name.front()))
                name = trimmed(name.substr(space));
        while (!name.empty() && !isLetter(name.front()))
            name.remove_prefix(1);
        std::string_view rest = line.substr(at + 1);
        const std::size_t gap = std::min(rest.find_first_not_of(" \t"), rest.size());
        std::size_t length = 0;
        const auto value = numberAt(rest.substr(gap), length);
        if (name.empty() || name.size() > kLongestName || !value)
            continue;
        out.push_back({std::string(name), *value});
        at += gap + length;
    }
    if (!out.empty())
        return out;
    std::vector<std::string_view> all = words(line);
    if (all.empty() || all.size() > kMostNumbers)
        return out;
    const bool beginsWithUnit = all.size() > 1 && wholeNumber(all[0]) && isUnit(all[1]);
    for (std::size_t i = 1; i < all.size(); ++i)
        if (wholeNumber(all[i - 1]) && isUnit(all[i]))
            all.erase(all.begin() + static_cast<std::ptrdiff_t>(i));
    std::vector<double> values;
    for (const std::string_view word : all)
        if (const auto value = wholeNumber(word))
            values.push_back(*value);
    if (values.size() == all.size()) {
        for (std::size_t i = 0; i < values.size(); ++i)
            out.push_back({header_.size() == values.size() ? header_[i] : std::to_string(i + 1), values[i]});
        return out;
    }
    // Words only: a header, if numbers come under it.
    if (values.empty() && std::all_of(all.begin(), all.end(), [](std::string_view w) { return isLetter(w.front()) && w.size() <= kLongestName; }))
        header_.assign(all.begin(), all.end());
    // "4.5 C  frost": a figure, and what is to be said of it.
    if (beginsWithUnit && values.size() == 1)
        return {{"1", values[0]}};
    // "level 3.2 flow 0.5"
    if (all.size() >= 2 && all.size() % 2 == 0 && values.size() == all.size() / 2) {
        for (std::size_t i = 0; i < all.size(); i += 2) {
            const auto value = wholeNumber(all[i + 1]);
            if (!isLetter(all[i].front()) || !value)
                return {};
            out.push_back({std::string(all[i]), *value});
        }
    }
    return out;
}

}  // namespace bramix::session
