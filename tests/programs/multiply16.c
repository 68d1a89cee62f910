#include "selfcheck.h"

int main(void)
{
    begin();
    for (uint16_t i = 1; i < 400; i += 13) {
        uint32_t sum = 0;
        for (uint16_t k = 0; k < i; k++)
            sum += 1009;
        uint16_t m = 1009;
        HIDE(m);
        CHECK((uint32_t)i * m == sum);
    }
    int16_t n = -321, m = 77;
    HIDE(n);
    HIDE(m);
    CHECK((int32_t)n * m == -24717);
    CHECK((uint16_t)n * (uint16_t)n == (uint16_t)103041);
    finish();
}
