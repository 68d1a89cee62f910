#include <algorithm>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <map>

#include <fmt/format.h>

#include "chip/pic16/device.h"
#include "chip/families.h"
#include "chip/family.h"
#include "debug/arch/follow_code.h"
#include "debug/arch/pic16/architecture.h"

namespace bramix::debug::pic16 {

namespace {

// What either file says, before it is made into symbols.
struct Found {
    std::vector<std::string> files;
    std::vector<LineRow> rows;
    std::map<std::uint32_t, std::string> labels;  // of code
    struct Cell {
        std::string name;
        std::uint32_t address = 0, bytes = 1;
    };
    std::vector<Cell> cells;                      // of data
    std::uint32_t fileOf(const std::string& name)
    {
        const auto known = std::find(files.begin(), files.end(), name);
        if (known != files.end())
            return static_cast<std::uint32_t>(known - files.begin());
        files.push_back(name);
        return static_cast<std::uint32_t>(files.size() - 1);
    }
};

// Bytes of a file, read where they are; what lies outside reads 0.
class Bytes {
public:
    explicit Bytes(const std::string& file)
    {
        std::ifstream in(file, std::ios::binary);
        constexpr std::size_t kMost = 16U << 20U;
        std::error_code ec;
        if (in && std::filesystem::file_size(file, ec) <= kMost && !ec)
            bytes_.assign(std::istreambuf_iterator<char>(in), {});
    }
    [[nodiscard]] std::size_t size() const { return bytes_.size(); }
    [[nodiscard]] std::uint8_t at(std::size_t i) const { return i < bytes_.size() ? static_cast<std::uint8_t>(bytes_[i]) : std::uint8_t{0}; }
    [[nodiscard]] std::uint32_t half(std::size_t i) const { return at(i) | std::uint32_t{at(i + 1)} << 8; }
    [[nodiscard]] std::uint32_t word(std::size_t i) const { return half(i) | half(i + 2) << 16; }
    [[nodiscard]] std::uint32_t bigWord(std::size_t i) const { return std::uint32_t{at(i)} << 24 | std::uint32_t{at(i + 1)} << 16 | std::uint32_t{at(i + 2)} << 8 | at(i + 3); }
    // Up to a zero, at most so long.
    [[nodiscard]] std::string text(std::size_t i, std::size_t most) const
    {
        std::string out;
        for (; most > 0 && at(i) != 0; --most)
            out += static_cast<char>(at(i++));
        return out;
    }

private:
    std::vector<char> bytes_;
};

bool readCoff(const std::string& file, Found& found)
{
    const Bytes b(file);
    const std::uint32_t magic = b.half(0);
    if (magic != 0x1234 && magic != 0x1240)
        return false;
    const bool second = magic == 0x1240;
    const std::size_t sections = b.half(2), symbols = b.word(8), count = std::min<std::size_t>(b.word(12), 100'000), symbolBytes = second ? 20 : 18;
    const std::size_t strings = symbols + count * symbolBytes, headers = 20 + b.half(16);
    const auto name = [&](std::size_t at) { return b.word(at) == 0 ? b.text(strings + b.word(at + 4), 256) : b.text(at, 8); };
    enum : std::uint32_t { kFileClass = 0x67, kCode = 0x20 };
    struct Section {
        std::uint32_t flags = 0, end = 0;
    };
    std::vector<Section> all;
    for (std::size_t s = 0; s < sections && s < 4096; ++s) {
        const std::size_t at = headers + 40 * s;
        all.push_back({b.word(at + 36), b.word(at + 8) + b.word(at + 16)});
        // A line: symbol of its file, number, word address.
        for (std::size_t l = 0; l < b.half(at + 34); ++l) {
            const std::size_t line = b.word(at + 28) + 16 * l;
            if (line + 16 > b.size())
                break;
            const std::size_t symbol = symbols + b.word(line) * symbolBytes;
            if (b.word(line) >= count)
                continue;
            const std::string source = b.text(strings + b.word(symbol + symbolBytes), 512);
            found.rows.push_back({b.word(line + 6), found.fileOf(source), static_cast<int>(b.half(line + 4)), true});
        }
    }
    for (std::size_t i = 0; i < count;) {
        const std::size_t at = symbols + i * symbolBytes;
        const std::uint32_t value = b.word(at + 8), section = b.half(at + 12);
        const std::uint8_t storage = b.at(at + symbolBytes - 2), extra = b.at(at + symbolBytes - 1);
        const std::string text = name(at);
        constexpr std::uint8_t kExternal = 2, kStatic = 3, kLabel = 6;
        if (section >= 1 && section <= all.size() && (storage == kExternal || storage == kStatic || storage == kLabel) && !text.empty()) {
            if ((all[section - 1].flags & kCode) != 0)
                found.labels.emplace(value, text);
            else
                found.cells.push_back({text, value, std::max<std::uint32_t>(all[section - 1].end - value, 1)});
        }
        i += 1U + extra;
    }
    // A variable reaches to the next one of its section.
    std::stable_sort(found.cells.begin(), found.cells.end(), [](const auto& a, const auto& c) { return a.address < c.address; });
    for (std::size_t c = 0; c + 1 < found.cells.size(); ++c)
        if (found.cells[c + 1].address > found.cells[c].address)
            found.cells[c].bytes = std::min(found.cells[c].bytes, found.cells[c + 1].address - found.cells[c].address);
    return true;
}

bool readCod(const std::string& file, const chip::Device& device, Found& found)
{
    const Bytes b(file);
    constexpr std::size_t kBlock = 512;
    if (b.size() < 2 * kBlock)
        return false;
    const auto blocks = [&](std::size_t where) {
        const std::size_t first = b.half(where), last = b.half(where + 2);
        return first == 0 || last < first ? std::pair<std::size_t, std::size_t>{} : std::pair{first * kBlock, std::min((last + 1) * kBlock, b.size())};
    };
    constexpr std::size_t kNames = 0x1AE, kLines = 0x1B2, kLong = 0x1CE, kNameBytes = 64, kLineBytes = 6, kLinesABlock = 84;
    std::vector<std::string> names;
    for (auto [at, end] = blocks(kNames); at < end; at += kNameBytes)
        names.push_back(b.text(at + 1, std::min<std::size_t>(b.at(at), kNameBytes - 1)));
    for (auto [at, end] = blocks(kLines); at < end; at += kBlock)
        for (std::size_t l = 0; l < kLinesABlock; ++l) {
            const std::size_t line = at + l * kLineBytes;
            // 0x80 is a line with code, 0x90 one without.
            if (b.at(line + 1) != 0x80 || b.at(line) >= names.size())
                continue;
            found.rows.push_back({b.half(line + 4), found.fileOf(names[b.at(line)]), static_cast<int>(b.half(line + 2)), true});
        }
    const auto& model = chip::pic16::modelOf(device);
    constexpr std::uint8_t kAddress = 46;
    for (auto [at, end] = blocks(kLong); at < end; at += kBlock)
        for (std::size_t s = at; s < at + kBlock && b.at(s) != 0;) {
            const std::size_t length = b.at(s);
            const std::uint32_t value = b.bigWord(s + length + 3);
            const std::string text = b.text(s + 1, length);
            const std::uint8_t type = b.at(s + length + 1);
            if (type == kAddress)
                found.labels.emplace(value, text);
            // What CBLOCK reserves, and a constant that is an address of general memory.
            else if (std::any_of(model.memory.begin(), model.memory.end(), [&](const auto& r) { return value >= r.first && value <= r.second; }))
                found.cells.push_back({text, value, 1});
            s += length + 7;
        }
    return !found.rows.empty() || !found.labels.empty();
}

}  // namespace

Symbols symbolsBeside(const std::string& firmware, const chip::CodeView& code, const chip::Device& device)
{
    namespace fs = std::filesystem;
    std::error_code ec;
    Found found;
    const fs::path coff = fs::path(firmware).replace_extension(".cof"), cod = fs::path(firmware).replace_extension(".cod");
    // The relocatable one knows all names; it counts where it is not older than the image.
    if (!(fs::is_regular_file(coff, ec) && readCoff(coff.string(), found)) && !(fs::is_regular_file(cod, ec) && readCod(cod.string(), device, found)))
        return {};
    std::map<std::uint32_t, std::string> entries{{0, ""}};
    constexpr std::uint32_t kVector = 4;
    const auto named = [&](std::uint32_t at, const char* otherwise) {
        const auto known = found.labels.find(at);
        return known == found.labels.end() ? std::string(otherwise) : known->second;
    };
    entries[0] = named(0, "reset");
    if (code.bytes.size() > 2 * kVector + 1 && (code.bytes[2 * kVector] != 0xFF || (code.bytes[2 * kVector + 1] & 0x3F) != 0x3F))
        entries[kVector] = named(kVector, "interrupt");
    // Where the start jumps to is a function of its own, by its label.
    for (const std::uint32_t from : {0U, 1U, 2U, 3U, kVector}) {
        const chip::InstructionInfo i = chip::decode(device, code, from);
        if (i.flow == chip::Flow::jump && i.target && found.labels.contains(*i.target) && *i.target != from)
            entries.try_emplace(*i.target, found.labels[*i.target]);
        if (i.flow != chip::Flow::next && from < kVector)
            break;
    }
    std::vector<Function> functions = functionsByFlow(code, device, entries, found.labels);
    std::stable_sort(found.rows.begin(), found.rows.end(), [](const LineRow& a, const LineRow& c) { return a.address < c.address; });
    for (Function& f : functions)
        for (const LineRow& row : found.rows)
            if (row.address == f.begin()) {
                f.file = found.files[row.file];
                f.line = row.line;
                break;
            }
    if (!found.rows.empty())
        found.rows.push_back({found.rows.back().address + 1, Symbols::kEnd, 0, false});
    Types types;
    const TypeId byte = types.integer(1, false);
    std::vector<Variable> variables;
    constexpr std::uint8_t kAddressOperation = 0x03;  // DW_OP_addr
    for (const Found::Cell& c : found.cells) {
        Variable v;
        v.name = c.name;
        v.type = byte;
        if (c.bytes > 1)
            v.type = types.add({.kind = Type::Kind::array, .size = c.bytes, .element = byte, .count = c.bytes});
        v.locations.push_back({0, UINT32_MAX, {{kAddressOperation, kElfData + c.address, 0}}});
        variables.push_back(std::move(v));
    }
    return Symbols::of(std::move(functions), std::move(found.files), std::move(found.rows), std::move(variables), std::move(types));
}

}  // namespace bramix::debug::pic16
