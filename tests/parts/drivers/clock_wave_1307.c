// The square wave of a DS1307 at each of its rates (control register 07h: SQWE is bit 4, RS1:0 below), counted by timer 1 at its clock pin.
/*
part old ds1307 set = { start = "2026-05-01 06:00:00" }
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
part r3 resistor set = { resistance = "4k7" }
wire mcu.5V old.VCC r1.1 r2.1 r3.1
wire mcu.GND old.GND
wire mcu.PC4 old.SDA r1.2
wire mcu.PC5 old.SCL r2.2
wire mcu.PD5 old.SQW r3.2
run 7000
expect rate 1: 2048 within 3
expect rate 2: 4096 within 3
expect rate 3: 16384 within 3
expect rate 0: 3 within 1
*/
#include "driver.h"

static void count(uint8_t rate, uint16_t expected, uint8_t apart, uint8_t halves)
{
    wire_write(0x68, 7, (uint8_t)(0x10 | rate));
    TCNT1 = 0;
    for (uint8_t i = 0; i < halves; ++i)
        _delay_ms(500);
    const uint16_t n = TCNT1;
    const uint16_t off = n > expected ? n - expected : expected - n;
    printf("rate %u: %u within %u\n", rate, off <= apart ? expected : n, apart);
}

int main(void)
{
    begin();
    wire_begin();
    wire_write(0x68, 0, 0x00); /* the oscillator runs */
    TCCR1B = 7; /* rising edges at T1 */
    count(1, 2048, 3, 1);
    count(2, 4096, 3, 1);
    count(3, 16384, 3, 1);
    count(0, 3, 1, 6);
    end();
}
