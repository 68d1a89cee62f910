/*
 * Bell tower: while the rope is pulled (PD4 to ground) the bell lamp (PB0) is lit; each stroke is counted on the serial line.
 * A '0' received starts the count anew.
 */
#include <avr/io.h>
#include <stdint.h>
#include <util/delay.h>

static void put(char c)
{
    while (!(UCSR0A & (1 << UDRE0))) {
    }
    UDR0 = c;
}

static void text(const char *s)
{
    while (*s)
        put(*s++);
}

static void number(uint16_t n)
{
    if (n >= 10)
        number(n / 10);
    put('0' + n % 10);
}

int main(void)
{
    uint16_t strokes = 0;
    uint8_t pulled = 0;

    UBRR0 = 103; /* 9600 baud at 16 MHz */
    UCSR0B = (1 << RXEN0) | (1 << TXEN0);
    DDRB = 1 << PB0;
    PORTD = 1 << PD4; /* pull-up */
    text("Bell tower ready\r\n");
    for (;;) {
        const uint8_t is_pulled = !(PIND & (1 << PD4));
        if (is_pulled != pulled) {
            pulled = is_pulled;
            if (pulled) {
                PORTB |= 1 << PB0;
                text("stroke ");
                number(++strokes);
                text("\r\n");
            } else {
                PORTB &= ~(1 << PB0);
            }
            _delay_ms(15); /* until the contacts have settled */
        }
        if (UCSR0A & (1 << RXC0) && UDR0 == '0') {
            strokes = 0;
            text("count from 1\r\n");
        }
    }
}
