// A frame of 128 by 64 on both buses: dots are counted.
/*
part oled ssd1306-i2c
part other ssd1306-spi
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V oled.VCC r1.1 r2.1 other.VCC
wire mcu.GND oled.GND other.GND
wire mcu.PC4 oled.SDA r1.2
wire mcu.PC5 oled.SCL r2.2
wire mcu.PB5 other.D0
wire mcu.PB3 other.D1
wire mcu.PB2 other.CS
wire mcu.PB1 other.DC
wire mcu.PB0 other.RES
run 300
expect done
look oled = "380 dots lit"
look other = "64 dots lit"
*/
#include "driver.h"

static const uint8_t setup[] = {0xAE, 0x8D, 0x14, 0x20, 0x00, 0x21, 0, 127, 0x22, 0, 7, 0xA1, 0xC8, 0xA6, 0xAF};

int main(void)
{
    begin();
    wire_begin();
    TWBR = 12;  // 400 kHz
    wire_start(0x3C, 0);
    wire_put(0x00);
    for (uint8_t i = 0; i < sizeof setup; ++i)
        wire_put(setup[i]);
    wire_stop();
    // A frame around the edge: two rows of 128 and two columns of 62 between.
    wire_start(0x3C, 0);
    wire_put(0x40);
    for (uint8_t page = 0; page < 8; ++page)
        for (uint8_t x = 0; x < 128; ++x)
            wire_put((uint8_t)(x == 0 || x == 127 ? 0xFF : page == 0 ? 0x01 : page == 7 ? 0x80 : 0));
    wire_stop();

    spi_begin();
    DDRB |= 3;
    LOW(B, 0);
    _delay_us(10);
    HIGH(B, 0);
    LOW(B, 1);
    LOW(B, 2);
    for (uint8_t i = 0; i < sizeof setup; ++i)
        spi(setup[i]);
    HIGH(B, 1);
    for (uint16_t i = 0; i < 1024; ++i)
        spi(i < 8 ? 0xFF : 0);
    HIGH(B, 2);
    end();
}
