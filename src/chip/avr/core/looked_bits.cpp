#include "chip/avr/core/looked_bits.h"

#include <array>
#include <utility>

namespace bramix::chip::avr {

namespace {

constexpr int kFarthest = 24;  // instructions: a compiler masks what it has read at once

// Where each bit of the register came from; -1 for what is no bit of the port.
using Origin = std::array<int, 8>;

std::uint8_t originsOf(const Origin& origin, unsigned mask)
{
    unsigned out = 0;
    for (unsigned i = 0; i < 8; ++i)
        if ((mask >> i & 1U) != 0 && origin[i] >= 0)
            out |= 1U << origin[i];
    return static_cast<std::uint8_t>(out);
}

Origin moved(const Origin& origin, int by)
{
    Origin out;
    for (int i = 0; i < 8; ++i)
        out[static_cast<std::size_t>(i)] = i + by >= 0 && i + by < 8 ? origin[static_cast<std::size_t>(i + by)] : -1;
    return out;
}

bool transfers(Op op) { return (op >= Op::rjmp && op <= Op::cpse) || op == Op::brbs || op == Op::brbc || op >= Op::break_; }

}  // namespace

std::optional<std::uint8_t> lookedBits(const Core& core, std::span<const std::uint16_t> flash, std::uint32_t word)
{
    const auto at = [&](std::uint32_t a) { return decode(core, a, flash[a], a + 1 < flash.size() ? flash[a + 1] : 0); };
    if (word >= flash.size())
        return std::nullopt;
    Instruction i = at(word);
    if (i.op == Op::sbic || i.op == Op::sbis)
        return static_cast<std::uint8_t>(1U << i.r);
    if (i.op != Op::in && i.op != Op::lds && !(i.op >= Op::ldX && i.op <= Op::ldZDec && i.op != Op::sts))
        return std::nullopt;
    std::uint8_t reg = i.d;
    Origin origin{0, 1, 2, 3, 4, 5, 6, 7};
    std::uint8_t looked = 0;
    for (int n = 0; n < kFarthest; ++n) {
        word += i.words;
        if (word >= flash.size())
            return std::nullopt;
        i = at(word);
        if (i.op == Op::sbrc || i.op == Op::sbrs) {
            if (i.d == reg)
                looked = static_cast<std::uint8_t>(looked | originsOf(origin, 1U << i.r));
            continue;
        }
        if (transfers(i.op))
            return looked != 0 ? std::optional(looked) : std::nullopt;
        const bool writes = i.d == reg;
        switch (i.op) {
        case Op::andi:
            if (writes)
                return static_cast<std::uint8_t>(looked | originsOf(origin, i.k));
            continue;
        case Op::bst:
            if (writes)
                looked = static_cast<std::uint8_t>(looked | originsOf(origin, 1U << i.r));
            continue;
        case Op::com:
        case Op::bld: continue;  // a bit that is put in keeps the others
        case Op::mov:
            if (i.r == reg)
                reg = i.d;
            else if (writes)
                return looked != 0 ? std::optional(looked) : std::nullopt;
            continue;
        case Op::lsr:
        case Op::asr:
            if (writes)
                origin = moved(origin, 1);
            continue;
        case Op::swap:
            if (writes)
                origin = {origin[4], origin[5], origin[6], origin[7], origin[0], origin[1], origin[2], origin[3]};
            continue;
        case Op::add:
            if (writes && i.r == reg) {  // LSL
                origin = moved(origin, -1);
                continue;
            }
            if (writes || i.r == reg)
                return std::nullopt;
            continue;
        case Op::ldi:
            if (writes)  // overwritten: nothing more can be seen of it
                return looked != 0 ? std::optional(looked) : std::nullopt;
            continue;
        case Op::sbi: case Op::cbi: case Op::nop: case Op::wdr: case Op::bset: case Op::bclr: continue;
        default:
            // Anything else that has to do with the register may look at all of it.
            if (i.d == reg || i.r == reg || i.d + 1 == reg)
                return looked != 0 && i.op != Op::out && i.op != Op::sts && i.op != Op::push ? std::optional(looked) : std::nullopt;
            continue;
        }
    }
    return looked != 0 ? std::optional(looked) : std::nullopt;
}

}  // namespace bramix::chip::avr
