#include "chip/pic16/family.h"

#include <bit>

#include <fmt/format.h>

#include "chip/pic16/chip.h"
#include "chip/pic16/device.h"

namespace bramix::chip::pic16 {

namespace {

const ConfigField* fieldNamed(const Device& device, std::string_view name)
{
    for (const ConfigField& f : configFields(modelOf(device)))
        if (f.name == name)
            return &f;
    return nullptr;
}

// The bits of a mask, packed: the lowest first.
unsigned gathered(unsigned word, unsigned mask)
{
    unsigned out = 0, at = 0;
    for (unsigned b = 0; b < 16; ++b)
        if (((mask >> b) & 1U) != 0)
            out |= ((word >> b) & 1U) << at++;
    return out;
}

unsigned optionValue(const Device& device, const OptionBytes& bytes, std::string_view name)
{
    const ConfigField* f = fieldNamed(device, name);
    if (f == nullptr || bytes.size() < 4)
        return ~0U;
    return gathered(bytes[2 * f->word] | bytes[2 * f->word + 1] << 8, f->mask);
}

kernel::Result<void> setOption(const Device& device, OptionBytes& bytes, std::string_view name, std::string_view value)
{
    const ConfigField* f = fieldNamed(device, name);
    if (f == nullptr && name != "CONFIG" && name != "CONFIG1" && name != "CONFIG2")
        return kernel::fail(std::string(name), "is no option of " + device.title);
    unsigned number = 0;
    const std::string text(value);
    const bool binary = text.starts_with("0b");
    char* end = nullptr;
    number = static_cast<unsigned>(std::strtoul(text.c_str() + (binary ? 2 : 0), &end, binary ? 2 : 0));
    const unsigned most = f == nullptr ? 0x3FFFU : (1U << std::popcount(f->mask)) - 1U;
    if (text.empty() || *end != 0 || number > most)
        return kernel::fail(std::string(name), fmt::format("is \"{}\"; expected a number from 0 to {:#x}", text, most));
    if (bytes.size() < 4)
        bytes = device.shipped;
    const unsigned word = f == nullptr ? (name == "CONFIG2" ? 1U : 0U) : f->word;
    unsigned all = bytes[2 * word] | bytes[2 * word + 1] << 8;
    if (f == nullptr) {
        all = number;
    } else {
        unsigned at = 0;
        for (unsigned b = 0; b < 16; ++b)
            if (((f->mask >> b) & 1U) != 0)
                all = (all & ~(1U << b)) | ((number >> at++) & 1U) << b;
    }
    bytes[2 * word] = static_cast<std::uint8_t>(all);
    bytes[2 * word + 1] = static_cast<std::uint8_t>(all >> 8);
    return {};
}

// Intel HEX as assemblers write it: a word's two bytes from twice its address, configuration words from 0x400E, the EEPROM's bytes in words from 0x4200.
kernel::Result<Firmware> loadImage(const std::string& file, const Device& device)
{
    auto bytes = readFirmwareFile(file);
    if (!bytes)
        return tl::unexpected(bytes.error());
    Firmware out;
    out.file = file;
    const Model& m = modelOf(device);
    if (file.ends_with(".bin")) {
        if (bytes->size() > device.programBytes())
            return kernel::fail(file, fmt::format("{} bytes do not fit: {} has {} words of program memory", bytes->size(), device.title, m.words));
        out.flash = std::move(*bytes);
        return out;
    }
    constexpr std::uint32_t kConfig = 0x400E, kIdentity = 0x4000, kEeprom = 0x4200;
    OptionBytes options = device.shipped;
    bool configured = false;
    const auto read = readHexRecords(file, *bytes, [&](std::uint32_t address, std::uint8_t value) -> std::string {
        if (address < device.programBytes()) {
            if (out.flash.size() <= address)
                out.flash.resize((address | 1U) + 1U, 0xFF);
            out.flash[address] = value;
            return {};
        }
        if (address >= kIdentity && address < kConfig)
            return {};
        if (address >= kConfig && address < kConfig + 4) {
            options[address - kConfig] = value;
            configured = true;
            return {};
        }
        if (m.eepromBytes != 0 && address >= kEeprom && address < kEeprom + 2U * m.eepromBytes) {
            out.eepromGiven = true;
            const std::size_t at = (address - kEeprom) / 2;
            if (out.eeprom.size() <= at)
                out.eeprom.resize(at + 1, 0xFF);
            if ((address & 1U) == 0)
                out.eeprom[at] = value;
            return {};
        }
        return fmt::format("address 0x{:x} does not fit: {} has {} words of program memory (below 0x{:x}), configuration words from 0x400e and {} bytes of EEPROM from 0x4200", address, device.title, m.words, device.programBytes(), m.eepromBytes);
    });
    if (!read)
        return tl::unexpected(read.error());
    if (out.flash.empty())
        return kernel::fail(file, "holds no data; expected program code");
    if (configured)
        out.options = options;
    return out;
}

InstructionInfo decodeAt(const Device& device, const CodeView& code, std::uint32_t address)
{
    const std::size_t at = std::size_t{address - code.begin} * 2;
    if (address < code.begin || at + 1 >= code.bytes.size())
        return {};
    return infoOf(decode(static_cast<std::uint16_t>(code.bytes[at] | code.bytes[at + 1] << 8)), address, device.codeEnd);
}

}  // namespace

InstructionInfo infoOf(const Instruction& i, std::uint32_t address, std::uint32_t codeEnd)
{
    InstructionInfo out;
    out.size = 1;
    out.flow = Flow::next;
    const std::uint32_t page = address & 0x1800U;
    const auto named = [&](RegisterSet& set) {
        switch (i.f) {
        case kStatus: set.set(kStatusRegister); break;
        case kFsr: set.set(kFsrRegister); break;
        case kPclath: set.set(kPclathRegister); break;
        default: break;
        }
    };
    const auto result = [&](bool flags) {
        named(out.reads);
        if (i.toFile)
            named(out.writes);
        else
            out.writes.set(kWRegister);
        if (flags)
            out.writes.set(kStatusRegister);
        if (i.toFile) {
            out.stores = true;
            if (i.f == kPcl)
                out.flow = Flow::indirectJump;
        }
    };
    switch (i.op) {
    case Op::undefined: case Op::count: out.flow = Flow::none; break;
    case Op::addwf: case Op::andwf: case Op::iorwf: case Op::subwf: case Op::xorwf: out.reads.set(kWRegister), result(true); break;
    case Op::comf: case Op::decf: case Op::incf: case Op::movf: result(true); break;
    case Op::rlf: case Op::rrf: out.reads.set(kStatusRegister), result(true); break;
    case Op::swapf: result(false); break;
    case Op::decfsz: case Op::incfsz: result(false), out.flow = Flow::skip, out.target = (address + 2) % codeEnd; break;
    case Op::clrf: named(out.writes), out.writes.set(kStatusRegister), out.stores = true; break;
    case Op::clrw: out.writes.set(kWRegister), out.writes.set(kStatusRegister); break;
    case Op::movwf:
        out.reads.set(kWRegister), named(out.writes), out.stores = true;
        if (i.f == kPcl)
            out.flow = Flow::indirectJump;
        break;
    case Op::bcf: case Op::bsf: named(out.reads), named(out.writes), out.stores = true; break;
    case Op::btfsc: case Op::btfss: named(out.reads), out.flow = Flow::skip, out.target = (address + 2) % codeEnd; break;
    case Op::addlw: case Op::andlw: case Op::iorlw: case Op::sublw: case Op::xorlw: out.reads.set(kWRegister), out.writes.set(kWRegister), out.writes.set(kStatusRegister); break;
    case Op::movlw: out.writes.set(kWRegister); break;
    case Op::call: out.flow = Flow::call, out.target = (page | i.k) % codeEnd, out.reads.set(kPclathRegister); break;
    case Op::goto_: out.flow = Flow::jump, out.target = (page | i.k) % codeEnd, out.reads.set(kPclathRegister); break;
    case Op::retlw: out.writes.set(kWRegister), out.flow = Flow::return_; break;
    case Op::return_: out.flow = Flow::return_; break;
    case Op::retfie: out.flow = Flow::exceptionReturn; break;
    case Op::option: case Op::tris: out.reads.set(kWRegister), out.stores = true; break;
    case Op::clrwdt: case Op::sleep: out.writes.set(kStatusRegister); break;
    case Op::nop: break;
    }
    return out;
}

const Family& family()
{
    static constexpr BuildTool kTools[] = {{"gpasm", "gputils"}, {"gplink", "gputils"}};
    static const Family all{
        .name = "pic16",
        .devices = devices,
        .make = [](const Device& device, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer) -> std::unique_ptr<Mcu> { return std::make_unique<Pic16>(modelOf(device), options, queue, circuit, observer); },
        .optionValue = optionValue,
        .setOption = setOption,
        .loadFirmware = loadImage,
        .isPortPin = [](const Device& device, std::string_view pin) { return Pic16::pinNamed(modelOf(device), pin).has_value(); },
        .decode = decodeAt,
        .tools = kTools,
        .clocksPerCycle = 4,
    };
    return all;
}

}  // namespace bramix::chip::pic16
