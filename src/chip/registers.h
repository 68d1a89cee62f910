// What the registers of a chip's peripherals are, as plain data: where each one lies, its fields, and what a field's values mean in words. Whoever shows or names
// registers reads this; nothing here knows of a chip family.
// Sources: a family's own tables, or an SVD file (svd.h).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace bramix::chip {

enum class Access : std::uint8_t { readWrite, readOnly, writeOnly, writeOnce, readWriteOnce };

// A value of a field, and what it means. A value with bits that do not matter has them in `ignored`.
struct FieldValue {
    std::string name;     // "INPUT"
    std::string about;    // "Input mode"; may be empty
    std::uint64_t value = 0;
    std::uint64_t ignored = 0;
    bool otherwise = false;  // of all values that are not named
};

struct RegisterField {
    std::string name;     // "MODER5"
    std::string about;
    unsigned low = 0;     // lowest bit, 0 ..
    unsigned bits = 1;
    Access access = Access::readWrite;
    std::vector<FieldValue> values;       // as they read; none where nobody has named any
    std::vector<FieldValue> writeValues;  // where writing means something else
    [[nodiscard]] std::uint64_t mask() const { return (bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1) << low; }
    [[nodiscard]] std::uint64_t of(std::uint64_t whole) const { return (whole & mask()) >> low; }
    // What a value means, in words; empty where nothing is known of it.
    [[nodiscard]] std::string meaning(std::uint64_t value) const;
};

struct PeripheralRegister {
    std::string name;          // "MODER", with its cluster: "CH3.CCR"
    std::string about;
    std::uint64_t address = 0; // absolute
    unsigned bits = 32;        // 8, 16, 32 or 64
    Access access = Access::readWrite;
    std::uint64_t reset = 0;   // after a reset, where `resetMask` has a 1
    std::uint64_t resetMask = 0;
    bool readActs = false;     // reading changes something: not to be read by whoever only looks
    std::vector<RegisterField> fields;  // from the highest bit down
};

struct PeripheralInterrupt {
    std::string name, about;
    unsigned number = 0;
};

struct PeripheralGroup {
    std::string name;   // "GPIOA"
    std::string about;
    std::uint64_t base = 0;
    std::vector<PeripheralInterrupt> interrupts;
    std::vector<PeripheralRegister> registers;  // by address
};

struct RegisterMap {
    std::string device;  // "STM32F103xx"
    std::string about;
    unsigned addressUnitBits = 8;
    bool bigEndian = false;
    std::vector<PeripheralGroup> peripherals;  // by base address
    [[nodiscard]] const PeripheralGroup* peripheral(std::string_view name) const;
    // The first register that covers an address, with its peripheral.
    struct At {
        const PeripheralGroup* peripheral = nullptr;
        const PeripheralRegister* reg = nullptr;
    };
    [[nodiscard]] At at(std::uint64_t address) const;
};

}  // namespace bramix::chip
