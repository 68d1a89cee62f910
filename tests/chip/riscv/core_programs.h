// Programs in C that tests of the core run.
#pragma once

namespace bramix::test {

// A function of two instructions, written through the data window and run through the code window, then another in its place.
inline const char* const kCodeInSram = R"(
int main(void)
{
    volatile uint32_t *to = (volatile uint32_t *)0x3FC90000;
    uint32_t (*run)(void) = (uint32_t (*)(void))(0x3FC90000 - 0x3FC80000 + 0x40380000);
    to[0] = 0x02900513; to[1] = 0x00008067;
    __asm volatile("fence.i");
    results[0] = run();
    to[0] = 0x02A00513;
    __asm volatile("fence.i");
    results[1] = run();
    return 0;
}
)";

}  // namespace bramix::test
