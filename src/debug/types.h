// The types of a firmware's variables, as its debug information describes them, and values as text.
// AVR is little-endian; a pointer has two bytes, into data memory or, for __flash, into flash.
// Tested by tests/debug/symbols_test.cpp and tests/debug/expression_test.cpp.
#pragma once

#include <cstdint>
#include <deque>
#include <functional>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace bramix::debug {

enum class TypeId : std::uint32_t {};
inline constexpr TypeId kNoType{0};  // void, or not known

struct Member {
    std::string name;
    TypeId type = kNoType;
    std::uint32_t offset = 0;  // bytes
    std::uint8_t bitSize = 0;  // 0: a whole member
    std::uint8_t bitOffset = 0;  // of a bit field's lowest bit, from the lowest bit of the byte at `offset`
};

struct Type {
    enum class Kind : std::uint8_t { none, integer, boolean, character, floating, pointer, array, structure, enumeration, function, alias } kind = Kind::none;
    std::string name{};
    std::uint32_t size = 0;
    bool isSigned = false;
    bool isUnion = false;
    bool inFlash = false;          // of a pointer: what it points to lies in flash
    TypeId element = kNoType;      // of an array, a pointer, an alias; the result of a function
    std::uint32_t count = 0;       // of an array; 0: not known
    std::vector<Member> members{};
    std::vector<std::pair<std::string, std::int64_t>> values{};  // of an enumeration
};

enum class Radix : std::uint8_t { natural, decimal, hexadecimal, binary, character };

class Types {
public:
    // What pointers are on the machine.
    struct Pointers {
        std::uint32_t bytes = 2, codeUnit = 2, codeMask = ~0U;
        [[nodiscard]] std::uint32_t codeAddress(std::uint32_t pointer) const { return (pointer & codeMask) * codeUnit; }
    };
    void setPointers(const Pointers& pointers) { pointers_ = pointers; }

    Types();

    TypeId add(Type type);
    [[nodiscard]] std::uint32_t count() const { return static_cast<std::uint32_t>(types_.size()); }
    [[nodiscard]] Type& at(TypeId id) { return types_[static_cast<std::size_t>(id)]; }
    [[nodiscard]] const Type& at(TypeId id) const { return types_[static_cast<std::size_t>(id)]; }
    // Behind all aliases and qualifiers.
    [[nodiscard]] TypeId resolve(TypeId id) const;
    [[nodiscard]] const Type& resolved(TypeId id) const { return at(resolve(id)); }
    [[nodiscard]] std::uint32_t size(TypeId id) const;
    // "uint16_t", "struct gate *", "uint8_t [5]".
    [[nodiscard]] std::string name(TypeId id) const;

    TypeId pointerTo(TypeId element, bool inFlash);
    TypeId integer(std::uint32_t size, bool isSigned);
    TypeId doubleType();
    // By name: "uint8_t", "unsigned int", "struct gate"; kNoType where there is none.
    [[nodiscard]] TypeId find(const std::string& name) const;

    // A value as a person reads it. `symbol` names what a pointer points to; may be null.
    [[nodiscard]] std::string format(TypeId id, std::span<const std::uint8_t> bytes, Radix radix, const std::function<std::string(std::uint32_t, bool)>& symbol = nullptr) const;

private:
    std::deque<Type> types_;  // those at hand stay where they are while others are added
    Pointers pointers_;
};

// A number out of little-endian bytes; more than eight are cut.
std::uint64_t unsignedOf(std::span<const std::uint8_t> bytes);
std::int64_t signedOf(std::span<const std::uint8_t> bytes);
// The lowest bytes of a number, and zeros beyond eight.
std::vector<std::uint8_t> bytesOf(std::uint64_t value, std::uint32_t size);
// An IEEE 754 number of four or eight bytes.
double floatingOf(std::span<const std::uint8_t> bytes);

// The bits of a bit field out of the bytes of its structure, as bytes of its type's size.
std::vector<std::uint8_t> bitsOf(std::span<const std::uint8_t> bytes, unsigned bitOffset, unsigned bitSize, bool isSigned, std::uint32_t size);

}  // namespace bramix::debug
