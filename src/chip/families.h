// The chip families that this program has, in one place: everything else knows chips as Devices.
#pragma once

#include <span>
#include <string_view>
#include <vector>

#include "chip/device.h"
#include "chip/firmware.h"
#include "kernel/result.h"

namespace bramix::chip {

// Every chip of every family, in the order of `bramix-cli list chips`.
[[nodiscard]] std::span<const Device* const> allDevices();
// Null where there is none of this id.
[[nodiscard]] const Device* findDevice(std::string_view id);

// An option's value out of all of a chip's; all ones where it has none of this name.
[[nodiscard]] unsigned optionValue(const Device& device, const OptionBytes& bytes, std::string_view name);
// Sets one by its name, as a person writes it: "1", "0x62", "0b0010", or in the family's own words. The error says what was expected.
[[nodiscard]] kernel::Result<void> setOption(const Device& device, OptionBytes& bytes, std::string_view name, std::string_view value);
// A program for a chip out of a file (firmware.h).
[[nodiscard]] kernel::Result<Firmware> loadFirmware(const std::string& file, const Device& device);
// Whether a pin of the package can be driven and read by a program.
[[nodiscard]] bool isPortPin(const Device& device, std::string_view pin);

}  // namespace bramix::chip
