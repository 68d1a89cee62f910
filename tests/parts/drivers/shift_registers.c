// A byte goes out through a 74HC595, over eight wires, and back in through a 74HC165; two 595 in a chain take sixteen bits.
/*
part out 74hc595
part next 74hc595
part in 74hc165
wire mcu.PD2 out.SER
wire mcu.PD3 out.SRCLK next.SRCLK
wire mcu.PD4 out.RCLK next.RCLK
wire mcu.GND out.OE out.GND next.OE next.GND in.GND in.INH in.SER
wire mcu.5V out.VCC out.SRCLR next.VCC next.SRCLR in.VCC
wire out.QH' next.SER
wire out.QA in.A
wire out.QB in.B
wire out.QC in.C
wire out.QD in.D
wire out.QE in.E
wire out.QF in.F
wire out.QG in.G
wire out.QH in.H
wire mcu.PD5 in.SH/LD
wire mcu.PD6 in.CLK
wire mcu.PD7 in.QH
expect 5A 5A
expect C3 C3
look out = "11000011"
look next = "01011010"
*/
#include "driver.h"

static void push(uint8_t byte)
{
    for (uint8_t i = 0; i < 8; ++i) {
        if (byte & 0x80)
            HIGH(D, 2);
        else
            LOW(D, 2);
        byte = (uint8_t)(byte << 1);
        HIGH(D, 3);
        LOW(D, 3);
    }
}

static uint8_t pull(void)
{
    LOW(D, 5);
    HIGH(D, 5);
    uint8_t byte = 0;
    for (uint8_t i = 0; i < 8; ++i) {
        byte = (uint8_t)(byte << 1 | READ(D, 7));
        HIGH(D, 6);
        LOW(D, 6);
    }
    return byte;
}

int main(void)
{
    begin();
    DDRD = 0x7C;
    HIGH(D, 5);
    push(0x5A);
    HIGH(D, 4);
    LOW(D, 4);
    printf("%02X %02X\n", 0x5A, pull());
    push(0xC3);
    HIGH(D, 4);
    LOW(D, 4);
    printf("%02X %02X\n", 0xC3, pull());
    end();
}
