#include "debug/arch/avr/architecture.h"

#include <fmt/format.h>

#include "chip/avr/core/isa.h"
#include "chip/avr/device.h"

namespace bramix::debug::avr {

namespace core = chip::avr;
using core::Op;

namespace {

// By flag number.
constexpr const char* kSetFlag[] = {"sec", "sez", "sen", "sev", "ses", "seh", "set", "sei"};
constexpr const char* kClearFlag[] = {"clc", "clz", "cln", "clv", "cls", "clh", "clt", "cli"};
constexpr const char* kBranchSet[] = {"brcs", "breq", "brmi", "brvs", "brlt", "brhs", "brts", "brie"};
constexpr const char* kBranchClear[] = {"brcc", "brne", "brpl", "brvc", "brge", "brhc", "brtc", "brid"};

std::string registerName(const core::ChipTable& chip, std::uint16_t address, const Symbols* symbols)
{
    if (address < chip.ioEnd)
        if (const core::RegisterRow* row = core::findRegister(chip, address))
            return std::string(row->name);
    return symbols == nullptr ? std::string() : symbols->nameOf(address, Space::data);
}

std::string target(std::uint32_t address, const Symbols* symbols)
{
    if (symbols == nullptr)
        return {};
    const std::string name = symbols->nameOf(address, Space::flash);
    return name.empty() ? name : "-> " + name;
}

std::string displacement(char pointer, unsigned k) { return fmt::format("{}+{}", pointer, k); }

}  // namespace

InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols)
{
    const core::ChipTable& chip = core::tableOf(device);
    InstructionText out;
    out.address = address;
    const std::uint32_t word = address / 2;
    const auto wordAt = [&](std::size_t w) { return w * 2 + 1 < code.bytes.size() ? static_cast<std::uint16_t>(code.bytes[w * 2] | (code.bytes[w * 2 + 1] << 8)) : std::uint16_t{0xFFFF}; };
    if (word >= code.bytes.size() / 2) {
        out.mnemonic = "outside flash";
        return out;
    }
    const core::Instruction i = core::decode(chip.core, word, wordAt(word), wordAt(word + 1U));
    out.size = i.words * 2U;
    out.mnemonic = core::mnemonic(i.op);
    out.cycles = fmt::format("{}", i.cycles);
    const auto d = fmt::format("r{}", i.d);
    const auto r = fmt::format("r{}", i.r);
    const auto io = [&] {
        const core::RegisterRow* row = core::findRegister(chip, i.k);
        return row != nullptr ? std::string(row->name) : fmt::format("0x{:02x}", i.k - 0x20);
    };
    const auto bitNote = [&]() -> std::string {
        const core::RegisterRow* row = core::findRegister(chip, i.k);
        if (row == nullptr)
            return {};
        std::string_view names = row->bits;
        for (int bit = 7; bit > i.r && !names.empty(); --bit)
            names = names.find(' ') == std::string_view::npos ? std::string_view{} : names.substr(names.find(' ') + 1);
        const std::string name(names.substr(0, names.find(' ')));
        return name == "-" ? std::string() : name;
    };
    switch (i.op) {
    case Op::add: case Op::adc: case Op::sub: case Op::sbc: case Op::and_: case Op::or_: case Op::eor: case Op::cp: case Op::cpc: case Op::mov: case Op::movw:
    case Op::mul: case Op::muls: case Op::mulsu: case Op::fmul: case Op::fmuls: case Op::fmulsu:
        out.operands = d + ", " + r;
        break;
    case Op::cpse:
        out.operands = d + ", " + r;
        out.cycles = "1/2/3";
        break;
    case Op::subi: case Op::sbci: case Op::andi: case Op::ori: case Op::cpi: case Op::ldi:
        out.operands = fmt::format("{}, 0x{:02x}", d, i.k);
        out.note = fmt::format("{}", i.k);
        break;
    case Op::adiw: case Op::sbiw: out.operands = fmt::format("{}, 0x{:02x}", d, i.k); break;
    case Op::com: case Op::neg: case Op::inc: case Op::dec: case Op::lsr: case Op::ror: case Op::asr: case Op::swap: case Op::push: case Op::pop: out.operands = d; break;
    case Op::lds:
        out.operands = fmt::format("{}, 0x{:04x}", d, i.k);
        out.note = registerName(chip, i.k, symbols);
        break;
    case Op::sts:
        out.operands = fmt::format("0x{:04x}, {}", i.k, d);
        out.note = registerName(chip, i.k, symbols);
        break;
    case Op::ldX: case Op::ldXInc: case Op::ldXDec: case Op::ldYInc: case Op::ldYDec: case Op::ldZInc: case Op::ldZDec: {
        const char pointer = i.op <= Op::ldXDec ? 'X' : i.op <= Op::ldYDec ? 'Y' : 'Z';
        const bool up = i.op == Op::ldXInc || i.op == Op::ldYInc || i.op == Op::ldZInc;
        out.mnemonic = "ld";
        out.operands = fmt::format("{}, {}{}{}", d, up || i.op == Op::ldX ? "" : "-", pointer, up ? "+" : "");
        break;
    }
    case Op::stX: case Op::stXInc: case Op::stXDec: case Op::stYInc: case Op::stYDec: case Op::stZInc: case Op::stZDec: {
        const char pointer = i.op <= Op::stXDec ? 'X' : i.op <= Op::stYDec ? 'Y' : 'Z';
        const bool up = i.op == Op::stXInc || i.op == Op::stYInc || i.op == Op::stZInc;
        out.mnemonic = "st";
        out.operands = fmt::format("{}{}{}, {}", up || i.op == Op::stX ? "" : "-", pointer, up ? "+" : "", d);
        break;
    }
    case Op::lddY: case Op::lddZ:
        out.mnemonic = i.k == 0 ? "ld" : "ldd";
        out.operands = d + ", " + (i.k == 0 ? std::string(1, i.op == Op::lddY ? 'Y' : 'Z') : displacement(i.op == Op::lddY ? 'Y' : 'Z', i.k));
        break;
    case Op::stdY: case Op::stdZ:
        out.mnemonic = i.k == 0 ? "st" : "std";
        out.operands = (i.k == 0 ? std::string(1, i.op == Op::stdY ? 'Y' : 'Z') : displacement(i.op == Op::stdY ? 'Y' : 'Z', i.k)) + ", " + d;
        break;
    case Op::lpm0: out.mnemonic = "lpm"; break;
    case Op::elpm0: out.mnemonic = "elpm"; break;
    case Op::lpm: case Op::elpm: case Op::lpmInc: case Op::elpmInc:
        out.mnemonic = i.op == Op::lpm || i.op == Op::lpmInc ? "lpm" : "elpm";
        out.operands = d + (i.op == Op::lpm || i.op == Op::elpm ? ", Z" : ", Z+");
        break;
    case Op::in: out.operands = d + ", " + io(); break;
    case Op::out: out.operands = io() + ", " + d; break;
    case Op::bset:
        out.mnemonic = kSetFlag[i.r & 7U];
        break;
    case Op::bclr:
        out.mnemonic = kClearFlag[i.r & 7U];
        break;
    case Op::bst: case Op::bld: out.operands = fmt::format("{}, {}", d, i.r); break;
    case Op::sbrc: case Op::sbrs:
        out.operands = fmt::format("{}, {}", d, i.r);
        out.cycles = "1/2/3";
        break;
    case Op::sbi: case Op::cbi:
        out.operands = fmt::format("{}, {}", io(), i.r);
        out.note = bitNote();
        break;
    case Op::sbic: case Op::sbis:
        out.operands = fmt::format("{}, {}", io(), i.r);
        out.note = bitNote();
        out.cycles = "1/2/3";
        break;
    case Op::rjmp: case Op::rcall: case Op::jmp: case Op::call:
        out.operands = fmt::format("0x{:04x}", i.target * 2);
        out.note = target(i.target * 2, symbols);
        break;
    case Op::brbs: case Op::brbc:
        out.mnemonic = i.op == Op::brbs ? kBranchSet[i.r & 7U] : kBranchClear[i.r & 7U];
        out.operands = fmt::format("0x{:04x}", i.target * 2);
        out.cycles = "1/2";
        break;
    case Op::undefined: case Op::outside:
        out.mnemonic = ".word";
        out.operands = fmt::format("0x{:04x}", wordAt(word));
        out.cycles.clear();
        break;
    case Op::erased:
        out.mnemonic = "erased";
        out.cycles.clear();
        break;
    case Op::break_: out.mnemonic = "break"; break;
    default: break;
    }
    return out;
}

}  // namespace bramix::debug::avr
