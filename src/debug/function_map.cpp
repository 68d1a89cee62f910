#include "debug/function_map.h"

#include <algorithm>

#include "chip/families.h"

namespace bramix::debug {

FunctionMap::FunctionMap(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device) : at(code.bytes.size() / device.codeStep, kNone), begin(code.begin), step(device.codeStep)
{
    for (const Function& f : symbols.functions()) {
        if (f.caller >= 0 || names.size() >= kNone)
            continue;
        const auto number = static_cast<std::uint16_t>(names.size());
        names.push_back(f.name);
        for (const CodeRange& range : f.ranges)
            for (std::uint32_t address = range.begin; address < range.end; address += step)
                if (const std::size_t slot = (address - begin) / step; address >= begin && slot < at.size())
                    at[slot] = number;
    }
    // A row of the table of jumps belongs to the handler to which it leads.
    const std::size_t rows = device.exceptions.size();
    if (rows < 2 || device.exceptions[1].entry <= device.exceptions[0].entry)
        return;
    const std::uint32_t row = device.exceptions[1].entry - device.exceptions[0].entry;
    for (const chip::Exception& exception : device.exceptions) {
        const chip::InstructionInfo i = chip::decode(device, code, exception.entry);
        if (i.flow != chip::Flow::jump)
            return;  // no such table: the program begins there
        for (std::uint32_t a = exception.entry; a < exception.entry + row; a += step)
            if (const std::size_t slot = (a - begin) / step; slot < at.size() && (at[slot] == kNone || names[at[slot]] == "__vectors"))
                at[slot] = of(*i.target);
    }
}

std::string_view handledBy(const chip::Device& device, const std::string& function)
{
    for (const chip::Exception& exception : device.exceptions)
        if (exception.handlerName == function)
            return exception.name;
    return {};
}

}  // namespace bramix::debug
