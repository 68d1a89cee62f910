#include "debug/symbols.h"

#include <algorithm>
#include <fcntl.h>
#include <map>
#include <unistd.h>

#include <elfutils/libdw.h>
#include <fmt/format.h>
#include <gelf.h>

namespace bramix::debug {

namespace {

constexpr std::uint32_t kFlashEnd = 0x800000;  // above lie the data address spaces

// A file open for libelf and libdw, closed with everything that was read from it.
class ElfFile {
public:
    explicit ElfFile(const std::string& name) : fd_(open(name.c_str(), O_RDONLY | O_CLOEXEC))
    {
        elf_version(EV_CURRENT);
        if (fd_ >= 0)
            elf_ = elf_begin(fd_, ELF_C_READ, nullptr);
        if (elf_ != nullptr)
            dwarf_ = dwarf_begin_elf(elf_, DWARF_C_READ, nullptr);
    }
    ~ElfFile()
    {
        dwarf_end(dwarf_);
        elf_end(elf_);
        if (fd_ >= 0)
            close(fd_);
    }
    ElfFile(const ElfFile&) = delete;
    ElfFile& operator=(const ElfFile&) = delete;

    [[nodiscard]] Elf* elf() const { return elf_; }
    [[nodiscard]] Dwarf* dwarf() const { return dwarf_; }

private:
    int fd_;
    Elf* elf_ = nullptr;
    Dwarf* dwarf_ = nullptr;
};

}  // namespace

std::string Place::brief() const
{
    if (line > 0)
        return fmt::format("{}:{}", file.substr(file.rfind('/') + 1), line);
    return function.empty() ? std::string() : function + "()";
}

std::string Place::full() const
{
    std::string text = function.empty() ? std::string() : function + "()";
    if (line > 0)
        text += fmt::format("{}{}:{}", text.empty() ? "" : " at ", file, line);
    return text;
}

Symbols Symbols::fromElf(const std::string& name)
{
    Symbols out;
    const ElfFile file(name);
    if (file.elf() == nullptr)
        return out;
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(file.elf(), section)) != nullptr;) {
        GElf_Shdr header;
        if (gelf_getshdr(section, &header) == nullptr || header.sh_type != SHT_SYMTAB || header.sh_entsize == 0)
            continue;
        Elf_Data* data = elf_getdata(section, nullptr);
        if (data == nullptr)
            continue;
        for (std::size_t i = 0; i < header.sh_size / header.sh_entsize; ++i) {
            GElf_Sym symbol;
            if (gelf_getsym(data, static_cast<int>(i), &symbol) == nullptr || GELF_ST_TYPE(symbol.st_info) != STT_FUNC || symbol.st_value >= kFlashEnd)
                continue;
            const char* text = elf_strptr(file.elf(), header.sh_link, symbol.st_name);
            const auto begin = static_cast<std::uint32_t>(symbol.st_value);
            if (text != nullptr && *text != 0)
                out.functions_.push_back({begin, begin + static_cast<std::uint32_t>(std::max<GElf_Xword>(symbol.st_size, 1)), text});
        }
    }
    std::sort(out.functions_.begin(), out.functions_.end(), [](const Function& a, const Function& b) { return a.begin < b.begin; });
    if (file.dwarf() == nullptr)
        return out;
    std::map<std::string, std::uint32_t> fileIndex;
    Dwarf_CU* unit = nullptr;
    Dwarf_Die unitDie;
    std::uint8_t unitType = 0;
    while (dwarf_get_units(file.dwarf(), unit, &unit, nullptr, &unitType, &unitDie, nullptr) == 0) {
        Dwarf_Lines* lines = nullptr;
        std::size_t count = 0;
        if (dwarf_getsrclines(&unitDie, &lines, &count) != 0)
            continue;
        for (std::size_t i = 0; i < count; ++i) {
            Dwarf_Line* row = dwarf_onesrcline(lines, i);
            Dwarf_Addr address = 0;
            int line = 0;
            bool end = false;
            if (dwarf_lineaddr(row, &address) != 0 || dwarf_lineno(row, &line) != 0 || dwarf_lineendsequence(row, &end) != 0 || address >= kFlashEnd)
                continue;
            const char* source = dwarf_linesrc(row, nullptr, nullptr);
            std::uint32_t index = kEnd;
            if (!end && source != nullptr) {
                const auto [entry, isNew] = fileIndex.try_emplace(source, static_cast<std::uint32_t>(out.files_.size()));
                if (isNew)
                    out.files_.emplace_back(source);
                index = entry->second;
            }
            out.lines_.push_back({static_cast<std::uint32_t>(address), index, line});
        }
    }
    // An end of one sequence and the begin of the next at one address: the begin counts.
    std::stable_sort(out.lines_.begin(), out.lines_.end(),
                     [](const Line& a, const Line& b) { return a.address != b.address ? a.address < b.address : (a.file == kEnd) > (b.file == kEnd); });
    return out;
}

Place Symbols::at(std::uint32_t address) const
{
    Place place;
    auto function = std::upper_bound(functions_.begin(), functions_.end(), address, [](std::uint32_t a, const Function& f) { return a < f.begin; });
    if (function != functions_.begin() && address < std::prev(function)->end)
        place.function = std::prev(function)->name;
    auto line = std::upper_bound(lines_.begin(), lines_.end(), address, [](std::uint32_t a, const Line& l) { return a < l.address; });
    if (line != lines_.begin() && std::prev(line)->file != kEnd) {
        place.file = files_[std::prev(line)->file];
        place.line = std::prev(line)->line;
    }
    return place;
}

}  // namespace bramix::debug
