// HX711: 24 bits by its clock, at half the rated load; the word's scale is 1 mV a volt over ±half a volt a volt, by a gain of 128.
/*
part scale load-cell
wire mcu.5V scale.VCC
wire mcu.GND scale.GND
wire mcu.PD2 scale.DOUT
wire mcu.PD3 scale.SCK
set scale.load@0=0.5
run 1500
expect within 100 of 1073741
*/
#include "driver.h"

static int32_t take(void)
{
    while (READ(D, 2))
        ;
    uint32_t v = 0;
    for (uint8_t i = 0; i < 25; ++i) {
        HIGH(D, 3);
        _delay_us(1);
        LOW(D, 3);
        _delay_us(1);
        if (i < 24)
            v = v << 1 | READ(D, 2);
    }
    return (int32_t)(v << 8) >> 8;
}

int main(void)
{
    begin();
    OUTPUT(D, 3);
    take();
    const int32_t v = take();
    const int32_t off = v - 1073741L;
    if (off > -100 && off < 100)
        printf("within 100 of 1073741\n");
    else
        printf("%ld\n", v);
    end();
}
