#include "selfcheck.h"

int main(void)
{
    begin();
    int8_t a = -128, b = 127;
    HIDE(a);
    HIDE(b);
    CHECK(a < b);
    CHECK((uint8_t)a > (uint8_t)b);
    int16_t x = -32768, y = 1;
    HIDE(x);
    HIDE(y);
    CHECK(x < y);
    CHECK((uint16_t)x > (uint16_t)y);
    CHECK((int16_t)(x - y) == 32767);
    int32_t u = -2000000000, v = 2000000000;
    CHECK(u < v);
    finish();
}
