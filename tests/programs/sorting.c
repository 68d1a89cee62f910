#include "selfcheck.h"
#include <stdlib.h>
static int compare(const void *a, const void *b)
{
    const int16_t x = *(const int16_t *)a, y = *(const int16_t *)b;
    return x < y ? -1 : x > y;
}

int main(void)
{
    begin();
    int16_t v[40];
    uint16_t seed = 77;
    for (uint8_t i = 0; i < 40; i++) {
        seed = seed * 25173 + 13849;
        v[i] = (int16_t)seed;
    }
    qsort(v, 40, sizeof v[0], compare);
    for (uint8_t i = 1; i < 40; i++)
        CHECK(v[i - 1] <= v[i]);
    int16_t wanted = v[17];
    int16_t *found = bsearch(&wanted, v, 40, sizeof v[0], compare);
    CHECK(found != 0 && *found == wanted);
    finish();
}
