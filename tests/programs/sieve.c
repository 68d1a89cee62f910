#include "selfcheck.h"

int main(void)
{
    begin();
    static uint8_t composite[500];
    uint8_t count = 0;
    for (uint16_t i = 2; i < 500; i++) {
        if (composite[i])
            continue;
        count++;
        for (uint16_t k = i * 2; k < 500; k += i)
            composite[k] = 1;
    }
    CHECK(count == 95);
    finish();
}
