#include "selfcheck.h"

int main(void)
{
    begin();
    uint16_t total = 0;
    for (uint16_t i = 0; i < 256; i++) {
        total += __builtin_popcount(i);
        CHECK(__builtin_parity(i) == (__builtin_popcount(i) & 1));
    }
    CHECK(total == 1024);
    CHECK(__builtin_clz(1u) == 15 && __builtin_ctz(0x4000u) == 14);
    uint8_t r = 0;
    for (uint8_t i = 0; i < 8; i++)
        if (0xB1 & (1 << i))
            r |= 0x80 >> i;
    CHECK(r == 0x8D);
    finish();
}
