// What movers and lights say of signals that they cannot follow.
/*
part servo servo set = { least = "1ms", most = "2ms", shortest = "0.9ms", longest = "2.15ms" }
part step stepper
part strip ws2812-strip
part clocked apa102-strip
part oled ssd1306-i2c
part climate dht22
part r1 resistor set = { resistance = "4k7" }
part r2 resistor set = { resistance = "4k7" }
part r3 resistor set = { resistance = "4k7" }
wire mcu.5V servo.VCC step.VCC strip.VCC clocked.VCC oled.VCC climate.VCC r1.1 r2.1 r3.1
wire mcu.GND servo.GND step.GND strip.GND clocked.GND oled.GND climate.GND
wire mcu.PC4 oled.SDA r1.2
wire mcu.PC5 oled.SCL r2.2
wire mcu.PB0 servo.SIG
wire mcu.PB1 strip.DIN
wire mcu.PB2 climate.DATA r3.2
wire mcu.PD2 step.IN1
wire mcu.PD3 step.IN2
wire mcu.PD4 step.IN3
wire mcu.PD5 step.IN4
wire mcu.PD6 clocked.DI
wire mcu.PD7 clocked.CI
run 1500
finding servo-pulse servo
finding step-lost step
finding pixel-timing strip
finding pixel-frame clocked
finding display-unpowered oled
finding unknown-command oled
finding sensor-start climate
expect done
*/
#include "driver.h"

static void command(uint8_t c)
{
    wire_start(0x3C, 0);
    wire_put(0x00);
    wire_put(c);
    wire_stop();
}
static void word(uint32_t w)
{
    for (uint8_t i = 0; i < 32; ++i, w <<= 1) {
        if (w >> 31)
            HIGH(D, 6);
        else
            LOW(D, 6);
        HIGH(D, 7);
        LOW(D, 7);
    }
}

int main(void)
{
    begin();
    wire_begin();
    DDRB = 3;
    DDRD |= 0xFC;
    for (uint8_t i = 0; i < 3; ++i) {
        HIGH(B, 0);
        _delay_ms(4);  // no angle
        LOW(B, 0);
        _delay_ms(16);
    }
    for (uint8_t turn = 0; turn < 4; ++turn)
        for (uint8_t coil = 2; coil < 6; ++coil) {
            PORTD = (uint8_t)(1 << coil);
            _delay_us(100);
        }
    PORTD = 0;
    HIGH(B, 1);
    _delay_us(20);  // no bit
    LOW(B, 1);
    _delay_us(100);
    word(0);
    word(0x12345678);  // begins with no three ones
    command(0xAF);     // without its pump
    command(0xF0);     // no such command
    _delay_ms(1100);
    OUTPUT(B, 2);
    _delay_us(700);    // too short a call
    INPUT(B, 2);
    _delay_ms(5);
    end();
}
