/*
 * Moth trap on a breadboard: an ATtiny85 at 1 MHz, as shipped, lights its lamp from dusk to dawn.
 *
 *   PB4 ADC2   light sensor against 10 kOhm
 *   PB1 OC0B   lamp, by a transistor
 *
 * Between dusk and dawn lies a gap, so that a cloud does not make it flicker. The lamp comes up slowly, over two seconds.
 */
#include <avr/io.h>
#include <util/delay.h>

#define DUSK 300 /* of 1023: darker than this, the lamp goes on */
#define DAWN 450

static uint16_t light(void)
{
    ADCSRA |= 1 << ADSC;
    while (ADCSRA & (1 << ADSC))
        ;
    return ADC;
}

int main(void)
{
    DDRB = 1 << PB1;
    ADMUX = 2;
    ADCSRA = (1 << ADEN) | (1 << ADPS1) | (1 << ADPS0); /* 125 kHz */
    TCCR0A = (1 << COM0B1) | (1 << WGM01) | (1 << WGM00);
    TCCR0B = 1 << CS00; /* 3.9 kHz */
    uint8_t night = 0, level = 0;
    light();
    for (;;) {
        const uint16_t now = light();
        if (now < DUSK)
            night = 1;
        else if (now > DAWN)
            night = 0;
        if (night && level < 255)
            ++level;
        else if (!night)
            level = 0;
        OCR0B = level;
        if (level)
            TCCR0A |= 1 << COM0B1;
        else
            TCCR0A &= ~(1 << COM0B1);
        _delay_ms(8);
    }
}
