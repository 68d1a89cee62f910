/*
 * The orchard's frost alarm: a warmth sensor in a divider, a needle that shows degrees by a filtered pulse width, a lamp that lights near
 * freezing, and a key to silence it for a while.
 *
 *   PC0  divider: sensor from the supply, 10 kΩ to ground
 *   PD6  needle, 62.5 kHz: 0 V at -10 °C, 5 V at +30 °C
 *   PB0  lamp
 *   PD2  key to ground, with a capacitor across it
 */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include <stdint.h>
#include <stdio.h>

/* Count of the converter at -10, -5 ... 30 °C: 1024 · 10k / (10k + R(t)), R = 10k · exp(3950 (1/T - 1/298.15)). */
static const uint16_t kCounts[9] = {151, 191, 236, 287, 342, 399, 456, 512, 566};

static volatile uint8_t tick;

ISR(TIMER2_COMPA_vect) { tick = 1; }

static void put(char c)
{
    while (!(UCSR0A & (1 << UDRE0)))
        ;
    UDR0 = c;
}

static void say(const char *text)
{
    while (*text)
        put(*text++);
}

static uint16_t convert(void)
{
    ADCSRA |= 1 << ADSC;
    while (ADCSRA & (1 << ADSC))
        ;
    return ADC;
}

/* Tenths of a degree, by straight lines between the counts. */
static int16_t tenths(uint16_t count)
{
    uint8_t i = 1;
    while (i < 8 && count > kCounts[i])
        i++;
    return -100 + 50 * (i - 1) + (int16_t)(((int32_t)count - kCounts[i - 1]) * 50 / (kCounts[i] - kCounts[i - 1]));
}

int main(void)
{
    DDRD = 1 << PD6;
    PORTD = 1 << PD2;
    DDRB = 1 << PB0;
    TCCR0A = (1 << COM0A1) | (1 << WGM01) | (1 << WGM00);
    TCCR0B = 1 << CS00;
    TCCR2A = 1 << WGM21; /* 16 MHz / 1024 / 156 = 100 Hz */
    OCR2A = 155;
    TCCR2B = (1 << CS22) | (1 << CS21) | (1 << CS20);
    TIMSK2 = 1 << OCIE2A;
    ADMUX = 1 << REFS0;
    ADCSRA = (1 << ADEN) | (1 << ADPS2) | (1 << ADPS1) | (1 << ADPS0);
    UBRR0 = 103;
    UCSR0B = 1 << TXEN0;
    sei();
    uint8_t beats = 0, silent = 0;
    for (;;) {
        sleep_enable();
        sleep_cpu();
        if (!tick)
            continue;
        tick = 0;
        if (!(PIND & (1 << PD2)))
            silent = 255;
        else if (silent)
            silent--;
        const int16_t t = tenths(convert());
        const int16_t needle = (t + 100) * 255L / 400;
        OCR0A = needle < 0 ? 0 : needle > 255 ? 255 : needle;
        if (t < 10 && !silent)
            PORTB |= 1 << PB0;
        else
            PORTB &= ~(1 << PB0);
        if (++beats == 100) {
            char text[24];
            beats = 0;
            snprintf(text, sizeof text, "%d.%d C%s\r\n", t / 10, (t < 0 ? -t : t) % 10, t < 10 ? "  frost" : "");
            say(text);
        }
    }
}
