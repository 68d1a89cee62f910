#include "serial.h"

#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>

#define OUT_SIZE 64 /* powers of two */
#define IN_SIZE 16

static volatile char out_ring[OUT_SIZE], in_ring[IN_SIZE];
static volatile uint8_t out_head, out_tail, in_head, in_tail;

ISR(USART_UDRE_vect)
{
    if (out_tail == out_head) {
        UCSR0B &= ~(1 << UDRIE0);
        return;
    }
    UDR0 = out_ring[out_tail];
    out_tail = (out_tail + 1) % OUT_SIZE;
}

ISR(USART_RX_vect)
{
    const char c = UDR0;
    const uint8_t next = (in_head + 1) % IN_SIZE;
    if (next != in_tail) {
        in_ring[in_head] = c;
        in_head = next;
    }
}

void serial_begin(void)
{
    UBRR0 = 25; /* 16 MHz / (16 * 26) = 38462 baud */
    UCSR0C = (1 << UCSZ01) | (1 << UCSZ00);
    UCSR0B = (1 << RXCIE0) | (1 << RXEN0) | (1 << TXEN0);
}

static void put(char c)
{
    const uint8_t next = (out_head + 1) % OUT_SIZE;
    while (next == out_tail)
        sleep_cpu();
    out_ring[out_head] = c;
    out_head = next;
    UCSR0B |= 1 << UDRIE0;
}

void serial_text(PGM_P text)
{
    for (char c; (c = pgm_read_byte(text)) != 0; text++)
        put(c);
}

void serial_number(uint16_t value)
{
    char digits[5];
    uint8_t n = 0;
    do {
        digits[n++] = '0' + value % 10;
        value /= 10;
    } while (value != 0);
    while (n > 0)
        put(digits[--n]);
}

char serial_take(void)
{
    char c = 0;
    if (in_tail != in_head) {
        c = in_ring[in_tail];
        in_tail = (in_tail + 1) % IN_SIZE;
    }
    return c;
}
