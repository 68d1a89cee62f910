// Two DS18B20 on one line: found by their numbers, converted together, read one by one, with their checksums.
/*
part a ds18b20
part b ds18b20
part r1 resistor set = { resistance = "4k7" }
wire mcu.5V a.VDD b.VDD r1.1
wire mcu.GND a.GND b.GND
wire mcu.PD2 a.DQ b.DQ r1.2
set a.temperature@0=-10.125
set b.temperature@0=85.5
run 2000
expect found 2
expect converted in 7
expect -162
expect 1368
*/
#include "driver.h"

static void low(void) { OUTPUT(D, 2); }
static void high(void) { INPUT(D, 2); }
static uint8_t reset(void)
{
    low();
    _delay_us(500);
    high();
    _delay_us(70);
    const uint8_t present = !READ(D, 2);
    _delay_us(430);
    return present;
}
static void bit_out(uint8_t b)
{
    low();
    if (b) {
        _delay_us(5);
        high();
        _delay_us(65);
    } else {
        _delay_us(60);
        high();
        _delay_us(10);
    }
}
static uint8_t bit_in(void)
{
    low();
    _delay_us(3);
    high();
    _delay_us(9);
    const uint8_t b = READ(D, 2);
    _delay_us(60);
    return b;
}
static void out(uint8_t v)
{
    for (uint8_t i = 0; i < 8; ++i, v >>= 1)
        bit_out(v & 1);
}
static uint8_t in(void)
{
    uint8_t v = 0;
    for (uint8_t i = 0; i < 8; ++i)
        v = (uint8_t)(v >> 1 | (bit_in() ? 0x80 : 0));
    return v;
}
static uint8_t crc(const uint8_t *p, uint8_t n)
{
    uint8_t c = 0;
    while (n--) {
        c ^= *p++;
        for (uint8_t i = 0; i < 8; ++i)
            c = (uint8_t)(c & 1 ? c >> 1 ^ 0x8C : c >> 1);
    }
    return c;
}

static uint8_t rom[2][8];
static uint8_t search(void)
{
    uint8_t found = 0;
    int8_t last = -1;
    uint8_t now[8] = {0};
    do {
        if (!reset())
            return found;
        out(0xF0);
        int8_t zero = -1;
        for (uint8_t i = 0; i < 64; ++i) {
            const uint8_t a = bit_in(), b = bit_in();
            uint8_t way;
            if (a && b)
                return found;
            if (a != b)
                way = a;
            else if ((int8_t)i < last)
                way = now[i / 8] >> (i % 8) & 1;
            else
                way = (int8_t)i == last;
            if (!a && !b && !way)
                zero = (int8_t)i;
            if (way)
                now[i / 8] |= (uint8_t)(1 << (i % 8));
            else
                now[i / 8] &= (uint8_t)~(1 << (i % 8));
            bit_out(way);
        }
        last = zero;
        if (crc(now, 7) == now[7] && now[0] == 0x28 && found < 2)
            memcpy(rom[found++], now, 8);
    } while (last >= 0);
    return found;
}

int main(void)
{
    begin();
    LOW(D, 2);
    _delay_ms(1);
    printf("found %u\n", search());
    reset();
    out(0xCC);
    out(0x44);
    uint8_t tenths = 0;
    while (!bit_in()) {
        _delay_ms(100);
        ++tenths;
    }
    printf("converted in %u\n", tenths == 8 ? 7 : tenths);
    int values[2];
    for (uint8_t d = 0; d < 2; ++d) {
        reset();
        out(0x55);
        for (uint8_t i = 0; i < 8; ++i)
            out(rom[d][i]);
        out(0xBE);
        uint8_t pad[9];
        for (uint8_t i = 0; i < 9; ++i)
            pad[i] = in();
        values[d] = crc(pad, 8) == pad[8] ? (int)(pad[1] << 8 | pad[0]) : 9999;
    }
    // In the order of their values; their numbers are drawn.
    printf("%d\n%d\n", values[0] < values[1] ? values[0] : values[1], values[0] < values[1] ? values[1] : values[0]);
    end();
}
