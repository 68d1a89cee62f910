#include "selfcheck.h"

static volatile uint8_t ticks;
static volatile uint16_t shared;
ISR(TIMER0_COMPA_vect)
{
    ticks++;
    shared += 3;
}

int main(void)
{
    begin();
    OCR0A = 99;
    TCCR0A = 1 << WGM01;
    TCCR0B = 1 << CS00;
    TIMSK0 = 1 << OCIE0A;
    sei();
    while (ticks < 50) {
    }
    cli();
    CHECK(ticks == 50);
    uint16_t t = shared;
    CHECK(t == 50 * 3);
    TIMSK0 = 0;
    finish();
}
