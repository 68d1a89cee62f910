#include "chip/families.h"

#include <algorithm>

#include "chip/avr/chip.h"
#include "chip/avr/device.h"

namespace bramix::chip {

std::span<const Device* const> allDevices()
{
    static const std::vector<const Device*> all = [] {
        std::vector<const Device*> out;
        for (const avr::ChipTable* table : avr::allChips())
            out.push_back(&avr::deviceOf(*table));
        return out;
    }();
    return all;
}

const Device* findDevice(std::string_view id)
{
    for (const Device* d : allDevices())
        if (d->id == id)
            return d;
    return nullptr;
}

unsigned optionValue(const Device& device, const OptionBytes& bytes, std::string_view name) { return avr::fuseField(avr::tableOf(device), avr::fusesOf(bytes), name); }

kernel::Result<void> setOption(const Device& device, OptionBytes& bytes, std::string_view name, std::string_view value)
{
    avr::FuseBytes fuses = avr::fusesOf(bytes);
    auto done = avr::setFuse(avr::tableOf(device), fuses, name, value);
    bytes.assign(fuses.begin(), fuses.end());
    return done;
}

kernel::Result<Firmware> loadFirmware(const std::string& file, const Device& device) { return loadFirmware(file, avr::tableOf(device)); }

bool isPortPin(const Device& device, std::string_view pin) { return avr::Chip::portPin(avr::tableOf(device), pin).exists(); }

}  // namespace bramix::chip
