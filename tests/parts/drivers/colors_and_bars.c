// A three-colour LED with a common anode, a two-colour one with a common cathode, and two bars of ten.
/*
part rgb rgb-led set = { common = "anode" }
part duo two-color-led
part bars bar-graph set = { color = "green" }
part r1 resistor set = { resistance = "330" }
part r2 resistor set = { resistance = "330" }
part r3 resistor set = { resistance = "330" }
part r4 resistor set = { resistance = "330" }
wire mcu.5V rgb.COM
wire mcu.PD2 r1.1
wire r1.2 rgb.R
wire mcu.PD3 r2.1
wire r2.2 rgb.B
wire mcu.PD4 r3.1
wire r3.2 duo.G
wire duo.COM mcu.GND bars.K1 bars.K7
wire mcu.PD5 r4.1
wire r4.2 bars.A7
lit@5 rgb.blue duo.green bars.7
dark@5 rgb.red duo.red bars.1
*/
#include "driver.h"

int main(void)
{
    DDRD = 0x3C;
    PORTD = 0x34;
    for (;;)
        ;
}
