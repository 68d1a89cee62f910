#include "debug/arch/follow_code.h"

#include <algorithm>

#include <fmt/format.h>

#include "chip/families.h"
#include "chip/family.h"

namespace bramix::debug {

std::vector<Function> functionsByFlow(const chip::CodeView& code, const chip::Device& device, const std::map<std::uint32_t, std::string>& entries, const std::map<std::uint32_t, std::string>& names)
{
    const std::uint32_t step = device.codeStep, end = code.begin + static_cast<std::uint32_t>(code.bytes.size() / code.unitBytes);
    std::map<std::uint32_t, std::uint32_t> instructions;  // address: size
    std::map<std::uint32_t, std::string> begins = entries;
    std::vector<std::uint32_t> open;
    for (const auto& [at, name] : entries)
        open.push_back(at);
    while (!open.empty()) {
        std::uint32_t at = open.back();
        open.pop_back();
        while (at >= code.begin && at < end && !instructions.contains(at)) {
            const chip::InstructionInfo i = chip::decode(device, code, at);
            if (i.size == 0 || i.flow == chip::Flow::none)
                break;
            instructions[at] = i.size;
            if (i.target && *i.target >= code.begin && *i.target < end) {
                open.push_back(*i.target);
                if (i.flow == chip::Flow::call)
                    begins.try_emplace(*i.target);
            }
            if (i.flow == chip::Flow::jump || i.flow == chip::Flow::indirectJump || i.isReturn())
                break;
            at += std::max(i.size, step);
        }
    }
    // What a jump from an entry leads to is a function where it has a name, and nothing runs into it.
    std::vector<Function> out;
    for (auto f = begins.begin(); f != begins.end(); ++f) {
        if (!instructions.contains(f->first))
            continue;
        Function function;
        const auto known = names.find(f->first);
        function.name = !f->second.empty() ? f->second : known != names.end() ? known->second : fmt::format("code_{:04x}", f->first);
        function.fromCode = f->second.empty() && known == names.end();
        function.fromTable = !function.fromCode;
        const std::uint32_t limit = std::next(f) == begins.end() ? end : std::next(f)->first;
        std::uint32_t at = f->first;
        for (auto i = instructions.find(at); i != instructions.end() && i->first == at && at < limit; ++i)
            at += i->second;
        function.ranges.push_back({f->first, at});
        out.push_back(std::move(function));
    }
    return out;
}

}  // namespace bramix::debug
