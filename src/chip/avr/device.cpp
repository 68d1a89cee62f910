#include "chip/avr/device.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include <elf.h>

#include "chip/avr/family.h"
#include "chip/avr/fuses.h"
#include "chip/avr/register_map.h"

namespace bramix::chip::avr {

namespace {

constexpr int kDwarfStack = 32, kDwarfReturn = 36;

Device make(const ChipTable& t)
{
    Device d;
    d.family = "avr";
    d.behaviour = &family();
    d.id = t.id;
    d.title = t.title;
    d.about = t.about;
    d.debuggerArchitecture = t.core.longPc ? "avr:6" : t.bootBytes == 0 ? "avr:25" : "avr:5";
    d.spaces = {{"data", "Data"}, {"flash", "Flash"}, {"eeprom", "EEPROM"}};
    d.regions = {
        {"flash", kFlashSpace, RegionKind::flash, 0, t.flashBytes, t.pageBytes, 0},
        {"data", kDataSpace, RegionKind::ram, 0, t.core.ramEnd + 1U, 0, 0x800000},
        {"EEPROM", kEepromSpace, RegionKind::nonVolatile, 0, t.eepromBytes, 0, 0x810000},
    };
    for (int r = 0; r < 32; ++r)
        d.coreRegisters.push_back({fmt::format("r{}", r), 8, CoreRole::general, r, r, {}, r});
    d.coreRegisters.push_back({"SREG", 8, CoreRole::status, -1, static_cast<int>(kStatusRegister), "ITHSVNZC", kSreg});
    d.coreRegisters.push_back({"SP", 16, CoreRole::stackPointer, kDwarfStack, static_cast<int>(kStackRegister), {}, kSpl});
    d.coreRegisters.push_back({"PC", 32, CoreRole::programCounter, kDwarfReturn, static_cast<int>(kPcRegister), {}});
    d.registerPairs = {{"X", 26, 2}, {"Y", 28, 2}, {"Z", 30, 2}};
    for (const PackagePin& p : t.package)
        d.package.push_back({p.number, std::string(p.name), std::string(p.functions)});
    d.usualHz = t.usualHz;
    d.highestVolts = t.highestVolts;
    for (const FuseRow& f : t.fuses)
        d.options.push_back({std::string(f.name), std::string(f.about), f.width});
    const FuseBytes ideal = idealFuses(t);
    d.shipped.assign(t.fuseDefaults.begin(), t.fuseDefaults.end());
    d.ideal.assign(ideal.begin(), ideal.end());
    d.dataSpace = kDataSpace;
    d.ramBegin = t.core.ramStart;
    d.ramEnd = t.core.ramEnd;
    d.peripheralBegin = 0x20;
    d.peripheralEnd = t.ioEnd;
    d.highByteFirst = true;
    d.makeRegisters = [](const Device& device) { return registerMap(tableOf(device)); };
    d.codeEnd = t.flashBytes;
    d.pointerBytes = d.intBytes = d.codePointerUnit = 2;  // int and pointers of two bytes; pointers to functions count words
    d.codeStep = 2;
    d.longestInstruction = 4;
    d.returnBytes = t.core.longPc ? 3 : 2;
    d.compilerOption = fmt::format("-mmcu={}", t.id);
    using Into = ImageMap::Range::Into;
    d.image = {EM_AVR, "AVR", "avr-gcc", {{0, 0x800000, Into::program}, {0x810000, 0x820000, Into::nonVolatile}, {0x820000, 0x850000, Into::nothing}}, "flash (below 0x800000) or EEPROM (0x810000)", t.flashBytes, 0x800000, t.bootBytes};
    d.crystal = ClockInput{"XTAL1", "XTAL2"};
    d.resetInput = ResetInput{};  // pull-up 30 to 60 kΩ; VRST is 0.2 to 0.9 VCC (ATmega328P datasheet table 29-1)
    d.supply = {"VCC", "GND", 6.0};  // absolute maximum ratings (32.1)
    d.leastPullUpOhms = 20e3;
    d.mostPullUpOhms = 50e3;
    for (unsigned v = 0; v < t.vectors.size(); ++v)
        d.exceptions.push_back({v, std::string(t.vectors[v].name), fmt::format("__vector_{}", v), v * t.vectorWords * 2});
    return d;
}

}  // namespace

FuseBytes fusesOf(const OptionBytes& bytes)
{
    FuseBytes out{};
    std::copy_n(bytes.begin(), std::min(bytes.size(), out.size()), out.begin());
    return out;
}

const Device& deviceOf(const ChipTable& table)
{
    // All of them at the first call: afterwards nobody waits for anybody.
    static const std::map<const ChipTable*, Device> made = [] {
        std::map<const ChipTable*, Device> out;
        for (const ChipTable* chip : allChips())
            out.emplace(chip, make(*chip));
        return out;
    }();
    return made.at(&table);
}

const ChipTable& tableOf(const Device& device)
{
    for (const ChipTable* chip : allChips())
        if (&deviceOf(*chip) == &device)
            return *chip;
    return *findChip(device.id);  // a copy
}

}  // namespace bramix::chip::avr
