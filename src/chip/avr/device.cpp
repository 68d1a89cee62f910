#include "chip/avr/device.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "chip/avr/fuses.h"

namespace bramix::chip::avr {

namespace {

constexpr int kDwarfStack = 32, kDwarfReturn = 36;

Device make(const ChipTable& t)
{
    Device d;
    d.family = "avr";
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
        d.coreRegisters.push_back({fmt::format("r{}", r), 8, CoreRole::general, r, r, {}});
    d.coreRegisters.push_back({"SREG", 8, CoreRole::status, -1, static_cast<int>(kStatusRegister), "ITHSVNZC"});
    d.coreRegisters.push_back({"SP", 16, CoreRole::stackPointer, kDwarfStack, static_cast<int>(kStackRegister), {}});
    d.coreRegisters.push_back({"PC", 32, CoreRole::programCounter, kDwarfReturn, static_cast<int>(kPcRegister), {}});
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

const ChipTable& tableOf(const Device& device) { return *findChip(device.id); }

}  // namespace bramix::chip::avr
