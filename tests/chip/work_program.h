// A program in C that gives the same answers on every machine of 32 bits and on this one.
#pragma once

namespace bramix::test {

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

}  // namespace bramix::test
