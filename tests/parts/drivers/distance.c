// HC-SR04: half a metre at 20 °C, the same in frost, and nothing there; times by Timer1 at half a microsecond.
/*
part echo hc-sr04
wire mcu.5V echo.VCC
wire mcu.GND echo.GND
wire mcu.PD2 echo.TRIG
wire mcu.PD3 echo.ECHO
set echo.distance@0=0.5
set echo.temperature@100=-10
set echo.echo@200=0
run 500
expect 2914 us
expect 3075 us
expect 38000 us
*/
#include "driver.h"


int main(void)
{
    begin();
    OUTPUT(D, 2);
    TCCR1B = 2;
    for (uint8_t i = 0; i < 3; ++i) {
        _delay_ms(20);
        uint32_t t;
        HIGH(D, 2);
        _delay_us(12);
        LOW(D, 2);
        while (!READ(D, 3))
            ;
        TCNT1 = 0;
        TIFR1 = 1;
        while (READ(D, 3))
            ;
        t = TCNT1;
        if (TIFR1 & 1)
            t += 65536UL;
        // To the nearest 1 µs.
        printf("%lu us\n", (t + 1) / 2);
        _delay_ms(75);
    }
    end();
}
