/* A program that checks itself: CHECK(condition) for each fact, then finish(). Says "ok" on the UART, or the lines that failed. */
#ifndef SELFCHECK_H
#define SELFCHECK_H

#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include <stdint.h>

static uint8_t failures;

static void put(char c)
{
    while (!(UCSR0A & (1 << UDRE0))) {
    }
    UDR0 = c;
}

static void put_number(uint16_t n)
{
    if (n >= 10)
        put_number(n / 10);
    put('0' + n % 10);
}

static void begin(void)
{
    UBRR0 = 0; /* 1 Mbaud */
    UCSR0B = 1 << TXEN0;
}

static void fact(uint8_t holds, uint16_t line)
{
    if (holds)
        return;
    failures++;
    put('L');
    put_number(line);
    put('\n');
}

#define CHECK(condition) fact((condition) != 0, __LINE__)

static void finish(void)
{
    if (failures == 0) {
        put('o');
        put('k');
    } else {
        put('X');
    }
    put('\n');
    put('\n'); /* the last byte but one is out when this one has left the buffer */
    while (!(UCSR0A & (1 << UDRE0))) {
    }
    cli();
    sleep_enable();
    for (;;)
        sleep_cpu();
}

#define HIDE(x) __asm__ __volatile__("" : "+r"(x)) /* the compiler does not know the value any more */

#endif
