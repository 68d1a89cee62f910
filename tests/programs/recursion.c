#include "selfcheck.h"

static uint16_t ackermann(uint16_t m, uint16_t n)
{
    return m == 0 ? n + 1 : n == 0 ? ackermann(m - 1, 1) : ackermann(m - 1, ackermann(m, n - 1));
}
static uint16_t fibonacci(uint8_t n) { return n < 2 ? n : fibonacci(n - 1) + fibonacci(n - 2); }
static uint16_t hanoi(uint8_t n) { return n == 0 ? 0 : 2 * hanoi(n - 1) + 1; }

int main(void)
{
    begin();
    CHECK(ackermann(2, 3) == 9);
    CHECK(fibonacci(15) == 610);
    CHECK(hanoi(8) == 255);
    finish();
}
