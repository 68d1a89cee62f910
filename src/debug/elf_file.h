// A file open for libelf and libdw, closed with everything that was read from it.
#pragma once

#include <cstring>
#include <fcntl.h>
#include <string>
#include <unistd.h>

#include <elfutils/libdw.h>
#include <gelf.h>

namespace bramix::debug {

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
    // EM_AVR and the like; EM_NONE of what is no ELF file.
    [[nodiscard]] unsigned machine() const
    {
        GElf_Ehdr header;
        return elf_ != nullptr && gelf_getehdr(elf_, &header) != nullptr ? header.e_machine : EM_NONE;
    }

    // The contents of a section by its name; null where there is none.
    [[nodiscard]] Elf_Data* section(const std::string& name, std::size_t* link = nullptr) const
    {
        std::size_t names = 0;
        if (elf_ == nullptr || elf_getshdrstrndx(elf_, &names) != 0)
            return nullptr;
        for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf_, section)) != nullptr;) {
            GElf_Shdr header;
            if (gelf_getshdr(section, &header) == nullptr)
                continue;
            const char* text = elf_strptr(elf_, names, header.sh_name);
            if (text == nullptr || name != text)
                continue;
            if (link != nullptr)
                *link = header.sh_link;
            return elf_getdata(section, nullptr);
        }
        return nullptr;
    }

    // A text that libdw has found in one of the sections, which in a damaged file may run over its end.
    [[nodiscard]] std::string bounded(const char* text) const
    {
        if (text == nullptr)
            return {};
        for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf_, section)) != nullptr;) {
            const Elf_Data* data = elf_rawdata(section, nullptr);
            const auto* begin = data == nullptr ? nullptr : static_cast<const char*>(data->d_buf);
            if (begin != nullptr && text >= begin && text < begin + data->d_size)
                return {text, strnlen(text, static_cast<std::size_t>(begin + data->d_size - text))};
        }
        return text;
    }

private:
    int fd_;
    Elf* elf_ = nullptr;
    Dwarf* dwarf_ = nullptr;
};

}  // namespace bramix::debug
