// A loop that calls a function which calls another and counts; a timer's handler on top, every 2000 cycles.
#pragma once

#include "chip/cortexm/arm_program.h"

namespace bramix::test::arm {

// Its reset comes to main itself.
inline const char* const kBeats = R"(
#define REG(a) (*(volatile uint32_t *)(a))
volatile uint16_t beats;
__attribute__((noinline)) void inner(void) { REG(0x4001080C) ^= 2; }
__attribute__((noinline)) void outer(void) { inner(); beats++; }
void TIM2_IRQHandler(void)
{
    REG(0x40000010) = 0;
    REG(0x4001080C) ^= 1;
}
int main(void)
{
    beats = 0;
    REG(0x40021018) = 1 << 2;
    REG(0x4002101C) = 1;
    REG(0x40010800) = 0x44444433;
    REG(0x4000002C) = 1999;
    REG(0x40000014) = 1;
    REG(0x40000010) = 0;
    REG(0x4000000C) = 1;
    REG(0x40000000) = 1;
    REG(0xE000E100) = 1 << 28;
    for (;;)
        outer();
}
)";
inline const char* const kBeatsVectors = R"(
extern char stack_top[];
int main(void);
void TIM2_IRQHandler(void);
__attribute__((section(".vectors"), used)) const void *const vectors[16 + 43] = {stack_top, main, [16 + 28] = TIM2_IRQHandler};
)";

}  // namespace bramix::test::arm
