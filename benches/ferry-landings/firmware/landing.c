/*
 * One landing of a ferry with two. A press calls the boat from the other side, or sends it over when it lies here. The landings talk by one line
 * each way: "call" asks for the boat, "boat" says that it has left for the other side. BOAT_HERE says where it lies in the morning.
 */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <avr/sleep.h>
#include <stdbool.h>
#include <stdint.h>

#define LAMP_CALLED PB1
#define LAMP_BOAT PB0
#define ROPE PD2
#define CROSSING 1500 /* ms that the boat takes */
#define STEADY 20     /* ms that the rope must hold still */

static volatile uint16_t now;
static volatile uint8_t heard; /* 'c' or 'b', until it has been looked at */
static bool here = BOAT_HERE, called, waiting;
static uint16_t arrives; /* when a boat that is under way gets here; 0: none is */

ISR(TIMER0_COMPA_vect) { now++; }

/* The first letter of a line says it all. */
ISR(USART_RX_vect)
{
    static bool begun;
    const uint8_t c = UDR0;
    if (!begun && (c == 'c' || c == 'b'))
        heard = c;
    begun = c != '\n';
}

static uint16_t millis(void)
{
    cli();
    const uint16_t t = now;
    sei();
    return t;
}

static void say(const char *text)
{
    for (char c; (c = pgm_read_byte(text)) != 0; text++) {
        while (!(UCSR0A & (1 << UDRE0)))
            ;
        UDR0 = c;
    }
}

static void listen(uint16_t t)
{
    const uint8_t what = heard;
    heard = 0;
    if (what == 'c')
        called = here || arrives != 0;
    if (what == 'b') {
        arrives = t + CROSSING;
        if (arrives == 0)
            arrives = 1;
    }
}

static void pulled(void)
{
    if (here) {
        say(PSTR("boat\n"));
        here = called = false;
    } else if (!waiting) {
        say(PSTR("call\n"));
        waiting = true;
    }
}

/* True once for each pull. */
static bool pulls(uint16_t t)
{
    static bool last, told;
    static uint16_t since;
    const bool down = !(PIND & (1 << ROPE));
    if (down != last) {
        last = down;
        since = t;
    }
    if (!down)
        told = told && t - since < STEADY;
    if (!down || told || t - since < STEADY)
        return false;
    return told = true;
}

int main(void)
{
    DDRB = (1 << LAMP_CALLED) | (1 << LAMP_BOAT);
    PORTD = 1 << ROPE;
    TCCR0A = 1 << WGM01;
    TCCR0B = (1 << CS01) | (1 << CS00); /* 16 MHz / 64 / 250 = 1 kHz */
    OCR0A = 249;
    TIMSK0 = 1 << OCIE0A;
    UBRR0 = 103; /* 9600 baud */
    UCSR0B = (1 << RXEN0) | (1 << TXEN0) | (1 << RXCIE0);
    set_sleep_mode(SLEEP_MODE_IDLE);
    sei();
    for (;;) {
        sleep_mode();
        const uint16_t t = millis();
        listen(t);
        if (pulls(t))
            pulled();
        if (arrives != 0 && (int16_t)(t - arrives) >= 0) {
            arrives = 0;
            here = true;
            waiting = false;
        }
        /* Called: blinks fast. Waiting for it: blinks slowly. */
        const bool lit = called ? t & 128 : waiting && (t & 512);
        PORTB = (lit ? 1 << LAMP_CALLED : 0) | (here ? 1 << LAMP_BOAT : 0);
    }
}
