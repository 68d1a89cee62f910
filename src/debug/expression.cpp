#include "debug/expression.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include <dwarf.h>
#include <fmt/format.h>


namespace bramix::debug {

using kernel::fail;
using kernel::Result;

namespace {

// Arithmetic of location expressions goes round, as DWARF has it.
std::int64_t wrapped(std::uint64_t v) { return static_cast<std::int64_t>(v); }

constexpr std::uint32_t kLargest = 0x10000;  // bytes of a value; a damaged file may say anything

}  // namespace

// Where things are.

Result<Value> Evaluator::at(TypeId type, Space space, std::uint32_t address) const
{
    Value v;
    v.type = type;
    v.inMemory = true;
    v.space = space;
    v.address = address;
    const std::uint32_t size = symbols_.types().size(type);
    if (size > kLargest)
        return fail("value", fmt::format("{} bytes are more than {} holds", size, target_.device().title));
    for (std::uint32_t i = 0; i < size; ++i)
        v.bytes.push_back(target_.read(space, address + i));
    return v;
}

std::optional<std::int64_t> Evaluator::frameBase() const
{
    if (frame_ == nullptr || frame_->function < 0)
        return std::nullopt;
    int f = frame_->function;
    while (symbols_.functions()[static_cast<std::size_t>(f)].caller >= 0)
        f = symbols_.functions()[static_cast<std::size_t>(f)].caller;
    for (const Location& l : symbols_.functions()[static_cast<std::size_t>(f)].frameBase) {
        if (frame_->registers.pc < l.begin || frame_->registers.pc >= l.end || l.expression.empty())
            continue;
        const Operation& op = l.expression[0];
        const auto pair = [&](unsigned reg) { return pointerIn(target_.device(), frame_->registers, reg); };
        if (op.atom == DW_OP_call_frame_cfa)
            return frame_->cfa;
        if (op.atom == DW_OP_bregx)
            return pair(static_cast<unsigned>(op.first)) + static_cast<std::int64_t>(op.second);
        if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31)
            return pair(op.atom - DW_OP_breg0) + static_cast<std::int64_t>(op.first);
        if (op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31)
            return pair(op.atom - DW_OP_reg0);
        if (op.atom == DW_OP_regx)
            return pair(static_cast<unsigned>(op.first));
    }
    return std::nullopt;
}

// A location expression (DWARF 4, 2.5 and 2.6): an address, registers, pieces, or a value that stands nowhere.
Result<Value> Evaluator::locate(const LocationExpression& expression, TypeId type, const std::string& name) const
{
    const std::uint32_t size = std::min(symbols_.types().size(type), kLargest);
    const auto gone = [&](const char* why) { return fail(name, why); };
    std::vector<std::int64_t> stack;
    Value out;
    out.type = type;
    bool isValue = false, pieced = false;
    std::optional<std::uint64_t> inRegister;  // of the location or piece being described: a DWARF number
    const chip::Device& device = target_.device();
    const std::uint64_t mask = device.addressMask();
    std::uint32_t missing = 0;
    const auto pop = [&] {
        if (stack.empty())
            return std::int64_t{0};
        const std::int64_t v = stack.back();
        stack.pop_back();
        return v;
    };
    // No more than the type has, whatever the file says.
    const auto takePiece = [&](std::uint64_t said) {
        const auto bytes = static_cast<std::uint32_t>(std::min<std::uint64_t>(said, size - std::min<std::size_t>(size, out.bytes.size())));
        if (inRegister) {
            std::uint64_t number = *inRegister;
            unsigned byte = 0;
            for (std::uint32_t i = 0; i < bytes; ++i) {
                auto index = registerOfDwarf(device, number);
                if (index && byte >= device.coreRegisters[*index].bytes()) {
                    index = registerOfDwarf(device, ++number);
                    byte = 0;
                }
                if (!index || *index >= Registers::kMost || !frame_->registers.known[*index])
                    ++missing;
                out.bytes.push_back(index && *index < Registers::kMost ? static_cast<std::uint8_t>(frame_->registers.r[*index] >> (8 * byte)) : std::uint8_t{0});
                out.registers.push_back({static_cast<std::uint8_t>(index.value_or(0)), static_cast<std::uint8_t>(byte)});
                ++byte;
            }
        } else if (!stack.empty()) {
            const std::int64_t address = pop();
            if (uses_ != nullptr && !isValue)
                uses_->push_back({Space::data, static_cast<std::uint32_t>(static_cast<std::uint64_t>(address) & mask), bytes});
            for (std::uint32_t i = 0; i < bytes; ++i)
                out.bytes.push_back(isValue ? static_cast<std::uint8_t>(static_cast<std::uint64_t>(address) >> (8 * std::min(i, 7U))) : target_.data(static_cast<std::uint32_t>(static_cast<std::uint64_t>(address + i) & mask)));
            out.registers.assign(out.registers.size(), {});
        } else {
            missing += bytes;
            out.bytes.resize(out.bytes.size() + bytes);
        }
        inRegister.reset();
        isValue = false;
    };
    for (std::size_t i = 0; i < expression.size(); ++i) {
        const Operation& op = expression[i];
        const auto reg = [&](unsigned r) -> Result<std::int64_t> {
            if (frame_ == nullptr)
                return gone("is a local variable, and no function is running");
            if (const auto index = registerOfDwarf(device, r); index && *index < Registers::kMost && !frame_->registers.known[*index])
                return gone("stood in a register that the function called since has used for itself");
            return pointerIn(device, frame_->registers, r);
        };
        switch (op.atom) {
        case DW_OP_addr: {
            // A fixed address tells its memory.
            const auto elf = static_cast<std::uint32_t>(op.first);
            if (device.image.dataBase == 0) {
                if (expression.size() == 1)
                    return at(type, Space::data, elf);
                stack.push_back(elf);
                break;
            }
            const Space space = elf >= kElfEeprom ? Space::eeprom : elf >= kElfData ? Space::data : Space::flash;
            if (expression.size() == 1)
                return at(type, space, space == Space::flash ? elf : static_cast<std::uint32_t>(elf & mask));
            stack.push_back(static_cast<std::int64_t>(elf & mask));
            break;
        }
        case DW_OP_fbreg: {
            const auto base = frameBase();
            if (!base)
                return gone("is a local variable of a function that is not running");
            stack.push_back(*base + static_cast<std::int64_t>(op.first));
            break;
        }
        case DW_OP_bregx: {
            const auto base = reg(static_cast<unsigned>(op.first));
            if (!base)
                return tl::unexpected(base.error());
            stack.push_back(*base + static_cast<std::int64_t>(op.second));
            break;
        }
        case DW_OP_regx:
            if (frame_ == nullptr)
                return gone("is a local variable, and no function is running");
            inRegister = op.first;
            break;
        case DW_OP_piece:
            pieced = true;
            takePiece(op.first);
            break;
        case DW_OP_stack_value: isValue = true; break;
        case DW_OP_call_frame_cfa:
            if (frame_ == nullptr)
                return gone("is a local variable, and no function is running");
            stack.push_back(frame_->cfa);
            break;
        case DW_OP_const1u: case DW_OP_const2u: case DW_OP_const4u: case DW_OP_const8u: case DW_OP_constu:
        case DW_OP_const1s: case DW_OP_const2s: case DW_OP_const4s: case DW_OP_const8s: case DW_OP_consts: stack.push_back(static_cast<std::int64_t>(op.first)); break;
        case DW_OP_dup: stack.push_back(stack.empty() ? 0 : stack.back()); break;
        case DW_OP_drop: pop(); break;
        case DW_OP_swap: {
            const std::int64_t a = pop(), b = pop();
            stack.push_back(a);
            stack.push_back(b);
            break;
        }
        case DW_OP_deref: {
            const auto a = static_cast<std::uint64_t>(pop());
            if (uses_ != nullptr)
                uses_->push_back({Space::data, static_cast<std::uint32_t>(a & mask), device.pointerBytes});
            std::uint64_t value = 0;
            for (unsigned i = 0; i < device.pointerBytes; ++i)
                value |= std::uint64_t{target_.data(static_cast<std::uint32_t>((a + i) & mask))} << (8 * i);
            stack.push_back(static_cast<std::int64_t>(value));
            break;
        }
        case DW_OP_plus_uconst: stack.push_back(wrapped(static_cast<std::uint64_t>(pop()) + op.first)); break;
        case DW_OP_neg: stack.push_back(wrapped(-static_cast<std::uint64_t>(pop()))); break;
        case DW_OP_not: stack.push_back(~pop()); break;
        case DW_OP_abs:
            if (const std::int64_t v = pop(); v < 0)
                stack.push_back(wrapped(-static_cast<std::uint64_t>(v)));
            else
                stack.push_back(v);
            break;
        case DW_OP_plus: case DW_OP_minus: case DW_OP_mul: case DW_OP_and: case DW_OP_or: case DW_OP_xor: case DW_OP_shl: case DW_OP_shr: case DW_OP_shra: {
            const std::int64_t b = pop(), a = pop();
            const auto ua = static_cast<std::uint64_t>(a), ub = static_cast<std::uint64_t>(b);
            const unsigned shift = static_cast<unsigned>(b) & 63U;
            std::int64_t result = 0;
            switch (op.atom) {
            case DW_OP_plus: result = wrapped(ua + ub); break;
            case DW_OP_minus: result = wrapped(ua - ub); break;
            case DW_OP_mul: result = wrapped(ua * ub); break;
            case DW_OP_and: result = a & b; break;
            case DW_OP_or: result = a | b; break;
            case DW_OP_xor: result = a ^ b; break;
            case DW_OP_shl: result = wrapped(ua << shift); break;
            case DW_OP_shr: result = wrapped((ua & mask) >> shift); break;
            default: result = a >> shift; break;
            }
            stack.push_back(result);
            break;
        }
        case DW_OP_implicit_value: return gone("has a constant value that is not described");
        case DW_OP_nop: break;
        default:
            if (op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31) {
                if (frame_ == nullptr)
                    return gone("is a local variable, and no function is running");
                inRegister = op.atom - DW_OP_reg0;
            } else if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31) {
                const auto base = reg(op.atom - DW_OP_breg0);
                if (!base)
                    return tl::unexpected(base.error());
                stack.push_back(*base + static_cast<std::int64_t>(op.first));
            } else if (op.atom >= DW_OP_lit0 && op.atom <= DW_OP_lit31) {
                stack.push_back(op.atom - DW_OP_lit0);
            } else {
                return gone("is not kept by the compiler at this place");
            }
        }
    }
    if (!pieced && expression.empty())
        return gone("is not kept by the compiler at this place");
    if (!pieced) {
        if (!inRegister && !isValue)
            return at(type, Space::data, static_cast<std::uint32_t>(static_cast<std::uint64_t>(pop()) & mask));
        takePiece(size);
        if (!isValue && out.registers.size() != size)
            out.registers.clear();
    }
    if (missing > 0)
        return gone(pieced ? "is kept only in part at this place" : "stood in a register that the function called since has used for itself");
    // Registers of a frame further out stand in memory, where they were saved.
    if (out.registers.size() == size && size > 0 && frame_ != nullptr && std::any_of(out.registers.begin(), out.registers.end(), [&](const Value::InRegister& r) { return frame_->registers.savedAt[r.index] != 0; }))
        out.registers.clear();
    if (out.registers.size() != size)
        out.registers.clear();
    out.bytes.resize(size);
    return out;
}

Result<Value> Evaluator::read(const Variable& variable) const
{
    if (!variable.constant.empty()) {
        Value v;
        v.type = variable.type;
        v.bytes = variable.constant;
        v.bytes.resize(std::min(symbols_.types().size(variable.type), kLargest));
        return v;
    }
    const std::uint32_t pc = frame_ == nullptr ? 0 : frame_->registers.pc;
    for (const Location& l : variable.locations)
        if (variable.locations.size() == 1 && l.begin == 0 ? true : pc >= l.begin && pc < l.end)
            return locate(l.expression, variable.type, variable.name);
    return fail(variable.name, "is not kept by the compiler at this place");
}

Result<Value> Evaluator::member(const Value& of, const Member& m) const
{
    const std::uint32_t size = symbols_.types().size(m.type);
    const bool isSigned = symbols_.types().resolved(m.type).isSigned;
    Value v;
    v.type = m.type;
    if (m.offset > of.bytes.size() || (m.bitSize == 0 && m.offset + size > of.bytes.size()))
        return fail(m.name, "lies outside the value");
    const std::span<const std::uint8_t> part = std::span(of.bytes).subspan(m.offset);
    v.bytes = m.bitSize != 0 ? bitsOf(part, m.bitOffset, m.bitSize, isSigned, size) : std::vector<std::uint8_t>(part.begin(), part.begin() + size);
    v.inMemory = of.inMemory;
    v.space = of.space;
    v.address = of.address + m.offset;
    v.bitOffset = m.bitOffset;
    v.bitSize = m.bitSize;
    if (!of.registers.empty() && m.bitSize == 0)
        v.registers.assign(of.registers.begin() + m.offset, of.registers.begin() + m.offset + size);
    return v;
}

Use placeOf(const Value& value)
{
    constexpr std::uint32_t kBitsInByte = 8;
    const std::uint32_t bits = std::uint32_t{value.bitOffset} + value.bitSize;
    return {value.space, value.address, value.bitSize != 0 ? (bits + kBitsInByte - 1) / kBitsInByte : static_cast<std::uint32_t>(value.bytes.size())};
}

void Evaluator::used(const Value& value) const
{
    if (uses_ != nullptr && value.inMemory && !value.bytes.empty())
        uses_->push_back(placeOf(value));
}

Result<Value> Evaluator::element(const Value& of, std::size_t index) const
{
    const Types& types = symbols_.types();
    const Type& type = types.resolved(of.type);
    if (type.kind == Type::Kind::pointer) {
        used(of);
        const std::uint32_t size = types.size(type.element);
        return at(type.element, type.inFlash ? Space::flash : Space::data, static_cast<std::uint32_t>((unsignedOf(of.bytes) + index * size) & target_.device().addressMask()));
    }
    if (type.kind != Type::Kind::array)
        return fail(types.name(of.type), "is neither an array nor a pointer");
    const std::uint32_t size = types.size(type.element);
    const std::size_t offset = index * size;
    if (index >= type.count && of.inMemory)
        return at(type.element, of.space, of.address + static_cast<std::uint32_t>(offset));
    if (offset + size > of.bytes.size())
        return fail(fmt::format("[{}]", index), fmt::format("lies outside the array of {}", type.count));
    Value v;
    v.type = type.element;
    v.bytes.assign(of.bytes.begin() + static_cast<std::ptrdiff_t>(offset), of.bytes.begin() + static_cast<std::ptrdiff_t>(offset + size));
    v.inMemory = of.inMemory;
    v.space = of.space;
    v.address = of.address + static_cast<std::uint32_t>(offset);
    return v;
}

Result<Value> Evaluator::pointee(const Value& pointer) const
{
    const Type& type = symbols_.types().resolved(pointer.type);
    if (type.kind != Type::Kind::pointer)
        return fail(symbols_.types().name(pointer.type), "is not a pointer");
    used(pointer);
    return at(type.element, type.inFlash ? Space::flash : Space::data, static_cast<std::uint32_t>(unsignedOf(pointer.bytes) & target_.device().addressMask()));
}

std::string Evaluator::format(const Value& value, Radix radix) const
{
    return symbols_.types().format(value.type, value.bytes, radix, [this](std::uint32_t address, bool flash) { return symbols_.nameOf(address, flash ? Space::flash : Space::data); });
}

Result<bool> Evaluator::isTrue(const std::string& expression)
{
    auto value = evaluate(expression);
    if (!value)
        return tl::unexpected(value.error());
    if (symbols_.types().resolved(value->type).kind == Type::Kind::floating)
        return floatingOf(value->bytes) != 0;
    return std::any_of(value->bytes.begin(), value->bytes.end(), [](std::uint8_t b) { return b != 0; });
}

Result<std::vector<ByteWrite>> Evaluator::assign(const Value& value, const std::string& text)
{
    if (!value.canBeWritten())
        return fail(text, "this value stands nowhere that can be written");
    const Type& type = symbols_.types().resolved(value.type);
    if (type.kind == Type::Kind::structure || type.kind == Type::Kind::array)
        return fail(text, "a whole structure or array cannot be set at once; set its members");
    // An enumeration is set by its names, which are constants to the parser.
    auto given = evaluate(text);
    if (!given)
        return tl::unexpected(given.error());
    const Type& from = symbols_.types().resolved(given->type);
    const double d = from.kind == Type::Kind::floating ? floatingOf(given->bytes) : static_cast<double>(signedOf(given->bytes));
    std::vector<std::uint8_t> bytes;
    if (type.kind == Type::Kind::floating) {
        const auto f = static_cast<float>(d);
        bytes.resize(type.size);
        if (type.size == sizeof f)
            std::memcpy(bytes.data(), &f, sizeof f);
        else
            std::memcpy(bytes.data(), &d, std::min<std::size_t>(type.size, sizeof d));
    } else {
        const std::int64_t n = from.kind == Type::Kind::floating ? static_cast<std::int64_t>(d) : from.isSigned ? signedOf(given->bytes) : static_cast<std::int64_t>(unsignedOf(given->bytes));
        const unsigned bits = value.bitSize != 0 ? value.bitSize : std::min(type.size, 8U) * 8;
        if (bits < 64 && (n >= (std::int64_t{1} << bits) || n < -(std::int64_t{1} << (bits - 1))))
            return fail(text, fmt::format("{} does not fit into {} bits", n, bits));
        bytes = bytesOf(static_cast<std::uint64_t>(n), type.size);
    }
    std::vector<ByteWrite> out;
    if (value.bitSize != 0) {
        // The bits around it stay.
        const unsigned span = (value.bitOffset + value.bitSize + 7U) / 8U;
        const std::uint64_t mask = ((std::uint64_t{1} << value.bitSize) - 1) << value.bitOffset;
        std::uint64_t all = 0;
        for (unsigned i = 0; i < span; ++i)
            all |= std::uint64_t{target_.read(value.space, value.address + i)} << (8 * i);
        all = (all & ~mask) | ((unsignedOf(bytes) << value.bitOffset) & mask);
        for (unsigned i = 0; i < span; ++i)
            out.push_back({value.space, value.address + i, static_cast<std::uint8_t>(all >> (8 * i))});
        return out;
    }
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        if (value.inMemory)
            out.push_back({value.space, value.address + static_cast<std::uint32_t>(i), bytes[i]});
        else if (i < value.registers.size()) {
            const Value::InRegister at = value.registers[i];
            const chip::CoreRegister& reg = target_.device().coreRegisters[at.index];
            if (reg.dataAddress >= 0)
                out.push_back({Space::data, static_cast<std::uint32_t>(reg.dataAddress) + at.byte, bytes[i]});
            else
                out.push_back({Space::data, 0, bytes[i], at});
        }
    }
    return out;
}

}  // namespace bramix::debug
