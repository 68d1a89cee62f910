#include "selfcheck.h"

int main(void)
{
    begin();
    uint32_t v = 0x80000001;
    HIDE(v);
    for (uint8_t i = 0; i < 32; i++) {
        CHECK((v << i) >> i == (i == 0 ? v : 1UL));
        CHECK((int32_t)v >> i == -(int32_t)(((0x7FFFFFFFUL) >> i) + (i == 0 ? 0 : 1)) - (i == 0 ? 0 : 0) || i > 0);
    }
    int16_t s = -1000;
    HIDE(s);
    CHECK(s >> 3 == -125);
    CHECK((uint16_t)s >> 3 == 8067);
    uint8_t r = 0x96;
    HIDE(r);
    CHECK((uint8_t)((r << 1) | (r >> 7)) == 0x2D);
    finish();
}
