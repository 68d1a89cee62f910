// Programs of random words in which those kinds are frequent that compilers write.
#pragma once

#include <vector>

#include "chip/avr/core/bare_core.h"
#include "kernel/random.h"

namespace bramix::test {

using kernel::Random;

// A counted delay loop of each shape, or an access to I/O by LDS or STS.
inline std::size_t delayLoop(std::vector<std::uint16_t>& words, std::size_t i, std::uint16_t any)
{
    if (i + 5 >= words.size())
        return i;
    const unsigned d = (any >> 4) & 3U;
    switch (any & 7U) {
    case 0: case 1:
        words[i] = static_cast<std::uint16_t>(0x940A | ((16 + d) << 4));  // dec
        words[i + 1] = 0xF7F1;                                            // brne .-4
        return i + 1;
    case 2: case 3:
        words[i] = static_cast<std::uint16_t>(0x9701 | (d << 4));         // sbiw
        words[i + 1] = 0xF7F1;
        return i + 1;
    case 4: case 5: {
        const unsigned registers = 2 + (d % 3);
        words[i] = static_cast<std::uint16_t>(0x5001 | (d << 4));         // subi, then sbci
        for (unsigned k = 1; k < registers; ++k)
            words[i + k] = static_cast<std::uint16_t>(0x4000 | (((any & 8U) != 0 ? d + k : (d + 5 * k) & 15U) << 4));
        words[i + registers] = static_cast<std::uint16_t>(0xF401 | ((static_cast<unsigned>(-static_cast<int>(registers) - 1) & 0x7FU) << 3));
        return i + registers;
    }
    default:
        words[i] = static_cast<std::uint16_t>(((any & 1) != 0 ? 0x9000 : 0x9200) | (any & 0x01F0));
        words[i + 1] = static_cast<std::uint16_t>(0x60 + (any & 0x3F));
        return i + 1;
    }
}

// Random words, with those kinds made frequent that compilers write: most of a uniform draw would be undefined.
inline std::vector<std::uint16_t> randomProgram(Random& random, const Core& core)
{
    std::vector<std::uint16_t> words(core.flashWords);
    for (std::size_t i = 0; i < words.size(); ++i) {
        const auto any = static_cast<std::uint16_t>(random.next());
        switch (random.below(15)) {
        case 12: words[i] = 0xB000 | (any & 0x0FFF); break;                 // IN, OUT
        case 13: words[i] = 0x9800 | (any & 0x03FF); break;                 // CBI, SBIC, SBI, SBIS
        case 14: i = delayLoop(words, i, any); break;
        case 0: words[i] = 0xF000 | (any & 0x07FF); break;                  // branches
        case 1: words[i] = 0x8000 | (any & 0x2FFF); break;                  // LDD, STD
        case 2: words[i] = 0x9000 | (any & 0x03FF); break;                  // LD, ST, LDS, PUSH, POP
        case 3: words[i] = 0x9400 | (any & 0x01FF); break;                  // one operand
        case 4: words[i] = random.below(8) == 0 ? 0xD000 | (any & 0x0FFF) : 0x9600 | (any & 0x01FF); break;
        case 5: words[i] = 0x9C00 | (any & 0x03FF); break;                  // MUL
        case 6: words[i] = static_cast<std::uint16_t>(random.below(0x2C00) + 0x0400); break;  // two registers
        case 7: words[i] = 0xE000 | (any & 0x0FFF); break;                  // LDI
        case 8: words[i] = 0xFC00 | (any & 0x03F7); break;                  // SBRC, SBRS
        default: words[i] = static_cast<std::uint16_t>(random.below(0x5000) + 0x3000); break;  // immediates
        }
    }
    return words;
}

}  // namespace bramix::test
