// A block of eight dots that wanders: to the right every two frames of 1 / (370 kHz / (54 · 64)) = 9.34 ms, then slanting.
/*
part oled ssd1306-i2c
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V oled.VCC r1.1 r2.1
wire mcu.GND oled.GND
wire mcu.PC4 oled.SDA r1.2
wire mcu.PC5 oled.SCL r2.2
run 1745
expect done
box oled 15 27 8 8
quiet
*/
#include "driver.h"

static void commands(const uint8_t *bytes, uint8_t count)
{
    wire_start(0x3C, 0);
    wire_put(0x00);
    while (count--)
        wire_put(*bytes++);
    wire_stop();
}
#define SEND(...) \
    do { \
        const uint8_t bytes[] = {__VA_ARGS__}; \
        commands(bytes, sizeof bytes); \
    } while (0)

int main(void)
{
    begin();
    wire_begin();
    SEND(0x8D, 0x14, 0x20, 0x00, 0xAF);
    wire_start(0x3C, 0);
    wire_put(0x40);
    for (uint16_t i = 0; i < 1024; ++i)
        wire_put(i / 8 == 64 ? 0xFF : 0x00);
    wire_stop();
    // Ten steps of 18.7 ms: after 196 ms, halfway to the next.
    SEND(0x26, 0x00, 0x00, 0x07, 0x07, 0x00, 0xFF, 0x2F);
    _delay_ms(196);
    SEND(0x2E);
    _delay_ms(100);
    // Steps of 25 frames, 234 ms, one row up with each: five of them until the run ends.
    SEND(0x29, 0x00, 0x00, 0x06, 0x07, 0x01, 0xA3, 0x00, 0x40, 0x2F);
    end();
}
