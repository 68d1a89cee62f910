#include "selfcheck.h"

int main(void)
{
    begin();
    uint16_t ccitt = 0xFFFF;
    uint32_t c32 = 0xFFFFFFFF;
    for (const char *s = "123456789"; *s; s++) {
        ccitt ^= (uint16_t)(uint8_t)*s << 8;
        c32 ^= (uint8_t)*s;
        for (uint8_t i = 0; i < 8; i++) {
            ccitt = ccitt & 0x8000 ? (ccitt << 1) ^ 0x1021 : ccitt << 1;
            c32 = c32 & 1 ? (c32 >> 1) ^ 0xEDB88320 : c32 >> 1;
        }
    }
    CHECK(ccitt == 0x29B1); /* the published check values */
    CHECK((c32 ^ 0xFFFFFFFF) == 0xCBF43926);
    finish();
}
