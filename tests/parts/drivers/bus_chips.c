// Both clocks, a port expander with its interrupt, and an eight-channel converter.
/*
part old ds1307 set = { start = "2026-12-31 23:59:58" }
part exact ds3231
part exp mcp23017
part adc mcp3008
part pot potentiometer
part k push-button set = { bounce = "off" }
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
part r3 resistor set = { resistance = "4k7" }
part r4 resistor set = { resistance = "4k7" }
wire mcu.5V old.VCC exp.VCC exp.RESET r1.1 r2.1 r3.1 r4.1 adc.VDD adc.VREF pot.A exact.VCC
wire mcu.GND old.GND exp.GND exp.A0 exp.A1 exp.A2 adc.GND adc.AGND pot.B exact.GND k.2
wire mcu.PC4 old.SDA exp.SDA r1.2
wire mcu.PC5 old.SCL exp.SCL r2.2
wire mcu.PC2 exact.SDA r3.2
wire mcu.PC3 exact.SCL r4.2
wire exp.GPA0 k.1
wire exp.GPB7 mcu.PD3
wire exp.INTA mcu.PD2
wire mcu.PB5 adc.CLK
wire mcu.PB3 adc.DIN
wire mcu.PB4 adc.DOUT
wire mcu.PB2 adc.CS
wire pot.W adc.CH5
set pot.position@0=0.25
set k.pressed@50=1
run 3000
expect soon 00 01 01 27
expect B7 high 1 low 0
expect idle 0 and 1, captured FE
expect converter 767
*/
#include "driver.h"

int main(void)
{
    begin();
    wire_begin();
    // B7 goes out and comes back by the chip's own pin; A0 has a pull-up and asks when it changes.
    wire_write(0x20, 0x01, 0x7F);
    wire_write(0x20, 0x15, 0x80);
    const uint8_t high = READ(D, 3);
    wire_write(0x20, 0x15, 0x00);
    const uint8_t low = READ(D, 3);
    wire_write(0x20, 0x0C, 0xFF);
    wire_write(0x20, 0x04, 0x01);
    wire_write(0x20, 0x0A, 0x02);
    const uint8_t idle = READ(D, 2);
    wire_write(0x20, 0x0A, 0x00);
    const uint8_t idle2 = READ(D, 2);
    while (READ(D, 2))
        ;
    const uint8_t captured = wire_read(0x20, 0x10);

    spi_begin();
    LOW(B, 2);
    spi(1);
    uint16_t v = (uint16_t)((spi(0xD0) & 3) << 8);
    v |= spi(0);
    HIGH(B, 2);

    _delay_ms(2000);
    wire_start(0x68, 0);
    wire_put(0);
    wire_start(0x68, 1);
    uint8_t t[7];
    for (uint8_t i = 0; i < 7; ++i)
        t[i] = wire_get(i < 6);
    wire_stop();
    printf("%s %02X %02X %02X %02X\n", t[0] < 5 ? "soon" : "late", t[2], t[4], t[5], t[6]);
    printf("B7 high %u low %u\n", high, low);
    printf("idle %u and %u, captured %02X\n", idle, idle2, captured);
    printf("converter %u\n", v);
    end();
}
