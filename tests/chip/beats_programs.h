// The same program for several families: a loop that calls a function which calls another and counts; a timer's handler on top.
#pragma once

namespace bramix::test {

inline const char* const kBeatsOfRiscv = R"(
volatile uint16_t beats;
volatile uint32_t told;
__attribute__((noinline)) void inner(void) { REG(beats & 1 ? 0x60004008 : 0x6000400C) = 2; }
__attribute__((noinline)) void outer(void) { inner(); beats++; }
__attribute__((interrupt)) void tick(void) { REG(0x6002306C) = 1; told ^= 1; REG(told ? 0x60004008 : 0x6000400C) = 1; }
int main(void)
{
    REG(0x60009004) = REG(0x60009008) = 0x1800;
    REG(0x60004020) = 3;
    REG(0x60023034) = 1u << 30 | 1600;
    REG(0x60023050) = 1;
    REG(0x60023000) |= 1u << 24;
    REG(0x60023064) = 1;
    __asm volatile("csrw mtvec, %0" : : "r"((uint32_t)tick));
    REG(0x600C2000 + 4 * 37) = 3;
    REG(0x600C2114 + 4 * 3) = 1;
    REG(0x600C2104) = 8;
    __asm volatile("csrsi mstatus, 8");
    for (;;)
        outer();
}
)";

inline const char* const kBeatsOfPic = R"(        __config _HS_OSC & _WDT_OFF
        cblock 0x10
beats
beats_high
keep_w
keep_s
        endc
        org 0
        goto main
        org 4
tick    movwf keep_w
        swapf STATUS, w
        movwf keep_s
        bcf INTCON, T0IF
        movlw 1
        xorwf PORTB, f
        swapf keep_s, w
        movwf STATUS
        swapf keep_w, f
        swapf keep_w, w
        retfie
main    bsf STATUS, RP0
        clrf TRISB ^ 0x80
        movlw 0xC8
        movwf OPTION_REG ^ 0x80
        bcf STATUS, RP0
        clrf beats
        clrf beats_high
        movlw 0xA0
        movwf INTCON
loop    call outer
        goto loop
outer   call inner
        incf beats, w
        movwf beats
        btfsc STATUS, Z
        incf beats_high, f
        return
inner   movlw 2
        xorwf PORTA, f
        return)";

inline const char* const kBeatsOfArm9 = R"(
volatile uint16_t beats;
volatile uint32_t seen, told;
__attribute__((noinline)) void inner(void) { seen ^= 2; }
__attribute__((noinline)) void outer(void) { inner(); beats++; }
__attribute__((interrupt("IRQ"))) void irq_handler(void) { REG(0x101E200C) = 1; told ^= 1; }
int main(void)
{
    REG(0x101E2000) = 499;
    REG(0x101E2008) = 0x80 | 0x40 | 0x20 | 2;
    REG(0x10140010) = 1 << 4;
    __asm volatile("mrs r0, cpsr\n bic r0, r0, #0x80\n msr cpsr_c, r0" : : : "r0");
    for (;;)
        outer();
}
)";

}  // namespace bramix::test
