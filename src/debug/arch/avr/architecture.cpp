#include "debug/arch/avr/architecture.h"

namespace bramix::debug::avr {

const Architecture& architecture()
{
    static const Architecture all{.family = "avr", .disassemble = disassemble, .functionsOf = functionsOf, .unwind = unwind, .describe = describe};
    return all;
}

}  // namespace bramix::debug::avr
