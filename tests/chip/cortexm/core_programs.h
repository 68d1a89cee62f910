// Programs in C that tests of the core run.
#pragma once

namespace bramix::test::arm {

// Everything that a compiler makes of C: arithmetic of all widths, division, bit fields, switches, pointers to functions, recursion, floating point in software.
inline const char* const kWork = R"(
static uint32_t seed = 12345;
static uint32_t next(void) { seed ^= seed << 13; seed ^= seed >> 17; seed ^= seed << 5; return seed; }
static int32_t near(int32_t n) { int32_t v = (int32_t)next(); return v % (n == 0 ? 1 : n); }
struct reading { uint32_t level : 11; int32_t drift : 7; uint32_t valve : 3; int32_t rest : 11; };
struct berth { uint16_t length; uint8_t kind; int8_t tide; struct berth *left, *right; };
static struct berth berths[24];
static uint32_t crc(const uint8_t *at, uint32_t n)
{
    uint32_t c = 0xFFFFFFFF;
    while (n--) {
        c ^= *at++;
        for (int i = 0; i < 8; i++)
            c = c >> 1 ^ (c & 1 ? 0xEDB88320 : 0);
    }
    return ~c;
}
static uint32_t deep(uint32_t n) { return n < 2 ? n : deep(n - 1) + 3 * deep(n - 2); }
static int32_t chosen(uint32_t which, int32_t a, int32_t b)
{
    switch (which % 11) {
    case 0: return a + b;
    case 1: return a - b;
    case 2: return a * b;
    case 3: return b ? a / b : 7;
    case 4: return b ? a % b : 9;
    case 5: return a & ~b;
    case 6: return a | ~b;
    case 7: return a ^ b;
    case 8: return a >> (b & 31);
    case 9: return (int32_t)((uint32_t)a << (b & 31));
    default: return a < b ? a : b;
    }
}
static uint32_t rotated(uint32_t v, unsigned n) { n &= 31; return v >> n | v << (-n & 31); }
typedef uint32_t (*step)(uint32_t);
static uint32_t one(uint32_t v) { return (uint32_t)__builtin_clz(v | 1) + (uint32_t)__builtin_ctz(v | 0x80000000); }
static uint32_t two(uint32_t v) { return __builtin_bswap32(v) + (uint16_t)__builtin_bswap16((uint16_t)v); }
static uint32_t three(uint32_t v) { return (uint32_t)(int8_t)v + (uint32_t)(int16_t)(v >> 8) + (uint8_t)(v >> 3) + (uint16_t)(v >> 7); }
static const step steps[] = {one, two, three};
static struct berth *insert(struct berth *root, struct berth *b)
{
    if (!root)
        return b;
    if (b->length < root->length)
        root->left = insert(root->left, b);
    else
        root->right = insert(root->right, b);
    return root;
}
static uint32_t walk(const struct berth *b, uint32_t sum) { return b ? walk(b->right, walk(b->left, sum) * 31 + b->length + (uint32_t)b->tide) : sum; }
static uint32_t bitsOf(float f) { union { float f; uint32_t u; } x = {f}; return x.u; }
static uint32_t foldedOf(double d) { union { double d; uint64_t u; } x = {d}; return (uint32_t)(x.u ^ x.u >> 32); }
void work(volatile uint32_t *out)
{
    uint32_t n = 0, sum = 0;
    uint64_t wide = 0x123456789ABCDEF;
    int64_t swide = -0x1234567890;
    for (uint32_t i = 0; i < 400; i++) {
        const int32_t a = (int32_t)next(), b = near(5000);
        sum = sum * 33 + (uint32_t)chosen(i, a, b);
        wide *= next();
        wide += rotated(next(), i);
        const int32_t c = near(100000), d = near(977) | 1;
        swide += (int64_t)a * c - swide / d;
        const uint32_t e = next() | 1;
        wide ^= (uint64_t)swide >> (i & 63) | wide % e;
        if (i % 25 == 0) {
            out[n++] = sum;
            out[n++] = (uint32_t)wide ^ (uint32_t)(wide >> 32);
            out[n++] = (uint32_t)swide ^ (uint32_t)(swide >> 32);
            out[n++] = steps[i % 3](next());
        }
    }
    struct reading r = {0};
    for (uint32_t i = 0; i < 60; i++) {
        r.level += (uint16_t)next() & 0x3FF;
        r.drift -= (int8_t)next();
        r.valve ^= (uint8_t)next();
        r.rest = r.drift * (int)r.valve + r.rest;
        sum = sum * 17 + r.level + (uint32_t)r.drift * 3 + r.valve * 5u + (uint32_t)r.rest;
    }
    out[n++] = sum;
    struct berth *root = 0;
    for (uint32_t i = 0; i < 24; i++) {
        berths[i].length = (uint16_t)next();
        berths[i].kind = (uint8_t)next();
        berths[i].tide = (int8_t)next();
        root = insert(root, &berths[i]);
    }
    out[n++] = walk(root, 1);
    uint8_t text[200];
    for (uint32_t i = 0; i < sizeof text; i++)
        text[i] = (uint8_t)(next() >> 9);
    out[n++] = crc(text, sizeof text);
    out[n++] = deep(15);
    float f = 1.5f;
    double d = -2.25;
    for (uint32_t i = 1; i < 60; i++) {
        f = f * 1.37f - (float)near(1000) / (float)i;
        d = d * 0.97 + (double)f / (double)(i + 3) - (double)(int32_t)next() * 1e-3;
        if (f > 1e6f || f < -1e6f)
            f = (float)(int32_t)f * 1e-4f;
    }
    out[n++] = bitsOf(f);
    out[n++] = foldedOf(d);
    out[n++] = (uint32_t)(int32_t)d;
    out[n++] = n;
}
)";

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
