/*
 * Cheese cave: an ATtiny85 alone, as shipped (1 MHz, no crystal), keeps the air moist.
 *
 *   PB2 (ADC1)  moisture probe, 0 to 5 V
 *   PB1 (OC1A)  mister, by pulse width: the drier, the longer
 *   PB0         lamp "too dry"
 *
 * The watchdog wakes it four times a second; it measures, sets the mister, and remembers the driest reading in EEPROM.
 */
#include <avr/eeprom.h>
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include <avr/wdt.h>

#define MISTER (1 << PB1)
#define LAMP (1 << PB0)
#define WANTED 160 /* of 255 */
#define TOO_DRY 80

static uint8_t EEMEM driest_kept = 0xFF;

ISR(WDT_vect) {}
EMPTY_INTERRUPT(ADC_vect)

static uint8_t measure(void)
{
    ADCSRA = (1 << ADEN) | (1 << ADSC) | (1 << ADIE) | (1 << ADPS1) | (1 << ADPS0); /* 125 kHz */
    while (ADCSRA & (1 << ADSC))
        sleep_cpu();
    const uint8_t value = ADCH;
    ADCSRA = 0;
    return value;
}

int main(void)
{
    DDRB = MISTER | LAMP;
    ADMUX = (1 << ADLAR) | (1 << MUX0);                       /* VCC as reference, ADC1 */
    DIDR0 = 1 << ADC1D;
    TCCR1 = (1 << PWM1A) | (1 << COM1A1) | (1 << CS11);       /* 1 MHz / 2 / 256 */
    OCR1C = 255;
    WDTCR = (1 << WDCE) | (1 << WDE);
    WDTCR = (1 << WDIE) | (1 << WDP2);                        /* every 0.25 s */
    set_sleep_mode(SLEEP_MODE_IDLE);
    sleep_enable();
    sei();
    uint8_t driest = eeprom_read_byte(&driest_kept);
    for (;;) {
        const uint8_t moisture = measure();
        OCR1A = moisture >= WANTED ? 0 : (uint8_t)(WANTED - moisture) + (WANTED - moisture) / 2;
        if (moisture < TOO_DRY)
            PORTB |= LAMP;
        else
            PORTB &= ~LAMP;
        if (moisture < driest) {
            driest = moisture;
            eeprom_update_byte(&driest_kept, driest);
        }
        WDTCR |= 1 << WDIE;
        sleep_cpu();
    }
}
