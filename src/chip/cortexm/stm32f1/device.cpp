#include "chip/cortexm/stm32f1/device.h"

#include <elf.h>


#include <fmt/format.h>

#include "chip/cortexm/core/exceptions.h"
#include "chip/cortexm/family.h"
#include "chip/cortexm/stm32f1/registers.h"
#include "chip/base/model_list.h"

namespace bramix::chip::cortexm {

namespace {

constexpr Model kModels[] = {
    {"stm32f103c8", "STM32F103C8", "ARM Cortex-M3, 72 MHz, 64 KB flash, 20 KB RAM, 48 pins", 64U << 10U, 20U << 10U, false},
    {"stm32f103r6", "STM32F103R6", "ARM Cortex-M3, 72 MHz, 32 KB flash, 10 KB RAM, 64 pins", 32U << 10U, 10U << 10U, true},
    {"stm32f103rb", "STM32F103RB", "ARM Cortex-M3, 72 MHz, 128 KB flash, 20 KB RAM, 64 pins", 128U << 10U, 20U << 10U, true},
};

// By pin number from 1 (DS5319 figures 5 and 6, table 5).
constexpr std::string_view kSmall[] = {"VBAT", "PC13", "PC14", "PC15", "PD0", "PD1", "NRST", "VSSA", "VDDA", "PA0", "PA1", "PA2", "PA3", "PA4", "PA5", "PA6", "PA7", "PB0", "PB1", "PB2", "PB10", "PB11", "VSS", "VDD",
                                       "PB12", "PB13", "PB14", "PB15", "PA8", "PA9", "PA10", "PA11", "PA12", "PA13", "VSS2", "VDD2", "PA14", "PA15", "PB3", "PB4", "PB5", "PB6", "PB7", "BOOT0", "PB8", "PB9", "VSS3", "VDD3"};
constexpr std::string_view kLarge[] = {"VBAT", "PC13", "PC14", "PC15", "PD0", "PD1", "NRST", "PC0", "PC1", "PC2", "PC3", "VSSA", "VDDA", "PA0", "PA1", "PA2", "PA3", "VSS4", "VDD4", "PA4", "PA5", "PA6", "PA7", "PC4", "PC5", "PB0",
                                       "PB1", "PB2", "PB10", "PB11", "VSS", "VDD", "PB12", "PB13", "PB14", "PB15", "PC6", "PC7", "PC8", "PC9", "PA8", "PA9", "PA10", "PA11", "PA12", "PA13", "VSS2", "VDD2", "PA14", "PA15",
                                       "PC10", "PC11", "PC12", "PD2", "PB3", "PB4", "PB5", "PB6", "PB7", "BOOT0", "PB8", "PB9", "VSS3", "VDD3"};

// What a pin can be besides a port pin (table 5, default alternate functions).
std::string_view functionsOf(std::string_view pin)
{
    struct Row {
        std::string_view pin, functions;
    };
    static constexpr Row kRows[] = {
        {"PA0", "WKUP USART2_CTS ADC_IN0 TIM2_CH1"}, {"PA1", "USART2_RTS ADC_IN1 TIM2_CH2"}, {"PA2", "USART2_TX ADC_IN2 TIM2_CH3"}, {"PA3", "USART2_RX ADC_IN3 TIM2_CH4"}, {"PA4", "SPI1_NSS ADC_IN4"},
        {"PA5", "SPI1_SCK ADC_IN5"}, {"PA6", "SPI1_MISO ADC_IN6 TIM3_CH1"}, {"PA7", "SPI1_MOSI ADC_IN7 TIM3_CH2"}, {"PA8", "MCO TIM1_CH1"}, {"PA9", "USART1_TX TIM1_CH2"}, {"PA10", "USART1_RX TIM1_CH3"},
        {"PA11", "USBDM CAN_RX TIM1_CH4"}, {"PA12", "USBDP CAN_TX"}, {"PA13", "SWDIO"}, {"PA14", "SWCLK"}, {"PA15", "JTDI"}, {"PB0", "ADC_IN8 TIM3_CH3"}, {"PB1", "ADC_IN9 TIM3_CH4"}, {"PB2", "BOOT1"}, {"PB3", "JTDO"},
        {"PB4", "NJTRST"}, {"PB6", "I2C1_SCL TIM4_CH1"}, {"PB7", "I2C1_SDA TIM4_CH2"}, {"PB8", "TIM4_CH3"}, {"PB9", "TIM4_CH4"}, {"PB10", "I2C2_SCL USART3_TX"}, {"PB11", "I2C2_SDA USART3_RX"}, {"PB12", "SPI2_NSS"},
        {"PB13", "SPI2_SCK"}, {"PB14", "SPI2_MISO"}, {"PB15", "SPI2_MOSI"}, {"PC0", "ADC_IN10"}, {"PC1", "ADC_IN11"}, {"PC2", "ADC_IN12"}, {"PC3", "ADC_IN13"}, {"PC4", "ADC_IN14"}, {"PC5", "ADC_IN15"}, {"PC13", "TAMPER"},
        {"PC14", "OSC32_IN"}, {"PC15", "OSC32_OUT"}, {"PD0", "OSC_IN"}, {"PD1", "OSC_OUT"}, {"NRST", "reset"}, {"BOOT0", "boot mode"}};
    if (pin.starts_with("VDD") || pin == "VBAT")
        return pin == "VDDA" ? "analog supply" : "supply";
    if (pin.starts_with("VSS"))
        return "ground";
    for (const Row& row : kRows)
        if (row.pin == pin)
            return row.functions;
    return "";
}

constexpr std::string_view kInterruptNames[kInterrupts] = {
    "WWDG", "PVD", "TAMPER", "RTC", "FLASH", "RCC", "EXTI0", "EXTI1", "EXTI2", "EXTI3", "EXTI4", "DMA1_Channel1", "DMA1_Channel2", "DMA1_Channel3", "DMA1_Channel4", "DMA1_Channel5", "DMA1_Channel6", "DMA1_Channel7", "ADC1_2",
    "USB_HP_CAN1_TX", "USB_LP_CAN1_RX0", "CAN1_RX1", "CAN1_SCE", "EXTI9_5", "TIM1_BRK", "TIM1_UP", "TIM1_TRG_COM", "TIM1_CC", "TIM2", "TIM3", "TIM4", "I2C1_EV", "I2C1_ER", "I2C2_EV", "I2C2_ER", "SPI1", "SPI2", "USART1", "USART2",
    "USART3", "EXTI15_10", "RTCAlarm", "USBWakeUp"};

Device make(const Model& m)
{
    Device d;
    d.family = "cortexm";
    d.behaviour = &family();
    d.id = m.id;
    d.title = m.title;
    d.about = m.about;
    d.debuggerArchitecture = "arm";
    d.spaces = {{"memory", "Memory"}};
    d.regions = {{"flash", 0, RegionKind::flash, kFlashBase, m.flashBytes, 1024, kFlashBase}, {"SRAM", 0, RegionKind::ram, kRamBase, m.ramBytes, 0, kRamBase}};
    for (int r = 0; r < 13; ++r)
        d.coreRegisters.push_back({fmt::format("r{}", r), 32, CoreRole::general, r, r});
    d.coreRegisters.push_back({"sp", 32, CoreRole::stackPointer, 13, 13});
    d.coreRegisters.push_back({"lr", 32, CoreRole::link, 14, 14});
    d.coreRegisters.push_back({"pc", 32, CoreRole::programCounter, 15, 15});
    d.coreRegisters.push_back({"xpsr", 32, CoreRole::status, -1, 25, "NZCVQ"});
    int number = 26;
    for (const char* name : {"msp", "psp", "primask", "basepri", "faultmask", "control"})
        d.coreRegisters.push_back({name, 32, CoreRole::general, -1, number++});
    static constexpr std::pair<unsigned, const char*> kCore[] = {{kReset, "Reset"}, {kNmi, "NMI"}, {kHardFault, "HardFault"}, {kMemManage, "MemManage"}, {kBusFault, "BusFault"}, {kUsageFault, "UsageFault"},
                                                                 {kSvCall, "SVC"}, {kDebugMonitor, "DebugMon"}, {kPendSv, "PendSV"}, {kSysTick, "SysTick"}};
    for (unsigned n = 0; n < kFirstInterrupt + kInterrupts; ++n) {
        std::string name = n >= kFirstInterrupt ? std::string(kInterruptNames[n - kFirstInterrupt]) : fmt::format("Reserved{}", n);
        for (const auto& [core, title] : kCore)
            if (core == n)
                name = title;
        const std::string handler = name + (n == kReset || (n < kFirstInterrupt && n != kSysTick) ? "_Handler" : n == kSysTick ? "_Handler" : "_IRQHandler");
        d.exceptions.push_back({n, name, handler, kFlashBase + 4 * n});
    }
    d.ramBegin = kRamBase;
    d.ramEnd = kRamBase + m.ramBytes - 1;
    d.makeRegisters = [](const Device&) { return registerMap(); };
    d.codeBegin = kFlashBase;
    d.codeEnd = kFlashBase + m.flashBytes;
    d.codeStep = 2;
    d.longestInstruction = 4;
    d.storeBytes = 4;
    d.codePointerBit = 1;  // Thumb
    d.image = {EM_ARM, "ARM", "arm-none-eabi-gcc", {{kFlashBase, std::uint64_t{kFlashBase} + m.flashBytes, ImageMap::Range::Into::program}, {0, m.flashBytes, ImageMap::Range::Into::program}},
               fmt::format("flash (0x{:08x} to 0x{:08x})", kFlashBase, kFlashBase + m.flashBytes - 1), m.flashBytes, 0, 0};
    d.compilerOption = "-mcpu=cortex-m3 -mthumb";
    unsigned at = 0;
    for (const std::string_view name : m.largePackage ? std::span<const std::string_view>(kLarge) : std::span<const std::string_view>(kSmall))
        d.package.push_back({++at, std::string(name), std::string(functionsOf(name))});
    d.usualHz = 8'000'000;
    d.highestVolts = 3.6;
    d.supply = {"VDD", "VSS", 4.0, 3.3};
    d.crystal = ClockInput{"OSC_IN", "OSC_OUT"};
    d.resetInput = ResetInput{"NRST", 40'000, 0.25, 0.6};
    d.leastPullUpOhms = 30e3;
    d.mostPullUpOhms = 50e3;
    return d;
}

const ModelList<Model>& all()
{
    static const ModelList<Model> list(kModels, make);
    return list;
}

}  // namespace

std::span<const Device* const> devices() { return all().devices(); }

const Device& deviceOf(const Model& model) { return all().deviceOf(model); }

const Model& modelOf(const Device& device) { return all().modelOf(device); }

}  // namespace bramix::chip::cortexm
