// The same display behind its expander, on two wires.
/*
part lcd character-display-20x4-i2c
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V lcd.VCC r1.1 r2.1
wire mcu.GND lcd.GND
wire mcu.PC4 lcd.SDA r1.2
wire mcu.PC5 lcd.SCL r2.2
expect answers 1, nobody 0
expect done
look lcd = "Tide clock          |high 14:32°         |                    |Saltmarsh           "
*/
#include "driver.h"
#include "lcd.h"

static void out(uint8_t byte)
{
    wire_start(0x27, 0);
    wire_put(byte);
    wire_stop();
}
static void nibble(uint8_t rs, uint8_t bits)
{
    const uint8_t byte = (uint8_t)(bits | 0x08 | rs);
    out(byte | 0x04);
    out(byte);
}

int main(void)
{
    begin();
    wire_begin();
    const uint8_t here = wire_start(0x27, 0);
    wire_stop();
    const uint8_t there = wire_start(0x26, 0);
    wire_stop();
    printf("answers %u, nobody %u\n", here, there);
    lcd_begin();
    lcd_text(0, "Tide clock");
    lcd_text(1, "high 14:32\xDF");
    lcd_text(3, "Saltmarsh");
    end();
}
