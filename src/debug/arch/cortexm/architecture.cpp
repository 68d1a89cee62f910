#include "debug/arch/cortexm/architecture.h"

namespace bramix::debug::cortexm {

namespace {

// G.5.3: the M profile has r0 to r12, sp, lr, pc and xpsr in one feature, both stack pointers in another; the rest is the core's own.
std::string_view debuggerFeature(const chip::CoreRegister& reg)
{
    constexpr int kXpsr = 25, kProcessStack = 27;
    return reg.debuggerNumber <= kXpsr ? "org.gnu.gdb.arm.m-profile" : reg.debuggerNumber <= kProcessStack ? "org.gnu.gdb.arm.m-system" : "arm.special-registers";
}

}  // namespace

const Architecture& architecture()
{
    static const Architecture all{.family = "cortexm", .disassemble = disassemble, .unwind = unwind, .debuggerFeature = debuggerFeature};
    return all;
}

}  // namespace bramix::debug::cortexm
