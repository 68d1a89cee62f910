// Programs in C for tests of the ESP32-C3's peripherals, by the names and places of its reference manual.
#pragma once

namespace bramix::test {

inline const char* const kRegisters = R"(
#define GPIO(o) REG(0x60004000 + (o))
#define MUX(n) REG(0x60009004 + 4 * (n))
#define UART0(o) REG(0x60000000 + (o))
#define UART1(o) REG(0x60010000 + (o))
#define TIMER(o) REG(0x60023000 + (o))
#define LEDC(o) REG(0x60019000 + (o))
#define RMT(o) REG(0x60016000 + (o))
#define ADC(o) REG(0x60040000 + (o))
#define MATRIX(o) REG(0x600C2000 + (o))
#define SYSTEM(o) REG(0x600C0000 + (o))
static inline uint32_t ticks(void) { TIMER(4) = 1u << 30; while (!(TIMER(4) & 1u << 29)) ; return TIMER(0x44); }
static inline void wait_us(uint32_t us) { uint32_t from = ticks(); while (ticks() - from < 16 * us) ; }
static inline void output(unsigned n) { MUX(n) = 0x1A00; GPIO(0x554 + 4 * n) = 128; GPIO(0x24) = 1u << n; }
static inline void input(unsigned n) { MUX(n) = 0x1A00; GPIO(0x28) = 1u << n; }
static inline void run_at_160(void) { SYSTEM(8) = 5; SYSTEM(0x58) = 1u << 10; }
extern char vectors[];
// All rows of the table go to one handler that saves everything.
__asm(".balign 256\nvectors:\n.rept 32\nj common\n.endr\n"
      "common: addi sp, sp, -64\nsw ra,0(sp)\nsw t0,4(sp)\nsw t1,8(sp)\nsw t2,12(sp)\nsw a0,16(sp)\nsw a1,20(sp)\nsw a2,24(sp)\nsw a3,28(sp)\nsw a4,32(sp)\nsw a5,36(sp)\nsw a6,40(sp)\nsw a7,44(sp)\nsw t3,48(sp)\nsw t4,52(sp)\nsw t5,56(sp)\nsw t6,60(sp)\n"
      "csrr a0, mcause\ncall handler\n"
      "lw ra,0(sp)\nlw t0,4(sp)\nlw t1,8(sp)\nlw t2,12(sp)\nlw a0,16(sp)\nlw a1,20(sp)\nlw a2,24(sp)\nlw a3,28(sp)\nlw a4,32(sp)\nlw a5,36(sp)\nlw a6,40(sp)\nlw a7,44(sp)\nlw t3,48(sp)\nlw t4,52(sp)\nlw t5,56(sp)\nlw t6,60(sp)\naddi sp, sp, 64\nmret\n");
static inline void take_interrupt(unsigned source, unsigned n, unsigned priority)
{
    __asm volatile("csrw mtvec, %0" : : "r"((uint32_t)vectors | 1));
    MATRIX(4 * source) = n; MATRIX(0x114 + 4 * n) = priority; MATRIX(0x104) |= 1u << n;
}
static inline void interrupts_on(void) { __asm volatile("csrsi mstatus, 8"); }
)";

// A square wave of 20 us by the system timer, and one by GPIO writes back to back.
inline const char* const kPins = R"(
void handler(uint32_t cause) { (void)cause; }
int main(void)
{
    output(8);
    for (int i = 0; i < 4; i++) { GPIO(8) = 1 << 8; wait_us(10); GPIO(12) = 1 << 8; wait_us(10); }
    input(5);
    MUX(5) = 0x1B00;   // pull-up
    wait_us(1);
    results[0] = GPIO(0x3C) >> 5 & 1;
    MUX(5) = 0x1A80;   // pull-down
    wait_us(1);
    results[1] = GPIO(0x3C) >> 5 & 1;
    return 0;
}
)";

// Says a word at 115200 as the boot ROM has set it up, then answers each letter by the next one, by interrupt, at 57600 with even parity on UART1.
inline const char* const kSerial = R"(
void handler(uint32_t cause)
{
    results[1] = cause;
    while (UART1(0x1C) & 0x3FF) { uint32_t c = UART1(0); results[8 + results[2]++] = c; UART1(0) = c + 1; }
    UART1(0x10) = 1;
}
int main(void)
{
    for (const char *t = "ebb\n"; *t; t++) UART0(0) = *t;
    UART1(0x78) = 3u << 20 | 1u << 22;
    UART1(0x14) = 40000000 / 57600 | ((40000000ull * 16 / 57600) & 15) << 20;
    UART1(0x20) = 3 << 2 | 1 << 4 | 2;
    UART1(0x24) = 0;
    UART1(0x0C) = 1;
    MUX(4) = 0x1A00; GPIO(0x554 + 4 * 4) = 9; GPIO(0x24) = 1 << 4;
    MUX(3) = 0x1B00; GPIO(0x154 + 4 * 9) = 0x40 | 3;
    take_interrupt(22, 7, 1);
    interrupts_on();
    for (;;) __asm volatile("wfi");
}
)";

// A comparator every 500 us, by wait for interrupt; the pad shows each.
inline const char* const kTicks = R"(
void handler(uint32_t cause)
{
    GPIO(results[0] & 1 ? 8 : 12) = 1 << 2;
    results[0]++;
    results[1] = cause;
    TIMER(0x6C) = 1;
    if (results[0] == 40) { MATRIX(0x104) = 0; }
}
int main(void)
{
    output(2);
    TIMER(0x34) = 1u << 30 | 8000;
    TIMER(0x50) = 1;
    TIMER(0) |= 1u << 24;
    TIMER(0x64) = 1;
    take_interrupt(37, 3, 1);
    interrupts_on();
    while (results[0] < 40) __asm volatile("wfi");
    return 0;
}
)";

// Two at once: the more urgent first, then the other; and one that waits for its threshold.
inline const char* const kPriorities = R"(
void handler(uint32_t cause)
{
    results[1 + results[0]++] = cause & 31;
    SYSTEM(0x28 + 4 * ((cause & 31) - 10)) = 0;
}
int main(void)
{
    for (unsigned i = 0; i < 3; i++)
        take_interrupt(50 + i, 10 + i, i == 1 ? 9 : 4 + i);
    MATRIX(0x194) = 5;
    for (unsigned i = 0; i < 3; i++)
        SYSTEM(0x28 + 4 * i) = 1;
    interrupts_on();
    for (int i = 0; i < 20; i++) __asm volatile("nop");
    results[20] = results[0];
    MATRIX(0x194) = 0;
    for (int i = 0; i < 20; i++) __asm volatile("nop");
    return 0;
}
)";

// 5 kHz, three eighths high, on GPIO6; the clock goes to 160 MHz on the way, and APB with it.
inline const char* const kPwm = R"(
void handler(uint32_t cause) { (void)cause; }
int main(void)
{
    run_at_160();
    output(6);
    GPIO(0x554 + 4 * 6) = 45;
    LEDC(0xD0) = 1u << 31 | 1;
    LEDC(0xA0) = 10 | (80000000ull * 256 / (5000 * 1024)) << 4;
    LEDC(0xA0) |= 1u << 25;
    LEDC(4) = 0;
    LEDC(8) = 384 << 4;
    LEDC(0) = 1 << 2 | 1 << 4;
    LEDC(0xC) = 1u << 31;
    for (;;) ;
}
)";

// 24 bits to a pixel of the kind that tells ones from zeros by their width: 0.35 and 0.8 us, 0.7 and 0.45 us.
inline const char* const kPixels = R"(
void handler(uint32_t cause) { (void)cause; }
int main(void)
{
    run_at_160();
    output(10);
    GPIO(0x554 + 4 * 10) = 51;
    RMT(0x68) = 1u << 31 | 1u << 26 | 1u << 24 | 0 << 4;      // 80 MHz
    RMT(0x10) = 1 << 16 | 4 << 8 | 1 << 6;                    // 20 MHz, rests low
    const uint32_t pixel = 0x10FF80;
    volatile uint32_t *to = (volatile uint32_t *)0x60016400;
    for (int b = 23; b >= 0; b--)
        *to++ = pixel >> b & 1 ? (0x8000 | 14) | 9u << 16 : (0x8000 | 7) | 16u << 16;
    *to = 0;
    RMT(0x10) = 1 << 16 | 4 << 8 | 1 << 6 | 2 | 1 << 24;
    RMT(0x10) |= 1;
    while (!(RMT(0x38) & 1)) ;
    results[0] = RMT(0x38);
    return 0;
}
)";

// A function in SRAM that is written anew before each call, with data on the same page; after some of that nobody holds its page any more.
inline const char* const kWrittenCode = R"(
void handler(uint32_t cause) { (void)cause; }
int main(void)
{
    volatile uint32_t *to = (volatile uint32_t *)0x3FC90000, *data = to + 100;
    uint32_t (*run)(uint32_t) = (uint32_t (*)(uint32_t))(0x3FC90000 - 0x3FC80000 + 0x40380000);
    uint32_t sum = 0;
    for (uint32_t n = 0; ; n++) {
        to[0] = 0x00050513 | (n & 0x7FF) << 20;   // addi a0, a0, n
        to[1] = 0x00008067;
        __asm volatile("fence.i");
        sum += run(n);
        *data = sum;
        results[0] = n;
        results[1] = sum;
    }
}
)";

// Channel 2 at 12 dB.
inline const char* const kAnalog = R"(
void handler(uint32_t cause) { (void)cause; }
int main(void)
{
    MUX(2) = 0x1800;
    for (int i = 0; i < 3; i++) {
        ADC(0x4C) = 1u << 31;
        ADC(0x20) = 1u << 31 | 2u << 25 | 3u << 23;
        ADC(0x20) |= 1u << 29;
        while (!(ADC(0x44) & 1u << 31)) ;
        results[i] = ADC(0x2C) & 0xFFF;
    }
    return 0;
}
)";

}  // namespace bramix::test
