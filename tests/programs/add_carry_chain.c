#include "selfcheck.h"

int main(void)
{
    begin();
    uint32_t a = 0xFFFFFFFF, b = 1;
    HIDE(a);
    HIDE(b);
    CHECK(a + b == 0);
    CHECK(a - b == 0xFFFFFFFE);
    uint32_t c = 0x00FF00FF;
    HIDE(c);
    CHECK(c + 1 == 0x00FF0100);
    CHECK(c - 0x100 == 0x00FEFFFF);
    CHECK((uint32_t)(-c) == 0xFF00FF01);
    finish();
}
