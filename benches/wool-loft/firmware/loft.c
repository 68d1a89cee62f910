// Wool loft: humidity and temperature on one wire, a lamp, a horn, and a line of text every two seconds.
#include <stdint.h>

#define REGISTER(address) (*(volatile uint32_t *)(address))
#define GPIO(offset) REGISTER(0x60004000 + (offset))
#define IO_MUX(pad) REGISTER(0x60009004 + 4 * (pad))
#define LEDC(offset) REGISTER(0x60019000 + (offset))
#define UART0_FIFO REGISTER(0x60000000)
#define UART0_STATUS REGISTER(0x6000001C)
#define SYSTIMER_OP REGISTER(0x60023004)
#define SYSTIMER_LO REGISTER(0x60023044)
#define SYSTIMER(offset) REGISTER(0x60023000 + (offset))
#define MATRIX(offset) REGISTER(0x600C2000 + (offset))

enum { kAir = 4, kDamp = 5, kHorn = 6 };
enum { kDampFrom = 700, kSpoiledFrom = 850 };  // tenths of a per cent

struct air {
    int16_t humidity, celsius;  // tenths
};
static struct air air;
static uint32_t asked;

static void switch_watchdogs_off(void)
{
    REGISTER(0x600080A8) = 0x50D83AA1;
    REGISTER(0x60008090) = 0;
    REGISTER(0x600080B0) = 0x8F1D312A;
    REGISTER(0x600080AC) = 1u << 30;
    REGISTER(0x6001F064) = 0x50D83AA1;
    REGISTER(0x6001F048) = 0;
}

static uint32_t ticks(void)
{
    SYSTIMER_OP = 1u << 30;
    while (!(SYSTIMER_OP & 1u << 29))
        ;
    return SYSTIMER_LO;
}

static void wait_us(uint32_t us)
{
    const uint32_t from = ticks();
    while (ticks() - from < us * 16)
        ;
}

// Sleeps until the first target of the system timer comes; its interrupt wakes the core and is not taken.
static void rest(uint32_t ms)
{
    SYSTIMER(0x34) = 1u << 30 | ms * 16000;
    SYSTIMER(0x50) = 1;
    SYSTIMER(0x00) |= 1u << 24;
    SYSTIMER(0x64) = 1;
    MATRIX(4 * 37) = 1;
    MATRIX(0x118) = 1;
    MATRIX(0x104) = 1u << 1;
    __asm volatile("wfi");
    SYSTIMER(0x00) &= ~(1u << 24);
    SYSTIMER(0x6C) = 1;
}

static void put(char c)
{
    while ((UART0_STATUS >> 16 & 0x3FF) >= 127)
        ;
    UART0_FIFO = (uint8_t)c;
}

static void text(const char *t)
{
    while (*t)
        put(*t++);
}

static void tenths(int32_t n)
{
    if (n < 0) {
        put('-');
        n = -n;
    }
    char digits[12];
    int count = 0;
    for (int32_t whole = n / 10; count == 0 || whole != 0; whole /= 10)
        digits[count++] = (char)('0' + whole % 10);
    while (count > 0)
        put(digits[--count]);
    put('.');
    put((char)('0' + n % 10));
}

static int line(void) { return GPIO(0x3C) >> kAir & 1; }

// How long the line keeps a level, in microseconds; -1 where it does not end.
static int32_t lasts(int level)
{
    const uint32_t from = ticks();
    while (line() == level)
        if (ticks() - from > 200 * 16)
            return -1;
    return (int32_t)((ticks() - from) / 16);
}

// Asks the sensor: low for more than a millisecond, then forty bits, each a high of 26 or 70 microseconds behind a low of 50.
static __attribute__((noinline)) int measure(struct air *into)
{
    uint8_t bytes[5] = {0};
    asked++;
    GPIO(0x24) = 1u << kAir;
    GPIO(0x0C) = 1u << kAir;
    wait_us(1200);
    GPIO(0x28) = 1u << kAir;
    if (lasts(1) < 0 || lasts(0) < 0 || lasts(1) < 0)
        return 0;
    for (int bit = 0; bit < 40; bit++) {
        if (lasts(0) < 0)
            return 0;
        const int32_t high = lasts(1);
        if (high < 0)
            return 0;
        bytes[bit / 8] = (uint8_t)(bytes[bit / 8] << 1 | (high > 48));
    }
    if ((uint8_t)(bytes[0] + bytes[1] + bytes[2] + bytes[3]) != bytes[4])
        return 0;
    into->humidity = (int16_t)(bytes[0] << 8 | bytes[1]);
    const int16_t size = (int16_t)((bytes[2] & 0x7F) << 8 | bytes[3]);
    into->celsius = bytes[2] & 0x80 ? (int16_t)-size : size;
    return 1;
}

static void sound(int on)
{
    LEDC(0x08) = on ? 512u << 4 : 0;
    LEDC(0x00) = 1u << 2 | 1u << 4;
    LEDC(0x0C) = 1u << 31;
}

int main(void)
{
    switch_watchdogs_off();
    IO_MUX(kAir) = 1u << 12 | 2u << 10 | 1u << 9;
    IO_MUX(kDamp) = IO_MUX(kHorn) = 1u << 12 | 2u << 10;
    GPIO(0x24) = 1u << kDamp | 1u << kHorn;
    GPIO(0x554 + 4 * kHorn) = 45;                                       // the first channel of the LED PWM
    LEDC(0xD0) = 1u << 31 | 1;
    LEDC(0xA0) = 1u << 25 | (uint32_t)(20000000ull * 256 / (440 * 1024)) << 4 | 10;
    sound(0);
    text("wool loft\r\n");
    for (;;) {
        rest(2000);
        if (!measure(&air)) {
            text("no answer\r\n");
            continue;
        }
        tenths(air.humidity);
        text(" %, ");
        tenths(air.celsius);
        text(" C");
        GPIO(air.humidity >= kDampFrom ? 0x08 : 0x0C) = 1u << kDamp;
        sound(air.humidity >= kSpoiledFrom);
        text(air.humidity >= kSpoiledFrom ? ", spoils\r\n" : air.humidity >= kDampFrom ? ", damp\r\n" : "\r\n");
    }
}
