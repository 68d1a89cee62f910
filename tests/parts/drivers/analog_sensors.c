// A TMP36, a water level, a joystick: what the converter makes of them. And motion, held for as long as it is set to.
/*
part temp tmp36
part water water-level
part stick joystick
part pir pir set = { hold = "50ms" }
wire mcu.5V temp.VS water.VCC stick.+ pir.VCC
wire mcu.GND temp.GND water.GND stick.GND pir.GND
wire mcu.PC0 temp.OUT
wire mcu.PC1 water.OUT
wire mcu.PC2 stick.X
wire mcu.PC3 stick.Y
wire mcu.PD2 pir.OUT
wire mcu.PD3 stick.SW
set temp.temperature@0=25
set water.level@0=1
set stick.x@0=-1
set stick.y@0=0.5
set stick.pressed@5=1
set pir.motion@10=1
set pir.motion@30=0
run 300
expect 153
expect water 1
expect x 0 y 767 pressed 1
expect motion for 7
*/
#include "driver.h"

int main(void)
{
    begin();
    HIGH(D, 3);
    _delay_ms(9);
    adc(0);
    printf("%u\n", adc(0));
    adc(1);
    printf("water %u\n", adc(1) > 880 && adc(1) < 900);
    adc(2);
    const uint16_t x = adc(2);
    adc(3);
    const uint16_t y = adc(3);
    printf("x %u y %u pressed %u\n", x, y, !READ(D, 3));
    while (!READ(D, 2))
        ;
    uint8_t n = 0;
    while (READ(D, 2)) {
        _delay_ms(10);
        ++n;
    }
    // Moves for 20 ms, then 50 ms more; the last look of ten milliseconds may fall beyond.
    printf("motion for %u\n", n >= 6 && n <= 9 ? 7 : n);
    end();
}
