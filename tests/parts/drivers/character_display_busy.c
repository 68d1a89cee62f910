// Eight lines of data on the 20x4, no waiting but for the busy flag; and what is written too early is told.
/*
part lcd character-display-20x4
wire mcu.GND lcd.GND lcd.VO lcd.K
wire mcu.5V lcd.VCC
wire mcu.PB0 lcd.RS
wire mcu.PB1 lcd.E
wire mcu.PB2 lcd.RW
wire mcu.PC0 lcd.D0
wire mcu.PC1 lcd.D1
wire mcu.PC2 lcd.D2
wire mcu.PC3 lcd.D3
wire mcu.PD4 lcd.D4
wire mcu.PD5 lcd.D5
wire mcu.PD6 lcd.D6
wire mcu.PD7 lcd.D7
expect address 17
expect letter w
look lcd = "The weir is open    |  three boards up   |row three           |row four            "
finding display-busy lcd
*/
#include "driver.h"

static uint8_t get(uint8_t rs)
{
    DDRC &= 0xF0;
    DDRD &= 0x0F;
    PORTC &= 0xF0;
    PORTD &= 0x0F;
    HIGH(B, 2);
    if (rs)
        HIGH(B, 0);
    else
        LOW(B, 0);
    HIGH(B, 1);
    _delay_us(0.5);
    const uint8_t v = (uint8_t)((PIND & 0xF0) | (PINC & 0x0F));
    LOW(B, 1);
    LOW(B, 2);
    DDRC |= 0x0F;
    DDRD |= 0xF0;
    return v;
}
static void blind(uint8_t rs, uint8_t byte)
{
    if (rs)
        HIGH(B, 0);
    else
        LOW(B, 0);
    PORTC = (uint8_t)((PORTC & 0xF0) | (byte & 0x0F));
    PORTD = (uint8_t)((PORTD & 0x0F) | (byte & 0xF0));
    HIGH(B, 1);
    _delay_us(0.5);
    LOW(B, 1);
}
static void patient(uint8_t rs, uint8_t byte)
{
    while (get(0) & 0x80)
        ;
    blind(rs, byte);
}
static void text(uint8_t at, const char *s)
{
    patient(0, at);
    while (*s)
        patient(1, (uint8_t)*s++);
}

int main(void)
{
    begin();
    DDRB = 7;
    DDRC = 0x0F;
    DDRD |= 0xF0;
    patient(0, 0x38);
    patient(0, 0x0F);
    patient(0, 0x01);
    patient(0, 0x06);
    text(0x80, "The weir is open");
    text(0xC0, "  three boards up");
    text(0x94, "row three");
    text(0xD4, "row four");
    patient(0, (uint8_t)(0x80 | 0x10));
    patient(1, ' ');
    while (get(0) & 0x80)
        ;
    printf("address %u\n", get(0));
    patient(0, (uint8_t)(0x80 | 0x57));
    while (get(0) & 0x80)
        ;
    patient(0, 0x80 | 0x03);
    patient(0, 0xC0 | 0x10);
    blind(1, 'X');  // while it is still busy: lost
    patient(0, 0xC0 + 0x10);
    while (get(0) & 0x80)
        ;
    patient(0, 0x80 + 0x04);
    while (get(0) & 0x80)
        ;
    printf("letter %c\n", get(1));
    end();
}
