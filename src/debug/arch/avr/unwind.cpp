// The frames of AVR code: by .debug_frame where it describes them, else from the instructions themselves.
//
// A return address lies with its high byte at the lower address and counts words. In an epilogue, which no description covers, what is still popped before the return tells.
#include <algorithm>
#include <array>
#include <cstdlib>
#include <optional>

#include "chip/avr/core/isa.h"
#include "chip/avr/device.h"
#include "debug/arch/avr/architecture.h"
#include "debug/arch/avr/return_search.h"
#include "debug/arch/begin_frame.h"

namespace bramix::debug::avr {

namespace core = chip::avr;
using core::Op;

namespace {

constexpr unsigned kStackPointer = 32, kReturnAddress = 36;  // DWARF register numbers of avr-gcc
constexpr unsigned kFramePointer = 28;
constexpr std::size_t kMostFrames = 64;

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
    const core::Core& chip = core::tableOf(target.device()).core;
    Prologue out;
    out.depth = chip.longPc ? 3 : 2;
    int framePointerDepth = 0;
    bool framePointer = false;
    std::array<std::uint8_t, 2> x{static_cast<std::uint8_t>(regs.r[26]), static_cast<std::uint8_t>(regs.r[27])};
    constexpr int kMost = 80;
    std::uint32_t at = begin;
    for (int count = 0; at != regs.pc && count < kMost; ++count) {
        const core::Instruction i = instructionAt(target, at);
        const std::uint32_t next = at + 2U * i.words;
        if (i.op == Op::push) {
            ++out.depth;
            out.saved.emplace_back(i.d, out.depth - 1);
        } else if (i.op == Op::rcall && i.target * 2 == next) {
            out.depth += chip.longPc ? 3 : 2;
        } else if (i.op == Op::in && i.d == kFramePointer + 1 && i.k == core::kSph) {
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
    const core::Core& chip = core::tableOf(target.device()).core;
    std::int64_t sp = regs.sp;
    auto y = static_cast<std::int64_t>(regs.r[kFramePointer] | (regs.r[kFramePointer + 1] << 8));
    std::uint32_t at = regs.pc;
    auto z = static_cast<std::uint8_t>(regs.r[30]);
    std::array<std::int64_t, 2> x{};  // where what stands in X was loaded from; 0: not known
    for (int i = 0; i < 60; ++i) {
        const core::Instruction next = instructionAt(target, at);
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
                    out.held.emplace_back(kFramePointer + half, static_cast<std::uint8_t>(regs.r[26 + half]));  // it has been loaded already
            break;
        case Op::pop:
            ++sp;
            out.saved.emplace_back(next.d, sp);
            break;
        case Op::ret: case Op::reti:
            out.cfa = sp + (chip.longPc ? 3 : 2);
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
            if (next.k != core::kSreg)
                return std::nullopt;
            break;
        case Op::out:
            if (next.k == core::kSpl && next.d == kFramePointer)
                sp = y;
            else if (next.k != core::kSreg && !(next.k == core::kSph && next.d == kFramePointer + 1))
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

std::vector<Frame> unwind(const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most)
{
    std::vector<Frame> out;
    auto& returns = table.memory<ReturnSearch>();
    const core::ChipTable& chip = core::tableOf(target.device());
    const int pcBytes = chip.core.longPc ? 3 : 2;
    Registers regs = now;
    bool afterCall = false;  // pc is a return address: the call lies before it
    while (out.size() < std::min(most, kMostFrames)) {
        const std::uint32_t look = afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc;
        Frame frame = beginFrame(symbols, regs, look, out);
        const int outer = frame.function;
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
        FrameTable::Rules rules;
        Registers caller = regs;
        std::int64_t cfa = 0;
        std::int64_t returnAt = 0;
        const auto valueOf = [&](unsigned reg) { return reg == kStackPointer ? std::int64_t{regs.sp} : static_cast<std::int64_t>(regs.r[reg & 31U] | (regs.r[(reg + 1) & 31U] << 8)); };
        const auto save = [&](unsigned reg, std::int64_t address) {
            if (reg >= 32)
                return;
            caller.r[reg] = target.data(static_cast<std::uint16_t>(address));
            caller.known.set(reg);
            caller.savedAt[reg] = static_cast<std::uint32_t>(address);
        };
        // What a called function may spoil is not known in its caller (the avr-gcc calling convention), unless it is saved.
        constexpr std::uint32_t kSpoiled = 0xCFFC0001U;  // r0, r18 to r27, r30, r31
        if (frame.interrupt.empty())
            caller.known &= ~std::bitset<Registers::kMost>(kSpoiled);
        const auto epilogue = readEpilogue(target, regs);
        // Of a handler's prologue avr-gcc leaves out that SREG is pushed.
        const auto wordAt = [&](std::int64_t at) {
            std::uint32_t word = 0;
            for (int i = 0; i < pcBytes; ++i)
                word = (word << 8) | target.data(static_cast<std::uint16_t>(at + i));
            return word;
        };
        const auto mayReturn = [&](std::int64_t at) { return !frame.interrupt.empty() || returns.isReturnOf(symbols, target, wordAt(at), outer); };
        bool described = false;
        if (epilogue) {
            described = true;
            cfa = epilogue->cfa;
            returnAt = cfa - (pcBytes - 1);
            for (const auto& [reg, address] : epilogue->saved)
                save(reg, address);
            for (const auto& [reg, value] : epilogue->held) {
                caller.r[reg] = value;
                caller.known.set(reg);
            }
        } else if (frame.interrupt.empty() && table.rulesAt(regs.pc, rules)) {
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
                if (const auto found = returns.find(symbols, target, static_cast<std::uint16_t>(shared ? valueOf(prologue.base) + room : regs.sp), outer))
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

}  // namespace bramix::debug::avr
