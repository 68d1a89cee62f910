// A DS18B20 that lives on its data line, VDD on ground: it says so, measures while the line is driven high, and fails while only a resistor holds it.
/*
part a ds18b20
part r1 resistor set = { resistance = "4k7" }
wire mcu.5V r1.1
wire mcu.GND a.GND a.VDD
wire mcu.PD2 a.DQ r1.2
set a.temperature@0=21.5
run 4000
expect present 1, parasite 1
expect driven 344
expect held by a resistor 1360
expect driven again 344
*/
#include "driver.h"

static void low(void) { OUTPUT(D, 2); }
static void high(void) { INPUT(D, 2); }
static uint8_t reset(void)
{
    low();
    _delay_us(500);
    high();
    _delay_us(70);
    const uint8_t present = !READ(D, 2);
    _delay_us(430);
    return present;
}
static void bit_out(uint8_t b)
{
    low();
    if (b) {
        _delay_us(5);
        high();
        _delay_us(65);
    } else {
        _delay_us(60);
        high();
        _delay_us(10);
    }
}
static uint8_t bit_in(void)
{
    low();
    _delay_us(3);
    high();
    _delay_us(9);
    const uint8_t b = READ(D, 2);
    _delay_us(60);
    return b;
}
static void out(uint8_t v)
{
    for (uint8_t i = 0; i < 8; ++i, v >>= 1)
        bit_out(v & 1);
}
static uint8_t in(void)
{
    uint8_t v = 0;
    for (uint8_t i = 0; i < 8; ++i)
        v |= (uint8_t)(bit_in() << i);
    return v;
}
static int16_t measure(uint8_t strong)
{
    reset();
    out(0xCC);
    out(0x44);
    if (strong) {
        HIGH(D, 2);
        OUTPUT(D, 2);
    }
    _delay_ms(760);
    INPUT(D, 2);
    LOW(D, 2);
    reset();
    out(0xCC);
    out(0xBE);
    const uint8_t l = in(), h = in();
    return (int16_t)(h << 8 | l);
}

int main(void)
{
    begin();
    _delay_ms(5);
    const uint8_t present = reset();
    out(0xCC);
    out(0xB4);
    const uint8_t parasite = !bit_in();
    printf("present %u, parasite %u\n", present, parasite);
    printf("driven %d\n", measure(1));
    printf("held by a resistor %d\n", measure(0));
    printf("driven again %d\n", measure(1));
    end();
}
