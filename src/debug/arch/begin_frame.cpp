#include "debug/arch/begin_frame.h"

namespace bramix::debug {

Frame beginFrame(const Symbols& symbols, const Registers& registers, std::uint32_t look, std::vector<Frame>& out)
{
    const int outer = symbols.outerFunctionAt(look);
    Frame frame;
    frame.registers = registers;
    frame.cfa = registers.sp;
    Place place = symbols.at(look);
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
    return frame;
}

}  // namespace bramix::debug
