#include "chip/cortexm/stm32f1/registers.h"

#include <span>
#include <string>

#include <fmt/format.h>

#include "chip/base/register_rows.h"

namespace bramix::chip::cortexm {

namespace {

// RM0008 9.2, 7.3, 10.3, 27.6, 15.4; PM0056 4.4, 4.5.
constexpr RegisterRow kGpio[] = {{"CRL", 0x00, 0x44444444, ""}, {"CRH", 0x04, 0x44444444, ""}, {"IDR", 0x08, 0, "15 P15 14 P14 13 P13 12 P12 11 P11 10 P10 9 P9 8 P8 7 P7 6 P6 5 P5 4 P4 3 P3 2 P2 1 P1 0 P0", true},
                                 {"ODR", 0x0C, 0, "15 P15 14 P14 13 P13 12 P12 11 P11 10 P10 9 P9 8 P8 7 P7 6 P6 5 P5 4 P4 3 P3 2 P2 1 P1 0 P0"}, {"LCKR", 0x18, 0, ""}};
constexpr RegisterRow kRcc[] = {{"CR", 0x00, 0x83, "25 PLLRDY 24 PLLON 19 CSSON 18 HSEBYP 17 HSERDY 16 HSEON 15-8 HSICAL 7-3 HSITRIM 1 HSIRDY 0 HSION"},
                        {"CFGR", 0x04, 0, "26-24 MCO 22 USBPRE 21-18 PLLMUL 17 PLLXTPRE 16 PLLSRC 15-14 ADCPRE 13-11 PPRE2 10-8 PPRE1 7-4 HPRE 3-2 SWS 1-0 SW"}, {"CIR", 0x08, 0, ""}, {"APB2RSTR", 0x0C, 0, ""}, {"APB1RSTR", 0x10, 0, ""},
                        {"AHBENR", 0x14, 0x14, "6 CRCEN 4 FLITFEN 2 SRAMEN 0 DMA1EN"}, {"APB2ENR", 0x18, 0, "14 USART1EN 12 SPI1EN 11 TIM1EN 10 ADC2EN 9 ADC1EN 5 IOPDEN 4 IOPCEN 3 IOPBEN 2 IOPAEN 0 AFIOEN"},
                        {"APB1ENR", 0x1C, 0, "28 PWREN 22 I2C2EN 21 I2C1EN 18 USART3EN 17 USART2EN 14 SPI2EN 11 WWDGEN 2 TIM4EN 1 TIM3EN 0 TIM2EN"}, {"BDCR", 0x20, 0, ""}, {"CSR", 0x24, 0x0C000000, ""}};
constexpr RegisterRow kUsart[] = {{"SR", 0x00, 0xC0, "9 CTS 8 LBD 7 TXE 6 TC 5 RXNE 4 IDLE 3 ORE 2 NE 1 FE 0 PE"}, {"DR", 0x04, 0, ""}, {"BRR", 0x08, 0, ""},
                          {"CR1", 0x0C, 0, "13 UE 12 M 11 WAKE 10 PCE 9 PS 8 PEIE 7 TXEIE 6 TCIE 5 RXNEIE 4 IDLEIE 3 TE 2 RE 1 RWU 0 SBK"}, {"CR2", 0x10, 0, "13-12 STOP"}, {"CR3", 0x14, 0, "7 DMAT 6 DMAR 0 EIE"}, {"GTPR", 0x18, 0, ""}};
constexpr RegisterRow kTimer[] = {{"CR1", 0x00, 0, "9-8 CKD 7 ARPE 6-5 CMS 4 DIR 3 OPM 2 URS 1 UDIS 0 CEN"}, {"CR2", 0x04, 0, ""}, {"SMCR", 0x08, 0, ""}, {"DIER", 0x0C, 0, "4 CC4IE 3 CC3IE 2 CC2IE 1 CC1IE 0 UIE"},
                          {"SR", 0x10, 0, "4 CC4IF 3 CC3IF 2 CC2IF 1 CC1IF 0 UIF"}, {"CCMR1", 0x18, 0, "14-12 OC2M 11 OC2PE 9-8 CC2S 6-4 OC1M 3 OC1PE 1-0 CC1S"}, {"CCMR2", 0x1C, 0, "14-12 OC4M 11 OC4PE 9-8 CC4S 6-4 OC3M 3 OC3PE 1-0 CC3S"},
                          {"CCER", 0x20, 0, "13 CC4P 12 CC4E 9 CC3P 8 CC3E 5 CC2P 4 CC2E 1 CC1P 0 CC1E"}, {"CNT", 0x24, 0, "", true}, {"PSC", 0x28, 0, ""}, {"ARR", 0x2C, 0xFFFF, ""}, {"CCR1", 0x34, 0, ""}, {"CCR2", 0x38, 0, ""}, {"CCR3", 0x3C, 0, ""}, {"CCR4", 0x40, 0, ""}};
constexpr RegisterRow kAdc[] = {{"SR", 0x00, 0, "4 STRT 3 JSTRT 2 JEOC 1 EOC 0 AWD"}, {"CR1", 0x04, 0, "8 SCAN 5 EOCIE"}, {"CR2", 0x08, 0, "23 TSVREFE 22 SWSTART 20 EXTTRIG 19-17 EXTSEL 11 ALIGN 8 DMA 3 RSTCAL 2 CAL 1 CONT 0 ADON"}, {"SMPR1", 0x0C, 0, ""}, {"SMPR2", 0x10, 0, ""},
                        {"SQR1", 0x2C, 0, "23-20 L"}, {"SQR2", 0x30, 0, ""}, {"SQR3", 0x34, 0, ""}, {"DR", 0x4C, 0, "15-0 DATA"}};
// Of channel 1; the others follow 20 bytes apart.
constexpr RegisterRow kDmaChannel[] = {{"CCR", 0x08, 0, "14 MEM2MEM 13-12 PL 11-10 MSIZE 9-8 PSIZE 7 MINC 6 PINC 5 CIRC 4 DIR 3 TEIE 2 HTIE 1 TCIE 0 EN"}, {"CNDTR", 0x0C, 0, "15-0 NDT"}, {"CPAR", 0x10, 0, ""}, {"CMAR", 0x14, 0, ""}};
constexpr RegisterRow kDma[] = {{"ISR", 0x00, 0, "27 TEIF7 26 HTIF7 25 TCIF7 24 GIF7 23 TEIF6 22 HTIF6 21 TCIF6 20 GIF6 19 TEIF5 18 HTIF5 17 TCIF5 16 GIF5 15 TEIF4 14 HTIF4 13 TCIF4 12 GIF4 11 TEIF3 10 HTIF3 9 TCIF3 8 GIF3 7 TEIF2 6 HTIF2 5 TCIF2 4 GIF2 3 TEIF1 2 HTIF1 1 TCIF1 0 GIF1"}};
constexpr RegisterRow kAfio[] = {{"EVCR", 0x00, 0, ""}, {"MAPR", 0x04, 0, ""}, {"EXTICR1", 0x08, 0, "15-12 EXTI3 11-8 EXTI2 7-4 EXTI1 3-0 EXTI0"}, {"EXTICR2", 0x0C, 0, ""}, {"EXTICR3", 0x10, 0, ""}, {"EXTICR4", 0x14, 0, ""}};
constexpr RegisterRow kExti[] = {{"IMR", 0x00, 0, ""}, {"EMR", 0x04, 0, ""}, {"RTSR", 0x08, 0, ""}, {"FTSR", 0x0C, 0, ""}, {"SWIER", 0x10, 0, ""}, {"PR", 0x14, 0, ""}};
constexpr RegisterRow kSysTick[] = {{"CTRL", 0x10, 0, "16 COUNTFLAG 2 CLKSOURCE 1 TICKINT 0 ENABLE"}, {"LOAD", 0x14, 0, ""}, {"VAL", 0x18, 0, "", true}};
constexpr RegisterRow kScb[] = {{"ICSR", 0xD04, 0x800, "31 NMIPENDSET 28 PENDSVSET 26 PENDSTSET 22 ISRPENDING 20-12 VECTPENDING 11 RETTOBASE 8-0 VECTACTIVE", true}, {"VTOR", 0xD08, 0, ""}, {"AIRCR", 0xD0C, 0xFA050000, "10-8 PRIGROUP"},
                        {"SCR", 0xD10, 0, "4 SEVONPEND 2 SLEEPDEEP 1 SLEEPONEXIT"}, {"CCR", 0xD14, 0x200, "9 STKALIGN 8 BFHFNMIGN 4 DIV_0_TRP 3 UNALIGN_TRP 1 USERSETMPEND 0 NONBASETHRDENA"},
                        {"CFSR", 0xD28, 0, "25 DIVBYZERO 24 UNALIGNED 19 NOCP 18 INVPC 17 INVSTATE 16 UNDEFINSTR 15 BFARVALID 12 STKERR 11 UNSTKERR 9 PRECISERR 8 IBUSERR 7 MMARVALID 1 DACCVIOL 0 IACCVIOL"},
                        {"HFSR", 0xD2C, 0, "30 FORCED 1 VECTTBL"}, {"MMFAR", 0xD34, 0, ""}, {"BFAR", 0xD38, 0, ""}};

PeripheralGroup groupOf(std::string name, std::uint32_t base, std::span<const RegisterRow> rows) { return registerGroup(std::move(name), "", base, rows); }

}  // namespace

RegisterMap registerMap()
{
    RegisterMap out;
    out.device = "STM32F103";
    auto& all = out.peripherals;
    for (unsigned p = 0; p < 4; ++p)
        all.push_back(groupOf(fmt::format("GPIO{}", static_cast<char>('A' + p)), 0x40010800 + 0x400 * p, kGpio));
    for (unsigned t = 2; t <= 4; ++t)
        all.push_back(groupOf(fmt::format("TIM{}", t), 0x40000000 + 0x400 * (t - 2), kTimer));
    all.push_back(groupOf("USART1", 0x40013800, kUsart));
    all.push_back(groupOf("USART2", 0x40004400, kUsart));
    all.push_back(groupOf("USART3", 0x40004800, kUsart));
    all.push_back(groupOf("ADC1", 0x40012400, kAdc));
    PeripheralGroup dma = groupOf("DMA1", 0x40020000, kDma);
    for (unsigned c = 0; c < 7; ++c)
        for (PeripheralRegister& reg : groupOf("", 0x40020000 + 20 * c, kDmaChannel).registers) {
            reg.name += std::to_string(c + 1);
            dma.registers.push_back(std::move(reg));
        }
    all.push_back(std::move(dma));
    all.push_back(groupOf("EXTI", 0x40010400, kExti));
    all.push_back(groupOf("AFIO", 0x40010000, kAfio));
    all.push_back(groupOf("RCC", 0x40021000, kRcc));
    all.push_back(groupOf("SysTick", 0xE000E000, kSysTick));
    all.push_back(groupOf("SCB", 0xE000E000, kScb));
    return out;
}

}  // namespace bramix::chip::cortexm
