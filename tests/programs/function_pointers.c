#include "selfcheck.h"

static uint8_t one(uint8_t x) { return x + 1; }
static uint8_t two(uint8_t x) { return x * 2; }
static uint8_t three(uint8_t x) { return x ^ 3; }

int main(void)
{
    begin();
    static uint8_t (*const table[])(uint8_t) = { one, two, three };
    uint8_t sum = 0;
    for (uint8_t i = 0; i < 30; i++) {
        uint8_t (*f)(uint8_t) = table[i % 3];
        HIDE(f);
        sum += f(i);
    }
    uint8_t expected = 0;
    for (uint8_t i = 0; i < 30; i++)
        expected += i % 3 == 0 ? i + 1 : i % 3 == 1 ? i * 2 : i ^ 3;
    CHECK(sum == expected);
    finish();
}
