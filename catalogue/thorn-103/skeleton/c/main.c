// @name@, on a Thorn 103. The lamp on PB12 beats, and the serial line tells how often; a key that is typed comes back.
#include <stdint.h>

#define REGISTER(address) (*(volatile uint32_t *)(address))
#define RCC_CR REGISTER(0x40021000)
#define RCC_CFGR REGISTER(0x40021004)
#define RCC_APB2ENR REGISTER(0x40021018)
#define FLASH_ACR REGISTER(0x40022000)
#define GPIOA_CRH REGISTER(0x40010804)
#define GPIOB_CRH REGISTER(0x40010C04)
#define GPIOB_BSRR REGISTER(0x40010C10)
#define USART1_SR REGISTER(0x40013800)
#define USART1_DR REGISTER(0x40013804)
#define USART1_BRR REGISTER(0x40013808)
#define USART1_CR1 REGISTER(0x4001380C)
#define SYST_CSR REGISTER(0xE000E010)
#define SYST_RVR REGISTER(0xE000E014)

enum { kLamp = 12 };
static volatile uint32_t milliseconds;

void SysTick_Handler(void) { milliseconds++; }

// 72 MHz out of the 8 MHz crystal: PLL by 9, APB1 at half, two wait states of flash.
static void set_clock(void)
{
    RCC_CR |= 1u << 16;
    while (!(RCC_CR & 1u << 17))
        ;
    FLASH_ACR = 0x12;
    RCC_CFGR = 7u << 18 | 1u << 16 | 4u << 8;
    RCC_CR |= 1u << 24;
    while (!(RCC_CR & 1u << 25))
        ;
    RCC_CFGR |= 2;
    while ((RCC_CFGR & 0xC) != 8)
        ;
}

static void put(char c)
{
    while (!(USART1_SR & 1u << 7))
        ;
    USART1_DR = (uint8_t)c;
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

static void wait(uint32_t ms)
{
    const uint32_t from = milliseconds;
    while (milliseconds - from < ms)
        __asm volatile("wfi");
}

int main(void)
{
    set_clock();
    RCC_APB2ENR |= 1u << 14 | 1u << 3 | 1u << 2;
    GPIOA_CRH = (GPIOA_CRH & ~0xFF0u) | 0x4B0;        // PA9 transmits, PA10 receives
    GPIOB_CRH = (GPIOB_CRH & ~0xF0000u) | 0x20000;    // PB12 is an output
    USART1_BRR = 72000000 / 115200;
    USART1_CR1 = 1u << 13 | 1u << 3 | 1u << 2;
    SYST_RVR = 72000 - 1;
    SYST_CSR = 7;

    text("@name@\r\n");
    for (uint32_t beats = 1;; beats++) {
        GPIOB_BSRR = 1u << kLamp;
        wait(60);
        GPIOB_BSRR = 1u << (kLamp + 16);
        wait(940);
        text("beat ");
        number(beats);
        text("\r\n");
        if (USART1_SR & 1u << 5) {
            text("got ");
            put((char)USART1_DR);
            text("\r\n");
        }
    }
}
