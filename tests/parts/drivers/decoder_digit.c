// A CD4511 shows 6 on a common-cathode digit, holds it while LE is high, and goes dark by BL.
/*
part dec cd4511
part digit seven-segment
part r resistor set = { resistance = "330" }
part s resistor set = { resistance = "330" }
wire mcu.PD2 dec.A
wire mcu.PD3 dec.B
wire mcu.PD4 dec.C
wire mcu.PD5 dec.D
wire mcu.PD6 dec.LE
wire mcu.PD7 dec.BL
wire mcu.5V dec.VCC dec.LT
wire mcu.GND dec.GND digit.COM
wire dec.a r.1
wire r.2 digit.a
wire dec.c s.1
wire s.2 digit.c
lit@5 digit.1c
dark@5 digit.1a
dark@15 digit.1c
expect done
*/
#include "driver.h"

int main(void)
{
    begin();
    DDRD = 0xFC;
    PORTD = 0x80 | (6 << 2);         // 6: no tail, so segment a is dark
    HIGH(D, 6);
    PORTD = (uint8_t)(0xC0 | (9 << 2));  // held
    _delay_ms(10);
    LOW(D, 7);
    end();
}
