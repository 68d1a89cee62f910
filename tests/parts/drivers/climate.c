// DHT22 and DHT11 by their pulses, and the two-second rule.
/*
part fine dht22
part plain dht11
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
wire mcu.5V fine.VCC plain.VCC r1.1 r2.1
wire mcu.GND fine.GND plain.GND
wire mcu.PD2 fine.DATA r1.2
wire mcu.PD3 plain.DATA r2.2
set fine.temperature@0=-7.3
set fine.humidity@0=81.4
set plain.temperature@0=23
set plain.humidity@0=44
set fine.temperature@2500=12.5
run 5000
expect fine 814 -73
expect plain 44 23
expect soon 814 -73
expect later 814 125
finding sensor-too-often fine
*/
#include "driver.h"

static uint8_t data[5];
static uint8_t ask(uint8_t bit, uint16_t low)
{
    const uint8_t mask = (uint8_t)(1 << bit);
    DDRD |= mask;
    PORTD &= (uint8_t)~mask;
    while (low--)
        _delay_ms(1);
    DDRD &= (uint8_t)~mask;
    uint16_t n = 0;
    while ((PIND & mask) && ++n < 2000)
        ;
    if (n >= 2000)
        return 0;
    while (!(PIND & mask))
        ;
    while (PIND & mask)
        ;
    for (uint8_t i = 0; i < 40; ++i) {
        while (!(PIND & mask))
            ;
        _delay_us(40);
        data[i / 8] = (uint8_t)(data[i / 8] << 1 | ((PIND & mask) != 0));
        while (PIND & mask)
            ;
    }
    return (uint8_t)(data[0] + data[1] + data[2] + data[3]) == data[4];
}
static void fine(const char *what)
{
    if (!ask(2, 2))
        printf("no answer\n");
    int t = (data[2] & 0x7F) << 8 | data[3];
    if (data[2] & 0x80)
        t = -t;
    printf("%s %d %d\n", what, data[0] << 8 | data[1], t);
}

int main(void)
{
    begin();
    _delay_ms(1200);
    fine("fine");
    if (!ask(3, 20))
        printf("no answer\n");
    printf("plain %d %d\n", data[0], data[2]);
    _delay_ms(200);
    fine("soon");
    _delay_ms(2500);
    fine("later");
    end();
}
