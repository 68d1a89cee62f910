// @name@, on a Rowan C3. The lamp on GPIO8 beats, and the serial line tells how often; a key that is typed comes back.
#include <stdint.h>

#define REGISTER(address) (*(volatile uint32_t *)(address))
#define GPIO_OUT_W1TS REGISTER(0x60004008)
#define GPIO_OUT_W1TC REGISTER(0x6000400C)
#define GPIO_ENABLE_W1TS REGISTER(0x60004024)
#define IO_MUX_GPIO8 REGISTER(0x60009024)
#define UART0_FIFO REGISTER(0x60000000)
#define UART0_STATUS REGISTER(0x6000001C)
#define SYSTIMER_UNIT0_OP REGISTER(0x60023004)
#define SYSTIMER_UNIT0_VALUE_LO REGISTER(0x60023044)

enum { kLamp = 8 };

// Three watchdogs run from reset.
static void switch_watchdogs_off(void)
{
    REGISTER(0x600080A8) = 0x50D83AA1;  // RTC_CNTL_WDTWPROTECT
    REGISTER(0x60008090) = 0;           // RTC_CNTL_WDTCONFIG0
    REGISTER(0x600080B0) = 0x8F1D312A;  // RTC_CNTL_SWD_WPROTECT
    REGISTER(0x600080AC) = 1u << 30;    // RTC_CNTL_SWD_CONF: disable
    REGISTER(0x6001F064) = 0x50D83AA1;  // TIMG0_WDTWPROTECT
    REGISTER(0x6001F048) = 0;           // TIMG0_WDTCONFIG0
}

// Sixteen ticks are a microsecond.
static uint32_t ticks(void)
{
    SYSTIMER_UNIT0_OP = 1u << 30;
    while (!(SYSTIMER_UNIT0_OP & 1u << 29))
        ;
    return SYSTIMER_UNIT0_VALUE_LO;
}

static void wait(uint32_t ms)
{
    const uint32_t from = ticks();
    while (ticks() - from < ms * 16000)
        ;
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

static void number(uint32_t n)
{
    if (n > 9)
        number(n / 10);
    put((char)('0' + n % 10));
}

int main(void)
{
    switch_watchdogs_off();
    IO_MUX_GPIO8 = 1u << 12 | 2u << 10;
    GPIO_ENABLE_W1TS = 1u << kLamp;

    text("@name@\r\n");
    for (uint32_t beats = 1;; beats++) {
        GPIO_OUT_W1TS = 1u << kLamp;
        wait(60);
        GPIO_OUT_W1TC = 1u << kLamp;
        wait(940);
        text("beat ");
        number(beats);
        text("\r\n");
        if ((UART0_STATUS & 0x3FF) != 0) {
            text("got ");
            put((char)UART0_FIFO);
            text("\r\n");
        }
    }
}
