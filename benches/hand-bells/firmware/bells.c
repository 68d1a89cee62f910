/*
 * Hand bells: sixteen keys, a note each, and a light for it on a strip of eight.
 *
 *   PD0..PD3 rows (one driven low at a time, the others pulled up)   PD4..PD7 columns (pull-ups)
 *   PB1 OC1A  passive buzzer
 *   PB0       strip of WS2812
 */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <util/delay.h>

/* Half periods in steps of half a microsecond, from A4 upwards by semitones. */
static const uint16_t notes[16] PROGMEM = { 2273, 2145, 2025, 1911, 1804, 1703, 1607, 1517, 1432, 1351, 1276, 1204, 1136, 1073, 1012, 956 };

/* 0 to 15 by rows, or 16 for none. */
static uint8_t scan(void)
{
    for (uint8_t r = 0; r < 4; ++r) {
        DDRD = 0;
        PORTD = 0xFF ^ (1 << r); /* the others are held up, so that none floats */
        DDRD = 1 << r;
        _delay_us(5);
        for (uint8_t c = 0; c < 4; ++c)
            if (!(PIND & (0x10 << c)))
                return r * 4 + c;
    }
    return 16;
}

static void byte_out(uint8_t byte)
{
    for (uint8_t i = 0; i < 8; ++i) {
        if (byte & 0x80) {
            PORTB |= 1;
            __builtin_avr_delay_cycles(10);
            PORTB &= ~1;
        } else {
            PORTB |= 1;
            __builtin_avr_delay_cycles(4);
            PORTB &= ~1;
            __builtin_avr_delay_cycles(4);
        }
        byte <<= 1;
    }
}

static void show(uint8_t key)
{
    cli();
    for (uint8_t i = 0; i < 8; ++i) {
        const uint8_t on = key < 16 && key / 2 == i;
        byte_out(on ? (key & 1 ? 200 : 60) : 0); /* green */
        byte_out(on ? 220 : 0);                  /* red */
        byte_out(on && (key & 1) ? 120 : 0);     /* blue */
    }
    sei();
    _delay_us(60);
}

int main(void)
{
    DDRB = 3;
    PORTD = 0xFF;
    TCCR1B = (1 << WGM12) | (1 << CS11); /* CTC, half a microsecond */
    uint8_t last = 16;
    show(16);
    for (;;) {
        const uint8_t key = scan();
        if (key != last) {
            _delay_ms(4); /* contacts settle */
            if (key != scan())
                continue;
            last = key;
            if (key < 16) {
                OCR1A = pgm_read_word(&notes[key]) - 1;
                TCNT1 = 0;
                TCCR1A = 1 << COM1A0;
            } else {
                TCCR1A = 0;
            }
            show(key);
        }
    }
}
