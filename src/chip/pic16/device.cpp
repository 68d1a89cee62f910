#include "chip/pic16/device.h"

#include <bit>

#include <fmt/format.h>

#include "chip/base/model_list.h"
#include "chip/base/register_rows.h"
#include "chip/pic16/family.h"

namespace bramix::chip::pic16 {

namespace {

constexpr Port kPorts84[] = {{'A', 0x05, 0x85, 0x1F, 0x10, 0x10, 0}, {'B', 0x06, 0x86, 0xFF, 0x01, 0, 0}};
constexpr Port kPorts88[] = {{'A', 0x05, 0x85, 0xFF, 0x30, 0, 0x20}, {'B', 0x06, 0x86, 0xFF, 0x01, 0, 0}};
constexpr Port kPorts877[] = {{'A', 0x05, 0x85, 0x3F, 0x10, 0x10, 0}, {'B', 0x06, 0x86, 0xFF, 0x01, 0, 0}, {'C', 0x07, 0x87, 0xFF, 0xFF, 0, 0}, {'D', 0x08, 0x88, 0xFF, 0xFF, 0, 0}, {'E', 0x09, 0x89, 0x07, 0x07, 0, 0}};

using Range = std::pair<std::uint16_t, std::uint16_t>;
constexpr Range kMemory84[] = {{0x0C, 0x4F}};
constexpr Range kMemory368[] = {{0x20, 0x7F}, {0xA0, 0xEF}, {0x110, 0x16F}, {0x190, 0x1EF}};

constexpr std::string_view kDip18F84[] = {"RA2", "RA3", "RA4", "MCLR", "VSS", "RB0", "RB1", "RB2", "RB3", "RB4", "RB5", "RB6", "RB7", "VDD", "OSC2", "OSC1", "RA0", "RA1"};
constexpr std::string_view kDip18F88[] = {"RA2", "RA3", "RA4", "RA5", "VSS", "RB0", "RB1", "RB2", "RB3", "RB4", "RB5", "RB6", "RB7", "VDD", "RA6", "RA7", "RA0", "RA1"};
constexpr std::string_view kDip40[] = {"MCLR", "RA0", "RA1", "RA2", "RA3", "RA4", "RA5", "RE0", "RE1", "RE2", "VDD", "VSS", "OSC1", "OSC2", "RC0", "RC1", "RC2", "RC3", "RD0", "RD1",
                                       "RD2", "RD3", "RC4", "RC5", "RC6", "RC7", "RD4", "RD5", "RD6", "RD7", "VSS2", "VDD2", "RB0", "RB1", "RB2", "RB3", "RB4", "RB5", "RB6", "RB7"};

constexpr Model kModels[] = {
    {"pic16f84a", "PIC16F84A", "14-bit PIC, 1 K words, 68 bytes RAM, 20 MHz at most", 1024, 64, kPorts84, kMemory84, 2, AnalogBy::none, 0x08, 0x88, false, false, kDip18F84},
    {"pic16f88", "PIC16F88", "14-bit PIC, 4 K words, 368 bytes RAM, 20 MHz at most", 4096, 256, kPorts88, kMemory368, 4, AnalogBy::ansel, 0x10C, 0x18C, true, true, kDip18F88},
    {"pic16f877a", "PIC16F877A", "14-bit PIC, 8 K words, 368 bytes RAM, 20 MHz at most", 8192, 256, kPorts877, kMemory368, 4, AnalogBy::adcon1, 0x10C, 0x18C, true, false, kDip40},
};

constexpr ConfigField kConfig84[] = {{"CP", "code protection (all ones: off)", 0x3FF0}, {"PWRTE", "power-up timer (0: on)", 0x0008}, {"WDTE", "watchdog", 0x0004}, {"FOSC", "oscillator: 0 LP, 1 XT, 2 HS, 3 RC", 0x0003}};
constexpr ConfigField kConfig88[] = {{"CP", "code protection (1: off)", 0x2000}, {"CCPMX", "CCP1 on RB0 (1) or RB3", 0x1000}, {"DEBUG", "debugger (1: off)", 0x0800}, {"WRT", "flash write protection (3: off)", 0x0600}, {"CPD", "EEPROM protection (1: off)", 0x0100},
                                     {"LVP", "low-voltage programming on RB3", 0x0080}, {"BOREN", "brown-out reset", 0x0040}, {"MCLRE", "RA5 is the reset pin", 0x0020}, {"PWRTE", "power-up timer (0: on)", 0x0008}, {"WDTE", "watchdog", 0x0004},
                                     {"FOSC", "oscillator: 0 LP, 1 XT, 2 HS, 3 EC, 4 internal, RA6 and RA7 ports, 5 internal, clock on RA6, 6 RC, RA6 port, 7 RC", 0x0013},
                                     {"IESO", "two-speed start", 0x0002, 1}, {"FCMEN", "fail-safe clock monitor", 0x0001, 1}};
constexpr ConfigField kConfig877[] = {{"CP", "code protection (1: off)", 0x2000}, {"DEBUG", "debugger (1: off)", 0x0800}, {"WRT", "flash write protection (3: off)", 0x0600}, {"CPD", "EEPROM protection (1: off)", 0x0100}, {"LVP", "low-voltage programming on RB3", 0x0080},
                                      {"BOREN", "brown-out reset", 0x0040}, {"PWRTE", "power-up timer (0: on)", 0x0008}, {"WDTE", "watchdog", 0x0004}, {"FOSC", "oscillator: 0 LP, 1 XT, 2 HS, 3 RC", 0x0003}};

std::string functionsOf(const Model& m, std::string_view pin)
{
    if (pin.starts_with("VDD"))
        return "supply";
    if (pin.starts_with("VSS"))
        return "ground";
    struct Row {
        std::string_view pin, functions;
    };
    static constexpr Row kRows[] = {{"MCLR", "reset"}, {"RB0", "INT"}, {"OSC1", "crystal"}, {"OSC2", "crystal"}, {"RB6", "PGC"}, {"RB7", "PGD"}};
    if (pin == "RA4")
        return m.id == "pic16f88" ? "T0CKI AN4 C2OUT" : "T0CKI";
    if (m.id == "pic16f88")
        for (const Row& row : {Row{"RA0", "AN0"}, Row{"RA1", "AN1"}, Row{"RA2", "AN2 VREF-"}, Row{"RA3", "AN3 VREF+"}, Row{"RA5", "MCLR"}, Row{"RA6", "OSC2 CLKO"}, Row{"RA7", "OSC1 CLKI"}, Row{"RB6", "AN5 PGC"}, Row{"RB7", "AN6 PGD"}, Row{"RB2", "RX"}, Row{"RB5", "TX"}})
            if (row.pin == pin)
                return std::string(row.functions);
    if (m.id == "pic16f877a")
        for (const Row& row : {Row{"RA0", "AN0"}, Row{"RA1", "AN1"}, Row{"RA2", "AN2"}, Row{"RA3", "AN3"}, Row{"RA5", "AN4"}, Row{"RE0", "AN5"}, Row{"RE1", "AN6"}, Row{"RE2", "AN7"}, Row{"RC6", "TX"}, Row{"RC7", "RX"}})
            if (row.pin == pin)
                return std::string(row.functions);
    for (const Row& row : kRows)
        if (row.pin == pin)
            return std::string(row.functions);
    return "";
}

RegisterMap registersOf(const Device& device)
{
    const Model& m = modelOf(device);
    RegisterMap out;
    out.device = device.title;
    static constexpr RegisterRow kCore[] = {{"STATUS", 0x03, 0x18, "7 IRP 6-5 RP 4 TO 3 PD 2 Z 1 DC 0 C", true}, {"FSR", 0x04, 0, "", true}, {"PCL", 0x02, 0, "", true}, {"PCLATH", 0x0A, 0, "4-0 PCLATH"},
                                            {"INTCON", 0x0B, 0, "7 GIE 6 PEIE 5 T0IE 4 INTE 3 RBIE 2 T0IF 1 INTF 0 RBIF", true}};
    static constexpr RegisterRow kTimer[] = {{"TMR0", 0x01, 0, "", true}, {"OPTION_REG", 0x81, 0xFF, "7 RBPU 6 INTEDG 5 T0CS 4 T0SE 3 PSA 2-0 PS"}};
    out.peripherals.push_back(registerGroup("Core", "status, interrupts, pointers", 0, kCore, 8));
    out.peripherals.push_back(registerGroup("Timer 0", "timer and prescaler", 0, kTimer, 8));
    for (const Port& p : m.ports) {
        std::string fields;
        for (int b = 7; b >= 0; --b)
            if (((p.pins >> b) & 1) != 0)
                fields += fmt::format("{}{} R{}{}", fields.empty() ? "" : " ", b, p.letter, b);
        const std::string port = fmt::format("PORT{}", p.letter), tris = fmt::format("TRIS{}", p.letter);
        const RegisterRow rows[] = {{port, p.latch, 0, fields, true}, {tris, p.direction, p.pins, fields}};
        out.peripherals.push_back(registerGroup(fmt::format("Port {}", p.letter), "pins and their directions", 0, rows, 8));
    }
    if (m.analog == AnalogBy::ansel) {
        static constexpr RegisterRow kRows[] = {{"ANSEL", 0x9B, 0x7F, "6 ANS6 5 ANS5 4 ANS4 3 ANS3 2 ANS2 1 ANS1 0 ANS0"}, {"OSCCON", 0x8F, 0, "6-4 IRCF 3 OSTS 2 IOFS 1-0 SCS", true}, {"WDTCON", 0x105, 0x08, "4-1 WDTPS 0 SWDTEN"}};
        out.peripherals.push_back(registerGroup("Inputs and clock", "analog inputs, oscillator, watchdog", 0, kRows, 8));
    } else if (m.analog == AnalogBy::adcon1) {
        static constexpr RegisterRow kRows[] = {{"ADCON1", 0x9F, 0, "7 ADFM 6 ADCS2 3-0 PCFG"}};
        out.peripherals.push_back(registerGroup("Inputs", "analog inputs", 0, kRows, 8));
    }
    const RegisterRow eeprom[] = {{"EEDATA", m.eepromData, 0, "", true}, {"EEADR", m.eepromData + 1U, 0, "", true}, {"EECON1", m.eepromControl, 0, "7 EEPGD 4 EEIF 3 WRERR 2 WREN 1 WR 0 RD", true}};
    out.peripherals.push_back(registerGroup("EEPROM", "data memory that outlives power", 0, eeprom, 8));
    return out;
}

Device make(const Model& m)
{
    Device d;
    d.family = "pic16";
    d.behaviour = &family();
    d.id = m.id;
    d.title = m.title;
    d.about = m.about;
    d.debuggerArchitecture = "pic16";
    d.spaces = {{"data", "Data"}, {"program", "Program", 14}, {"eeprom", "EEPROM"}};
    constexpr std::uint64_t kDataBase = 0x800000, kEepromBase = 0x810000;
    d.regions = {{"flash", 1, RegionKind::flash, 0, m.words, 32, 0}, {"RAM", 0, RegionKind::ram, 0, std::uint64_t{128} * m.banks, 0, kDataBase}, {"EEPROM", 2, RegionKind::nonVolatile, 0, m.eepromBytes, 1, kEepromBase}};
    d.coreRegisters = {{"W", 8, CoreRole::general, -1, 0}, {"STATUS", 8, CoreRole::status, -1, 1, "I10TPZDC", 0x03}, {"FSR", 8, CoreRole::general, -1, 2, {}, 0x04}, {"PCLATH", 8, CoreRole::general, -1, 3, {}, 0x0A},
                       {"PC", 16, CoreRole::programCounter, -1, 4}, {"DEPTH", 8, CoreRole::general, -1, 5}};
    for (int s = 0; s < 8; ++s)
        d.coreRegisters.push_back({fmt::format("STACK{}", s), 16, CoreRole::general, -1, 6 + s});
    d.exceptions = {{0, "reset", "reset", 0}, {1, "interrupt", "interrupt", 4}};
    d.ramBegin = m.memory.front().first;
    d.ramEnd = m.memory.back().second;
    d.peripheralBegin = 0;
    d.peripheralEnd = m.memory.front().first;
    d.makeRegisters = registersOf;
    d.codeBegin = 0;
    d.codeEnd = m.words;
    d.codeUnitBytes = 2;
    d.codeStep = 1;
    d.longestInstruction = 1;
    d.storeBytes = 1;
    d.pointerBytes = 2;
    d.intBytes = 2;
    d.image = {0, "PIC16", "gpasm", {}, "program memory", std::uint64_t{m.words} * 2, 0x800000, 0};
    d.compilerOption = "-p" + d.id.substr(3);
    unsigned at = 0;
    for (const std::string_view name : m.package)
        d.package.push_back({++at, std::string(name), functionsOf(m, name)});
    d.usualHz = 4'000'000;
    d.highestVolts = m.mostVolts;
    d.supply = {"VDD", "VSS", 7.5, 5.0};
    const bool shared = m.id == "pic16f88";
    d.crystal = ClockInput{shared ? "OSC1 CLKI" : "OSC1", shared ? "OSC2 CLKO" : "OSC2"};
    if (shared)
        d.crystal = ClockInput{"RA7", "RA6"};
    d.resetInput = ResetInput{shared ? "RA5" : "MCLR", 1e6, 0.2, 0.8};
    d.leastPullUpOhms = 12.5e3;  // 50 to 400 uA at 5 V, D070
    d.mostPullUpOhms = 100e3;
    for (const ConfigField& f : configFields(m))
        d.options.push_back({std::string(f.name), std::string(f.about), static_cast<unsigned>(std::popcount(f.mask))});
    d.shipped = {0xFF, 0x3F, 0xFF, 0x3F};
    // XT crystal, watchdog and low-voltage programming off, reset pin a reset pin, no power-up timer.
    d.ideal = {static_cast<std::uint8_t>(shared ? 0x69 : 0xF9), 0x3F, 0xFF, 0x3F};
    if (!shared)
        d.ideal[0] = m.id == "pic16f877a" ? 0x79 : 0xF9;
    return d;
}

const ModelList<Model>& all()
{
    static const ModelList<Model> list(kModels, make);
    return list;
}

}  // namespace

std::span<const ConfigField> configFields(const Model& model)
{
    if (model.id == "pic16f84a")
        return kConfig84;
    return model.id == "pic16f88" ? std::span<const ConfigField>(kConfig88) : std::span<const ConfigField>(kConfig877);
}

std::span<const Device* const> devices() { return all().devices(); }

const Device& deviceOf(const Model& model) { return all().deviceOf(model); }

const Model& modelOf(const Device& device) { return all().modelOf(device); }

}  // namespace bramix::chip::pic16
