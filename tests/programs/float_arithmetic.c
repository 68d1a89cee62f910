#include "selfcheck.h"

int main(void)
{
    begin();
    volatile float a = 1.5f, b = -2.25f;
    CHECK(a + b == -0.75f && a * b == -3.375f && a - b == 3.75f);
    volatile float third = 1.0f / 3.0f;
    CHECK(third * 3.0f == 1.0f);
    CHECK((int16_t)(1000.9f * a) == 1501);
    volatile float big = 1e30f;
    CHECK(big * 1e10f > 3e38f);
    CHECK((uint32_t)4e9f == 4000000000UL);
    float sum = 0;
    for (uint8_t i = 1; i <= 100; i++)
        sum += (float)i;
    CHECK(sum == 5050.0f);
    finish();
}
