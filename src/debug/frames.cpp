#include "debug/frames.h"

#include <algorithm>
#include <array>
#include <optional>

#include <dwarf.h>
#include "debug/elf_file.h"

namespace bramix::debug {

FrameTable FrameTable::fromElf(const std::string& name)
{
    FrameTable out;
    const ElfFile file(name);
    Elf_Data* data = file.section(".debug_frame");
    std::size_t identSize = 0;
    if (data == nullptr || data->d_buf == nullptr)
        return out;
    const auto* ident = reinterpret_cast<const unsigned char*>(elf_getident(file.elf(), &identSize));
    std::map<Dwarf_Off, std::size_t> cieAt;
    Dwarf_CFI_Entry entry;
    Dwarf_Off next = 0;
    for (Dwarf_Off offset = 0; dwarf_next_cfi(ident, data, false, offset, &next, &entry) == 0; offset = next) {
        if (dwarf_cfi_cie_p(&entry)) {
            Cie cie;
            cie.initial.assign(entry.cie.initial_instructions, entry.cie.initial_instructions_end);
            cie.codeFactor = entry.cie.code_alignment_factor;
            cie.dataFactor = entry.cie.data_alignment_factor;
            cie.returnRegister = static_cast<unsigned>(entry.cie.return_address_register);
            cieAt[offset] = out.cies_.size();
            out.cies_.push_back(std::move(cie));
            continue;
        }
        const auto cie = cieAt.find(entry.fde.CIE_pointer);
        constexpr std::ptrdiff_t kHead = 8;  // first address and length, four bytes each
        if (cie == cieAt.end() || entry.fde.end - entry.fde.start < kHead)
            continue;
        const auto word = [&](int at) {
            std::uint32_t value = 0;
            for (int i = 3; i >= 0; --i)
                value = (value << 8) | entry.fde.start[at + i];
            return value;
        };
        out.fdes_.push_back({word(0), word(0) + word(4), cie->second, {entry.fde.start + kHead, entry.fde.end}});
    }
    std::sort(out.fdes_.begin(), out.fdes_.end(), [](const Fde& a, const Fde& b) { return a.begin < b.begin; });
    return out;
}

// Runs the description of a function up to pc.
std::optional<unsigned> FrameTable::baseAt(std::uint32_t pc) const
{
    Rules rules;
    return rulesAt(pc, rules) ? std::optional(rules.cfaRegister) : std::nullopt;
}

bool FrameTable::rulesAt(std::uint32_t pc, Rules& rules) const
{
    const auto after = std::upper_bound(fdes_.begin(), fdes_.end(), pc, [](std::uint32_t a, const Fde& f) { return a < f.begin; });
    if (after == fdes_.begin() || pc >= std::prev(after)->end)
        return false;
    const Fde& fde = *std::prev(after);
    const Cie& cie = cies_[fde.cie];
    std::vector<Rules> remembered;
    Rules initial;
    std::uint32_t at = fde.begin;
    bool good = true;
    const auto run = [&](const std::vector<std::uint8_t>& program) {
        std::size_t i = 0;
        const auto byte = [&]() -> std::uint64_t { return i < program.size() ? program[i++] : 0; };
        const auto unsignedLeb = [&] {
            std::uint64_t value = 0;
            for (unsigned shift = 0; shift < 64; shift += 7) {
                const std::uint64_t b = byte();
                value |= (b & 0x7F) << shift;
                if ((b & 0x80) == 0)
                    break;
            }
            return value;
        };
        const auto signedLeb = [&] {
            std::uint64_t value = 0;
            for (unsigned shift = 0; shift < 64;) {
                const std::uint64_t b = byte();
                value |= (b & 0x7F) << shift;
                shift += 7;
                if ((b & 0x80) == 0) {
                    if ((b & 0x40) != 0 && shift < 64)
                        value |= ~std::uint64_t{0} << shift;
                    break;
                }
            }
            return static_cast<std::int64_t>(value);
        };
        const auto fixed = [&](int bytes) {
            std::uint64_t value = 0;
            for (int k = 0; k < bytes; ++k)
                value |= byte() << (8 * k);
            return value;
        };
        const auto restore = [&](unsigned reg) {
            const auto was = initial.saved.find(reg);
            if (was == initial.saved.end())
                rules.saved.erase(reg);
            else
                rules.saved[reg] = was->second;
        };
        while (i < program.size() && good) {
            const auto op = static_cast<unsigned>(byte());
            const unsigned low = op & 0x3FU;
            std::uint64_t advance = 0;
            switch (op & 0xC0U) {
            case DW_CFA_advance_loc: advance = low; break;
            case DW_CFA_offset: rules.saved[low] = static_cast<std::int64_t>(unsignedLeb()) * cie.dataFactor; continue;
            case DW_CFA_restore: restore(low); continue;
            default:
                switch (op) {
                case DW_CFA_nop: continue;
                case DW_CFA_set_loc:
                    at = static_cast<std::uint32_t>(fixed(4));
                    if (at > pc)
                        return;
                    continue;
                case DW_CFA_advance_loc1: advance = fixed(1); break;
                case DW_CFA_advance_loc2: advance = fixed(2); break;
                case DW_CFA_advance_loc4: advance = fixed(4); break;
                case DW_CFA_offset_extended: {
                    const auto reg = static_cast<unsigned>(unsignedLeb());
                    rules.saved[reg] = static_cast<std::int64_t>(unsignedLeb()) * cie.dataFactor;
                    continue;
                }
                case DW_CFA_offset_extended_sf: {
                    const auto reg = static_cast<unsigned>(unsignedLeb());
                    rules.saved[reg] = signedLeb() * cie.dataFactor;
                    continue;
                }
                case DW_CFA_restore_extended: restore(static_cast<unsigned>(unsignedLeb())); continue;
                case DW_CFA_undefined: case DW_CFA_same_value: rules.saved.erase(static_cast<unsigned>(unsignedLeb())); continue;
                case DW_CFA_remember_state: remembered.push_back(rules); continue;
                case DW_CFA_restore_state:
                    if (!remembered.empty()) {
                        rules = remembered.back();
                        remembered.pop_back();
                    }
                    continue;
                case DW_CFA_def_cfa:
                    rules.cfaRegister = static_cast<unsigned>(unsignedLeb());
                    rules.cfaOffset = static_cast<std::int64_t>(unsignedLeb());
                    continue;
                case DW_CFA_def_cfa_register: rules.cfaRegister = static_cast<unsigned>(unsignedLeb()); continue;
                case DW_CFA_def_cfa_offset: rules.cfaOffset = static_cast<std::int64_t>(unsignedLeb()); continue;
                case DW_CFA_def_cfa_offset_sf: rules.cfaOffset = signedLeb() * cie.dataFactor; continue;
                default: good = false; continue;  // expressions: avr-gcc writes none
                }
            }
            if (at + advance * cie.codeFactor > pc)
                return;
            at += static_cast<std::uint32_t>(advance * cie.codeFactor);
        }
    };
    run(cie.initial);
    initial = rules;
    run(fde.program);
    return good;
}

std::optional<std::size_t> registerOfDwarf(const chip::Device& device, std::uint64_t number)
{
    for (std::size_t i = 0; i < device.coreRegisters.size(); ++i)
        if (device.coreRegisters[i].dwarfNumber >= 0 && static_cast<std::uint64_t>(device.coreRegisters[i].dwarfNumber) == number)
            return i;
    return std::nullopt;
}

std::int64_t pointerIn(const chip::Device& device, const Registers& registers, std::uint64_t dwarf)
{
    std::uint64_t value = 0;
    unsigned bytes = 0;
    while (bytes < device.pointerBytes) {
        const auto index = registerOfDwarf(device, dwarf++);
        if (!index || *index >= Registers::kMost)
            break;
        if (device.coreRegisters[*index].role == chip::CoreRole::stackPointer)
            return std::int64_t{registers.sp};
        value |= registers.r[*index] << (8 * bytes);
        bytes += device.coreRegisters[*index].bytes();
    }
    return static_cast<std::int64_t>(value);
}

Registers registersOf(const chip::DebugPort& port)
{
    Registers out;
    const auto& registers = port.device().coreRegisters;
    for (std::size_t i = 0; i < std::min(registers.size(), out.r.size()); ++i)
        out.r[i] = port.readRegister(i);
    out.sp = static_cast<std::uint32_t>(port.stackPointer());
    out.pc = port.codeAddress();
    return out;
}

}  // namespace bramix::debug
