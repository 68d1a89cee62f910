// Programs in C for tests of the ARM926EJ-S and its peripherals, by the names and places of ARM's manuals.
#pragma once

namespace bramix::test::arm9 {

inline const char* const kNames = R"(
#define UART0(o) REG(0x101F1000 + (o))
#define UART1(o) REG(0x101F2000 + (o))
#define VIC(o) REG(0x10140000 + (o))
#define TIMER(o) REG(0x101E2000 + (o))
static inline void irq_on(void) { uint32_t c; __asm volatile("mrs %0, cpsr\n bic %0, %0, #0x80\n msr cpsr_c, %0" : "=r"(c)); }
static inline void irq_off(void) { uint32_t c; __asm volatile("mrs %0, cpsr\n orr %0, %0, #0x80\n msr cpsr_c, %0" : "=r"(c)); }
)";

inline const char* const kAnswer = R"(
__attribute__((interrupt("IRQ"))) void irq_handler(void)
{
    while (!(UART0(0x18) & 0x10)) { uint32_t c = UART0(0); results[results[255]++] = c; UART0(0) = c >= 'a' && c <= 'z' ? c - 32 : c; }
    UART0(0x44) = 0x10;
}
int main(void)
{
    UART0(0x38) = 0x10;
    VIC(0x10) = 1 << 12;
    irq_on();
    for (;;) ;
})";

inline const char* const kRings = R"(
__attribute__((interrupt("IRQ"))) void irq_handler(void) { results[0]++; results[1] = TIMER(4); TIMER(0xC) = 1; }
int main(void)
{
    TIMER(0) = 1499;
    TIMER(8) = 0x80 | 0x40 | 0x20 | 2 | 1 << 2;
    VIC(0x10) = 1 << 4;
    irq_on();
    while (results[0] < 20) __asm volatile("mcr p15, 0, %0, c7, c0, 4" : : "r"(0));
    irq_off();
    results[2] = TIMER(0xFE0) | TIMER(0xFE4) << 8 | TIMER(0xFE8) << 16;
    results[3] = UART0(0xFF0) | UART0(0xFF4) << 8 | UART0(0xFF8) << 16 | UART0(0xFFC) << 24;
    VIC(0x14) = ~0u;
    return 0;
})";

inline const char* const kVectors = R"(
static void note(uint32_t v) { results[1 + results[0]++] = v; }
void served(void)
{
    uint32_t which = VIC(0x30);
    note(which);
    if (which == 0x222) { VIC(0x1C) = 1 << 20; VIC(0x18) = 1 << 22 | 1 << 21; __asm volatile("mrs r0, cpsr\n bic r0, r0, #0x80\n orr r0, r0, #0x1F\n msr cpsr_c, r0\n nop\n nop\n nop\n msr cpsr_c, #0xD2" : : : "r0"); note(0x2FF); }
    if (which == 0x333) VIC(0x1C) = 1 << 22;
    if (which == 0x111) VIC(0x1C) = 1 << 21;
    VIC(0x30) = 0;
}
__attribute__((naked)) void irq_handler(void) { __asm volatile("sub lr, lr, #4\n stmfd sp!, {r0-r12, lr}\n mrs r0, spsr\n stmfd sp!, {r0}\n bl served\n ldmfd sp!, {r0}\n msr spsr_cxsf, r0\n ldmfd sp!, {r0-r12, pc}^"); }
__attribute__((interrupt("FIQ"))) void fiq_handler(void) { note(0xF1); VIC(0x1C) = 1 << 25; }
int main(void)
{
    VIC(0x100) = 0x333; VIC(0x200) = 0x20 | 22;
    VIC(0x104) = 0x222; VIC(0x204) = 0x20 | 20;
    VIC(0x108) = 0x111; VIC(0x208) = 0x20 | 21;
    VIC(0x0C) = 1 << 25;
    VIC(0x10) = 1 << 20 | 1 << 21 | 1 << 22 | 1 << 25;
    irq_on();
    VIC(0x18) = 1 << 20;
    for (volatile int i = 0; i < 10; i++) ;
    uint32_t c;
    __asm volatile("mrs %0, cpsr\n bic %0, %0, #0x40\n msr cpsr_c, %0" : "=r"(c));
    VIC(0x18) = 1 << 25;
    for (volatile int i = 0; i < 10; i++) ;
    irq_off();
    VIC(0x14) = ~0u;
    return 0;
})";

inline const char* const kAborts = R"(
void data_handler(void) { for (;;) __asm volatile("msr cpsr_c, #0xD7\n1: b 1b"); }
int main(void) { results[0] = 1; results[1] = REG(0x50000000); results[0] = 2; return 0; }
)";

}  // namespace bramix::test::arm9
