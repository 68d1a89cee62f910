/* Firmware that sleeps between the ticks of a timer, 30 a second. */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>

ISR(TIMER1_OVF_vect) { PINB = 1 << PB0; }

int main(void)
{
    DDRB = 1 << PB0;
    TCCR1B = (1 << CS11); /* 16 MHz / 8 / 65536 = 30.5 Hz */
    TIMSK1 = 1 << TOIE1;
    set_sleep_mode(SLEEP_MODE_IDLE);
    sei();
    for (;;)
        sleep_mode();
}
