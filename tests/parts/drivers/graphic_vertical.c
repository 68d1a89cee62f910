// Vertical addressing of an SSD1306 (20h, 01h): pages go first, then columns. Every second byte is lit, so the upper page of the window is full and the lower one dark.
/*
part oled ssd1306-i2c
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V oled.VCC r1.1 r2.1
wire mcu.GND oled.GND
wire mcu.PC4 oled.SDA r1.2
wire mcu.PC5 oled.SCL r2.2
run 200
expect done
look oled = "24 dots lit"
box oled 10 16 3 8
*/
#include "driver.h"

static const uint8_t setup[] = {0xAE, 0x8D, 0x14, 0x20, 0x01, 0x21, 10, 12, 0x22, 2, 3, 0xA0, 0xC0, 0xA6, 0xAF};

int main(void)
{
    begin();
    wire_begin();
    wire_start(0x3C, 0);
    wire_put(0x00);
    for (uint8_t i = 0; i < sizeof setup; ++i)
        wire_put(setup[i]);
    wire_stop();
    wire_start(0x3C, 0);
    wire_put(0x40);
    for (uint8_t i = 0; i < 6; ++i)
        wire_put(i % 2 == 0 ? 0xFF : 0x00);
    wire_stop();
    end();
}
