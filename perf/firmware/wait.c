/* Firmware that mostly waits: a short piece of work, then a delay loop of a tenth of a second. */
#include <avr/io.h>
#include <util/delay.h>

int main(void)
{
    DDRB = 1 << PB0;
    for (;;) {
        PINB = 1 << PB0;
        _delay_ms(100);
    }
}
