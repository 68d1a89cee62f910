// Full steps, one coil at a time, each coil written by itself as most firmware does: 200 of them are 400 half steps of 4096, 35.16 degrees.
/*
part step stepper
wire mcu.5V step.VCC
wire mcu.GND step.GND
wire mcu.PD2 step.IN1
wire mcu.PD3 step.IN2
wire mcu.PD4 step.IN3
wire mcu.PD5 step.IN4
expect done
angle step = 35.16
quiet
*/
#include "driver.h"

int main(void)
{
    begin();
    DDRD |= 0x3C;
    // The first pulls the rotor to where the coils stand; the other 200 turn it.
    for (uint16_t i = 0; i <= 200; ++i) {
        for (uint8_t coil = 0; coil < 4; ++coil) {
            if (coil == i % 4)
                PORTD |= (uint8_t)(4 << coil);
            else
                PORTD &= (uint8_t)~(4 << coil);
            _delay_us(4);
        }
        _delay_ms(2);
    }
    end();
}
