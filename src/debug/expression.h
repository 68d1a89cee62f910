// C expressions over a stopped firmware: variables with their types, registers, I/O registers by their datasheet names.
//
//   gates[0].cm * 2      next->open      *pointer      (uint8_t)level      history[1][0]      &ticks      ticks > 100 && now == BOATS_GO
//   PORTB & (1 << PB3)   r24   sp   pc   sreg   sizeof gates   'k'   0x1F   0b1010
//
// Integer arithmetic is done in 64 bits, as a debugger's user expects, not wrapped at the 16 bits of int; a cast wraps.
// Errors are one line: what, and what was expected.
// Tested by tests/debug/expression_test.cpp.
#pragma once

#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "debug/frames.h"
#include "debug/symbols.h"
#include "kernel/result.h"

namespace bramix::debug {

// A value, and where it stands if it stands anywhere.
struct Value {
    TypeId type = kNoType;
    std::vector<std::uint8_t> bytes;
    bool inMemory = false;
    Space space = Space::data;
    std::uint32_t address = 0;
    // Where each byte stands in core registers, lowest byte first; empty: not in registers.
    struct InRegister {
        std::uint8_t index = 0, byte = 0;  // into Device::coreRegisters; which of its bytes
        bool operator==(const InRegister&) const = default;
    };
    std::vector<InRegister> registers;
    std::uint8_t bitOffset = 0, bitSize = 0;  // of a bit field within the bytes at `address`
    [[nodiscard]] bool canBeWritten() const { return (inMemory && space != Space::flash) || !registers.empty(); }
};

// Bytes of memory out of which something was worked out.
struct Use {
    Space space = Space::data;
    std::uint32_t address = 0;
    std::uint32_t length = 0;
};

// A byte that a write to a value stores: in memory, or in a core register that has no place there.
struct ByteWrite {
    Space space = Space::data;
    std::uint32_t address = 0;
    std::uint8_t value = 0;
    std::optional<Value::InRegister> reg{};
};

class Evaluator {
public:
    // `frame`: whose locals are meant; null: globals only. Everything must outlive the evaluator.
    Evaluator(Symbols& symbols, const Target& target, const Frame* frame) : symbols_(symbols), target_(target), frame_(frame) {}

    [[nodiscard]] kernel::Result<Value> evaluate(const std::string& expression);
    // Whether an expression is other than zero.
    [[nodiscard]] kernel::Result<bool> isTrue(const std::string& expression);
    // The value of a variable where the program stands; the error says why it has none.
    [[nodiscard]] kernel::Result<Value> read(const Variable& variable) const;
    // Member or element of a value, as the variable views unfold it.
    [[nodiscard]] kernel::Result<Value> member(const Value& of, const Member& member) const;
    [[nodiscard]] kernel::Result<Value> element(const Value& of, std::size_t index) const;
    [[nodiscard]] kernel::Result<Value> pointee(const Value& pointer) const;
    [[nodiscard]] std::string format(const Value& value, Radix radix) const;
    // What must be stored so that `value` becomes what `text` says (an expression).
    [[nodiscard]] kernel::Result<std::vector<ByteWrite>> assign(const Value& value, const std::string& text);

    [[nodiscard]] Symbols& symbols() { return symbols_; }
    [[nodiscard]] kernel::Result<Value> at(TypeId type, Space space, std::uint32_t address) const;
    // From now on all bytes whose value decides what an expression is or where it stands are noted there: pointers that are followed, indices, operands; not the bytes of the value itself
    // where it is a variable. None: its place never changes. Null: no more.
    void noteUses(std::vector<Use>* into) { uses_ = into; }
    // What names mean is kept there and looked up once, for an expression that is worked out again and again. Only without a frame, and for one firmware.
    using Names = std::unordered_map<std::string, Value>;
    void rememberNames(Names* names) { names_ = names; }
    // The last error is one of the values that stood there, a division by zero; with others there may be none. The words themselves are right.
    [[nodiscard]] bool failedByValues() const { return byValues_; }

private:
    friend class ExpressionParser;
    void used(const Value& value) const;
    [[nodiscard]] kernel::Result<Value> locate(const LocationExpression& expression, TypeId type, const std::string& name) const;
    [[nodiscard]] std::optional<std::int64_t> frameBase() const;

    Symbols& symbols_;
    const Target& target_;
    const Frame* frame_;
    std::vector<Use>* uses_ = nullptr;
    Names* names_ = nullptr;
    bool byValues_ = false;
};

// Registers of the core by a name, with or without a "$": one, or the pair that has the name. Nothing for other names, and for the program counter.
struct CoreName {
    std::size_t first = 0, count = 1;  // indices into Device::coreRegisters
};
[[nodiscard]] std::optional<CoreName> coreRegister(const chip::Device& device, std::string name);

// The bytes that a value in memory takes up; a bit field's are those that hold its bits.
[[nodiscard]] Use placeOf(const Value& value);

}  // namespace bramix::debug
