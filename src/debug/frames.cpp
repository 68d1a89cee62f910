#include "debug/frames.h"

#include <algorithm>
#include <array>
#include <optional>

#include <dwarf.h>
#include <fmt/format.h>

#include "chip/avr/core/isa.h"
#include "debug/elf_file.h"
#include "debug/return_search.h"

namespace bramix::debug {

namespace avr = chip::avr;
using avr::Op;

namespace {

constexpr unsigned kStackPointer = FrameTable::kStackPointer;  // DWARF register numbers of avr-gcc
constexpr unsigned kReturnAddress = 36;
constexpr unsigned kFramePointer = 28;
constexpr std::size_t kMostFrames = 64;

}  // namespace

// Where the caller's registers are.
struct FrameTable::Rules {
    unsigned cfaRegister = kStackPointer;
    std::int64_t cfaOffset = 0;
    std::map<unsigned, std::int64_t> saved;  // register: offset from the CFA
};

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

namespace {

// What the prologue has put on the stack up to pc: registers, and how far the stack pointer (or Y, where it is the frame pointer) lies below the
// CFA. Shapes: push; in Y from SP; sbiw or subi/sbci Y; out SP from Y; rcall to the next instruction to make room; and the library's prologue that several
// functions share, to which they jump with the size of their frame in X.
struct Prologue {
    unsigned base = kStackPointer;
    int depth = 0;
    std::vector<std::pair<unsigned, int>> saved;  // register, bytes below the CFA
};

Prologue readPrologue(const Target& target, std::uint32_t begin, const Registers& regs)
{
    const avr::Core& core = target.chip().core;
    Prologue out;
    out.depth = core.longPc ? 3 : 2;
    int framePointerDepth = 0;
    bool framePointer = false;
    std::array<std::uint8_t, 2> x{regs.r[26], regs.r[27]};
    constexpr int kMost = 80;
    std::uint32_t at = begin;
    for (int count = 0; at != regs.pc && count < kMost; ++count) {
        const avr::Instruction i = instructionAt(target, at);
        const std::uint32_t next = at + 2U * i.words;
        if (i.op == Op::push) {
            ++out.depth;
            out.saved.emplace_back(i.d, out.depth - 1);
        } else if (i.op == Op::rcall && i.target * 2 == next) {
            out.depth += core.longPc ? 3 : 2;
        } else if (i.op == Op::in && i.d == kFramePointer + 1 && i.k == avr::kSph) {
            framePointer = true;
            framePointerDepth = out.depth;
        } else if (framePointer && i.op == Op::sbiw && i.d == kFramePointer) {
            framePointerDepth += i.k;
        } else if (framePointer && i.op == Op::subi && i.d == kFramePointer) {
            framePointerDepth += i.k;
        } else if (framePointer && i.op == Op::sbci && i.d == kFramePointer + 1) {
            framePointerDepth += i.k << 8;
        } else if (framePointer && i.op == Op::sub && i.d == kFramePointer && i.r == 26) {
            framePointerDepth += x[0];
        } else if (framePointer && i.op == Op::sbc && i.d == kFramePointer + 1 && i.r == 27) {
            framePointerDepth += x[1] << 8;
        } else if (i.op == Op::ldi && i.d >= 26) {
            if (i.d <= 27)
                x[i.d - 26U] = static_cast<std::uint8_t>(i.k);
        } else if ((i.op == Op::jmp || i.op == Op::rjmp) && instructionAt(target, i.target * 2).op == Op::push) {
            at = i.target * 2;
            continue;
        } else if (!(i.op == Op::in || i.op == Op::out || i.op == Op::eor || i.op == Op::lds || i.op == Op::bclr)) {
            break;  // the prologue is over
        }
        at = next;
    }
    if (framePointer) {
        out.base = kFramePointer;
        out.depth = framePointerDepth;
    }
    return out;
}

// How far the CFA lies above SP (or Y) where the program stands in an epilogue, which no description covers: what is still popped before the return
// tells. Nothing where other instructions come first.
struct Epilogue {
    std::int64_t cfa = 0;
    std::vector<std::pair<unsigned, std::int64_t>> saved;  // register, where it still stands
    std::vector<std::pair<unsigned, std::uint8_t>> held;   // register, and its value, which stands in another
};

std::optional<Epilogue> readEpilogue(const Target& target, const Registers& regs)
{
    Epilogue out;
    const avr::Core& core = target.chip().core;
    std::int64_t sp = regs.sp;
    std::int64_t y = regs.r[kFramePointer] | (regs.r[kFramePointer + 1] << 8);
    std::uint32_t at = regs.pc;
    std::uint8_t z = regs.r[30];
    std::array<std::int64_t, 2> x{};  // where what stands in X was loaded from; 0: not known
    for (int i = 0; i < 60; ++i) {
        const avr::Instruction next = instructionAt(target, at);
        switch (next.op) {
        // The library's epilogue that several functions share: it loads by Y, adds Z's size to it, and has Y's own value in X until the end.
        case Op::lddY:
            if (next.d == kFramePointer || next.d == kFramePointer + 1)
                return std::nullopt;
            if (next.d == 26 || next.d == 27)
                x[next.d - 26U] = y + next.k;
            else
                out.saved.emplace_back(next.d, y + next.k);
            break;
        case Op::ldi:
            if (next.d == 30)
                z = static_cast<std::uint8_t>(next.k);
            else if (next.d != 31)
                return std::nullopt;
            break;
        case Op::jmp: case Op::rjmp: at = next.target * 2; continue;
        case Op::add:
            if (next.d != kFramePointer || next.r != 30)
                return std::nullopt;
            y += z;
            break;
        case Op::adc:
            if (next.d != kFramePointer + 1 || next.r != 1)
                return std::nullopt;
            break;
        case Op::movw:
            if (next.d != kFramePointer || next.r != 26)
                return std::nullopt;
            for (unsigned half = 0; half < 2; ++half)
                if (x[half] != 0)
                    out.saved.emplace_back(kFramePointer + half, x[half]);
                else
                    out.held.emplace_back(kFramePointer + half, regs.r[26 + half]);  // it has been loaded already
            break;
        case Op::pop:
            ++sp;
            out.saved.emplace_back(next.d, sp);
            break;
        case Op::ret: case Op::reti:
            out.cfa = sp + (core.longPc ? 3 : 2);
            return out;
        case Op::adiw:
            if (next.d != kFramePointer)
                return std::nullopt;
            y += next.k;
            break;
        case Op::subi:
            if (next.d != kFramePointer)
                return std::nullopt;
            y -= static_cast<std::int8_t>(next.k);
            break;
        case Op::sbci:
            if (next.d != kFramePointer + 1)
                return std::nullopt;
            y -= static_cast<std::int64_t>(static_cast<std::int8_t>(next.k)) * 256;
            break;
        case Op::in:
            if (next.d == kFramePointer || next.d == kFramePointer + 1)
                y = sp;  // one after the other
            break;
        case Op::bclr: break;
        case Op::sts:
            if (next.k != avr::kSreg)
                return std::nullopt;
            break;
        case Op::out:
            if (next.k == avr::kSpl && next.d == kFramePointer)
                sp = y;
            else if (next.k != avr::kSreg && !(next.k == avr::kSph && next.d == kFramePointer + 1))
                return std::nullopt;
            break;
        default: return std::nullopt;
        }
        at += 2U * next.words;
    }
    return std::nullopt;
}

int vectorOf(const std::string& function)
{
    constexpr std::string_view kName = "__vector_";
    if (!function.starts_with(kName))
        return -1;
    return std::atoi(function.c_str() + kName.size());
}

}  // namespace

FrameTable::FrameTable() : returns_(std::make_shared<ReturnSearch>()) {}

std::vector<Frame> FrameTable::unwind(const Symbols& symbols, const Target& target, const Registers& now, std::size_t most) const
{
    std::vector<Frame> out;
    const avr::ChipTable& chip = target.chip();
    const int pcBytes = chip.core.longPc ? 3 : 2;
    Registers regs = now;
    bool afterCall = false;  // pc is a return address: the call lies before it
    while (out.size() < std::min(most, kMostFrames)) {
        const std::uint32_t look = afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc;
        const int outer = symbols.outerFunctionAt(look);
        Frame frame;
        frame.registers = regs;
        frame.cfa = regs.sp;
        Place place = symbols.at(look);
        // Inlined functions first, each at the place of the call within it.
        for (int f = symbols.functionAt(look); f >= 0 && f != outer; f = symbols.functions()[static_cast<std::size_t>(f)].caller) {
            const Function& function = symbols.functions()[static_cast<std::size_t>(f)];
            frame.function = f;
            frame.inlined = true;
            frame.place = place;
            frame.place.function = function.name;
            out.push_back(frame);
            place.file = function.callFile;
            place.line = function.callLine;
        }
        frame.inlined = false;
        frame.function = outer;
        frame.place = place;
        frame.place.function = outer < 0 ? std::string() : symbols.functions()[static_cast<std::size_t>(outer)].name;
        if (outer < 0) {
            out.push_back(frame);
            break;
        }
        const Function& function = symbols.functions()[static_cast<std::size_t>(outer)];
        if (const int vector = vectorOf(function.name); vector > 0 && static_cast<std::size_t>(vector) < chip.vectors.size())
            frame.interrupt = chip.vectors[static_cast<std::size_t>(vector)].name;
        // On its way there, in the table of jumps at the beginning of flash.
        if (const std::uint32_t vector = regs.pc / 2 / chip.vectorWords; !afterCall && vector > 0 && vector < chip.vectors.size() && function.fromTable)
            frame.interrupt = chip.vectors[vector].name;
        // The caller's registers.
        Rules rules;
        Registers caller = regs;
        std::int64_t cfa = 0;
        std::int64_t returnAt = 0;
        const auto valueOf = [&](unsigned reg) { return reg == kStackPointer ? std::int64_t{regs.sp} : std::int64_t{regs.r[reg & 31U]} | (std::int64_t{regs.r[(reg + 1) & 31U]} << 8); };
        const auto save = [&](unsigned reg, std::int64_t address) {
            if (reg >= 32)
                return;
            caller.r[reg] = target.data(static_cast<std::uint16_t>(address));
            caller.known |= 1U << reg;
            caller.savedAt[reg] = static_cast<std::uint16_t>(address);
        };
        // What a called function may spoil is not known in its caller (the avr-gcc calling convention), unless it is saved.
        constexpr std::uint32_t kSpoiled = 0xCFFC0001U;  // r0, r18 to r27, r30, r31
        if (frame.interrupt.empty())
            caller.known &= ~kSpoiled;
        const auto epilogue = readEpilogue(target, regs);
        // Of a handler's prologue avr-gcc leaves out that SREG is pushed.
        const auto wordAt = [&](std::int64_t at) {
            std::uint32_t word = 0;
            for (int i = 0; i < pcBytes; ++i)
                word = (word << 8) | target.data(static_cast<std::uint16_t>(at + i));
            return word;
        };
        const auto mayReturn = [&](std::int64_t at) { return !frame.interrupt.empty() || returns_->isReturnOf(symbols, target, wordAt(at), outer); };
        bool described = false;
        if (epilogue) {
            described = true;
            cfa = epilogue->cfa;
            returnAt = cfa - (pcBytes - 1);
            for (const auto& [reg, address] : epilogue->saved)
                save(reg, address);
            for (const auto& [reg, value] : epilogue->held) {
                caller.r[reg] = value;
                caller.known |= 1U << reg;
            }
        } else if (frame.interrupt.empty() && rulesAt(regs.pc, rules)) {
            cfa = valueOf(rules.cfaRegister) + rules.cfaOffset;
            returnAt = cfa - (pcBytes - 1);
            for (const auto& [reg, offset] : rules.saved)
                if (reg == kReturnAddress)
                    returnAt = cfa + offset;
            // Where room is made by calls, the description is behind the code for an instruction or two.
            described = mayReturn(returnAt);
            for (const auto& [reg, offset] : rules.saved)
                if (described && reg != kReturnAddress)
                    save(reg, cfa + offset);
        }
        if (!described) {
            const Prologue prologue = readPrologue(target, function.begin(), regs);
            const std::int64_t read = valueOf(prologue.base) + prologue.depth;
            const std::int64_t before = cfa;
            const bool shared = function.name == "__prologue_saves__";
            cfa = read;
            returnAt = cfa - (pcBytes - 1);
            // Where what stands there is no return from here, the frame has another shape.
            if (!mayReturn(returnAt)) {
                // Room that has just been made holds what was there before.
                const std::int64_t room = shared ? prologue.depth - pcBytes - static_cast<std::int64_t>(prologue.saved.size()) : 0;
                if (const auto found = returns_->find(symbols, target, static_cast<std::uint16_t>(shared ? valueOf(prologue.base) + room : regs.sp), outer))
                    cfa = *found + pcBytes - 1;
                else if (before != 0)
                    cfa = before;
                returnAt = cfa - (pcBytes - 1);
            }
            // In the shared prologue itself one does not know where it was entered: what was pushed last lies nearest.
            const std::int64_t from = shared ? read : cfa;
            for (const auto& [reg, below] : prologue.saved)
                if (from - below < returnAt)
                    save(reg, from - below);
        }
        frame.cfa = static_cast<std::uint16_t>(cfa);
        out.push_back(frame);
        if (function.name == "main" || cfa > chip.core.ramEnd || cfa <= regs.sp)
            break;
        const std::uint32_t word = wordAt(returnAt);
        caller.sp = static_cast<std::uint16_t>(cfa);
        caller.pc = word * 2;
        if (word >= chip.core.flashWords)
            break;
        afterCall = frame.interrupt.empty();
        regs = caller;
        // What called main() has no name and nothing to tell.
        if (symbols.outerFunctionAt(afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc) < 0)
            break;
    }
    return out;
}

}  // namespace bramix::debug
