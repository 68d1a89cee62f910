/*
 * Tide clock of the Saltmarsh: a DS3231 keeps the time, the display shows it with the height of the water.
 *
 *   PC4 SDA, PC5 SCL    clock (0x68) and display behind its expander (0x27)
 *
 * Tides come every 12 h 25 min; high water was at 2:40 on the first of March. Springs and neaps are left to the almanac.
 */
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <stdio.h>
#include <string.h>
#include <util/delay.h>

#define CLOCK 0x68
#define DISPLAY 0x27
#define PERIOD 745UL /* minutes from high water to high water */

static uint8_t bus_wait(void)
{
    while (!(TWCR & (1 << TWINT)))
        ;
    return TWSR & 0xF8;
}

static void bus_start(uint8_t address)
{
    TWCR = (1 << TWINT) | (1 << TWSTA) | (1 << TWEN);
    bus_wait();
    TWDR = address;
    TWCR = (1 << TWINT) | (1 << TWEN);
    bus_wait();
}

static void bus_put(uint8_t byte)
{
    TWDR = byte;
    TWCR = (1 << TWINT) | (1 << TWEN);
    bus_wait();
}

static uint8_t bus_get(uint8_t more)
{
    TWCR = (1 << TWINT) | (1 << TWEN) | (more << TWEA);
    bus_wait();
    return TWDR;
}

static void bus_stop(void)
{
    TWCR = (1 << TWINT) | (1 << TWSTO) | (1 << TWEN);
    while (TWCR & (1 << TWSTO))
        ;
}

/* The two strobes of a nibble in one transfer. */
static void nibble(uint8_t bits)
{
    bus_start(DISPLAY << 1);
    bus_put(bits | 0x0C);
    bus_put(bits | 0x08);
    bus_stop();
}

static void send(uint8_t rs, uint8_t byte)
{
    nibble((byte & 0xF0) | rs);
    nibble((byte << 4) | rs);
}

static void row(uint8_t n, const char *text)
{
    static const uint8_t at[] = { 0x80, 0xC0, 0x94, 0xD4 };
    send(0, at[n]);
    for (uint8_t i = 0; i < 20; ++i)
        send(1, *text ? *text++ : ' ');
}

static void display_begin(void)
{
    _delay_ms(20);
    nibble(0x30);
    _delay_ms(5);
    nibble(0x30);
    _delay_us(150);
    nibble(0x30);
    nibble(0x20);
    send(0, 0x28);
    send(0, 0x0C);
    send(0, 0x01);
    _delay_ms(2);
}

static uint8_t number(uint8_t bcd) { return (bcd >> 4) * 10 + (bcd & 15); }

/* Centimetres above the lowest, from minutes after high water: half a cosine each way, in sixteenths. */
static uint16_t height(uint16_t after)
{
    static const uint8_t cosine[] PROGMEM = { 255, 250, 235, 211, 180, 145, 110, 75, 44, 20, 5, 0 };
    uint16_t away = after > PERIOD / 2 ? PERIOD - after : after;
    const uint16_t step = away * 11 / (PERIOD / 2 + 1), rest = away * 11 % (PERIOD / 2 + 1);
    const int16_t a = pgm_read_byte(&cosine[step]), b = pgm_read_byte(&cosine[step < 11 ? step + 1 : 11]);
    const int16_t level = a + (int32_t)(b - a) * rest / (int16_t)(PERIOD / 2 + 1);
    return 60 + (uint32_t)level * 420 / 255;
}

static int serial_put(char c, FILE *f)
{
    (void)f;
    while (!(UCSR0A & (1 << UDRE0)))
        ;
    UDR0 = c;
    return 0;
}
static FILE serial = FDEV_SETUP_STREAM(serial_put, NULL, _FDEV_SETUP_WRITE);

int main(void)
{
    UBRR0 = F_CPU / 8 / 115200 - 1;
    UCSR0A = 1 << U2X0;
    UCSR0B = 1 << TXEN0;
    stdout = &serial;
    TWBR = 12; /* 400 kHz */
    TWCR = 1 << TWEN;
    display_begin();
    row(0, "Saltmarsh");

    uint8_t shown = 0xFF, logged = 0xFF;
    for (;;) {
        bus_start(CLOCK << 1);
        bus_put(0);
        bus_start(CLOCK << 1 | 1);
        uint8_t t[7];
        for (uint8_t i = 0; i < 7; ++i)
            t[i] = bus_get(i < 6);
        bus_stop();
        if (t[0] != shown) {
            shown = t[0];
            const uint32_t days = number(t[4]) - 1U;
            const uint32_t minute = days * 1440 + number(t[2]) * 60U + number(t[1]);
            const uint16_t after = (minute + PERIOD - 160) % PERIOD;
            const uint32_t next = minute + (PERIOD - after);
            char text[24];
            snprintf_P(text, sizeof text, PSTR("%02u.%02u.20%02u  %02u:%02u:%02u"), number(t[4]), number(t[5]), number(t[6]), number(t[2]), number(t[1]), number(t[0]));
            row(1, text);
            snprintf_P(text, sizeof text, PSTR("%u.%02u m, %S"), height(after) / 100, height(after) % 100, after > PERIOD / 2 ? PSTR("rising") : PSTR("falling"));
            row(2, text);
            snprintf_P(text, sizeof text, PSTR("high water at %02u:%02u"), (unsigned)(next / 60 % 24), (unsigned)(next % 60));
            row(3, text);
            if (t[1] != logged) {
                logged = t[1];
                printf_P(PSTR("%02u:%02u %u cm\r\n"), number(t[2]), number(t[1]), height(after));
            }
        }
        _delay_ms(50);
    }
}
