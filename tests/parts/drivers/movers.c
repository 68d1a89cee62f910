// A servo to 45 degrees, a stepper a sixteenth of a turn, a motor by its bridge, a relay by a transistor, two buzzers.
/*
part servo servo set = { least = "1ms", most = "2ms", shortest = "0.9ms", longest = "2.15ms" }
part step stepper
part bridge motor-bridge
part motor dc-motor
part v2 bench-supply set = { voltage = "9V", limit = "2" }
part q npn
part rb resistor set = { resistance = "1k" }
part relay relay
part up resistor set = { resistance = "10k" }
part d diode
part loud buzzer-active
part tune buzzer-passive
wire mcu.5V servo.VCC step.VCC bridge.VCC relay.1 d.K relay.COM
wire mcu.GND servo.GND step.GND bridge.GND v2.GND q.E loud.- tune.-
wire v2.V bridge.VM
wire mcu.PB1 servo.SIG
wire mcu.PD2 step.IN1
wire mcu.PD3 step.IN2
wire mcu.PD4 step.IN3
wire mcu.PD5 step.IN4
wire mcu.PD6 bridge.EN
wire mcu.PD7 bridge.IN1
wire mcu.PB0 bridge.IN2
wire bridge.OUT1 motor.+
wire bridge.OUT2 motor.-
wire mcu.PC0 rb.1
wire rb.2 q.B
wire q.C relay.2 d.A
wire relay.NO mcu.PC1 up.1
wire up.2 mcu.GND
wire mcu.PC2 loud.+
wire mcu.PB2 tune.+
run 800
look servo = "45.0°"
angle step = 22.5
speed motor = 13300 to 13500
look relay = "pulled in"
look loud = "2.3 kHz"
look tune = "440 Hz"
expect relay after 7
quiet
*/
#include "driver.h"

int main(void)
{
    begin();
    DDRB = 7;
    DDRC = 5;
    DDRD |= 0xFC;
    // 50 Hz on OC1A, 1.25 ms: a quarter of the way from 1 ms to 2 ms.
    TCCR1A = 1 << WGM11;
    TCCR1B = (1 << WGM13) | (1 << WGM12) | (1 << CS11);
    ICR1 = 39999;
    OCR1A = 2499;
    TCNT1 = 39000;
    TCCR1A |= 1 << COM1A1;
    // Right at nine volts: (9 V - 60 mA (7.5 + 2 x 2.3) ohms) 9000 / (6 V - 60 mA 7.5 ohms) = 13411 turns a minute.
    HIGH(D, 6);
    HIGH(D, 7);
    HIGH(C, 2);
    PORTC |= 1;
    uint8_t ms = 0;
    while (!READ(C, 1) && ms < 100) {
        _delay_ms(1);
        ++ms;
    }
    printf("relay after %u\n", ms >= 7 && ms <= 12 ? 7 : ms);
    static const uint8_t coils[8] = {1, 3, 2, 6, 4, 12, 8, 9};
    for (uint16_t i = 0; i < 257; ++i) {
        PORTD = (uint8_t)((PORTD & 0xC3) | coils[i & 7] << 2);
        _delay_ms(1);
    }
    // 440 Hz by hand.
    for (;;) {
        HIGH(B, 2);
        _delay_us(1136.1);
        LOW(B, 2);
        _delay_us(1136.1);
    }
}
