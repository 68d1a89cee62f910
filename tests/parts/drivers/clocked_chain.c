// An APA102, a ring of twelve and a square of 64 behind one another, written at one go: each takes its own, and the run goes on to the next.
/*
part one apa102
part ring apa102-ring set = { count = "3" }
part square apa102-matrix set = { count = "4" }
wire mcu.5V one.VCC ring.VCC square.VCC
wire mcu.GND one.GND ring.GND square.GND
wire mcu.PD2 one.DI
wire mcu.PD3 one.CI
wire one.DO ring.DI
wire one.CO ring.CI
wire ring.DO square.DI
wire ring.CO square.CI
expect done
look one = "204060"
look ring = "FF0000 00FF00 0000FF"
look square = "102030 405060 708090 A0B0C0"
quiet
*/
#include "driver.h"

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
static void pixel(uint8_t r, uint8_t g, uint8_t b) { word(0xFF, b, g, r); }

int main(void)
{
    begin();
    DDRD |= 0x0C;
    _delay_ms(1);
    word(0, 0, 0, 0);
    pixel(0x20, 0x40, 0x60);
    pixel(0xFF, 0, 0);
    pixel(0, 0xFF, 0);
    pixel(0, 0, 0xFF);
    pixel(0x10, 0x20, 0x30);
    pixel(0x40, 0x50, 0x60);
    pixel(0x70, 0x80, 0x90);
    pixel(0xA0, 0xB0, 0xC0);
    word(0, 0, 0, 0);
    end();
}
