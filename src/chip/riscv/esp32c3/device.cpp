#include "chip/riscv/esp32c3/device.h"

#include <elf.h>
#include <fmt/format.h>

#include "chip/riscv/core/cpu.h"
#include "chip/riscv/esp32c3/registers.h"
#include "chip/riscv/family.h"

namespace bramix::chip::riscv {

namespace {

// Pads by their numbers where they have one; data sheet table 2-1, QFN32.
constexpr std::pair<std::string_view, std::string_view> kPackage[] = {
    {"LNA_IN", "antenna"}, {"VDD3P3", "supply"}, {"VDD3P3_2", "supply"}, {"GPIO0", "ADC1_CH0 XTAL_32K_P"}, {"GPIO1", "ADC1_CH1 XTAL_32K_N"}, {"GPIO2", "ADC1_CH2"}, {"CHIP_EN", "reset"}, {"GPIO3", "ADC1_CH3"},
    {"GPIO4", "ADC1_CH4 MTMS"}, {"GPIO5", "MTDI"}, {"VDD3P3_RTC", "supply"}, {"GPIO6", "MTCK"}, {"GPIO7", "MTDO"}, {"GPIO8", ""}, {"GPIO9", "boot mode"}, {"GPIO10", ""}, {"VDD3P3_CPU", "supply"}, {"VDD_SPI", "GPIO11 flash supply"},
    {"GPIO12", "SPIHD flash"}, {"GPIO13", "SPIWP flash"}, {"GPIO14", "SPICS0 flash"}, {"GPIO15", "SPICLK flash"}, {"GPIO16", "SPID flash"}, {"GPIO17", "SPIQ flash"}, {"GPIO18", "USB_D-"}, {"GPIO19", "USB_D+"},
    {"GPIO20", "U0RXD"}, {"GPIO21", "U0TXD"}, {"XTAL_N", "crystal"}, {"XTAL_P", "crystal"}, {"VDDA", "analog supply"}, {"VDDA2", "analog supply"}, {"GND", "ground"}};

Device make()
{
    Device d;
    d.family = "riscv";
    d.behaviour = &family();
    d.id = "esp32c3";
    d.title = "ESP32-C3";
    d.about = "RISC-V RV32IMC, 384 KB SRAM, 4 MB flash, 160 MHz at most";
    d.debuggerArchitecture = "riscv:rv32";
    d.spaces = {{"memory", "Memory"}};
    d.regions = {{"flash", 0, RegionKind::flash, kCodeWindow, kFlashBytes, 4096, kCodeWindow}, {"flash (data window)", 0, RegionKind::flash, kDataWindow, kFlashBytes, 4096, kDataWindow},
                 {"SRAM", 0, RegionKind::ram, kDataSram, kSramBytes, 0, kDataSram}, {"SRAM (code window)", 0, RegionKind::ram, kCodeSram, kSramBytes, 0, kCodeSram},
                 {"RTC SRAM", 0, RegionKind::ram, kRtcSram, kRtcSramBytes, 0, kRtcSram}};
    static constexpr const char* kNames[] = {"zero", "ra", "sp", "gp", "tp", "t0", "t1", "t2", "s0", "s1", "a0", "a1", "a2", "a3", "a4", "a5", "a6", "a7", "s2", "s3", "s4", "s5", "s6", "s7", "s8", "s9", "s10", "s11", "t3", "t4", "t5", "t6"};
    for (int r = 0; r < 32; ++r)
        d.coreRegisters.push_back({kNames[r], 32, r == 1 ? CoreRole::link : r == 2 ? CoreRole::stackPointer : CoreRole::general, r, r});
    d.coreRegisters.push_back({"pc", 32, CoreRole::programCounter, -1, 32});
    constexpr int kFirstCsrNumber = 65;  // of GDB
    for (const unsigned csr : kCsrs)
        d.coreRegisters.push_back({nameOfCsr(csr), 32, CoreRole::general, -1, kFirstCsrNumber + static_cast<int>(csr)});
    d.exceptions.push_back({0, "reset", "", kDirectBootEntry});
    for (unsigned n = 1; n < 64; ++n) {
        const std::string_view cause = n <= 12 ? nameOfCause(n - 1) : "";
        d.exceptions.push_back({n, n > 32 ? fmt::format("INT{}", n - 32) : cause.empty() ? fmt::format("trap {}", n - 1) : std::string(cause), "", 0});
    }
    d.ramBegin = kDataSram;
    d.ramEnd = kDataSram + kSramBytes - 1;
    d.makeRegisters = [](const Device&) { return registerMap(); };
    d.codeBegin = kCodeWindow;
    d.codeEnd = kCodeWindow + kFlashBytes;
    d.codeStep = 2;
    d.longestInstruction = 4;
    d.storeBytes = 4;
    using Into = ImageMap::Range::Into;
    d.image = {EM_RISCV,
               "RISC-V",
               "riscv64-unknown-elf-gcc",
               {{kCodeWindow, std::uint64_t{kCodeWindow} + kFlashBytes, Into::program},
                {kDataWindow, std::uint64_t{kDataWindow} + kFlashBytes, Into::program},
                {0, kFlashBytes, Into::program},
                {kDataSram, std::uint64_t{kDataSram} + kSramBytes, Into::memory},
                {kCodeSram, std::uint64_t{kCodeSram} + kSramBytes, Into::memory},
                {kRtcSram, std::uint64_t{kRtcSram} + kRtcSramBytes, Into::memory}},
               fmt::format("flash (0x{:08x} or 0x{:08x}) or SRAM (0x{:08x} or 0x{:08x})", kCodeWindow, kDataWindow, kDataSram, kCodeSram), kFlashBytes, 0, 0};
    d.compilerOption = "-march=rv32imc_zicsr -mabi=ilp32";
    unsigned at = 0;
    for (const auto& [name, functions] : kPackage)
        d.package.push_back({++at, std::string(name), std::string(functions)});
    d.usualHz = kCrystalHz;
    d.highestVolts = 3.6;
    d.supply = {"VDD3P3_CPU", "GND", 3.6, 3.3};
    d.crystal = ClockInput{"XTAL_P", "XTAL_N"};
    d.resetInput = ResetInput{"CHIP_EN", 1e6, 0.25, 0.75};
    d.leastPullUpOhms = 40e3;
    d.mostPullUpOhms = 50e3;
    return d;
}

}  // namespace

const Device& esp32c3()
{
    static const Device device = make();
    return device;
}

}  // namespace bramix::chip::riscv
