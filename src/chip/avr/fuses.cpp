#include "chip/avr/fuses.h"

#include <charconv>
#include <vector>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace bramix::chip::avr {

namespace {

constexpr std::array<std::string_view, 4> kByteNames{"low", "high", "extended", "lock"};

bool sameWord(std::string_view a, std::string_view b)
{
    const auto lower = [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; };
    if (a.size() != b.size())
        return false;
    for (std::size_t i = 0; i < a.size(); ++i)
        if (lower(a[i]) != lower(b[i]))
            return false;
    return true;
}

const FuseRow* findFuse(const ChipTable& table, std::string_view name)
{
    for (const FuseRow& row : table.fuses)
        if (sameWord(row.name, name))
            return &row;
    return nullptr;
}

int parseNumber(std::string_view text)
{
    int base = 10;
    if (text.starts_with("0x") || text.starts_with("0X"))
        base = 16;
    else if (text.starts_with("0b") || text.starts_with("0B"))
        base = 2;
    if (base != 10)
        text.remove_prefix(2);
    int value = -1;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
    return error == std::errc{} && end == text.data() + text.size() && !text.empty() ? value : -1;
}

}  // namespace

unsigned fuseField(const ChipTable& table, const FuseBytes& bytes, std::string_view name)
{
    const FuseRow* row = findFuse(table, name);
    return row == nullptr ? 0xFFU : (bytes[row->byte] >> row->shift) & ((1U << row->width) - 1);
}

void setFuseField(const ChipTable& table, FuseBytes& bytes, std::string_view name, unsigned value)
{
    const FuseRow* row = findFuse(table, name);
    if (row == nullptr)
        return;
    const unsigned mask = ((1U << row->width) - 1) << row->shift;
    bytes[row->byte] = static_cast<std::uint8_t>((bytes[row->byte] & ~mask) | ((value << row->shift) & mask));
}

FuseBytes idealFuses(const ChipTable& table)
{
    FuseBytes bytes = table.fuseDefaults;
    for (const auto& [name, value] : {std::pair("CKSEL", 15U), std::pair("SUT", 3U), std::pair("CKDIV8", 1U), std::pair("BOOTRST", 1U), std::pair("BODLEVEL", 7U), std::pair("BODEN", 1U)})
        setFuseField(table, bytes, name, value);
    return bytes;
}

kernel::Result<void> setFuse(const ChipTable& table, FuseBytes& bytes, std::string_view name, std::string_view value)
{
    const auto where = [&] { return fmt::format("fuse {}={}", name, value); };
    const int number = parseNumber(value);
    for (std::size_t i = 0; i < kByteNames.size(); ++i)
        if (sameWord(name, kByteNames[i])) {
            if (number < 0 || number > 0xFF)
                return kernel::fail(where(), "expected a byte, as in 0x62");
            bytes[i] = static_cast<std::uint8_t>(number);
            return {};
        }
    const FuseRow* row = findFuse(table, name);
    if (row == nullptr)
        return kernel::fail(where(), fmt::format("{} has no fuse of this name; it has {}", table.title, fmt::join(fuseNames(table), ", ")));
    const int most = (1 << row->width) - 1;
    int field = number;
    if (row->width == 1 && sameWord(value, "programmed"))
        field = 0;
    else if (row->width == 1 && sameWord(value, "unprogrammed"))
        field = 1;
    if (field < 0 || field > most)
        return kernel::fail(where(), row->width == 1 ? std::string("expected 0 (programmed) or 1 (unprogrammed)") : fmt::format("expected 0 to {} (0 is programmed), also as 0b{:0{}b}", most, most, row->width));
    setFuseField(table, bytes, row->name, static_cast<unsigned>(field));
    return {};
}

std::vector<std::string> fuseNames(const ChipTable& table)
{
    std::vector<std::string> names(kByteNames.begin(), kByteNames.end());
    for (const FuseRow& row : table.fuses)
        names.emplace_back(row.name);
    return names;
}

}  // namespace bramix::chip::avr
