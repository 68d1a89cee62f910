// Programs in C that tests of the core run.
#pragma once

#include "chip/work_program.h"

namespace bramix::test::arm {

using test::kWork;

// Cycles of stretches of instructions, by the cycle counter.
inline const char* const kCycles = R"(
#define CYCLES (*(volatile uint32_t *)0xE0001004)
#define MEASURED(n, code) do { uint32_t from, to; __asm volatile("ldr %0, [%2]\n" code "ldr %1, [%2]\n" : "=&r"(from), "=&r"(to) : "r"(0xE0001004) : "r4", "r5", "r6", "r7", "cc", "memory"); results[n] = to - from; } while (0)
int main(void)
{
    *(volatile uint32_t *)0xE000EDFC = 1 << 24;
    *(volatile uint32_t *)0xE0001000 |= 1;
    MEASURED(0, "");
    MEASURED(1, ".rept 100\nnop\n.endr\n");
    MEASURED(2, "mov r4, #100\n1: subs r4, #1\nbne 1b\n");
    MEASURED(3, "mov r4, #3\nmov r5, #4\nmla r6, r4, r5, r5\n");
    MEASURED(4, "mov r4, #0\nmov r5, #4\nudiv r6, r4, r5\n");
    MEASURED(5, "cmp r4, r4\nittt ne\nmovne r4, #1\nmovne r4, #2\nmovne r4, #3\n");
    return 0;
}
)";

// Fifty ticks of the system timer.
inline const char* const kTicks = R"(
volatile uint32_t ticks;
void SysTick_Handler(void) { ticks++; }
int main(void)
{
    *(volatile uint32_t *)0xE000E014 = 999;
    *(volatile uint32_t *)0xE000E018 = 0;
    *(volatile uint32_t *)0xE000E010 = 7;
    while (ticks < 50)
        __asm volatile("wfi");
    *(volatile uint32_t *)0xE000E010 = 0;
    results[0] = ticks;
    return 0;
}
)";

// Exceptions that ask for each other.
inline const char* const kPriorities = R"(
#define ICSR (*(volatile uint32_t *)0xE000ED04)
static volatile uint32_t n = 1;
static void note(uint32_t what) { results[n++] = what; }
void SVC_Handler(void) { note(10); ICSR = 1 << 28; note(11); }
void PendSV_Handler(void) { note(20); ICSR = 1 << 26; __asm volatile("dsb\nisb"); note(21); }
void SysTick_Handler(void) { note(30); }
int main(void)
{
    *(volatile uint32_t *)0xE000ED20 = 0x20F00000;  // SysTick 0x20, PendSV 0xF0
    *(volatile uint32_t *)0xE000ED1C = 0x40000000;  // SVC 0x40
    note(1);
    __asm volatile("svc 3");
    note(2);
    uint32_t above = 0x10;
    __asm volatile("msr basepri, %0" :: "r"(above));
    ICSR = 1 << 26;
    __asm volatile("dsb\nisb");
    note(3);
    __asm volatile("msr basepri, %0" :: "r"(0));
    __asm volatile("isb");
    note(4);
    results[0] = n;
    return 0;
}
)";

// Faults of every kind, each noted by its handler.
inline const char* const kFaults = R"(
#define CFSR (*(volatile uint32_t *)0xE000ED28)
static volatile uint32_t n;
// Notes the status, the fault's address and the place, and goes on behind the instruction.
__attribute__((used)) static void met(uint32_t *frame, uint32_t number)
{
    const uint16_t first = *(const uint16_t *)frame[6];
    results[n++] = number;
    results[n++] = CFSR;
    results[n++] = *(volatile uint32_t *)0xE000ED38;
    results[n++] = frame[6];
    CFSR = 0xFFFFFFFF;
    frame[6] += (first & 0xE000) == 0xE000 && (first & 0x1800) ? 4 : 2;
}
#define FAULT(name, number) __attribute__((naked)) void name(void) { __asm volatile("mov r0, sp\nmovs r1, #" #number "\nb met"); }
FAULT(HardFault_Handler, 3)
FAULT(BusFault_Handler, 5)
FAULT(UsageFault_Handler, 6)
extern const uint16_t here_division[], here_undefined[], here_nowhere[], here_pair[], here_hard[];
int main(void)
{
    *(volatile uint32_t *)0xE000ED14 |= 1 << 4;     // division by zero traps
    *(volatile uint32_t *)0xE000ED24 |= 3 << 17;    // bus and usage faults have handlers
    __asm volatile("movs r0, #0\nhere_division: udiv r1, r1, r0" ::: "r0", "r1");
    __asm volatile("here_undefined: udf #1");
    __asm volatile("ldr r0, =0x30000000\nhere_nowhere: ldr r1, [r0]" ::: "r0", "r1");
    __asm volatile("ldr r0, =0x20000402\nhere_pair: ldrd r2, r3, [r0]" ::: "r0", "r2", "r3");
    *(volatile uint32_t *)0xE000ED24 &= ~(3 << 17);
    __asm volatile("here_hard: udf #2");
    results[100] = (uint32_t)here_division; results[101] = (uint32_t)here_undefined; results[102] = (uint32_t)here_nowhere; results[103] = (uint32_t)here_pair; results[104] = (uint32_t)here_hard;
    results[105] = *(volatile uint32_t *)0xE000ED2C;
    return 0;
}
)";

// The process stack, the bit-band alias, exclusive access, saturation.
inline const char* const kSystem = R"(
static uint32_t stack[64] __attribute__((aligned(8)));
__attribute__((used)) volatile uint32_t word, seen;
void SVC_Handler(void) { uint32_t lr; __asm volatile("mov %0, lr" : "=r"(lr)); seen = lr; }
int main(void)
{
    __asm volatile("msr psp, %0\nmrs r0, control\norr r0, #2\nmsr control, r0\nisb\nsvc 0\nmrs r0, control\nbic r0, #2\nmsr control, r0\nisb" :: "r"(stack + 64) : "r0", "memory");
    results[0] = seen;
    results[1] = stack[63] >> 24 & 1;  // its frame lay there: xPSR with the Thumb bit
    *(volatile uint32_t *)(0x22000000 + ((uint32_t)&word - 0x20000000) * 32 + 5 * 4) = 1;
    results[2] = word;
    results[3] = *(volatile uint32_t *)(0x22000000 + ((uint32_t)&word - 0x20000000) * 32 + 5 * 4);
    uint32_t fails, again, value;
    __asm volatile("ldrex %0, [%3]\nadd %0, #1\nstrex %1, %0, [%3]\nstrex %2, %0, [%3]" : "=&r"(value), "=&r"(fails), "=&r"(again) : "r"(&word) : "memory");
    results[4] = word;
    results[5] = fails;
    results[6] = again;
    int32_t s;
    __asm volatile("ssat %0, #8, %1" : "=r"(s) : "r"(-5000));
    results[7] = (uint32_t)s;
    return 0;
}
)";

// A function that is copied to RAM with the data, and written over there.
inline const char* const kInRam = R"(
__attribute__((section(".data.code"), noipa, long_call)) uint32_t twice(uint32_t v) { return v + v; }
int main(void)
{
    results[0] = (uint32_t)twice;
    results[1] = twice(21);
    volatile uint16_t *const code = (volatile uint16_t *)((uint32_t)twice & ~1u);
    results[2] = code[0];
    code[0] = 0x3007;  // adds r0, #7
    results[3] = twice(21);
    return 0;
}
)";

}  // namespace bramix::test::arm
