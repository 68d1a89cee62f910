#include "selfcheck.h"

int main(void)
{
    begin();
    uint16_t a = 54321, b = 123;
    HIDE(a);
    HIDE(b);
    CHECK(a / b == 441 && a % b == 78);
    int32_t c = -123456789, d = 1000;
    CHECK(c / d == -123456 && c % d == -789);
    uint8_t e = 200, f = 7;
    HIDE(e);
    HIDE(f);
    CHECK(e / f == 28 && e % f == 4);
    for (uint32_t i = 1; i < 100000; i = i * 3 + 1)
        CHECK((987654321UL / i) * i + 987654321UL % i == 987654321UL);
    finish();
}
