// Where the program begins: the vector table, and what must be done before main().
#include <stdint.h>

extern uint32_t data_begin[], data_end[], data_from[], bss_begin[], bss_end[], stack_top[];
int main(void);

void Default_Handler(void)
{
    for (;;)
        ;
}

void Reset_Handler(void)
{
    for (uint32_t *to = data_begin, *from = data_from; to < data_end;)
        *to++ = *from++;
    for (uint32_t *to = bss_begin; to < bss_end;)
        *to++ = 0;
    main();
    Default_Handler();
}

#define HANDLER(name) void name(void) __attribute__((weak, alias("Default_Handler")))
HANDLER(NMI_Handler);
HANDLER(HardFault_Handler);
HANDLER(MemManage_Handler);
HANDLER(BusFault_Handler);
HANDLER(UsageFault_Handler);
HANDLER(SVC_Handler);
HANDLER(PendSV_Handler);
HANDLER(SysTick_Handler);
HANDLER(EXTI0_IRQHandler);
HANDLER(TIM2_IRQHandler);
HANDLER(TIM3_IRQHandler);
HANDLER(TIM4_IRQHandler);
HANDLER(USART1_IRQHandler);
HANDLER(USART2_IRQHandler);
HANDLER(USART3_IRQHandler);

__attribute__((section(".vectors"), used)) static void *const vectors[16 + 43] = {
    stack_top,         Reset_Handler,      NMI_Handler, HardFault_Handler,
    MemManage_Handler, BusFault_Handler,   UsageFault_Handler,
    [11] = SVC_Handler, [14] = PendSV_Handler, [15] = SysTick_Handler,
    [16 + 6] = EXTI0_IRQHandler,   [16 + 28] = TIM2_IRQHandler,   [16 + 29] = TIM3_IRQHandler,   [16 + 30] = TIM4_IRQHandler,
    [16 + 37] = USART1_IRQHandler, [16 + 38] = USART2_IRQHandler, [16 + 39] = USART3_IRQHandler,
};
