#include "chip/firmware.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>

#include <fmt/format.h>

namespace bramix::chip {

using kernel::fail;
using kernel::Result;

namespace {

// No image for these chips comes near this; a larger file is something else.
constexpr std::uintmax_t kLargestFile = 64U << 20U;

}  // namespace

Result<std::vector<std::uint8_t>> readFirmwareFile(const std::string& file)
{
    std::error_code ec;
    const auto status = std::filesystem::status(file, ec);
    if (!std::filesystem::exists(status))
        return fail(file, "no such file", "check the path of the firmware");
    if (std::filesystem::is_directory(status))
        return fail(file, "is a folder; expected an ELF or Intel HEX file");
    if (!std::filesystem::is_regular_file(status))
        return fail(file, "is a device or a pipe; expected an ELF or Intel HEX file");
    const std::uintmax_t size = std::filesystem::file_size(file, ec);
    if (!ec && size > kLargestFile)
        return fail(file, fmt::format("is {} bytes long; expected firmware of at most {} MiB", size, kLargestFile >> 20U));
    std::ifstream in(file, std::ios::binary);
    if (!in)
        return fail(file, fmt::format("cannot be read: {}", std::strerror(errno)));
    return std::vector<std::uint8_t>(std::istreambuf_iterator<char>(in), {});
}

std::vector<std::uint16_t> Firmware::words() const
{
    std::vector<std::uint16_t> out((flash.size() + 1) / 2, 0xFFFF);
    for (std::size_t i = 0; i < flash.size(); ++i) {
        const unsigned shift = (i & 1) * 8;
        out[i / 2] = static_cast<std::uint16_t>((out[i / 2] & ~(0xFF << shift)) | (flash[i] << shift));
    }
    return out;
}

Result<Firmware> readImage(const std::string& file, const Device& chip)
{
    const auto bytes = readFirmwareFile(file);
    if (!bytes)
        return tl::unexpected(bytes.error());
    if (bytes->empty())
        return fail(file, "is empty; expected an ELF or Intel HEX file");
    Result<Firmware> firmware = fail(file, "");
    constexpr std::array<std::uint8_t, 4> kElfMagic{0x7F, 'E', 'L', 'F'};
    const auto firstText = std::find_if(bytes->begin(), bytes->end(), [](std::uint8_t b) { return b != ' ' && b != '\r' && b != '\n' && b != '\t'; });
    const bool looksElf = bytes->size() >= 2 && (*bytes)[0] == 0x7F && std::equal(kElfMagic.begin(), kElfMagic.begin() + std::min<std::ptrdiff_t>(4, static_cast<std::ptrdiff_t>(bytes->size())), bytes->begin());
    if (looksElf) {
        firmware = readElf(file, *bytes, chip);
    } else if (file.ends_with(".bin")) {
        if (const std::uint64_t room = chip.programBytes() - chip.image.rawOffset; bytes->size() > room)
            return fail(file, fmt::format("{} bytes do not fit: {} has {} bytes of flash", bytes->size(), chip.title, room));
        Firmware raw;
        raw.flash.assign(chip.image.rawOffset, 0xFF);
        raw.flash.insert(raw.flash.end(), bytes->begin(), bytes->end());
        firmware = std::move(raw);
    } else if (firstText != bytes->end() && *firstText == ':') {
        firmware = readIntelHex(file, *bytes, chip);
    } else {
        return fail(file, fmt::format("offset 0: begins with 0x{:02x}; expected an ELF file (0x7f 'E' 'L' 'F'), Intel HEX (':'), or a name ending in .bin", (*bytes)[0]));
    }
    if (firmware) {
        firmware->file = file;
        const std::size_t boot = chip.programBytes() - chip.image.bootBytes;
        firmware->bootCode = chip.image.bootBytes != 0 && firmware->flash.size() > boot &&
                             std::any_of(firmware->flash.begin() + static_cast<std::ptrdiff_t>(boot), firmware->flash.end(), [](std::uint8_t b) { return b != 0xFF; });
    }
    return firmware;
}

}  // namespace bramix::chip
