// Three volts: an EEPROM, a serial flash and an SD card, each written and read again.
/*
mcu atmega328p at 3v3
file mem.bin
file flash.bin
file card.img
part mem 24c32 set = { contents = "mem.bin" }
part flash w25q32 set = { contents = "flash.bin" }
part card sd-card set = { image = "card.img" }
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.VCC mem.VCC r1.1 r2.1 flash.VCC flash.WP card.VCC
wire mcu.GND mem.GND mem.A0 mem.A2 mem.WP flash.GND card.GND
wire mcu.VCC mem.A1
wire mcu.PC4 mem.SDA r1.2
wire mcu.PC5 mem.SCL r2.2
wire mcu.PB3 flash.DI card.MOSI
wire mcu.PB4 flash.DO card.MISO
wire mcu.PB5 flash.CLK card.SCK
wire mcu.PB2 flash.CS
wire mcu.PD2 card.CS
wire mcu.PD3 flash.HOLD
run 3000
expect eeprom 41 42 43, polled
expect id EF 40 16, held EF 40
expect flash FF then 0F then 0A
expect erased FF
expect card ready, block 5 says 5A A5
holds mem.bin 0x11F 41
holds flash.bin 0x010202 FF 3C FF
holds card.img 2560 5A A5
quiet
*/
#include "driver.h"

static uint8_t mem(uint16_t at)
{
    wire_start(0x52, 0);
    wire_put((uint8_t)(at >> 8));
    wire_put((uint8_t)at);
    wire_start(0x52, 1);
    const uint8_t v = wire_get(0);
    wire_stop();
    return v;
}
static void enable(void)
{
    LOW(B, 2);
    spi(0x06);
    HIGH(B, 2);
}
static void settle(void)
{
    LOW(B, 2);
    spi(0x05);
    while (spi(0) & 1)
        ;
    HIGH(B, 2);
}
static uint8_t flash(void)
{
    LOW(B, 2);
    spi(0x03);
    spi(0x01);
    spi(0x02);
    spi(0x03);
    const uint8_t v = spi(0);
    HIGH(B, 2);
    return v;
}
static void program(uint8_t v)
{
    enable();
    LOW(B, 2);
    spi(0x02);
    spi(0x01);
    spi(0x02);
    spi(0x03);
    spi(v);
    HIGH(B, 2);
    settle();
}
static uint8_t command(uint8_t n, uint32_t argument, uint8_t crc)
{
    spi(0xFF);
    spi((uint8_t)(0x40 | n));
    spi((uint8_t)(argument >> 24));
    spi((uint8_t)(argument >> 16));
    spi((uint8_t)(argument >> 8));
    spi((uint8_t)argument);
    spi(crc);
    uint8_t v = 0xFF;
    for (uint8_t i = 0; i < 8 && (v & 0x80); ++i)
        v = spi(0xFF);
    return v;
}

int main(void)
{
    begin();
    wire_begin();
    wire_start(0x52, 0);
    wire_put(0x01);
    wire_put(0x1F);  // the last of a page: the rest goes round to its beginning
    wire_put('A');
    wire_put('B');
    wire_put('C');
    wire_stop();
    uint8_t polls = 0;
    while (!wire_start(0x52, 0) && polls < 250)
        ++polls;
    wire_stop();
    printf("eeprom %02X %02X %02X, %s\n", mem(0x11F), mem(0x100), mem(0x101), polls > 3 ? "polled" : "at once");

    spi_begin();
    OUTPUT(D, 2);
    HIGH(D, 2);
    OUTPUT(D, 3);
    HIGH(D, 3);
    LOW(B, 2);
    spi(0x9F);
    const uint8_t a = spi(0), b = spi(0), c = spi(0);
    HIGH(B, 2);
    // The same with a pause: eight clocks that the flash does not hear.
    LOW(B, 2);
    spi(0x9F);
    const uint8_t d = spi(0);
    LOW(D, 3);
    spi(0xFF);
    HIGH(D, 3);
    const uint8_t e = spi(0);
    HIGH(B, 2);
    printf("id %02X %02X %02X, held %02X %02X\n", a, b, c, d, e);
    const uint8_t before = flash();
    program(0x0F);
    const uint8_t first = flash();
    program(0xFA);  // bits are only cleared
    printf("flash %02X then %02X then %02X\n", before, first, flash());
    enable();
    LOW(B, 2);
    spi(0x20);
    spi(0x01);
    spi(0x02);
    spi(0x00);
    HIGH(B, 2);
    settle();
    printf("erased %02X\n", flash());
    program(0x3C);

    SPCR |= 2;  // slowly
    for (uint8_t i = 0; i < 10; ++i)
        spi(0xFF);
    LOW(D, 2);
    uint8_t ok = command(0, 0, 0x95) == 1 && command(8, 0x1AA, 0x87) == 1;
    for (uint8_t i = 0; i < 4; ++i)
        spi(0xFF);
    uint16_t tries = 0;
    do
        command(55, 0, 0xFF);
    while (command(41, 0x40000000, 0xFF) != 0 && ++tries < 5000);
    if (!ok || tries == 5000)
        printf("no card\n");
    command(24, 5, 0xFF);
    spi(0xFF);
    spi(0xFE);
    for (uint16_t i = 0; i < 512; ++i)
        spi(i & 1 ? 0xA5 : 0x5A);
    spi(0xFF);
    spi(0xFF);
    const uint8_t taken = spi(0xFF) & 0x1F;
    while (spi(0xFF) == 0)
        ;
    command(17, 5, 0xFF);
    while (spi(0xFF) != 0xFE)
        ;
    const uint8_t x = spi(0xFF), y = spi(0xFF);
    printf("card %s, block 5 says %02X %02X\n", taken == 5 ? "ready" : "refused", x, y);
    end();
}
