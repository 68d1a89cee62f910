#include "selfcheck.h"

int main(void)
{
    begin();
    /* 16.16: the square root of two by bisection, and a sine by its series. */
    int32_t low = 1L << 16, high = 2L << 16;
    for (uint8_t i = 0; i < 20; i++) {
        const int32_t mid = (low + high) / 2;
        if (((int64_t)mid * mid >> 16) < (2L << 16))
            low = mid;
        else
            high = mid;
    }
    CHECK(low >= 92680 && low <= 92683);
    const int32_t x = 51472; /* pi / 4 */
    const int32_t x3 = (int64_t)x * x / 65536 * x / 65536;
    const int32_t x5 = (int64_t)x3 * x / 65536 * x / 65536;
    const int32_t s = x - x3 / 6 + x5 / 120;
    CHECK(s > 46300 && s < 46380);
    finish();
}
