// @name@, on a Sloe 926. A timer beats once a second, and the serial line tells how often; a key that is typed comes back, both by interrupt.
#include <stdint.h>

#define REGISTER(address) (*(volatile uint32_t *)(address))
#define UART0_DR REGISTER(0x101F1000)
#define UART0_FR REGISTER(0x101F1018)
#define UART0_IMSC REGISTER(0x101F1038)
#define UART0_ICR REGISTER(0x101F1044)
#define VIC_IRQSTATUS REGISTER(0x10140000)
#define VIC_INTENABLE REGISTER(0x10140010)
#define TIMER_LOAD REGISTER(0x101E2000)
#define TIMER_CONTROL REGISTER(0x101E2008)
#define TIMER_INTCLR REGISTER(0x101E200C)

enum { kTimerSource = 4, kUartSource = 12 };
static volatile uint32_t beats, typed;

void irq_handler(void)
{
    if (VIC_IRQSTATUS & 1u << kTimerSource) {
        TIMER_INTCLR = 1;
        beats++;
    }
    if (VIC_IRQSTATUS & 1u << kUartSource) {
        while (!(UART0_FR & 0x10))
            typed = UART0_DR;
        UART0_ICR = 0x10;
    }
}

static void put(char c)
{
    while (UART0_FR & 0x20)
        ;
    UART0_DR = (uint8_t)c;
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
    TIMER_LOAD = 24000000 - 1;          // a second of 24 MHz
    TIMER_CONTROL = 0x80 | 0x40 | 0x20 | 2;
    UART0_IMSC = 0x10;
    VIC_INTENABLE = 1u << kTimerSource | 1u << kUartSource;

    text("@name@\r\n");
    uint32_t told = 0;
    for (;;) {
        __asm volatile("mcr p15, 0, %0, c7, c0, 4" : : "r"(0));   // wait for an interrupt
        if (told != beats) {
            told = beats;
            text("beat ");
            number(told);
            text("\r\n");
        }
        if (typed != 0) {
            text("got ");
            put((char)typed);
            text("\r\n");
            typed = 0;
        }
    }
}
