// Who answers on a bus: each part at the address that its setting or its pins give it, and nobody else.
/*
part usual character-display-i2c
part other character-display-20x4-i2c set = { address = "0x3F" }
part small ssd1306-i2c
part large ssd1306-i2c set = { address = "61" }
part exp mcp23017
part kept 24c32
part r1 resistor set = { resistance = "2k2" }
part r2 resistor set = { resistance = "2k2" }
wire mcu.5V usual.VCC other.VCC small.VCC large.VCC exp.VCC exp.RESET exp.A1 kept.VCC kept.A1 r1.1 r2.1
wire mcu.GND usual.GND other.GND small.GND large.GND exp.GND exp.A0 exp.A2 kept.GND kept.A0 kept.A2 kept.WP
wire mcu.PC4 usual.SDA other.SDA small.SDA large.SDA exp.SDA kept.SDA r1.2
wire mcu.PC5 usual.SCL other.SCL small.SCL large.SCL exp.SCL kept.SCL r2.2
run 500
expect at 22 27 3C 3D 3F 52
*/
#include "driver.h"

int main(void)
{
    begin();
    wire_begin();
    printf("at");
    for (uint8_t address = 8; address < 0x78; ++address) {
        if (wire_start(address, 0))
            printf(" %02X", address);
        wire_stop();
    }
    printf("\n");
    end();
}
