#include "selfcheck.h"

int main(void)
{
    begin();
    int16_t a[4][4], b[4][4], c[4][4];
    for (uint8_t i = 0; i < 4; i++)
        for (uint8_t k = 0; k < 4; k++) {
            a[i][k] = i * 4 + k - 7;
            b[i][k] = i == k ? 3 : 0;
        }
    for (uint8_t i = 0; i < 4; i++)
        for (uint8_t k = 0; k < 4; k++) {
            c[i][k] = 0;
            for (uint8_t m = 0; m < 4; m++)
                c[i][k] += a[i][m] * b[m][k];
        }
    for (uint8_t i = 0; i < 4; i++)
        for (uint8_t k = 0; k < 4; k++)
            CHECK(c[i][k] == 3 * (i * 4 + k - 7));
    finish();
}
