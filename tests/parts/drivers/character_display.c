// Four lines of data; text on both rows, a character of its own, and the display shifted by one.
/*
part lcd character-display
part pot potentiometer
wire mcu.GND lcd.GND lcd.RW lcd.K pot.B
wire mcu.5V lcd.VCC pot.A
wire pot.W lcd.VO
wire mcu.PB0 lcd.RS
wire mcu.PB1 lcd.E
wire mcu.PD4 lcd.D4
wire mcu.PD5 lcd.D5
wire mcu.PD6 lcd.D6
wire mcu.PD7 lcd.D7
set pot.position@0=0.95
expect done
look lcd = "ock gate 3      |evel 1.42 m ..  "
quiet
*/
#include "driver.h"
#include "lcd.h"

static void nibble(uint8_t rs, uint8_t bits)
{
    if (rs)
        HIGH(B, 0);
    else
        LOW(B, 0);
    PORTD = (uint8_t)((PORTD & 0x0F) | bits);
    HIGH(B, 1);
    _delay_us(0.5);
    LOW(B, 1);
    _delay_us(1);
}

int main(void)
{
    begin();
    DDRB = 3;
    DDRD |= 0xF0;
    lcd_begin();
    send(0, 0x40);
    for (uint8_t i = 0; i < 8; ++i)
        send(1, (uint8_t)(0x1F >> (i & 3)));
    lcd_text(0, "Lock gate 3");
    lcd_text(1, "Level 1.42 m ");
    send(1, 0);
    send(1, 0);
    send(0, 0x18);
    end();
}
