#include "selfcheck.h"

static volatile uint8_t slow, nested, depth;
ISR(TIMER0_COMPA_vect, ISR_NOBLOCK)
{
    depth++;
    for (volatile uint8_t i = 0; i < 8; i++) {
    }
    slow++;
    depth--;
}
ISR(TIMER2_COMPA_vect)
{
    if (depth)
        nested++;
}

int main(void)
{
    begin();
    OCR0A = 199;
    TCCR0A = 1 << WGM01;
    TCCR0B = 1 << CS01;
    TIMSK0 = 1 << OCIE0A;
    OCR2A = 250;
    TCCR2A = 1 << WGM21;
    TCCR2B = 1 << CS20;
    TIMSK2 = 1 << OCIE2A;
    sei();
    while (slow < 20) {
    }
    cli();
    CHECK(nested > 0);
    CHECK(depth == 0);
    finish();
}
