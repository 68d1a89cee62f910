// The families that this program debugs, in one place.
#include <algorithm>
#include <stdexcept>

#include "debug/arch/architecture.h"
#include "debug/arch/arm9/architecture.h"
#include "debug/arch/avr/architecture.h"
#include "debug/arch/cortexm/architecture.h"
#include "debug/arch/pic16/architecture.h"
#include "debug/arch/riscv/architecture.h"
#include "debug/code_functions.h"

namespace bramix::debug {

namespace {

std::vector<const Architecture*>& architectures()
{
    static std::vector<const Architecture*> all{&avr::architecture(), &cortexm::architecture(), &pic16::architecture(), &riscv::architecture(), &arm9::architecture()};
    return all;
}

}  // namespace

void addArchitecture(const Architecture& architecture) { architectures().push_back(&architecture); }

const Architecture& architectureOf(const chip::Device& device)
{
    for (const Architecture* a : architectures())
        if (a->family == device.family)
            return *a;
    throw std::logic_error("no architecture for the chip family " + device.family);
}

InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols)
{
    return architectureOf(device).disassemble(device, code, address, symbols);
}

Symbols functionsOf(const chip::CodeView& code, const chip::Device& device)
{
    const Architecture& architecture = architectureOf(device);
    return architecture.functionsOf == nullptr ? Symbols() : architecture.functionsOf(code, device);
}

Symbols symbolsOfFirmware(const std::string& file, bool isElf, const chip::CodeView& code, const chip::Device& device)
{
    Symbols out;
    if (isElf)
        out = Symbols::fromElf(file);
    else if (const Architecture& architecture = architectureOf(device); !file.empty() && architecture.symbolsBeside != nullptr)
        out = architecture.symbolsBeside(file, code, device);
    return out.empty() ? functionsOf(code, device) : out;
}

std::vector<Frame> FrameTable::unwind(const Symbols& symbols, const Target& target, const Registers& now, std::size_t most) const
{
    return architectureOf(target.device()).unwind(*this, symbols, target, now, most);
}

}  // namespace bramix::debug
