// A keypad by its rows, an encoder by its quadrature, switches, and a limit switch with both contacts.
/*
part keys keypad
part knob rotary-encoder
part dip dip-switch
part limit limit-switch
wire mcu.PD2 keys.R1
wire mcu.PD3 keys.R2
wire mcu.PD4 keys.R3
wire mcu.PD5 keys.R4
wire mcu.PB0 keys.C1
wire mcu.PB1 keys.C2
wire mcu.PB2 keys.C3
wire mcu.PB3 keys.C4
wire mcu.PC0 knob.CLK
wire mcu.PC1 knob.DT
wire mcu.PC2 knob.SW
wire mcu.5V knob.+
wire mcu.GND knob.GND dip.1B dip.2B limit.COM
wire mcu.PC3 dip.1A
wire mcu.PC4 dip.2A
wire mcu.PB4 limit.NO
wire mcu.PD7 limit.NC
set dip.2@0=1
set keys.7@20=1
set keys.7@40=0
set keys.D@60=1
set keys.D@80=0
set knob.turn@100=3
set knob.turn@400=-2
set limit.pressed@700=1
run 1000
expect key 7
expect key D
expect turned 3, now -2
expect dip 1 0
expect limit 1 0 then 0 1
*/
#include "driver.h"

static char scan(void)
{
    static const char names[] = "123A456B789C*0#D";
    for (uint8_t row = 0; row < 4; ++row) {
        DDRD = (uint8_t)(4 << row);
        _delay_us(5);
        for (uint8_t column = 0; column < 4; ++column)
            if (!READ(B, column))
                return names[row * 4 + column];
    }
    return 0;
}

int main(void)
{
    begin();
    PORTB = 0x1F;
    PORTD = 0x80;
    PORTC = 0x1C;
    char last = 0;
    uint8_t keys = 0;
    while (keys < 2) {
        const char k = scan();
        _delay_ms(5);
        if (k && k == scan() && k != last) {
            printf("key %c\n", k);
            ++keys;
        }
        last = k;
    }
    // States in steps of a quarter: 00 is rest (both contacts open), CLK leads.
    int quarters = 0, most = 0;
    uint8_t at = 0;
    static const int8_t way[16] = {0, 1, -1, 0, -1, 0, 0, 1, 1, 0, 0, -1, 0, -1, 1, 0};
    for (uint16_t ms = 0; ms < 5500; ++ms) {
        const uint8_t now = (uint8_t)((READ(C, 0) ? 0 : 1) | (READ(C, 1) ? 0 : 2));
        quarters += way[at << 2 | now];
        at = now;
        if (quarters > most)
            most = quarters;
        _delay_us(100);
    }
    printf("turned %d, now %d\n", most / 4, quarters / 4);
    printf("dip %u %u\n", READ(C, 3), READ(C, 4));
    const uint8_t no = READ(B, 4), nc = READ(D, 7);
    while (READ(B, 4))
        ;
    _delay_ms(10);
    printf("limit %u %u then %u %u\n", no, nc, READ(B, 4), READ(D, 7));
    end();
}
