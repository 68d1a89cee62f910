#include "selfcheck.h"

static uint8_t pick(uint8_t i)
{
    switch (i) {
    case 0: return 7;
    case 1: return 11;
    case 2: return 13;
    case 3: return 17;
    case 4: return 19;
    case 5: return 23;
    case 6: return 29;
    case 7: return 31;
    case 10: return 37;
    default: return 2;
    }
}

int main(void)
{
    begin();
    uint16_t sum = 0;
    for (uint8_t i = 0; i < 12; i++)
        sum += pick(i) * (i + 1);
    CHECK(sum == 1 * 7 + 2 * 11 + 3 * 13 + 4 * 17 + 5 * 19 + 6 * 23 + 7 * 29 + 8 * 31 + 9 * 2 + 10 * 2 + 11 * 37 + 12 * 2);
    finish();
}
