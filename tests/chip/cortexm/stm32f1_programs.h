// Programs in C that tests of the peripherals run. Register addresses are those of RM0008.
#pragma once

namespace bramix::test::arm {

// What they all begin with.
inline const char* const kRegisters = R"(
#define REG(a) (*(volatile uint32_t *)(a))
#define RCC_CR REG(0x40021000)
#define RCC_CFGR REG(0x40021004)
#define RCC_APB2ENR REG(0x40021018)
#define RCC_APB1ENR REG(0x4002101C)
#define FLASH_ACR REG(0x40022000)
#define GPIOA_CRL REG(0x40010800)
#define GPIOA_CRH REG(0x40010804)
#define GPIOA_IDR REG(0x40010808)
#define GPIOA_ODR REG(0x4001080C)
#define GPIOA_BSRR REG(0x40010810)
#define AFIO_EXTICR1 REG(0x40010008)
#define EXTI_IMR REG(0x40010400)
#define EXTI_RTSR REG(0x40010408)
#define EXTI_PR REG(0x40010414)
#define NVIC_ISER0 REG(0xE000E100)
#define NVIC_ISER1 REG(0xE000E104)
#define TIM2(r) REG(0x40000000 + (r))
#define TIM3(r) REG(0x40000400 + (r))
#define USART1_SR REG(0x40013800)
#define USART1_DR REG(0x40013804)
#define USART1_BRR REG(0x40013808)
#define USART1_CR1 REG(0x4001380C)
)";

// PA4 goes up and down eight times, by one store after the other.
inline const char* const kToggle = R"(
int main(void)
{
    RCC_APB2ENR = 1 << 2;
    GPIOA_CRL = 0x44434444;
    __asm volatile(".rept 8\nstr %1, [%0]\nstr %2, [%0]\n.endr" ::"r"(0x40010810), "r"(1 << 4), "r"(1 << 20) : "memory");
    return 0;
}
)";

// Without its clock a port takes nothing.
inline const char* const kNoClock = R"(
int main(void)
{
    GPIOA_CRL = 0x44434444;
    GPIOA_ODR = 1 << 4;
    results[0] = GPIOA_CRL;
    RCC_APB2ENR = 1 << 2;
    results[1] = GPIOA_CRL;
    return 0;
}
)";

// 72 MHz out of the crystal's 8, then PA4 once a hundred cycles of the system timer.
inline const char* const kFast = R"(
int main(void)
{
    RCC_CR |= 1 << 16;
    while (!(RCC_CR & 1 << 17))
        ;
    FLASH_ACR = 0x32;
    RCC_CFGR = 7 << 18 | 1 << 16 | 4 << 8;
    RCC_CR |= 1 << 24;
    while (!(RCC_CR & 1 << 25))
        ;
    RCC_CFGR |= 2;
    while ((RCC_CFGR & 12) != 8)
        ;
    RCC_APB2ENR = 1 << 2;
    RCC_APB1ENR = 1;
    GPIOA_CRL = 0x4444444B;
    TIM2(0x2C) = 7199;
    TIM2(0x34) = 1800;
    TIM2(0x18) = 0x60;
    TIM2(0x20) = 1;
    TIM2(0) = 1;
    for (;;)
        ;
}
)";

// USART1 at 9600 bauds sends a word, and echoes what comes, inverted.
inline const char* const kSerial = R"(
void USART1_IRQHandler(void)
{
    if (USART1_SR & 1 << 5)
        USART1_DR = USART1_DR ^ 0xFF;
}
int main(void)
{
    RCC_APB2ENR = 1 << 2 | 1 << 14;
    GPIOA_CRH = 0x444444B4;
    USART1_BRR = 8000000 / 9600;
    USART1_CR1 = 1 << 13 | 1 << 3 | 1 << 2;
    for (const char *s = "Kelp"; *s; s++) {
        while (!(USART1_SR & 1 << 7))
            ;
        USART1_DR = (uint8_t)*s;
    }
    while (!(USART1_SR & 1 << 6))
        ;
    USART1_CR1 |= 1 << 5;
    NVIC_ISER1 = 1 << (37 - 32);
    for (;;)
        __asm volatile("wfi");
}
)";

// Each rising edge of PA0 turns PA4 over, by an interrupt, out of sleep.
inline const char* const kEdges = R"(
void EXTI0_IRQHandler(void)
{
    EXTI_PR = 1;
    GPIOA_ODR ^= 1 << 4;
    results[0]++;
}
int main(void)
{
    RCC_APB2ENR = 1 << 2 | 1;
    GPIOA_CRL = 0x44434444;
    AFIO_EXTICR1 = 0;
    EXTI_RTSR = 1;
    EXTI_IMR = 1;
    results[0] = 0;
    NVIC_ISER0 = 1 << 6;
    for (;;)
        __asm volatile("wfi");
}
)";

// TIM3 divides by 8 and 1000 and interrupts; it also catches PA6's rising edges.
inline const char* const kTimer = R"(
static volatile uint32_t n;
void TIM3_IRQHandler(void)
{
    if (TIM3(0x10) & 1) {
        TIM3(0x10) = ~1u;
        n++;
    }
}
int main(void)
{
    RCC_APB2ENR = 1 << 2;
    RCC_APB1ENR = 1 << 1;
    TIM3(0x28) = 7;
    TIM3(0x2C) = 999;
    TIM3(0x14) = 1;
    TIM3(0x10) = 0;
    TIM3(0x0C) = 1;
    NVIC_ISER0 = 1 << 29;
    TIM3(0) = 1;
    while (n < 20)
        __asm volatile("wfi");
    results[0] = n;
    results[1] = TIM3(0x24);
    return 0;
}
)";

// ADC1 by software: before and after calibration, two channels in a scan, and how long one takes, by the cycle counter.
inline const char* const kAnalog = R"(
#define ADC(o) (*(volatile uint32_t *)(0x40012400 + (o)))
static uint32_t convert(uint32_t channel)
{
    ADC(0x34) = channel;
    ADC(8) = 1 | 7 << 17 | 1 << 20 | 1 << 22;
    while (!(ADC(0) & 2))
        ;
    return ADC(0x4C);
}
int main(void)
{
    RCC_APB2ENR = 1 << 2 | 1 << 9;
    *(volatile uint32_t *)0x40010800 = 0x44444400;   // PA0, PA1 analog
    ADC(8) = 1;
    results[0] = convert(1);
    ADC(8) = 1 | 8;
    while (ADC(8) & 8) ;
    ADC(8) = 1 | 4;
    while (ADC(8) & 4) ;
    results[1] = convert(1);
    results[2] = convert(0);
    ADC(0x10) = 7;                                    // channel 0: 239.5 clocks
    *(volatile uint32_t *)0xE000EDFC = 1 << 24;
    *(volatile uint32_t *)0xE0001000 |= 1;
    const uint32_t from = *(volatile uint32_t *)0xE0001004;
    convert(0);
    results[3] = *(volatile uint32_t *)0xE0001004 - from;
    ADC(8) = 1 | 1 << 23;
    ADC(0x0C) = 7 << 21;
    ADC(8) = 1 | 1 << 23 | 7 << 17 | 1 << 20;
    ADC(0x34) = 17;
    ADC(8) = 1 | 1 << 23 | 7 << 17 | 1 << 20 | 1 << 22;
    while (!(ADC(0) & 2))
        ;
    results[4] = ADC(0x4C);
    return 0;
}
)";

// DMA1: words from flash to memory with the upper halves left out, two channels of ADC1 around and around, and four bytes to USART1, whose end is an interrupt out of sleep.
inline const char* const kDma = R"(
#define ADC(o) REG(0x40012400 + (o))
#define DMA(o) REG(0x40020000 + (o))
#define CHANNEL(n, o) REG(0x40020008 + 20 * ((n) - 1) + (o))
static const uint32_t from[4] = {0x11112222, 0x33334444, 0x55556666, 0x77778888};
static volatile uint16_t narrow[5], samples[2];
static volatile int ended;
static const char line[] = "Oats";
void DMA1_Channel4_IRQHandler(void)
{
    DMA(4) = 1 << 12;
    ended++;
}
int main(void)
{
    REG(0x40021014) |= 1;
    RCC_APB2ENR = 1 << 2 | 1 << 9 | 1 << 14;
    narrow[4] = 0x55AA;
    CHANNEL(2, 4) = 4;
    CHANNEL(2, 8) = (uint32_t)from;
    CHANNEL(2, 12) = (uint32_t)narrow;
    CHANNEL(2, 0) = 1 << 14 | 1 << 10 | 2 << 8 | 1 << 7 | 1 << 6 | 1;
    while (!(DMA(0) & 2 << 4))
        ;
    results[0] = narrow[0] | (uint32_t)narrow[3] << 16;
    results[1] = narrow[4];
    results[2] = DMA(0) >> 4 & 15;
    DMA(4) = 1 << 4;
    results[3] = DMA(0);

    GPIOA_CRL = 0x44444400;
    ADC(8) = 1;
    ADC(8) = 1 | 4;
    while (ADC(8) & 4)
        ;
    ADC(4) = 1 << 8;
    ADC(0x2C) = 1 << 20;
    ADC(0x34) = 0 | 1 << 5;
    CHANNEL(1, 4) = 2;
    CHANNEL(1, 8) = 0x4001244C;
    CHANNEL(1, 12) = (uint32_t)samples;
    CHANNEL(1, 0) = 1 << 10 | 1 << 8 | 1 << 7 | 1 << 5 | 1;
    ADC(8) = 1 | 2 | 1 << 8 | 7 << 17 | 1 << 20;
    ADC(8) = 1 | 2 | 1 << 8 | 7 << 17 | 1 << 20 | 1 << 22;
    for (int i = 0; i < 5; i++) {
        while (!(DMA(0) & 2))
            ;
        DMA(4) = 1;
    }
    results[4] = samples[0];
    results[5] = samples[1];

    GPIOA_CRH = 0x444444B4;
    USART1_BRR = 8000000 / 9600;
    USART1_CR1 = 1 << 13 | 1 << 3;
    REG(0x40013814) = 1 << 7;
    CHANNEL(4, 4) = 4;
    CHANNEL(4, 8) = 0x40013804;
    CHANNEL(4, 12) = (uint32_t)line;
    NVIC_ISER0 = 1 << 14;
    CHANNEL(4, 0) = 1 << 7 | 1 << 4 | 1 << 1 | 1;
    while (!ended)
        __asm volatile("wfi");
    results[6] = CHANNEL(4, 4);
    CHANNEL(3, 4) = 1;
    CHANNEL(3, 8) = 0x70000000;
    CHANNEL(3, 12) = (uint32_t)narrow;
    CHANNEL(3, 0) = 1 << 14 | 1;
    while (!(DMA(0) & 8 << 8))
        ;
    results[7] = CHANNEL(3, 0) & 1;
    while (!(USART1_SR & 1 << 6))
        ;
    return 0;
}
)";

}  // namespace bramix::test::arm
