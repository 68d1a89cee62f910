// The kiln of a hop farm: four heats and none, chosen by a key that is pressed; the fan's lamp glows as strongly as the fan blows. The chip sleeps between the ticks of its timer.
// STM32F103, internal 8 MHz. Registers by their addresses in the reference manual, RM0008.
#include <stdint.h>

#define REG(address) (*(volatile uint32_t *)(address))
#define RCC_APB2ENR REG(0x40021018)
#define RCC_APB1ENR REG(0x4002101C)
#define GPIOA_CRL REG(0x40010800)
#define GPIOA_CRH REG(0x40010804)
#define GPIOB_CRL REG(0x40010C00)
#define GPIOB_CRH REG(0x40010C04)
#define GPIOB_IDR REG(0x40010C08)
#define GPIOB_ODR REG(0x40010C0C)
#define GPIOB_BSRR REG(0x40010C10)
#define AFIO_EXTICR1 REG(0x40010008)
#define EXTI_IMR REG(0x40010400)
#define EXTI_RTSR REG(0x40010408)
#define EXTI_FTSR REG(0x4001040C)
#define EXTI_PR REG(0x40010414)
#define TIM2_CR1 REG(0x40000000)
#define TIM2_CCMR1 REG(0x40000018)
#define TIM2_CCER REG(0x40000020)
#define TIM2_PSC REG(0x40000028)
#define TIM2_ARR REG(0x4000002C)
#define TIM2_CCR2 REG(0x40000038)
#define USART1_SR REG(0x40013800)
#define USART1_DR REG(0x40013804)
#define USART1_BRR REG(0x40013808)
#define USART1_CR1 REG(0x4001380C)
#define NVIC_ISER0 REG(0xE000E100)
#define SYST_CSR REG(0xE000E010)
#define SYST_RVR REG(0xE000E014)
#define SYST_CVR REG(0xE000E018)

enum { HEATS = 4, PERIOD = 1000, SETTLE_MS = 8 };

struct kiln {
    uint8_t heat;      // 0: the fire is out
    uint16_t fan;      // parts of PERIOD
    uint32_t changes;
};

static volatile uint32_t milliseconds;
static volatile uint8_t settle;    // milliseconds until the key is looked at
static volatile uint8_t presses;
static struct kiln kiln;

// The key closes PB0 to ground. Its contacts bounce, when it is let go, too: an edge only starts a wait, at whose end the key is looked at.
void SysTick_Handler(void)
{
    static uint8_t was_down;
    milliseconds++;
    if (settle && --settle == 0) {
        const uint8_t down = !(GPIOB_IDR & 1);
        if (down && !was_down)
            presses++;
        was_down = down;
    }
}

void EXTI0_IRQHandler(void)
{
    EXTI_PR = 1;
    settle = SETTLE_MS;
}

static void say(const char *text)
{
    while (*text) {
        while (!(USART1_SR & 1 << 7))
            ;
        USART1_DR = (uint8_t)*text++;
    }
}

static uint16_t fan_of(uint8_t heat) { return (uint16_t)(heat * heat * PERIOD / (HEATS * HEATS)); }

static void choose(uint8_t heat)
{
    static char text[] = "heat 0 of 4\r\n";
    kiln.heat = heat;
    kiln.fan = fan_of(heat);
    kiln.changes++;
    TIM2_CCR2 = kiln.fan;
    text[5] = (char)('0' + heat);
    say(text);
}

int main(void)
{
    RCC_APB2ENR = 1 << 14 | 1 << 3 | 1 << 2 | 1;  // USART1, ports A and B, AFIO
    RCC_APB1ENR = 1;                              // TIM2
    GPIOA_CRL = 0x444444B4;                       // PA1: the timer's
    GPIOA_CRH = 0x444444B4;                       // PA9: USART1
    GPIOB_CRL = 0x44444448;                       // PB0: pulled
    GPIOB_BSRR = 1;                               // up
    GPIOB_CRH = 0x44434444;                       // PB12: the watchman's lamp
    USART1_BRR = 8000000 / 19200;
    USART1_CR1 = 1 << 13 | 1 << 3;
    TIM2_PSC = 7;
    TIM2_ARR = PERIOD - 1;
    TIM2_CCMR1 = 6 << 12;
    TIM2_CCER = 1 << 4;
    TIM2_CR1 = 1;
    EXTI_RTSR = EXTI_FTSR = 1;
    AFIO_EXTICR1 = 1;
    EXTI_IMR = 1;
    NVIC_ISER0 = 1 << 6;
    SYST_RVR = 7999;
    SYST_CVR = 0;
    SYST_CSR = 7;
    say("Hop kiln\r\n");
    choose(1);
    uint8_t served = presses;
    for (;;) {
        if (served != presses) {
            served++;
            choose((uint8_t)((kiln.heat + 1) % (HEATS + 1)));
        }
        // While the fire burns its lamp blinks as often in two seconds as the heat says.
        const uint32_t turn = kiln.heat ? 1000u / kiln.heat : 0;
        GPIOB_BSRR = turn && milliseconds / turn % 2 ? 1u << 12 : 1u << 28;
        __asm volatile("wfi");
    }
}

// What the chip begins with: the top of the stack, the way in, the handlers.
extern uint32_t data_begin[], data_end[], data_from[], bss_begin[], bss_end[], stack_top[];

static void begin(void)
{
    const uint32_t *from = data_from;
    for (uint32_t *to = data_begin; to < data_end; to++)
        *to = *from++;
    for (uint32_t *to = bss_begin; to < bss_end; to++)
        *to = 0;
    main();
}

static void lost(void)
{
    for (;;)
        ;
}

__attribute__((section(".vectors"), used)) static const void *const vectors[16 + 7] = {
    stack_top, begin, lost, lost, lost, lost, lost, [11] = lost, [14] = lost, [15] = SysTick_Handler, [16 + 6] = EXTI0_IRQHandler,
};
