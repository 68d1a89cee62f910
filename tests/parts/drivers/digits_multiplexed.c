// Four digits, one after the other, each for a millisecond: 3 and 1 on the outer ones.
/*
part show seven-segment-4
part r1 resistor set = { resistance = "220" }
part r2 resistor set = { resistance = "220" }
part r3 resistor set = { resistance = "220" }
wire mcu.PD2 r1.1
wire r1.2 show.a
wire mcu.PD3 r2.1
wire r2.2 show.b
wire mcu.PD4 r3.1
wire r3.2 show.d
wire mcu.PB0 show.1
wire mcu.PB1 show.4
lit@30 show.1a show.1b show.1d show.4b
dark@30 show.4a show.2b
*/
#include "driver.h"

int main(void)
{
    DDRD = 0x1C;
    DDRB = 3;
    for (;;) {
        PORTB = 2;
        PORTD = 0x1C;
        _delay_ms(1);
        PORTB = 1;
        PORTD = 0x08;
        _delay_ms(1);
    }
}
