// An SSD1306 as it comes up, in horizontal addressing: its window is the whole, so that the byte after a frame is the first one again.
/*
part oled ssd1306-i2c
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V oled.VCC r1.1 r2.1
wire mcu.GND oled.GND
wire mcu.PC4 oled.SDA r1.2
wire mcu.PC5 oled.SCL r2.2
run 400
expect done
look oled = "8 dots lit"
box oled 0 0 1 8
*/
#include "driver.h"

static const uint8_t setup[] = {0xAE, 0x8D, 0x14, 0x20, 0x00, 0xA0, 0xC0, 0xA6, 0xB0, 0x00, 0x10, 0xAF};

int main(void)
{
    begin();
    wire_begin();
    TWBR = 12;
    wire_start(0x3C, 0);
    wire_put(0x00);
    for (uint8_t i = 0; i < sizeof setup; ++i)
        wire_put(setup[i]);
    wire_stop();
    wire_start(0x3C, 0);
    wire_put(0x40);
    for (uint16_t i = 0; i < 1024; ++i)
        wire_put(0);
    wire_put(0xFF);
    wire_stop();
    end();
}
