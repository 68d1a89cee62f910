#include "selfcheck.h"
#include <string.h>
static volatile uint16_t ready = 0x1234;
static volatile uint8_t zero;
static char text[] = "lock";
static uint8_t counter(void)
{
    static uint8_t n = 10;
    return n++;
}

int main(void)
{
    begin();
    CHECK(ready == 0x1234 && zero == 0 && text[0] == 'l');
    ready = 5;
    CHECK(ready == 5);
    CHECK(counter() == 10 && counter() == 11);
    CHECK(strlen(text) == 4);
    finish();
}
