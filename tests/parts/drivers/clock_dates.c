// Dates written register by register, as drivers do: through months that do not have the day, with a day of the week of one's own, over the end of a month.
/*
part old ds1307 set = { start = "2026-01-31 10:00:00" }
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V old.VCC r1.1 r2.1
wire mcu.GND old.GND
wire mcu.PC4 old.SDA r1.2
wire mcu.PC5 old.SCL r2.2
run 4000
expect 28 05 30 04 27
expect next 01 06 01 05 27
expect 31 02 kept 31 02
expect then 01 03
*/
#include "driver.h"

static uint8_t t[7];

static void set(uint8_t reg, uint8_t value) { wire_write(0x68, reg, value); }
static void get(void)
{
    wire_start(0x68, 0);
    wire_put(0);
    wire_start(0x68, 1);
    for (uint8_t i = 0; i < 7; ++i)
        t[i] = wire_get(i < 6);
    wire_stop();
}

int main(void)
{
    begin();
    wire_begin();
    // From the 31st of January to the 30th of April, the month before the day: on the way it is the 31st of April. The weekday is what is written.
    set(0, 0x28);
    set(1, 0x59);
    set(2, 0x23);
    set(3, 0x05);
    set(5, 0x04);
    set(4, 0x30);
    set(6, 0x27);
    get();
    printf("%02X %02X %02X %02X %02X\n", t[0], t[3], t[4], t[5], t[6]);
    // Over midnight: May begins, and the weekday goes on by one.
    set(0, 0x59);
    _delay_ms(1500);
    get();
    printf("next %02X %02X %02X %02X %02X\n", t[2] == 0 ? 1 : 0xEE, t[3], t[4], t[5], t[6]);
    // A day that the month does not have stands until midnight.
    set(4, 0x31);
    set(5, 0x02);
    get();
    printf("31 02 kept %02X %02X\n", t[4], t[5]);
    set(2, 0x23);
    set(1, 0x59);
    set(0, 0x59);
    _delay_ms(1500);
    get();
    printf("then %02X %02X\n", t[4], t[5]);
    end();
}
