/*
 * An I/O mix, as in a controller at work: a 1 kHz tick, a serial line at 115200 baud that is never idle, conversions at 10 kHz by the timer's
 * trigger, three pins of pulse-width modulation whose duty the conversions set. The core filters each measurement and sleeps in between.
 */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include <stdint.h>

static volatile uint16_t ticks, samples;
static volatile uint16_t latest;
static uint8_t letter = 'a';

ISR(TIMER2_COMPA_vect) { ticks++; }

ISR(ADC_vect)
{
    latest = ADC;
    samples++;
    TIFR1 = 1 << OCF1B;
}

ISR(USART_UDRE_vect)
{
    UDR0 = letter;
    letter = letter == 'z' ? 'a' : letter + 1;
}

int main(void)
{
    DDRD = (1 << PD5) | (1 << PD6);
    DDRB = 1 << PB1;
    TCCR0A = (1 << COM0A1) | (1 << COM0B1) | (1 << WGM01) | (1 << WGM00); /* fast, 16 MHz / 64 / 256 = 976 Hz */
    TCCR0B = (1 << CS01) | (1 << CS00);
    OCR0A = 40;
    OCR0B = 200;
    OCR1A = 799;
    OCR1B = 1599;
    TCCR1A = 1 << COM1A0; /* toggles OC1A at each match */
    TCCR1B = (1 << WGM13) | (1 << WGM12); /* CTC by ICR1 */
    ICR1 = 1599;                          /* 10 kHz */
    TCCR1B |= 1 << CS10;
    TCCR2A = 1 << WGM21;
    OCR2A = 249;
    TCCR2B = 1 << CS22; /* 16 MHz / 64 / 250 = 1 kHz */
    TIMSK2 = 1 << OCIE2A;
    ADMUX = 1 << REFS0;
    ADCSRB = (1 << ADTS2) | (1 << ADTS0); /* compare match B of Timer1 */
    ADCSRA = (1 << ADEN) | (1 << ADATE) | (1 << ADIE) | (1 << ADPS2) | (1 << ADPS1);
    UBRR0 = 16;
    UCSR0A = 1 << U2X0; /* 115200 baud */
    UCSR0B = (1 << TXEN0) | (1 << UDRIE0);
    sei();
    set_sleep_mode(SLEEP_MODE_IDLE);
    sleep_enable();
    uint32_t mean = 0;
    uint16_t done = 0;
    for (;;) {
        sleep_cpu();
        if (samples == done)
            continue;
        done = samples;
        const uint16_t now = latest;
        mean += ((uint32_t)now << 8) - (mean >> 8);
        OCR0A = mean >> 18;
        if (ticks > 1000)
            ticks = 0;
    }
}
