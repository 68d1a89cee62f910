// Heron post: counts herons by the hour, tells the wind, and answers what is typed. Everything comes by interrupt.
#include <stdint.h>

#define REGISTER(address) (*(volatile uint32_t *)(address))
#define UART0(offset) REGISTER(0x101F1000 + (offset))
#define VIC(offset) REGISTER(0x10140000 + (offset))
#define TIMER(offset) REGISTER(0x101E2000 + (offset))

enum { kTimerSource = 4, kUartSource = 12, kHours = 24, kTicksAnHour = 20 };

struct post {
    uint32_t ticks, herons, hour;
    uint16_t byHour[kHours];
    uint8_t wind;
};
volatile struct post post;
static volatile uint8_t typed[16];
static volatile uint32_t typedIn, typedOut;

// The timer has come to nothing: a tenth of a second.
static __attribute__((noinline)) void ticked(void)
{
    TIMER(0x0C) = 1;
    post.ticks++;
    post.wind = (uint8_t)(post.wind * 5 + 3) % 41;
    if (post.ticks % kTicksAnHour == 0)
        post.hour = (post.hour + 1) % kHours;
}

// A letter has come.
static __attribute__((noinline)) void received(void)
{
    while (!(UART0(0x18) & 0x10))
        typed[typedIn++ % sizeof typed] = (uint8_t)UART0(0x00);
    UART0(0x44) = 0x10;
}

void irq_handler(void)
{
    const uint32_t asked = VIC(0x00);
    if (asked & 1u << kTimerSource)
        ticked();
    if (asked & 1u << kUartSource)
        received();
}

static void put(char c)
{
    while (UART0(0x18) & 0x20)
        ;
    UART0(0x00) = (uint8_t)c;
}

static void text(const char *t)
{
    while (*t)
        put(*t++);
}

static void number(uint32_t n)
{
    if (n > 9)
        number(n / 10);
    put((char)('0' + n % 10));
}

static void answer(uint8_t letter)
{
    switch (letter) {
    case 'h':
        post.herons++;
        post.byHour[post.hour]++;
        text("heron ");
        number(post.herons);
        text(" in hour ");
        number(post.hour);
        break;
    case 'w':
        text("wind ");
        number(post.wind);
        text(" knots");
        break;
    case 'l':
        for (uint32_t h = 0; h < kHours; h++)
            if (post.byHour[h] != 0) {
                number(h);
                put(':');
                number(post.byHour[h]);
                put(' ');
            }
        text("all");
        break;
    default: text("h, w or l"); break;
    }
    text("\r\n");
}

int main(void)
{
    post.wind = 12;
    TIMER(0x00) = 2400000 - 1;  // a tenth of a second of 24 MHz
    TIMER(0x08) = 0x80 | 0x40 | 0x20 | 2;
    UART0(0x38) = 0x10;
    VIC(0x10) = 1u << kTimerSource | 1u << kUartSource;
    text("heron post\r\n");
    for (;;) {
        __asm volatile("mcr p15, 0, %0, c7, c0, 4" : : "r"(0));  // until something comes
        while (typedOut != typedIn)
            answer(typed[typedOut++ % sizeof typed]);
    }
}
