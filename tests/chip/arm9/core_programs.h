// Programs in C that tests of the core run.
#pragma once

namespace bramix::test::arm9 {

// Each exception once: what it is, from which mode, where it comes back to.
inline const char* const kExceptions = R"(
volatile uint32_t seen;
__attribute__((interrupt("SWI"))) void swi_handler(void)
{
    uint32_t spsr;
    __asm volatile("mrs %0, spsr" : "=r"(spsr));
    results[0] = spsr & 0x1F;
    seen |= 1;
}
__attribute__((naked)) void undefined_handler(void)
{
    __asm volatile("stmfd sp!, {r0, r1}\n mrs r0, spsr\n ldr r1, =results\n str r0, [r1, #4]\n str lr, [r1, #8]\n ldmfd sp!, {r0, r1}\n movs pc, lr");
}
__attribute__((naked)) void data_handler(void)
{
    __asm volatile("stmfd sp!, {r0, r1}\n mrc p15, 0, r0, c5, c0, 0\n ldr r1, =results\n str r0, [r1, #12]\n mrc p15, 0, r0, c6, c0, 0\n str r0, [r1, #16]\n str lr, [r1, #20]\n ldmfd sp!, {r0, r1}\n subs pc, lr, #4");
}
__attribute__((naked)) void prefetch_handler(void)
{
    __asm volatile("stmfd sp!, {r0, r1}\n mrc p15, 0, r0, c5, c0, 1\n ldr r1, =results\n str r0, [r1, #24]\n str lr, [r1, #28]\n ldmfd sp!, {r0, r1}\n ldr lr, =after_prefetch\n movs pc, lr");
}
int main(void)
{
    uint32_t sp;
    __asm volatile("swi #5" : : : "lr");
    __asm volatile("undefined_at: .word 0xE7F000F0" : : : "lr");
    __asm volatile("mov r4, #0x44\n mov r5, #0x20000000\nabort_at: ldr r4, [r5], #4\n ldr r3, =results\n str r4, [r3, #32]\n str r5, [r3, #36]\n" : : : "r3", "r4", "r5", "lr");
    __asm volatile("ldr r3, =0x30000000\n bx r3\n.ltorg\nafter_prefetch:" : : : "r3", "lr");
    __asm volatile("ldr %0, =undefined_at" : "=r"(sp)); results[10] = sp;
    __asm volatile("ldr %0, =abort_at" : "=r"(sp)); results[11] = sp;
    results[12] = seen;
    // The stacks of all modes are as they were.
    __asm volatile("msr cpsr_c, #0xDB\n mov %0, sp\n msr cpsr_c, #0xD3" : "=r"(sp)); results[13] = sp;
    return 0;
}
)";

// A table of sections: virtual 0x40000000 is RAM at 1 MB; 0x40100000 may be read by privileged code alone; 0x40200000 has a coarse table with two pages; the rest is itself.
inline const char* const kTables = R"(
volatile uint32_t faults, last, status;
__attribute__((naked)) void data_handler(void)
{
    __asm volatile("stmfd sp!, {r0-r3, r12, lr}\n mrc p15, 0, r0, c5, c0, 0\n mrc p15, 0, r1, c6, c0, 0\n bl fault\n ldmfd sp!, {r0-r3, r12, lr}\n subs pc, lr, #4");
}
void fault(uint32_t s, uint32_t a) { faults++; status = s; last = a; }
static uint32_t *const table = (uint32_t *)0x180000;
static uint32_t *const coarse = (uint32_t *)0x1C0000;
#define PEEK(a) ({ uint32_t v = 0xBAD; __asm volatile("ldr %0, [%1]" : "+r"(v) : "r"(a) : "memory"); v; })
int main(void)
{
    for (int i = 0; i < 4096; i++)
        table[i] = (uint32_t)i << 20 | 3 << 10 | 2;
    *(volatile uint32_t *)0x100000 = 0x11111111;
    *(volatile uint32_t *)0x102000 = 0x22222222;
    *(volatile uint32_t *)0x103000 = 0x33333333;
    table[0x400] = 0x100000 | 3 << 10 | 2;
    table[0x401] = 0x100000 | 1 << 5 | 1 << 10 | 2;   // domain 1: a client
    table[0x402] = (uint32_t)coarse | 1 << 5 | 1;
    table[0x403] = 0;
    table[0x404] = 0x100000 | 2 << 5 | 3 << 10 | 2;   // domain 2: no access
    for (int i = 0; i < 256; i++)
        coarse[i] = 0;
    coarse[0] = 0x102000 | 0xFF0 | 2;                  // small page
    coarse[1] = 0x103000 | 0xAA0 | 2;                  // a user may read
    __asm volatile("mcr p15, 0, %0, c2, c0, 0\n mcr p15, 0, %1, c3, c0, 0\n mcr p15, 0, %2, c8, c7, 0" : : "r"(table), "r"(0x7), "r"(0));
    uint32_t c;
    __asm volatile("mrc p15, 0, %0, c1, c0, 0" : "=r"(c));
    __asm volatile("mcr p15, 0, %0, c1, c0, 0" : : "r"(c | 1));
    results[0] = PEEK(0x40000000);
    results[1] = PEEK(0x40100000);
    results[2] = PEEK(0x40200000);
    results[3] = PEEK(0x40201000);
    results[4] = faults;
    PEEK(0x40202000); results[5] = status; results[6] = last;    // translation, page
    PEEK(0x40300000); results[7] = status; results[8] = last;    // translation, section
    PEEK(0x40400000); results[9] = status;                       // domain, section
    // As a user: the first is his, the second not, the page may be read but not written.
    uint32_t v;
    __asm volatile("ldrt %0, [%1]" : "=r"(v) : "r"(0x40000000)); results[10] = v;
    __asm volatile("ldrt %0, [%1]" : "=r"(v) : "r"(0x40100000)); results[11] = status;
    __asm volatile("ldrt %0, [%1]" : "=r"(v) : "r"(0x40201000)); results[12] = v;
    __asm volatile("strt %0, [%1]" : : "r"(5), "r"(0x40201000) : "memory"); results[13] = status;
    // The TLB keeps what it has until it is told otherwise.
    table[0x400] = 0x200000 | 3 << 10 | 2;
    results[14] = PEEK(0x40000000);
    __asm volatile("mcr p15, 0, %0, c8, c7, 0" : : "r"(0));
    *(volatile uint32_t *)0x200000 = 0x44444444;
    v = PEEK(0x40000000);
    results[15] = v;
    results[0] = v == 0x44444444 ? 0x11111111 : 0;
    results[16] = faults;
    __asm volatile("mcr p15, 0, %0, c1, c0, 0" : : "r"(c));
    return 0;
}
)";

// What version 5 has for signals, against the same in C.
inline const char* const kSignals = R"(
static uint32_t seed = 77;
static uint32_t next(void) { seed ^= seed << 13; seed ^= seed >> 17; seed ^= seed << 5; return seed; }
static int32_t sat(int64_t v) { return v > 0x7FFFFFFF ? 0x7FFFFFFF : v < -0x7FFFFFFFLL - 1 ? -0x7FFFFFFF - 1 : (int32_t)v; }
static int32_t half(uint32_t v, int top) { return (int16_t)(top ? v >> 16 : v); }
#define TWO(op, expected) do { uint32_t o; __asm volatile(op " %0, %1, %2" : "=r"(o) : "r"(a), "r"(b)); if ((int32_t)o != (int32_t)(expected)) results[which]++; which++; } while (0)
#define THREE(op, expected) do { uint32_t o; __asm volatile(op " %0, %1, %2, %3" : "=r"(o) : "r"(a), "r"(b), "r"(c)); if ((int32_t)o != (int32_t)(expected)) results[which]++; which++; } while (0)
int main(void)
{
    for (int n = 0; n < 300; n++) {
        uint32_t a = next(), b = next(), c = next();
        if (n % 5 == 0) a |= 0x7FFF0000;
        int which = 1;
        TWO("qadd", sat((int64_t)(int32_t)a + (int32_t)b));
        TWO("qsub", sat((int64_t)(int32_t)a - (int32_t)b));
        TWO("qdadd", sat((int64_t)(int32_t)a + sat(2 * (int64_t)(int32_t)b)));
        TWO("qdsub", sat((int64_t)(int32_t)a - sat(2 * (int64_t)(int32_t)b)));
        TWO("smulbb", half(a, 0) * half(b, 0));
        TWO("smulbt", half(a, 0) * half(b, 1));
        TWO("smultb", half(a, 1) * half(b, 0));
        TWO("smultt", half(a, 1) * half(b, 1));
        TWO("smulwb", (int32_t)(((int64_t)(int32_t)a * half(b, 0)) >> 16));
        TWO("smulwt", (int32_t)(((int64_t)(int32_t)a * half(b, 1)) >> 16));
        THREE("smlabb", half(a, 0) * half(b, 0) + c);
        THREE("smlatt", half(a, 1) * half(b, 1) + c);
        THREE("smlawb", (int32_t)(((int64_t)(int32_t)a * half(b, 0)) >> 16) + c);
        uint32_t lo = c, hi = n;
        __asm volatile("smlalbt %0, %1, %2, %3" : "+r"(lo), "+r"(hi) : "r"(a), "r"(b));
        int64_t e = ((int64_t)n << 32 | c) + (int64_t)half(a, 0) * half(b, 1);
        if (lo != (uint32_t)e || hi != (uint32_t)(e >> 32)) results[which]++;
        which++;
        __asm volatile("clz %0, %1" : "=r"(lo) : "r"(a >> (n % 32)));
        if (lo != (a >> (n % 32) ? (uint32_t)__builtin_clz(a >> (n % 32)) : 32)) results[which]++;
    }
    // Q stays until it is cleared.
    uint32_t flags, o;
    __asm volatile("msr cpsr_f, #0\n qadd %1, %2, %2\n mrs %0, cpsr" : "=&r"(flags), "=&r"(o) : "r"(0x7FFFFFFF));
    results[30] = flags >> 27;
    // A word that lies askew is rotated, and swapped whole.
    static uint32_t words[4] = {0x44332211, 0x88776655};
    __asm volatile("ldr %0, [%1]" : "=r"(o) : "r"((char *)words + 1)); results[31] = o;
    __asm volatile("swp %0, %1, [%2]" : "=&r"(o) : "r"(0x12345678), "r"(words + 1) : "memory"); results[32] = o; results[33] = words[1];
    __asm volatile("mov r4, %1\n ldrd r2, [r4]\n eor %0, r2, r3" : "=r"(o) : "r"(words) : "r2", "r3", "r4"); results[34] = o;
    return 0;
}
)";

}  // namespace bramix::test::arm9
