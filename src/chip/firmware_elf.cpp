#include <algorithm>
#include <cstring>
#include <memory>

#include <fmt/format.h>
#include <gelf.h>
#include <libelf.h>

#include "chip/firmware.h"

namespace bramix::chip {

using kernel::fail;
using kernel::Result;

namespace {

// Puts bytes into a memory that grows as needed, up to its size.
Result<void> place(const std::string& where, std::vector<std::uint8_t>& memory, std::size_t size, const char* what, const Device& chip, std::uint64_t at,
                   const std::uint8_t* data, std::uint64_t count)
{
    if (at + count > size)
        return fail(where, fmt::format("0x{:x} to 0x{:x} does not fit: {} has {} bytes of {}", at, at + count - 1, chip.title, size, what),
                    "is the firmware built for another chip?");
    if (memory.size() < at + count)
        memory.resize(at + count, 0xFF);
    std::copy(data, data + count, memory.begin() + static_cast<std::ptrdiff_t>(at));
    return {};
}

struct ElfCloser {
    void operator()(Elf* elf) const { elf_end(elf); }
};

// The device name in .note.gnu.avr.deviceinfo: note header (name size, size, type), "AVR\0", then six 32-bit memory figures, an
// offset table (its own size first, then offsets into the strings behind it), and the strings.
std::string deviceName(Elf* elf)
{
    std::size_t names = 0;
    if (elf_getshdrstrndx(elf, &names) != 0)
        return {};
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
        GElf_Shdr header;
        if (gelf_getshdr(section, &header) == nullptr)
            continue;
        const char* name = elf_strptr(elf, names, header.sh_name);
        if (name == nullptr || std::strcmp(name, ".note.gnu.avr.deviceinfo") != 0)
            continue;
        const Elf_Data* data = elf_rawdata(section, nullptr);
        if (data == nullptr || data->d_buf == nullptr)
            return {};
        const auto* bytes = static_cast<const std::uint8_t*>(data->d_buf);
        const auto word = [&](std::size_t at) -> std::uint32_t {
            std::uint32_t v = 0;
            if (at + 4 <= data->d_size)
                std::memcpy(&v, bytes + at, 4);
            return v;
        };
        const std::size_t table = 12 + 4 + 24;  // header, "AVR\0", six figures
        const std::uint32_t tableSize = word(table);
        const std::size_t at = table + tableSize + word(table + 4);
        std::string device;
        for (std::size_t i = at; tableSize >= 8 && i < data->d_size && bytes[i] != 0 && device.size() < 32; ++i)
            device += static_cast<char>(bytes[i]);
        return device;
    }
    return {};
}

// Behind .data, .bss and .noinit: the sections that take room in RAM.
std::uint32_t endOfData(Elf* elf, const Device& chip)
{
    const std::uint64_t base = chip.image.dataBase, first = base + chip.ramBegin, last = base + chip.ramEnd;
    std::uint64_t end = 0;
    for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
        GElf_Shdr header;
        if (gelf_getshdr(section, &header) == nullptr || (header.sh_flags & SHF_ALLOC) == 0)
            continue;
        if (header.sh_addr >= first && header.sh_addr <= last && header.sh_size > 0)
            end = std::max(end, header.sh_addr + header.sh_size - base);
    }
    return static_cast<std::uint32_t>(end);
}

}  // namespace

Result<Firmware> readElf(const std::string& name, const std::vector<std::uint8_t>& bytes, const Device& chip)
{
    elf_version(EV_CURRENT);
    // libelf does not write to an image opened for reading, but its signature is older than const.
    const std::unique_ptr<Elf, ElfCloser> elf(elf_memory(const_cast<char*>(reinterpret_cast<const char*>(bytes.data())), bytes.size()));
    GElf_Ehdr header;
    if (elf == nullptr || elf_kind(elf.get()) != ELF_K_ELF || gelf_getehdr(elf.get(), &header) == nullptr)
        return fail(name, fmt::format("ELF header: {}; expected a whole 52-byte header", elf == nullptr ? elf_errmsg(-1) : "cut short or damaged"));
    if (gelf_getclass(elf.get()) != ELFCLASS32 || header.e_ident[EI_DATA] != ELFDATA2LSB)
        return fail(name, fmt::format("ELF header: expected a 32-bit little-endian file, as {} compilers write", chip.image.machine));
    if (header.e_machine != chip.image.elfMachine)
        return fail(name, fmt::format("ELF header: machine {}; expected {} ({})", header.e_machine, chip.image.elfMachine, chip.image.machine), "build it with " + chip.image.compiler);
    if (header.e_type != ET_EXEC)
        return fail(name, fmt::format("ELF header: type {}; expected {} (executable)", header.e_type, ET_EXEC), "link it first");
    std::size_t count = 0;
    if (elf_getphdrnum(elf.get(), &count) != 0 || count == 0)
        return fail(name, "ELF header: no program headers; expected at least one loadable segment");
    Firmware firmware;
    firmware.isElf = true;
    firmware.entry = static_cast<std::uint32_t>(header.e_entry);
    bool loaded = false;
    for (std::size_t i = 0; i < count; ++i) {
        GElf_Phdr segment;
        const std::string where = fmt::format("{}: program header {}", name, i);
        if (gelf_getphdr(elf.get(), static_cast<int>(i), &segment) == nullptr)
            return fail(where, "cut short; expected 32 bytes");
        if (segment.p_type != PT_LOAD || segment.p_filesz == 0)
            continue;
        if (segment.p_offset > bytes.size() || segment.p_filesz > bytes.size() - segment.p_offset)
            return fail(where, fmt::format("its {} bytes at offset {} reach past the end of the file ({} bytes)", segment.p_filesz, segment.p_offset, bytes.size()),
                        "the file is cut short: build or copy it again");
        const std::uint8_t* data = bytes.data() + segment.p_offset;
        const std::uint64_t at = segment.p_paddr;
        using Into = ImageMap::Range::Into;
        const auto range = std::find_if(chip.image.ranges.begin(), chip.image.ranges.end(), [at](const ImageMap::Range& r) { return at >= r.begin && at < r.end; });
        if (range == chip.image.ranges.end())
            return fail(where, fmt::format("load address 0x{:x}; expected {}", at, chip.image.expected));
        Result<void> placed;
        if (range->into == Into::program) {
            placed = place(where, firmware.flash, chip.programBytes(), "flash", chip, at - range->begin, data, segment.p_filesz);
            loaded = true;
        } else if (range->into == Into::nonVolatile) {
            firmware.eepromGiven = true;
            placed = place(where, firmware.eeprom, chip.regionOf(RegionKind::nonVolatile)->size, "EEPROM", chip, at - range->begin, data, segment.p_filesz);
        } else if (range->into == Into::memory) {
            if (segment.p_filesz > range->end - at)
                return fail(where, fmt::format("0x{:x} to 0x{:x} does not fit: memory ends at 0x{:x}", at, at + segment.p_filesz - 1, range->end - 1), "is the firmware built for another chip?");
            firmware.memory.push_back({static_cast<std::uint32_t>(at), {data, data + segment.p_filesz}});
            loaded = true;
        }
        if (!placed)
            return tl::unexpected(placed.error());
    }
    if (!loaded)
        return fail(name, "no segment loads into flash; expected program code");
    firmware.builtFor = deviceName(elf.get());
    firmware.dataEnd = endOfData(elf.get(), chip);
    return firmware;
}

}  // namespace bramix::chip
