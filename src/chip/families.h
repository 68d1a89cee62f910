// The chip families that this program has, in one place: everything else knows chips as Devices.
#pragma once

#include <memory>
#include <span>
#include <string_view>
#include <vector>

#include "chip/device.h"
#include "chip/family.h"

namespace bramix::chip {

// Every chip of every family, in the order of `bramix-cli list chips`.
[[nodiscard]] std::span<const Device* const> allDevices();
// Null where there is none of this id.
[[nodiscard]] const Device* findDevice(std::string_view id);
// One more family, before anything asks for devices: for tests.
void addFamily(const Family& family);

// What a Device's family says (family.h).
[[nodiscard]] std::unique_ptr<Mcu> makeMcu(const Device& device, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer);
[[nodiscard]] unsigned optionValue(const Device& device, const OptionBytes& bytes, std::string_view name);
[[nodiscard]] kernel::Result<void> setOption(const Device& device, OptionBytes& bytes, std::string_view name, std::string_view value);
[[nodiscard]] kernel::Result<Firmware> loadFirmware(const std::string& file, const Device& device);
[[nodiscard]] bool isPortPin(const Device& device, std::string_view pin);
[[nodiscard]] InstructionInfo decode(const Device& device, const CodeView& code, std::uint32_t address);

}  // namespace bramix::chip
