// What a flash and a card say to one who does not read their data sheets.
/*
mcu atmega328p at 3v3
part flash w25q32
part card sd-card
wire mcu.VCC flash.VCC flash.WP flash.HOLD card.VCC
wire mcu.GND flash.GND card.GND
wire mcu.PB3 flash.DI card.MOSI
wire mcu.PB4 flash.DO card.MISO
wire mcu.PB5 flash.CLK card.SCK
wire mcu.PB2 flash.CS
wire mcu.PD2 card.CS
finding flash-not-enabled flash
finding flash-busy flash
finding flash-asleep flash
finding write-protected flash
finding sd-crc card
expect done
*/
#include "driver.h"

static void sent(const uint8_t *bytes, uint8_t count)
{
    LOW(B, 2);
    while (count--)
        spi(*bytes++);
    HIGH(B, 2);
}
#define SEND(...) \
    do { \
        const uint8_t bytes[] = {__VA_ARGS__}; \
        sent(bytes, sizeof bytes); \
    } while (0)

int main(void)
{
    begin();
    spi_begin();
    OUTPUT(D, 2);
    HIGH(D, 2);
    SEND(0x20, 0x00, 0x10, 0x00);  // an erase without a write enable
    SEND(0x06);
    SEND(0x20, 0x00, 0x10, 0x00);
    SEND(0x03, 0x00, 0x10, 0x00, 0x00);  // a read while it erases
    _delay_ms(60);
    SEND(0x06);
    SEND(0x01, 0x1C);  // everything protected
    _delay_ms(15);
    SEND(0x06);
    SEND(0x20, 0x3F, 0xF0, 0x00);
    SEND(0xB9);
    SEND(0x9F, 0, 0, 0);  // asleep
    for (uint8_t i = 0; i < 10; ++i)
        spi(0xFF);
    LOW(D, 2);
    spi(0x40);
    for (uint8_t i = 0; i < 4; ++i)
        spi(0);
    spi(0x01);  // not the checksum of CMD0
    spi(0xFF);
    HIGH(D, 2);
    end();
}
