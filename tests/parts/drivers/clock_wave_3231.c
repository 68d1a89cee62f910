// The square wave of a DS3231 at each of its rates (control register 0Eh: INTCN is bit 2, RS2:1 are bits 4 and 3), and the flags of 0Fh, which can only be cleared.
/*
part exact ds3231 set = { start = "2026-05-01 06:00:00" }
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
part r3 resistor set = { resistance = "4k7" }
wire mcu.5V exact.VCC r1.1 r2.1 r3.1
wire mcu.GND exact.GND
wire mcu.PC4 exact.SDA r1.2
wire mcu.PC5 exact.SCL r2.2
wire mcu.PD5 exact.SQW r3.2
run 7000
expect rate 1: 512 within 3
expect rate 2: 2048 within 3
expect rate 3: 4096 within 3
expect rate 0: 3 within 1
expect flags 00
expect still 00
expect alarm 25
*/
#include "driver.h"

static void count(uint8_t rate, uint16_t expected, uint8_t apart, uint8_t halves)
{
    wire_write(0x68, 0x0E, (uint8_t)(rate << 3));
    TCNT1 = 0;
    for (uint8_t i = 0; i < halves; ++i)
        _delay_ms(500);
    const uint16_t n = TCNT1;
    const uint16_t off = n > expected ? n - expected : expected - n;
    printf("rate %u: %u within %u\n", rate, off <= apart ? expected : n, apart);
}

static uint8_t read(uint8_t reg)
{
    wire_start(0x68, 0);
    wire_put(reg);
    wire_start(0x68, 1);
    const uint8_t value = wire_get(0);
    wire_stop();
    return value;
}

int main(void)
{
    begin();
    wire_begin();
    TCCR1B = 7;
    count(1, 512, 3, 1);
    count(2, 2048, 3, 1);
    count(3, 4096, 3, 1);
    count(0, 3, 1, 6);
    wire_write(0x68, 0x0F, 0x00);
    printf("flags %02X\n", read(0x0F) & 0x83);
    wire_write(0x68, 0x0F, 0xFF); /* writing a one changes nothing */
    printf("still %02X\n", read(0x0F) & 0x83);
    wire_write(0x68, 0x07, 0x25);
    printf("alarm %02X\n", read(0x07));
    end();
}
