#include "chip/arm9/arm926/device.h"

#include <elf.h>
#include <fmt/format.h>

#include "chip/arm9/core/cpu.h"
#include "chip/arm9/family.h"
#include "chip/base/register_rows.h"

namespace bramix::chip::arm9 {

namespace {

constexpr BankedRegister kBanked[] = {{"sp_usr", kUser, 13}, {"lr_usr", kUser, 14}, {"sp_svc", kSupervisor, 13}, {"lr_svc", kSupervisor, 14}, {"spsr_svc", kSupervisor, 16}, {"sp_irq", kIrq, 13}, {"lr_irq", kIrq, 14},
                                      {"spsr_irq", kIrq, 16}, {"sp_fiq", kFiq, 13}, {"lr_fiq", kFiq, 14}, {"spsr_fiq", kFiq, 16}, {"sp_abt", kAbort, 13}, {"lr_abt", kAbort, 14}, {"spsr_abt", kAbort, 16},
                                      {"sp_und", kUndefined, 13}, {"lr_und", kUndefined, 14}, {"spsr_und", kUndefined, 16}, {"r8_fiq", kFiq, 8}, {"r9_fiq", kFiq, 9}, {"r10_fiq", kFiq, 10}, {"r11_fiq", kFiq, 11}, {"r12_fiq", kFiq, 12}};

RegisterMap registerMap(const Device&)
{
    static constexpr RegisterRow kUart[] = {{"DR", 0x00, 0, "11 OE 10 BE 9 PE 8 FE 7-0 DATA", true, true}, {"RSR", 0x04, 0, "3 OE 2 BE 1 PE 0 FE", true}, {"FR", 0x18, 0x90, "7 TXFE 6 RXFF 5 TXFF 4 RXFE 3 BUSY", true}, {"IBRD", 0x24},
                                            {"FBRD", 0x28}, {"LCR_H", 0x2C, 0, "6-5 WLEN 4 FEN 3 STP2 2 EPS 1 PEN 0 BRK"}, {"CR", 0x30, 0x300, "9 RXE 8 TXE 0 UARTEN"}, {"IFLS", 0x34, 0x12, "5-3 RXIFLSEL 2-0 TXIFLSEL"},
                                            {"IMSC", 0x38, 0, "10 OEIM 9 BEIM 8 PEIM 7 FEIM 6 RTIM 5 TXIM 4 RXIM"}, {"RIS", 0x3C, 0, "10 OERIS 9 BERIS 8 PERIS 7 FERIS 6 RTRIS 5 TXRIS 4 RXRIS", true}};
    static constexpr RegisterRow kController[] = {{"IRQSTATUS", 0x00, 0, "14 UART2 13 UART1 12 UART0 5 TIMER23 4 TIMER01", true}, {"FIQSTATUS", 0x04, 0, "14 UART2 13 UART1 12 UART0 5 TIMER23 4 TIMER01", true},
                                                  {"RAWINTR", 0x08, 0, "14 UART2 13 UART1 12 UART0 5 TIMER23 4 TIMER01", true}, {"INTSELECT", 0x0C, 0, "14 UART2 13 UART1 12 UART0 5 TIMER23 4 TIMER01"},
                                                  {"INTENABLE", 0x10, 0, "14 UART2 13 UART1 12 UART0 5 TIMER23 4 TIMER01"}, {"SOFTINT", 0x18}, {"VECTADDR", 0x30, 0, "", true, true}, {"DEFVECTADDR", 0x34}};
    static constexpr RegisterRow kTimer[] = {{"TIMER1LOAD", 0x00}, {"TIMER1VALUE", 0x04, 0xFFFFFFFF, "", true}, {"TIMER1CONTROL", 0x08, 0x20, "7 ENABLE 6 PERIODIC 5 INTENABLE 3-2 PRESCALE 1 SIZE32 0 ONESHOT"}, {"TIMER1RIS", 0x10, 0, "", true},
                                             {"TIMER2LOAD", 0x20}, {"TIMER2VALUE", 0x24, 0xFFFFFFFF, "", true}, {"TIMER2CONTROL", 0x28, 0x20, "7 ENABLE 6 PERIODIC 5 INTENABLE 3-2 PRESCALE 1 SIZE32 0 ONESHOT"}, {"TIMER2RIS", 0x30, 0, "", true}};
    RegisterMap out;
    out.device = "ARM926EJ-S";
    for (unsigned u = 0; u < 3; ++u)
        out.peripherals.push_back(registerGroup(fmt::format("UART{}", u), "serial port PL011", 0x101F1000 + 0x1000 * u, kUart));
    out.peripherals.push_back(registerGroup("VIC", "interrupt controller PL190", 0x10140000, kController));
    out.peripherals.push_back(registerGroup("TIMER01", "dual timer SP804", 0x101E2000, kTimer));
    out.peripherals.push_back(registerGroup("TIMER23", "dual timer SP804", 0x101E3000, kTimer));
    return out;
}

Device make()
{
    Device d;
    d.family = "arm9";
    d.behaviour = &family();
    d.id = "arm926ej-s";
    d.title = "ARM926EJ-S";
    d.about = "classic ARM core with MMU, ARMv5TE and Thumb, 64 MB RAM, three PL011, PL190, two SP804";
    d.debuggerArchitecture = "armv5te";
    d.spaces = {{"memory", "Memory"}};
    d.regions = {{"RAM", 0, RegionKind::ram, 0, kRamBytes, 0, 0}};
    for (int r = 0; r < 13; ++r)
        d.coreRegisters.push_back({fmt::format("r{}", r), 32, CoreRole::general, r, r});
    d.coreRegisters.push_back({"sp", 32, CoreRole::stackPointer, 13, 13});
    d.coreRegisters.push_back({"lr", 32, CoreRole::link, 14, 14});
    d.coreRegisters.push_back({"pc", 32, CoreRole::programCounter, 15, 15});
    d.coreRegisters.push_back({"cpsr", 32, CoreRole::status, -1, 25, "NZCVQ"});
    int number = 26;
    for (const BankedRegister& b : kBanked)
        d.coreRegisters.push_back({b.name, 32, CoreRole::general, -1, number++});
    static constexpr std::pair<const char*, const char*> kVectors[] = {{"reset", "reset"}, {"undefined", "undefined_handler"}, {"SWI", "swi_handler"}, {"prefetch abort", "prefetch_handler"}, {"data abort", "data_handler"}, {"reserved", ""}, {"IRQ", "irq_handler"}, {"FIQ", "fiq_handler"}};
    for (unsigned v = 0; v < 8; ++v)
        d.exceptions.push_back({v, kVectors[v].first, kVectors[v].second, 4 * v});
    d.ramBegin = 0;
    d.ramEnd = kRamBytes - 1;
    d.makeRegisters = registerMap;
    d.codeBegin = 0;
    d.codeEnd = kProgramBytes;
    d.codeStep = 2;
    d.longestInstruction = 4;
    d.storeBytes = 4;
    d.codePointerBit = 1;
    using Into = ImageMap::Range::Into;
    d.image = {EM_ARM, "ARM", "arm-none-eabi-gcc", {{0, kProgramBytes, Into::program}, {kProgramBytes, kRamBytes, Into::memory}}, fmt::format("RAM (below 0x{:x})", kRamBytes), kProgramBytes, 0, 0, kRawEntry};
    d.compilerOption = "-mcpu=arm926ej-s";
    unsigned at = 0;
    for (const auto& [name, functions] : std::initializer_list<std::pair<const char*, const char*>>{{"VDD", "supply"}, {"GND", "ground"}, {"nRESET", "reset"}, {"U0TX", "UART0"}, {"U0RX", "UART0"}, {"U1TX", "UART1"}, {"U1RX", "UART1"}, {"U2TX", "UART2"}, {"U2RX", "UART2"}, {"CLK", "clock"}})
        d.package.push_back({++at, name, functions});
    d.usualHz = kCoreHz;
    d.highestVolts = 3.6;
    d.supply = {"VDD", "GND", 4.0, 3.3};
    d.resetInput = ResetInput{"nRESET", 40'000, 0.25, 0.6};
    d.leastPullUpOhms = 30e3;
    d.mostPullUpOhms = 60e3;
    return d;
}

}  // namespace

std::span<const BankedRegister> bankedRegisters() { return kBanked; }

const Device& arm926()
{
    static const Device device = make();
    return device;
}

}  // namespace bramix::chip::arm9
