#include "selfcheck.h"
#include <avr/pgmspace.h>
#include <string.h>
static const uint16_t squares[] PROGMEM = { 0, 1, 4, 9, 16, 25, 36, 49, 64, 81 };
static const char name[] PROGMEM = "withy";
static const uint32_t big PROGMEM = 0xDEADBEEF;

int main(void)
{
    begin();
    uint16_t sum = 0;
    for (uint8_t i = 0; i < 10; i++)
        sum += pgm_read_word(&squares[i]);
    CHECK(sum == 285);
    CHECK(pgm_read_byte(&name[3]) == 'h');
    char copy[8];
    strcpy_P(copy, name);
    CHECK(strcmp(copy, "withy") == 0);
    CHECK(pgm_read_dword(&big) == 0xDEADBEEF);
    finish();
}
