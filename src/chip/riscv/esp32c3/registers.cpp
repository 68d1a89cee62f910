#include "chip/riscv/esp32c3/registers.h"

#include <string>
#include <vector>

#include <fmt/format.h>

#include "chip/base/register_rows.h"

namespace bramix::chip::riscv {

namespace {

constexpr RegisterRow kGpio[] = {{"OUT", 0x04}, {"ENABLE", 0x20}, {"STRAP", 0x38, 8}, {"IN", 0x3C, 0, "", true}, {"STATUS", 0x44}, {"PCPU_INT", 0x5C}};
constexpr RegisterRow kUart[] = {{"FIFO", 0x00, 0, "", true, true},
                                 {"INT_RAW", 0x04, 0, "14 TX_DONE 8 RXFIFO_TOUT 7 BRK_DET 4 RXFIFO_OVF 3 FRM_ERR 2 PARITY_ERR 1 TXFIFO_EMPTY 0 RXFIFO_FULL", true},
                                 {"INT_ENA", 0x0C, 0, "14 TX_DONE 8 RXFIFO_TOUT 7 BRK_DET 4 RXFIFO_OVF 3 FRM_ERR 2 PARITY_ERR 1 TXFIFO_EMPTY 0 RXFIFO_FULL"},
                                 {"CLKDIV", 0x14, 694, "23-20 CLKDIV_FRAG 11-0 CLKDIV", true},
                                 {"STATUS", 0x1C, 0, "31 TXD 25-16 TXFIFO_CNT 15 RXD 9-0 RXFIFO_CNT", true},
                                 {"CONF0", 0x20, 0x1C, "18 TXFIFO_RST 17 RXFIFO_RST 5-4 STOP_BIT_NUM 3-2 BIT_NUM 1 PARITY_EN 0 PARITY"},
                                 {"CONF1", 0x24, 0xC060, "21 RX_TOUT_EN 17-9 TXFIFO_EMPTY_THRHD 8-0 RXFIFO_FULL_THRHD"},
                                 {"CLK_CONF", 0x78, 0x03701000, "22 SCLK_EN 21-20 SCLK_SEL 19-12 SCLK_DIV_NUM"}};
constexpr RegisterRow kSystemTimer[] = {{"CONF", 0x00, 0x46000000, "31 CLK_EN 30 TIMER_UNIT0_WORK_EN 29 TIMER_UNIT1_WORK_EN 24 TARGET0_WORK_EN 23 TARGET1_WORK_EN 22 TARGET2_WORK_EN"},
                                        {"UNIT0_OP", 0x04, 0, "30 UPDATE 29 VALUE_VALID", true}, {"TARGET0_HI", 0x1C}, {"TARGET0_LO", 0x20}, {"TARGET1_HI", 0x24}, {"TARGET1_LO", 0x28}, {"TARGET2_HI", 0x2C}, {"TARGET2_LO", 0x30},
                                        {"TARGET0_CONF", 0x34, 0, "31 UNIT_SEL 30 PERIOD_MODE 25-0 PERIOD"}, {"TARGET1_CONF", 0x38, 0, "31 UNIT_SEL 30 PERIOD_MODE 25-0 PERIOD"}, {"TARGET2_CONF", 0x3C, 0, "31 UNIT_SEL 30 PERIOD_MODE 25-0 PERIOD"},
                                        {"UNIT0_VALUE_HI", 0x40, 0, "", true}, {"UNIT0_VALUE_LO", 0x44, 0, "", true}, {"INT_ENA", 0x64, 0, "2 TARGET2 1 TARGET1 0 TARGET0"}, {"INT_RAW", 0x68, 0, "2 TARGET2 1 TARGET1 0 TARGET0", true}};
constexpr RegisterRow kGroup[] = {{"T0CONFIG", 0x00, 0x60002000, "31 EN 30 INCREASE 29 AUTORELOAD 28-13 DIVIDER 10 ALARM_EN 9 USE_XTAL"}, {"T0LO", 0x04, 0, "", true}, {"T0HI", 0x08, 0, "", true}, {"T0ALARMLO", 0x10}, {"T0ALARMHI", 0x14},
                                  {"WDTCONFIG0", 0x48, 0x4C000, "31 EN 30-29 STG0 28-27 STG1 26-25 STG2 24-23 STG3 14 FLASHBOOT_MOD_EN"}, {"WDTCONFIG1", 0x4C, 0x10000, "31-16 CLK_PRESCALE"}, {"WDTCONFIG2", 0x50, 26'000'000},
                                  {"WDTWPROTECT", 0x64, 0x50D83AA1}, {"INT_ENA", 0x70, 0, "1 WDT 0 T0"}, {"INT_RAW", 0x74, 0, "1 WDT 0 T0", true}};
constexpr RegisterRow kRtc[] = {{"RESET_STATE", 0x38, 1, "5-0 RESET_CAUSE_PROCPU", true}, {"WDTCONFIG0", 0x90, 0x13214, "31 EN 30-28 STG0 27-25 STG1 24-22 STG2 21-19 STG3 12 FLASHBOOT_MOD_EN"}, {"WDTCONFIG1", 0x94, 200'000},
                                {"WDTWPROTECT", 0xA8, 0x50D83AA1}, {"SWD_CONF", 0xAC, 0x4B00000, "31 SWD_AUTO_FEED_EN 30 SWD_DISABLE 29 SWD_FEED 0 SWD_RESET_FLAG", true}, {"SWD_WPROTECT", 0xB0, 0x8F1D312A}};
constexpr RegisterRow kAdc[] = {{"ONETIME_SAMPLE", 0x20, 0x1A000000, "31 SARADC1_ONETIME_SAMPLE 30 SARADC2_ONETIME_SAMPLE 29 SARADC_ONETIME_START 28-25 ONETIME_CHANNEL 24-23 ONETIME_ATTEN"}, {"1_DATA_STATUS", 0x2C, 0, "16-0 DATA", true},
                                {"INT_ENA", 0x40, 0, "31 ADC1_DONE"}, {"INT_RAW", 0x44, 0, "31 ADC1_DONE", true}};
constexpr RegisterRow kRmt[] = {{"CH0_TX_CONF0", 0x10, 0x710200, "21 CARRIER_EN 18-16 MEM_SIZE 15-8 DIV_CNT 6 IDLE_OUT_EN 5 IDLE_OUT_LV 4 MEM_TX_WRAP_EN 3 TX_CONTI_MODE"},
                                {"CH1_TX_CONF0", 0x14, 0x710200, "21 CARRIER_EN 18-16 MEM_SIZE 15-8 DIV_CNT 6 IDLE_OUT_EN 5 IDLE_OUT_LV 4 MEM_TX_WRAP_EN 3 TX_CONTI_MODE"},
                                {"INT_RAW", 0x38, 0, "9 CH1_TX_THR 8 CH0_TX_THR 5 CH1_TX_ERR 4 CH0_TX_ERR 1 CH1_TX_END 0 CH0_TX_END", true}, {"INT_ENA", 0x40, 0, "9 CH1_TX_THR 8 CH0_TX_THR 5 CH1_TX_ERR 4 CH0_TX_ERR 1 CH1_TX_END 0 CH0_TX_END"},
                                {"SYS_CONF", 0x68, 0x5000010, "31 CLK_EN 26 SCLK_ACTIVE 25-24 SCLK_SEL 23-18 SCLK_DIV_B 17-12 SCLK_DIV_A 11-4 SCLK_DIV_NUM 0 APB_FIFO_MASK"}};
constexpr RegisterRow kSystem[] = {{"CPU_PER_CONF", 0x08, 0xC, "2 PLL_FREQ_SEL 1-0 CPUPERIOD_SEL"}, {"PERIP_CLK_EN0", 0x10, 0xF9C1E06F}, {"PERIP_CLK_EN1", 0x14, 0x200}, {"PERIP_RST_EN0", 0x18}, {"PERIP_RST_EN1", 0x1C, 0x1FE},
                                   {"SYSCLK_CONF", 0x58, 1, "11-10 SOC_CLK_SEL 9-0 PRE_DIV_CNT"}};
constexpr RegisterRow kMatrix[] = {{"GPIO_MAP", 0x40}, {"UART0_MAP", 0x54}, {"UART1_MAP", 0x58}, {"LEDC_MAP", 0x5C}, {"RMT_MAP", 0x70}, {"TG_T0_MAP", 0x80}, {"TG1_T0_MAP", 0x88}, {"SYSTIMER_TARGET0_MAP", 0x94},
                                   {"SYSTIMER_TARGET1_MAP", 0x98}, {"SYSTIMER_TARGET2_MAP", 0x9C}, {"APB_ADC_MAP", 0xAC}, {"CPU_INT_ENABLE", 0x104}, {"CPU_INT_TYPE", 0x108}, {"CPU_INT_EIP_STATUS", 0x110, 0, "", true}, {"CPU_INT_THRESH", 0x194}};

}  // namespace

RegisterMap registerMap()
{
    RegisterMap out;
    out.device = "ESP32-C3";
    auto& all = out.peripherals;
    PeripheralGroup gpio = registerGroup("GPIO", "ports and matrix", 0x60004000, kGpio);
    std::string pads = "21 GPIO21";
    for (int p = 20; p >= 0; --p)
        pads += fmt::format(" {} GPIO{}", p, p);
    std::vector<std::string> names;
    const RegisterRow padRow{"", 0, 0, pads};
    for (PeripheralRegister& reg : gpio.registers)
        if (reg.name != "STRAP")
            reg.fields = registerGroup("", "", 0, std::span(&padRow, 1)).registers.front().fields;
    for (unsigned p = 0; p < 22; ++p) {
        const std::string pin = fmt::format("PIN{}", p), select = fmt::format("FUNC{}_OUT_SEL", p);
        const RegisterRow rows[] = {{pin, 0x74 + 4 * p, 0, "17-13 INT_ENA 9-7 INT_TYPE 2 PAD_DRIVER"}, {select, 0x554 + 4 * p, 128, "10 OEN_INV 9 OEN_SEL 8 INV 7-0 OUT_SEL"}};
        for (PeripheralRegister& reg : registerGroup("", "", gpio.base, rows).registers)
            gpio.registers.push_back(std::move(reg));
    }
    all.push_back(std::move(gpio));
    PeripheralGroup mux;
    for (unsigned p = 0; p < 22; ++p) {
        const std::string name = fmt::format("GPIO{}", p);
        const RegisterRow row{name, 4 + 4 * p, 0, "14-12 MCU_SEL 11-10 FUN_DRV 9 FUN_IE 8 FUN_WPU 7 FUN_WPD", true};
        PeripheralGroup one = registerGroup("IO_MUX", "functions of pads", 0x60009000, std::span(&row, 1));
        if (p == 0)
            mux = std::move(one);
        else
            mux.registers.push_back(std::move(one.registers.front()));
    }
    all.push_back(std::move(mux));
    all.push_back(registerGroup("UART0", "serial port", 0x60000000, kUart));
    all.push_back(registerGroup("UART1", "serial port", 0x60010000, kUart));
    all.push_back(registerGroup("SYSTIMER", "system timer", 0x60023000, kSystemTimer));
    all.push_back(registerGroup("TIMG0", "timer group", 0x6001F000, kGroup));
    all.push_back(registerGroup("TIMG1", "timer group", 0x60020000, kGroup));
    PeripheralGroup ledc;
    for (unsigned c = 0; c < 6; ++c) {
        const std::string conf = fmt::format("CH{}_CONF0", c), hpoint = fmt::format("CH{}_HPOINT", c), duty = fmt::format("CH{}_DUTY", c);
        const RegisterRow rows[] = {{conf, 0x14 * c, 0, "3 IDLE_LV 2 SIG_OUT_EN 1-0 TIMER_SEL"}, {hpoint, 0x14 * c + 4}, {duty, 0x14 * c + 8}};
        PeripheralGroup some = registerGroup("LEDC", "LED PWM", 0x60019000, rows);
        if (c == 0)
            ledc = std::move(some);
        else
            for (PeripheralRegister& reg : some.registers)
                ledc.registers.push_back(std::move(reg));
    }
    for (unsigned t = 0; t < 4; ++t) {
        const std::string conf = fmt::format("TIMER{}_CONF", t), value = fmt::format("TIMER{}_VALUE", t);
        const RegisterRow rows[] = {{conf, 0xA0 + 8 * t, 0x1800000, "24 TICK_SEL 23 RST 22 PAUSE 21-4 CLK_DIV 3-0 DUTY_RES"}, {value, 0xA4 + 8 * t, 0, "", true}};
        for (PeripheralRegister& reg : registerGroup("", "", ledc.base, rows).registers)
            ledc.registers.push_back(std::move(reg));
    }
    all.push_back(std::move(ledc));
    all.push_back(registerGroup("RMT", "remote control transmitter", 0x60016000, kRmt));
    all.push_back(registerGroup("APB_SARADC", "analog to digital converter", 0x60040000, kAdc));
    all.push_back(registerGroup("RTC_CNTL", "always-on controller", 0x60008000, kRtc));
    all.push_back(registerGroup("SYSTEM", "clocks and resets", 0x600C0000, kSystem));
    all.push_back(registerGroup("INTERRUPT_CORE0", "interrupt matrix", 0x600C2000, kMatrix));
    return out;
}

}  // namespace bramix::chip::riscv
