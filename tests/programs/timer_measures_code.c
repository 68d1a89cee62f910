#include "selfcheck.h"
#define F_CPU 16000000UL
#include <util/delay.h>

int main(void)
{
    begin();
    TCCR1B = 1 << CS10;
    uint16_t start = TCNT1;
    __asm__ __volatile__("nop\n nop\n nop\n nop\n nop\n nop\n nop\n nop\n nop\n nop");
    uint16_t end = TCNT1;
    uint16_t start2 = TCNT1;
    uint16_t end2 = TCNT1;
    CHECK((end - start) - (end2 - start2) == 10);
#ifdef __OPTIMIZE__ /* the delay is worked out by the compiler only then */
    start = TCNT1;
    _delay_us(100);
    end = TCNT1;
    CHECK(end - start >= 1600 && end - start < 1620);
#endif
    finish();
}
