#include "panel.h"

#include <avr/interrupt.h>
#include <avr/io.h>
#include <util/delay.h>

/*
 *   PC4 SDA, PC5 SCL   display behind its expander, 0x27
 *   PC0                level sensor in the chamber
 *   PD6                paddle servo
 *   PD7                horn
 */
#define DISPLAY 0x27
#define BACKLIGHT 0x08
#define PADDLE (1 << PD6)
#define HORN (1 << PD7)

static uint8_t present;
static volatile uint8_t paddle_ticks = 63; /* of 16 us: 1 ms is closed */
static volatile uint16_t horn_left;

static uint8_t wire_wait(void)
{
    while (!(TWCR & (1 << TWINT)))
        ;
    return TWSR & 0xF8;
}

static uint8_t wire_out(uint8_t byte)
{
    TWCR = (1 << TWINT) | (1 << TWSTA) | (1 << TWEN);
    wire_wait();
    TWDR = DISPLAY << 1;
    TWCR = (1 << TWINT) | (1 << TWEN);
    const uint8_t answered = wire_wait() == 0x18;
    if (answered) {
        TWDR = byte;
        TWCR = (1 << TWINT) | (1 << TWEN);
        wire_wait();
    }
    TWCR = (1 << TWINT) | (1 << TWSTO) | (1 << TWEN);
    while (TWCR & (1 << TWSTO))
        ;
    return answered;
}

/* A nibble with its strobe; the bus is slower than the display. */
static void nibble(uint8_t rs, uint8_t bits)
{
    const uint8_t byte = bits | BACKLIGHT | rs;
    present = wire_out(byte | 0x04) && wire_out(byte);
}

static void byte_out(uint8_t rs, uint8_t byte)
{
    if (present) {
        nibble(rs, byte & 0xF0);
        nibble(rs, byte << 4);
    }
}

void panel_begin(void)
{
    PORTC |= (1 << PC4) | (1 << PC5);
    TWBR = 12; /* 400 kHz */
    TWCR = 1 << TWEN;
    ADMUX = 1 << REFS0;
    ADCSRA = (1 << ADEN) | (1 << ADPS2) | (1 << ADPS1) | (1 << ADPS0);
    TCCR0A = 1 << WGM01;
    TIMSK0 = 1 << OCIE0A;
    _delay_ms(20); /* the display wakes up */
    nibble(0, 0x30);
    if (!present)
        return;
    _delay_ms(5);
    nibble(0, 0x30);
    _delay_us(150);
    nibble(0, 0x30);
    nibble(0, 0x20);
    byte_out(0, 0x28);
    byte_out(0, 0x0C);
    byte_out(0, 0x01);
    _delay_ms(2);
}

void panel_row(uint8_t row, const char *text, const char *more)
{
    byte_out(0, row ? 0xC0 : 0x80);
    for (uint8_t i = 0; i < 16; ++i) {
        char c = pgm_read_byte(text);
        if (c) {
            ++text;
        } else {
            c = *more ? *more++ : ' ';
        }
        byte_out(1, c);
    }
}

/* The sensor rises fast at first: what it converts to at each fifth of its length, at five volts. */
uint8_t panel_level(void)
{
    static const uint16_t steps[] PROGMEM = { 0, 439, 670, 792, 856, 890 };
    ADCSRA |= 1 << ADSC;
    while (ADCSRA & (1 << ADSC))
        ;
    const uint16_t now = ADC;
    for (uint8_t i = 1; i < 6; ++i) {
        const uint16_t low = pgm_read_word(&steps[i - 1]), high = pgm_read_word(&steps[i]);
        if (now < high)
            return (uint8_t)(4 * (i - 1) + (4 * (now - low) + (high - low) / 2) / (high - low));
    }
    return 20;
}

void panel_paddle(uint8_t degrees) { paddle_ticks = 63 + (uint16_t)degrees * 62 / 180; }

/* A pulse every 20 ms: Timer0 counts it out and stops. */
void panel_tick(void)
{
    static uint8_t ms;
    if (++ms == 20) {
        ms = 0;
        OCR0A = paddle_ticks - 1;
        TCNT0 = 0;
        PORTD |= PADDLE;
        TCCR0B = 1 << CS02;
    }
    if (horn_left && --horn_left == 0)
        PORTD &= ~HORN;
}

ISR(TIMER0_COMPA_vect)
{
    PORTD &= ~PADDLE;
    TCCR0B = 0;
}

void panel_horn(uint16_t milliseconds)
{
    cli();
    horn_left = milliseconds;
    PORTD |= HORN;
    sei();
}
