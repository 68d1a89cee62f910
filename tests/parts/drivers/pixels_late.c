// Two strips of eight APA102: each pixel hands its bits on half a clock late, so that the last of them, the eighth, wants seven half clocks behind its frame.
/*
part short apa102-strip
part whole apa102-strip
wire mcu.5V short.VCC whole.VCC
wire mcu.GND short.GND whole.GND
wire mcu.PD2 short.DI
wire mcu.PD3 short.CI
wire mcu.PD4 whole.DI
wire mcu.PD5 whole.CI
expect done
look short = "102030 102030 102030 102030 102030 102030 102030 000000"
look whole = "102030 102030 102030 102030 102030 102030 102030 102030"
quiet
*/
#include "driver.h"

static uint8_t data, clock;

static void bit_out(uint8_t on)
{
    if (on)
        PORTD |= data;
    else
        PORTD &= (uint8_t)~data;
    PORTD |= clock;
    PORTD &= (uint8_t)~clock;
}
static void word(uint32_t w)
{
    for (uint8_t i = 0; i < 32; ++i, w <<= 1)
        bit_out(w >> 31);
}
static void show(void)
{
    word(0);
    for (uint8_t i = 0; i < 8; ++i)
        word(0xFF302010);
}

int main(void)
{
    begin();
    DDRD |= 0x3C;
    data = 4;
    clock = 8;
    show();
    data = 16;
    clock = 32;
    show();
    for (uint8_t i = 0; i < 4; ++i)
        bit_out(0);
    end();
}
