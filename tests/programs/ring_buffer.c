#include "selfcheck.h"

static uint8_t ring[16], head, tail;
static uint8_t push(uint8_t v)
{
    const uint8_t next = (head + 1) & 15;
    if (next == tail)
        return 0;
    ring[head] = v;
    head = next;
    return 1;
}
static uint8_t pull(void)
{
    const uint8_t v = ring[tail];
    tail = (tail + 1) & 15;
    return v;
}

int main(void)
{
    begin();
    uint8_t expected = 0;
    for (uint16_t round = 0; round < 300; round++) {
        CHECK(push(round) == 1);
        if (round % 3 == 2)
            for (uint8_t i = 0; i < 3; i++)
                CHECK(pull() == (uint8_t)expected++);
    }
    for (uint8_t i = 0; i < 15; i++)
        push(i);
    CHECK(push(99) == 0);
    finish();
}
