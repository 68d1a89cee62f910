#include "debug/symbols.h"

#include <algorithm>
#include <cxxabi.h>
#include <cstdlib>
#include <map>
#include <set>

#include <fmt/format.h>

#include "debug/readers.h"

namespace bramix::debug {

namespace {

constexpr std::uint8_t kOpAddr = 0x03;  // DW_OP_addr

std::string withoutFolders(const std::string& file) { return file.substr(file.rfind('/') + 1); }

}  // namespace

std::string demangled(const char* name)
{
    if (name == nullptr)
        return {};
    int status = 0;
    char* text = abi::__cxa_demangle(name, nullptr, nullptr, &status);
    std::string out = status == 0 && text != nullptr ? text : name;
    std::free(text);
    return out;
}

std::string Place::brief() const
{
    if (line > 0)
        return fmt::format("{}:{}", withoutFolders(file), line);
    return function.empty() ? std::string() : function + "()";
}

std::string Place::full() const
{
    std::string text = function.empty() ? std::string() : function + (function.ends_with(")") ? "" : "()");
    if (line > 0)
        text += fmt::format("{}{}:{}", text.empty() ? "" : " at ", file, line);
    return text;
}

std::optional<std::uint32_t> Variable::fixedAddress() const
{
    if (locations.size() != 1 || locations[0].expression.size() != 1 || locations[0].expression[0].atom != kOpAddr)
        return std::nullopt;
    return static_cast<std::uint32_t>(locations[0].expression[0].first);
}

bool Function::has(std::uint32_t address) const
{
    return std::any_of(ranges.begin(), ranges.end(), [&](const CodeRange& r) { return r.has(address); });
}

// The symbol table: functions that no debug information names, and objects.
class TableReader {
public:
    static bool isCode(const ElfFile& file, std::size_t section)
    {
        GElf_Shdr header;
        Elf_Scn* scn = section == SHN_UNDEF || section >= SHN_LORESERVE ? nullptr : elf_getscn(file.elf(), section);
        return scn != nullptr && gelf_getshdr(scn, &header) != nullptr && (header.sh_flags & SHF_EXECINSTR) != 0;
    }

    static void read(const ElfFile& file, Symbols& out)
    {
        std::set<std::uint32_t> known;
        const unsigned machine = file.machine();
        std::vector<std::size_t> open;  // without a length
        for (const Function& f : out.functions_)
            if (f.caller < 0 && !f.ranges.empty())
                known.insert(f.begin());
        for (Elf_Scn* section = nullptr; (section = elf_nextscn(file.elf(), section)) != nullptr;) {
            GElf_Shdr header;
            if (gelf_getshdr(section, &header) == nullptr || header.sh_type != SHT_SYMTAB || header.sh_entsize == 0)
                continue;
            Elf_Data* data = elf_getdata(section, nullptr);
            if (data == nullptr)
                continue;
            for (std::size_t i = 0; i < header.sh_size / header.sh_entsize; ++i) {
                GElf_Sym symbol;
                if (gelf_getsym(data, static_cast<int>(i), &symbol) == nullptr)
                    continue;
                const char* text = elf_strptr(file.elf(), header.sh_link, symbol.st_name);
                if (text == nullptr || *text == 0)
                    continue;
                // Mapping symbols say what code of ARM is ("ELF for the Arm Architecture", 5.5.5).
                if (machine == EM_ARM && text[0] == '$' && (text[1] == 'a' || text[1] == 't' || text[1] == 'd') && (text[2] == 0 || text[2] == '.')) {
                    out.codeMarks_.emplace_back(static_cast<std::uint32_t>(symbol.st_value), text[1]);
                    continue;
                }
                // The lowest bit of a function's address tells the instruction set.
                const bool thumb = machine == EM_ARM && GELF_ST_TYPE(symbol.st_info) == STT_FUNC;
                const auto address = static_cast<std::uint32_t>(thumb ? symbol.st_value & ~GElf_Addr{1} : symbol.st_value);
                const auto size = static_cast<std::uint32_t>(symbol.st_size);
                if (GELF_ST_TYPE(symbol.st_info) == STT_OBJECT)
                    out.objects_.push_back({address, std::max(size, 1U), demangled(text)});
                // Assembler does not say what is a function: a label in code that others may see is taken for one, up to the next.
                const bool label = GELF_ST_TYPE(symbol.st_info) == STT_NOTYPE && GELF_ST_BIND(symbol.st_info) != STB_LOCAL && isCode(file, symbol.st_shndx) && *text != '.' && out.functionWith(address) < 0;
                if ((GELF_ST_TYPE(symbol.st_info) != STT_FUNC && !label) || address >= out.codeLimit() || !known.insert(address).second)
                    continue;
                Function f;
                f.name = demangled(text);
                f.ranges = {{address, address + std::max(size, 1U)}};
                f.fromTable = true;
                if (size == 0)
                    open.push_back(out.functions_.size());
                out.functions_.push_back(std::move(f));
            }
        }
        for (const std::size_t i : open) {
            const auto next = known.upper_bound(out.functions_[i].begin());
            if (next != known.end())
                out.functions_[i].ranges[0].end = *next;
        }
        std::sort(out.objects_.begin(), out.objects_.end(), [](const auto& a, const auto& b) { return a.address < b.address; });
    }
};

Symbols Symbols::fromElf(const std::string& name)
{
    Symbols out;
    const ElfFile file(name);
    if (file.elf() == nullptr)
        return out;
    out.spaces_ = file.machine() == EM_AVR;
    if (!out.spaces_)
        out.types_.setPointers({.bytes = 4, .codeUnit = 1, .codeMask = file.machine() == EM_ARM ? ~1U : ~0U});
    // Debian's run-time library brings DWARF of its own: what counts is which of the two describes code.
    Symbols stabs;
    if (readDwarf(file, out) && !out.lines_.empty())
        out.kind_ = DebugKind::dwarf;
    if (readStabs(file, stabs) && (out.kind_ == DebugKind::none || stabs.functions_.size() > out.functions_.size())) {
        out = std::move(stabs);
        out.kind_ = DebugKind::stabs;
    }
    TableReader::read(file, out);
    out.finish();
    return out;
}

void Symbols::finish()
{
    std::stable_sort(codeMarks_.begin(), codeMarks_.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    // An end of one sequence and the begin of the next at one address: the begin counts.
    std::stable_sort(lines_.begin(), lines_.end(),
                     [](const LineRow& a, const LineRow& b) { return a.address != b.address ? a.address < b.address : (a.file == kEnd) > (b.file == kEnd); });
    for (std::size_t i = 0; i < functions_.size(); ++i)
        if (functions_[i].caller < 0 && !functions_[i].ranges.empty())
            outerByAddress_.push_back(static_cast<int>(i));
    std::stable_sort(outerByAddress_.begin(), outerByAddress_.end(), [this](int a, int b) { return functions_[static_cast<std::size_t>(a)].begin() < functions_[static_cast<std::size_t>(b)].begin(); });
}

char Symbols::codeMark(std::uint32_t address) const
{
    const auto after = std::upper_bound(codeMarks_.begin(), codeMarks_.end(), address, [](std::uint32_t a, const auto& mark) { return a < mark.first; });
    return after == codeMarks_.begin() ? '\0' : std::prev(after)->second;
}

const LineRow* Symbols::row(std::uint32_t address) const
{
    const auto after = std::upper_bound(lines_.begin(), lines_.end(), address, [](std::uint32_t a, const LineRow& l) { return a < l.address; });
    return after == lines_.begin() || std::prev(after)->file == kEnd ? nullptr : &*std::prev(after);
}

Symbols Symbols::ofFunctions(std::vector<Function> functions)
{
    Symbols out;
    out.functions_ = std::move(functions);
    out.finish();
    return out;
}

Symbols Symbols::of(std::vector<Function> functions, std::vector<std::string> files, std::vector<LineRow> rows, std::vector<Variable> variables, Types types)
{
    Symbols out;
    out.functions_ = std::move(functions);
    out.files_ = std::move(files);
    out.lines_ = std::move(rows);
    out.variables_ = std::move(variables);
    out.types_ = std::move(types);
    out.finish();
    return out;
}

Place Symbols::at(std::uint32_t address) const
{
    Place place;
    if (const int f = functionAt(address); f >= 0 && !functions_[static_cast<std::size_t>(f)].fromCode)
        place.function = functions_[static_cast<std::size_t>(f)].name;
    if (const LineRow* l = row(address)) {
        place.file = files_[l->file];
        place.line = l->line;
    }
    return place;
}

int Symbols::functionWith(std::uint32_t address) const
{
    for (std::size_t i = 0; i < functions_.size(); ++i)
        if (functions_[i].has(address))
            return static_cast<int>(i);
    return -1;
}

int Symbols::outerFunctionAt(std::uint32_t address) const
{
    auto after = std::upper_bound(outerByAddress_.begin(), outerByAddress_.end(), address, [this](std::uint32_t a, int f) { return a < functions_[static_cast<std::size_t>(f)].begin(); });
    // A function in several pieces may begin far before.
    for (int looked = 0; after != outerByAddress_.begin() && looked < 8; ++looked)
        if (const int f = *--after; functions_[static_cast<std::size_t>(f)].has(address))
            return f;
    return -1;
}

int Symbols::functionAt(std::uint32_t address) const
{
    int inner = outerFunctionAt(address);
    if (inner < 0)
        return -1;
    // Inlined ones stand after those into which they went, so a later match is a deeper one.
    for (std::size_t i = static_cast<std::size_t>(inner) + 1; i < functions_.size() && functions_[i].caller >= 0; ++i)
        if (functions_[i].caller == inner && functions_[i].has(address))
            inner = static_cast<int>(i);
    return inner;
}

int Symbols::functionByName(const std::string& name) const
{
    for (std::size_t i = 0; i < functions_.size(); ++i)
        if (functions_[i].caller < 0 && (functions_[i].name == name || functions_[i].name.substr(0, functions_[i].name.find('(')) == name))
            return static_cast<int>(i);
    return -1;
}

std::vector<std::uint32_t> Symbols::addressesOf(const std::string& file, int& line) const
{
    const bool anyFolder = file.find('/') == std::string::npos;
    std::vector<bool> matches(files_.size());
    for (std::size_t i = 0; i < files_.size(); ++i)
        matches[i] = files_[i] == file || (anyFolder ? withoutFolders(files_[i]) == file : files_[i].ends_with("/" + file) || file.ends_with("/" + files_[i]));
    // Rows of no length say nothing: that of a function's signature often has none, as its body begins at the same address.
    const auto says = [&](std::size_t i) { return i + 1 == lines_.size() || lines_[i + 1].address != lines_[i].address; };
    int nearest = INT32_MAX;
    for (std::size_t i = 0; i < lines_.size(); ++i)
        if (const LineRow& l = lines_[i]; l.file != kEnd && matches[l.file] && l.line >= line && says(i))
            nearest = std::min(nearest, l.line);
    if (nearest == INT32_MAX)
        return {};
    line = nearest;
    std::vector<std::uint32_t> out;
    int before = -2;  // the function in whose code of this line the row before lies; -2: it is of another line
    for (std::size_t i = 0; i < lines_.size(); ++i) {
        const LineRow& l = lines_[i];
        if (!says(i))
            continue;
        if (l.file == kEnd || !matches[l.file] || l.line != line) {
            before = -2;
            continue;
        }
        const int function = functionAt(l.address);
        if (function != before)
            out.push_back(l.address);
        before = function;
    }
    return out;
}

std::uint32_t Symbols::afterPrologue(int function) const
{
    const Function& f = functions_[static_cast<std::size_t>(function)];
    if (f.fromTable)
        return f.begin();  // assembler: every line is an instruction
    // The second row is where the body begins; without a prologue it has the address of the first.
    const LineRow* first = nullptr;
    for (auto row = std::lower_bound(lines_.begin(), lines_.end(), f.begin(), [](const LineRow& l, std::uint32_t a) { return l.address < a; }); row != lines_.end() && row->address < f.ranges.front().end; ++row) {
        const LineRow& l = *row;
        if (l.file == kEnd)
            continue;
        if (first != nullptr && (l.address > first->address || l.line != first->line))
            return l.address;
        first = first == nullptr ? &l : first;
    }
    return f.begin();
}

bool Symbols::isLineStart(std::uint32_t address) const
{
    const LineRow* l = row(address);
    return l != nullptr && l->address == address;
}

std::vector<int> Symbols::localsOf(int function) const
{
    std::vector<int> out;
    for (std::size_t i = 0; i < variables_.size(); ++i)
        if (variables_[i].function == function)
            out.push_back(static_cast<int>(i));
    return out;
}

int Symbols::global(const std::string& name) const
{
    int found = -1;
    for (std::size_t i = 0; i < variables_.size(); ++i)
        if (variables_[i].name == name && (variables_[i].function < 0 || (found < 0 && variables_[i].fixedAddress())))
            if (found < 0 || variables_[static_cast<std::size_t>(found)].function >= 0)
                found = static_cast<int>(i);
    return found;
}

std::string Symbols::nameOf(std::uint32_t address, Space space) const
{
    if (space == Space::flash || !spaces_)
        if (const int f = outerFunctionAt(address); f >= 0) {
            const std::uint32_t offset = address - functions_[static_cast<std::size_t>(f)].begin();
            return functions_[static_cast<std::size_t>(f)].name + (offset == 0 ? "" : fmt::format("+{}", offset));
        }
    const std::uint32_t elf = address + (!spaces_ ? 0 : space == Space::data ? kElfData : space == Space::eeprom ? kElfEeprom : 0);
    const auto after = std::upper_bound(objects_.begin(), objects_.end(), elf, [](std::uint32_t a, const Label& l) { return a < l.address; });
    if (after == objects_.begin() || elf >= std::prev(after)->address + std::prev(after)->size)
        return {};
    const std::uint32_t offset = elf - std::prev(after)->address;
    return std::prev(after)->name + (offset == 0 ? "" : fmt::format("+{}", offset));
}

}  // namespace bramix::debug
