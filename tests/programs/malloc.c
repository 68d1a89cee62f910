#include "selfcheck.h"
#include <stdlib.h>
#include <string.h>

int main(void)
{
    begin();
    char *blocks[12];
    for (uint8_t i = 0; i < 12; i++) {
        blocks[i] = malloc(20 + i);
        CHECK(blocks[i] != 0);
        memset(blocks[i], i, 20 + i);
    }
    for (uint8_t i = 0; i < 12; i += 2)
        free(blocks[i]);
    for (uint8_t i = 0; i < 12; i += 2) {
        blocks[i] = malloc(10);
        memset(blocks[i], 0x80 + i, 10);
    }
    for (uint8_t i = 0; i < 12; i++)
        for (uint8_t k = 0; k < 10; k++)
            CHECK(blocks[i][k] == (char)(i % 2 ? i : 0x80 + i));
    CHECK(malloc(4000) == 0);
    finish();
}
