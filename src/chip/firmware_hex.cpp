#include <string_view>

#include <algorithm>

#include <fmt/format.h>

#include "chip/firmware.h"

namespace bramix::chip {

using kernel::fail;
using kernel::Result;

namespace {

int hexDigit(char c)
{
    if (c >= '0' && c <= '9')
        return c - '0';
    if (c >= 'A' && c <= 'F')
        return c - 'A' + 10;
    return c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
}

// One record: ':' count address type data checksum, all in hexadecimal pairs.
struct Record {
    std::uint16_t address = 0;
    std::uint8_t type = 0;
    std::vector<std::uint8_t> data;
};

Result<Record> parseRecord(const std::string& where, std::string_view text)
{
    if (text.front() != ':')
        return fail(where, fmt::format("begins with '{}'; expected ':'", text.front()));
    text.remove_prefix(1);
    if (text.size() % 2 != 0)
        return fail(where, fmt::format("has {} hexadecimal digits; expected an even number", text.size()), "the file is cut short or damaged");
    std::vector<std::uint8_t> bytes;
    for (std::size_t i = 0; i < text.size(); i += 2) {
        const int high = hexDigit(text[i]);
        const int low = hexDigit(text[i + 1]);
        if (high < 0 || low < 0)
            return fail(where, fmt::format("column {}: \"{}\"; expected two hexadecimal digits", i + 2, text.substr(i, 2)));
        bytes.push_back(static_cast<std::uint8_t>(high * 16 + low));
    }
    if (bytes.size() < 5 || bytes.size() != bytes[0] + 5U)
        return fail(where, fmt::format("has {} bytes; expected {}", bytes.size(), bytes.empty() ? 5 : bytes[0] + 5), "the file is cut short or damaged");
    std::uint8_t sum = 0;
    for (const std::uint8_t b : bytes)
        sum = static_cast<std::uint8_t>(sum + b);
    if (sum != 0) {
        const auto given = bytes.back();
        return fail(where, fmt::format("checksum 0x{:02x}; expected 0x{:02x}", given, static_cast<std::uint8_t>(given - sum)), "the file is damaged");
    }
    return Record{static_cast<std::uint16_t>((bytes[1] << 8) | bytes[2]), bytes[3], {bytes.begin() + 4, bytes.end() - 1}};
}

}  // namespace

Result<void> readHexRecords(const std::string& name, const std::vector<std::uint8_t>& bytes, const HexPlace& place)
{
    std::uint32_t base = 0;
    bool ended = false;
    std::string_view rest(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    for (int line = 1; !rest.empty(); ++line) {
        std::string_view text = rest.substr(0, rest.find('\n'));
        rest.remove_prefix(std::min(rest.size(), text.size() + 1));
        while (!text.empty() && (text.back() == '\r' || text.back() == ' ' || text.back() == '\t'))
            text.remove_suffix(1);
        if (text.empty())
            continue;
        const std::string where = fmt::format("{}: line {}", name, line);
        if (ended)
            return fail(where, "stands after the end record; expected nothing more");
        const auto record = parseRecord(where, text);
        if (!record)
            return tl::unexpected(record.error());
        const auto need = [&](std::size_t size) { return record->data.size() == size; };
        switch (record->type) {
        case 0: {
            for (std::size_t i = 0; i < record->data.size(); ++i) {
                // Within a segment the address wraps at 64 KiB.
                const std::uint32_t address = base + ((record->address + static_cast<std::uint32_t>(i)) & 0xFFFF);
                if (const std::string wrong = place(address, record->data[i]); !wrong.empty())
                    return fail(where, wrong);
            }
            break;
        }
        case 1:
            if (!need(0))
                return fail(where, fmt::format("the end record has {} bytes of data; expected none", record->data.size()));
            ended = true;
            break;
        case 2:
        case 4:
            if (!need(2))
                return fail(where, fmt::format("an address record has {} bytes of data; expected 2", record->data.size()));
            base = static_cast<std::uint32_t>((record->data[0] << 8) | record->data[1]) << (record->type == 2 ? 4U : 16U);
            break;
        case 3:
        case 5:
            if (!need(4))
                return fail(where, fmt::format("a start record has {} bytes of data; expected 4", record->data.size()));
            break;
        default: return fail(where, fmt::format("record type {:02X}; expected 00 to 05", record->type));
        }
    }
    if (!ended)
        return fail(name, "no end record (type 01); expected one as the last line", "the file is cut short");
    return {};
}

Result<Firmware> readIntelHex(const std::string& name, const std::vector<std::uint8_t>& bytes, const Device& chip)
{
    Firmware firmware;
    std::vector<bool> written;
    const auto read = readHexRecords(name, bytes, [&](std::uint32_t address, std::uint8_t value) -> std::string {
        const std::uint64_t at = std::uint64_t{address} - chip.codeBegin;
        if (address < chip.codeBegin || at >= chip.programBytes())
            return fmt::format("address 0x{:x} does not fit: {} has {} bytes of flash; is the firmware built for another chip?", address, chip.title, chip.programBytes());
        if (written.size() <= at)
            written.resize(at + 1);
        if (written[at])
            return fmt::format("address 0x{:x} is given a second time; expected records that do not overlap", address);
        written[at] = true;
        if (firmware.flash.size() <= at)
            firmware.flash.resize(at + 1, 0xFF);
        firmware.flash[at] = value;
        return {};
    });
    if (!read)
        return tl::unexpected(read.error());
    if (firmware.flash.empty())
        return fail(name, "holds no data; expected program code");
    return firmware;
}

std::string writeIntelHex(const std::vector<std::uint8_t>& bytes)
{
    constexpr std::size_t kLine = 16;
    std::string out;
    for (std::size_t at = 0; at < bytes.size(); at += kLine) {
        const std::size_t count = std::min(kLine, bytes.size() - at);
        if (std::all_of(bytes.begin() + static_cast<std::ptrdiff_t>(at), bytes.begin() + static_cast<std::ptrdiff_t>(at + count), [](std::uint8_t b) { return b == 0xFF; }))
            continue;
        out += fmt::format(":{:02X}{:04X}00", count, at);
        auto sum = static_cast<unsigned>(count + (at >> 8) + (at & 0xFF));
        for (std::size_t i = 0; i < count; ++i) {
            out += fmt::format("{:02X}", bytes[at + i]);
            sum += bytes[at + i];
        }
        out += fmt::format("{:02X}\n", (0x100 - (sum & 0xFF)) & 0xFF);
    }
    return out + ":00000001FF\n";
}

}  // namespace bramix::chip
