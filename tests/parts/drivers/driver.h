// What every driver here needs: a serial line for its findings, both serial buses, and single pins by port letter and bit.
#pragma once

#ifndef F_CPU
#define F_CPU 16000000UL
#endif

#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <stdio.h>
#include <string.h>
#include <util/delay.h>

#define HIGH(port, bit) (PORT##port |= (uint8_t)(1 << (bit)))
#define LOW(port, bit) (PORT##port &= (uint8_t)~(1 << (bit)))
#define OUTPUT(port, bit) (DDR##port |= (uint8_t)(1 << (bit)))
#define INPUT(port, bit) (DDR##port &= (uint8_t)~(1 << (bit)))
#define READ(port, bit) ((PIN##port >> (bit)) & 1)

static int put(char c, FILE *f)
{
    (void)f;
    while (!(UCSR0A & (1 << UDRE0)))
        ;
    UDR0 = (uint8_t)c;
    return 0;
}
static FILE line = FDEV_SETUP_STREAM(put, NULL, _FDEV_SETUP_WRITE);

static inline void begin(void)
{
    UBRR0 = 0;  // a sixteenth of the clock
    UCSR0B = (1 << TXEN0);
    stdout = &line;
}
static inline void end(void)
{
    printf("done\n");
    for (;;)
        ;
}

// Two-wire bus at 100 kHz.
static inline void wire_begin(void)
{
    TWBR = (uint8_t)((F_CPU / 100000UL - 16) / 2);
    TWCR = (1 << TWEN);
}
static inline uint8_t wire_wait(void)
{
    while (!(TWCR & (1 << TWINT)))
        ;
    return TWSR & 0xF8;
}
// 1 where somebody answered.
static inline uint8_t wire_start(uint8_t address, uint8_t reads)
{
    TWCR = (1 << TWINT) | (1 << TWSTA) | (1 << TWEN);
    wire_wait();
    TWDR = (uint8_t)(address << 1 | reads);
    TWCR = (1 << TWINT) | (1 << TWEN);
    return wire_wait() == (reads ? 0x40 : 0x18);
}
static inline void wire_stop(void)
{
    TWCR = (1 << TWINT) | (1 << TWSTO) | (1 << TWEN);
    while (TWCR & (1 << TWSTO))
        ;
}
static inline uint8_t wire_put(uint8_t byte)
{
    TWDR = byte;
    TWCR = (1 << TWINT) | (1 << TWEN);
    return wire_wait() == 0x28;
}
static inline uint8_t wire_get(uint8_t more)
{
    TWCR = (uint8_t)((1 << TWINT) | (1 << TWEN) | (more ? (1 << TWEA) : 0));
    wire_wait();
    return TWDR;
}
static inline void wire_write(uint8_t address, uint8_t reg, uint8_t value)
{
    wire_start(address, 0);
    wire_put(reg);
    wire_put(value);
    wire_stop();
}
static inline uint8_t wire_read(uint8_t address, uint8_t reg)
{
    wire_start(address, 0);
    wire_put(reg);
    wire_start(address, 1);
    const uint8_t v = wire_get(0);
    wire_stop();
    return v;
}

// SPI, mode 0, a quarter of the clock; PB2 is the select line.
static inline void spi_begin(void)
{
    DDRB |= (1 << 2) | (1 << 3) | (1 << 5);
    PORTB |= (1 << 2);
    SPCR = (1 << SPE) | (1 << MSTR);
}
static inline uint8_t spi(uint8_t byte)
{
    SPDR = byte;
    while (!(SPSR & (1 << SPIF)))
        ;
    return SPDR;
}

static inline uint16_t adc(uint8_t channel)
{
    ADMUX = (uint8_t)((1 << REFS0) | channel);
    ADCSRA = (1 << ADEN) | (1 << ADSC) | 7;
    while (ADCSRA & (1 << ADSC))
        ;
    return ADC;
}
