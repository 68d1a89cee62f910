// What is read through a divider, and what is switched by a transistor: light and warmth against 10 k, a Zener, a trimmer and a comparator, a switch, a capacitor
// that charges; three transistors with a lamp each.
//
// Expected: light 10 lux is 15 k: 1024 · 10 / 25 = 409. Warmth 50 °C is 10 k · exp(3950 (1/323.15 - 1/298.15)) = 3.59 k: 1024 · 10 / 13.59 = 753. A capacitor of
// 1 µF after 10 ms through 10 k stands at 1 - 1/e: 647.
/*
part ldr light-sensor
part ntc warmth-sensor
part r1 resistor set = { resistance = "10k" }
part r2 resistor set = { resistance = "10k" }
part trim trimmer
part cmp comparator
part r3 resistor set = { resistance = "10k" }
part z zener set = { breakdown = "3.3" }
part r4 resistor set = { resistance = "330" }
part sw slide-switch
part r5 resistor set = { resistance = "10k" }
part c capacitor set = { capacitance = "1u" }
part qn nmos
part qp pmos
part qb pnp
part r6 resistor set = { resistance = "330" }
part r7 resistor set = { resistance = "330" }
part r8 resistor set = { resistance = "330" }
part r9 resistor set = { resistance = "4k7" }
part ln led
part lp led
part lb led
wire mcu.5V ldr.1 ntc.1 trim.A cmp.V+ r3.1 r4.1 sw.A qp.S qb.E r6.1
wire mcu.GND r1.2 r2.2 trim.B cmp.V- z.A sw.B c.2 qn.S lp.K lb.K
wire mcu.PC0 ldr.2 r1.1 cmp.-
wire mcu.PC1 ntc.2 r2.1
wire mcu.PC2 z.K r4.2
wire trim.W cmp.+
wire mcu.PD2 cmp.OUT r3.2
wire mcu.PD3 sw.C
wire mcu.PD4 r5.1
wire mcu.PC3 r5.2 c.1
wire mcu.PB0 qn.G
wire r6.2 ln.A
wire ln.K qn.D
wire mcu.PB1 qp.G
wire qp.D r7.1
wire r7.2 lp.A
wire mcu.PB2 r9.1
wire r9.2 qb.B
wire qb.C r8.1
wire r8.2 lb.A
set ldr.light@0=10
set ntc.temperature@0=50
set trim.position@0=0.3
set sw.position@0=0
set trim.position@150=0.7
set sw.position@150=1
dark@100 ln. lp. lb.
lit@320 ln. lp. lb.
run 500
expect light 409 warmth 753
expect zener holds
expect capacitor at 6
expect above 1 switch 1
expect above 0 switch 0
quiet
*/
#include "driver.h"

static uint16_t convert(uint8_t channel)
{
    ADMUX = (uint8_t)((1 << REFS0) | channel);
    ADCSRA = (1 << ADEN) | (1 << ADSC) | 7;
    while (ADCSRA & (1 << ADSC))
        ;
    return ADC;
}

int main(void)
{
    begin();
    DDRB = 7;
    PORTB = 6;  // all three off
    OUTPUT(D, 4);
    convert(0);
    printf("light %u", convert(0));
    printf(" warmth %u\n", convert(1));
    const uint16_t z = convert(2);
    printf("zener %s\n", z > 655 && z < 685 ? "holds" : "does not hold");
    HIGH(D, 4);
    _delay_ms(10);
    printf("capacitor at %u\n", convert(3));
    _delay_ms(40);
    printf("above %u switch %u\n", READ(D, 2), READ(D, 3));
    _delay_ms(120);
    printf("above %u switch %u\n", READ(D, 2), READ(D, 3));
    _delay_ms(50);
    PORTB = 1;
    end();
}
