// A character display's instructions over `nibble(rs, four bits in the upper half)`.
static void nibble(uint8_t rs, uint8_t bits);
static void send(uint8_t rs, uint8_t byte)
{
    nibble(rs, byte & 0xF0);
    nibble(rs, (uint8_t)(byte << 4));
    _delay_us(50);
}
static void lcd_begin(void)
{
    _delay_ms(20);
    nibble(0, 0x30);
    _delay_ms(5);
    nibble(0, 0x30);
    _delay_us(150);
    nibble(0, 0x30);
    _delay_us(50);
    nibble(0, 0x20);
    _delay_us(50);
    send(0, 0x28);
    send(0, 0x0C);
    send(0, 0x01);
    _delay_ms(2);
    send(0, 0x06);
}
static void lcd_text(uint8_t row, const char *text)
{
    static const uint8_t at[] = {0x80, 0xC0, 0x94, 0xD4};
    send(0, at[row]);
    while (*text)
        send(1, (uint8_t)*text++);
}
