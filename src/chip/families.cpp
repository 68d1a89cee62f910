#include "chip/families.h"

#include "chip/arm9/family.h"
#include "chip/avr/family.h"
#include "chip/cortexm/family.h"
#include "chip/pic16/family.h"
#include "chip/riscv/family.h"

namespace bramix::chip {

namespace {

std::vector<const Family*>& families()
{
    static std::vector<const Family*> all{&avr::family(), &cortexm::family(), &pic16::family(), &riscv::family(), &arm9::family()};
    return all;
}

}  // namespace

void addFamily(const Family& family) { families().push_back(&family); }

std::span<const Device* const> allDevices()
{
    static const std::vector<const Device*> all = [] {
        std::vector<const Device*> out;
        for (const Family* family : families())
            for (const Device* device : family->devices())
                out.push_back(device);
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

std::unique_ptr<Mcu> makeMcu(const Device& device, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
{
    return device.behaviour->make(device, options, queue, circuit, observer);
}

unsigned optionValue(const Device& device, const OptionBytes& bytes, std::string_view name)
{
    const auto read = device.behaviour->optionValue;
    return read == nullptr ? ~0U : read(device, bytes, name);
}

kernel::Result<void> setOption(const Device& device, OptionBytes& bytes, std::string_view name, std::string_view value)
{
    const auto set = device.behaviour->setOption;
    return set == nullptr ? kernel::fail(std::string(name), "is no option of " + device.title) : set(device, bytes, name, value);
}

kernel::Result<Firmware> loadFirmware(const std::string& file, const Device& device)
{
    const auto load = device.behaviour->loadFirmware;
    return load == nullptr ? readImage(file, device) : load(file, device);
}

bool isPortPin(const Device& device, std::string_view pin) { return device.behaviour->isPortPin(device, pin); }

InstructionInfo decode(const Device& device, const CodeView& code, std::uint32_t address) { return device.behaviour->decode(device, code, address); }

}  // namespace bramix::chip
