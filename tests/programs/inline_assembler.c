#include "selfcheck.h"

int main(void)
{
    begin();
    uint8_t hundreds, rest = 137;
    HIDE(rest);
    __asm__("ldi %0, 0\n1: subi %1, 100\n brcs 2f\n inc %0\n rjmp 1b\n2: subi %1, -100" : "=&d"(hundreds), "+d"(rest));
    CHECK(hundreds == 1 && rest == 37);
    uint8_t s;
    __asm__("swap %0" : "=r"(s) : "0"(0x3C));
    CHECK(s == 0xC3);
    uint16_t f;
    __asm__("fmul %1, %2\n movw %0, r0\n clr r1" : "=r"(f) : "a"((uint8_t)0x80), "a"((uint8_t)0x40));
    CHECK(f == 0x4000);
    finish();
}
