#include "debug/arch/cortexm/architecture.h"

namespace bramix::debug::cortexm {

const Architecture& architecture()
{
    static const Architecture all{.family = "cortexm", .disassemble = disassemble, .unwind = unwind};
    return all;
}

}  // namespace bramix::debug::cortexm
