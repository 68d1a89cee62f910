#include "selfcheck.h"

struct gate {
    uint8_t id;
    uint16_t height;
    int16_t drift;
    const char *name;
};
struct bits {
    uint8_t low : 3;
    uint8_t middle : 3;
    uint8_t flag : 1;
};
static int16_t total(const struct gate *g, uint8_t n)
{
    int16_t t = 0;
    while (n--)
        t += g[n].height + g[n].drift;
    return t;
}

int main(void)
{
    begin();
    struct gate g[3] = { { 1, 200, -5, "a" }, { 2, 300, -6, "b" }, { 3, 400, -7, "c" } };
    struct gate copy = g[1];
    copy.height++;
    CHECK(g[1].height == 300 && copy.height == 301);
    CHECK(total(g, 3) == 900 - 18);
    struct bits b = { 5, 3, 1 };
    b.low += 2;
    CHECK(b.low == 7 && b.middle == 3 && b.flag == 1);
    b.low++;
    CHECK(b.low == 0 && b.middle == 3);
    CHECK(sizeof(struct gate) == 7);
    finish();
}
