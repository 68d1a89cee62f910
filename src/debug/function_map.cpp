#include "debug/function_map.h"

#include <algorithm>
#include <cstdlib>

#include "chip/avr/core/isa.h"

namespace bramix::debug {

using chip::avr::Op;

FunctionMap::FunctionMap(const Symbols& symbols, std::span<const std::uint16_t> flash, const chip::avr::ChipTable& chip) : at(flash.size(), kNone)
{
    for (const Function& f : symbols.functions()) {
        if (f.caller >= 0 || names.size() >= kNone)
            continue;
        const auto number = static_cast<std::uint16_t>(names.size());
        names.push_back(f.name);
        for (const CodeRange& range : f.ranges)
            for (std::size_t word = range.begin / 2; word < std::min<std::size_t>(range.end / 2, at.size()); ++word)
                at[word] = number;
    }
    const std::size_t table = std::min<std::size_t>(chip.vectors.size() * chip.vectorWords, flash.size());
    for (std::size_t slot = 0; slot < table; slot += chip.vectorWords) {
        const auto word = static_cast<std::uint32_t>(slot);
        const chip::avr::Instruction i = chip::avr::decode(chip.core, word, flash[slot], slot + 1 < flash.size() ? flash[slot + 1] : std::uint16_t{0xFFFF});
        if (i.op != Op::jmp && i.op != Op::rjmp)
            return;  // no such table: the program begins there
        for (std::size_t w = slot; w < slot + chip.vectorWords && w < at.size(); ++w)
            if (at[w] == kNone || names[at[w]] == "__vectors")
                at[w] = of(i.target);
    }
}

std::string_view handledBy(const chip::avr::ChipTable& chip, const std::string& function)
{
    constexpr std::string_view kVector = "__vector_";
    if (!function.starts_with(kVector))
        return {};
    const std::size_t number = std::strtoul(function.c_str() + kVector.size(), nullptr, 10);
    return number < chip.vectors.size() ? chip.vectors[number].name : std::string_view();
}

}  // namespace bramix::debug
