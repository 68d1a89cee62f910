// Eight WS2812 by pulses counted in clocks, one more behind them, and a strip of APA102 with clock and data.
/*
part strip ws2812-strip
part last ws2812
part clocked apa102-strip
wire mcu.5V strip.VCC last.VCC clocked.VCC
wire mcu.GND strip.GND last.GND clocked.GND
wire mcu.PB0 strip.DIN
wire strip.DOUT last.DIN
wire mcu.PD2 clocked.DI
wire mcu.PD3 clocked.CI
expect done
look strip = "010203 FF8000 000000 000000 000000 000000 000000 00FF40"
look last = "123456"
look clocked = "204060 FF0000 000000 000000 000000 000000 000000 000000"
quiet
*/
#include "driver.h"

// 0.4 µs high for a 0, 0.8 µs for a 1, about 1.4 µs a bit.
static void byte_out(uint8_t byte)
{
    for (uint8_t i = 0; i < 8; ++i) {
        if (byte & 0x80) {
            PORTB = 1;
            __builtin_avr_delay_cycles(11);
            PORTB = 0;
        } else {
            PORTB = 1;
            __builtin_avr_delay_cycles(5);
            PORTB = 0;
            __builtin_avr_delay_cycles(4);
        }
        byte = (uint8_t)(byte << 1);
    }
}
static void pixel(uint8_t r, uint8_t g, uint8_t b)
{
    byte_out(g);
    byte_out(r);
    byte_out(b);
}
static void word(uint8_t a, uint8_t b, uint8_t c, uint8_t d)
{
    const uint8_t bytes[] = {a, b, c, d};
    for (uint8_t i = 0; i < 4; ++i)
        for (uint8_t bit = 0x80; bit; bit >>= 1) {
            if (bytes[i] & bit)
                HIGH(D, 2);
            else
                LOW(D, 2);
            HIGH(D, 3);
            LOW(D, 3);
        }
}

int main(void)
{
    begin();
    DDRB = 1;
    DDRD |= 0x0C;
    _delay_us(100);
    pixel(1, 2, 3);
    pixel(0xFF, 0x80, 0);
    for (uint8_t i = 0; i < 5; ++i)
        pixel(0, 0, 0);
    pixel(0, 0xFF, 0x40);
    pixel(0x12, 0x34, 0x56);
    _delay_us(100);
    word(0, 0, 0, 0);
    word(0xE0 | 31, 0x60, 0x40, 0x20);
    word(0xE0 | 10, 0, 0, 0xFF);
    word(0, 0, 0, 0);
    end();
}
