#include "selfcheck.h"

static uint32_t __attribute__((noinline)) mix(uint8_t a, uint16_t b, uint32_t c, uint8_t d, uint16_t e, uint8_t f, uint64_t g, uint8_t h, uint16_t i, uint8_t j)
{
    return a + b + c + d + e + f + (uint32_t)g + h + i + j;
}

int main(void)
{
    begin();
    CHECK(mix(1, 2000, 3000000UL, 4, 50000u, 6, 7ULL, 8, 9, 10) == 3052045UL);
    finish();
}
