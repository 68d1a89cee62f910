#include "debug/types.h"

#include <algorithm>
#include <cstring>

#include <fmt/format.h>

namespace bramix::debug {

namespace {

constexpr std::size_t kMostElements = 32;  // of an array, in one line
constexpr int kDeepest = 16;               // of aliases; a damaged file may run in circles

std::string characterText(std::uint8_t c)
{
    switch (c) {
    case '\n': return "\\n";
    case '\r': return "\\r";
    case '\t': return "\\t";
    case '"': return "\\\"";
    case '\\': return "\\\\";
    default: return c >= 0x20 && c < 0x7F ? std::string(1, static_cast<char>(c)) : fmt::format("\\x{:02x}", c);
    }
}

std::string numberText(std::uint64_t value, std::int64_t asSigned, std::uint32_t size, bool isSigned, Radix radix)
{
    switch (radix) {
    case Radix::hexadecimal: return fmt::format("0x{:0{}x}", value, size * 2);
    case Radix::binary: return fmt::format("0b{:0{}b}", value, size * 8);
    case Radix::character:
        if (size == 1)
            return fmt::format("'{}'", value == '"' ? "\"" : characterText(static_cast<std::uint8_t>(value)));
        break;
    default: break;
    }
    return isSigned ? fmt::format("{}", asSigned) : fmt::format("{}", value);
}

}  // namespace

std::uint64_t unsignedOf(std::span<const std::uint8_t> bytes)
{
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < std::min<std::size_t>(bytes.size(), 8); ++i)
        value |= std::uint64_t{bytes[i]} << (8 * i);
    return value;
}

std::int64_t signedOf(std::span<const std::uint8_t> bytes)
{
    if (bytes.empty() || bytes.size() >= 8)
        return static_cast<std::int64_t>(unsignedOf(bytes));
    const unsigned unused = 64 - 8 * static_cast<unsigned>(bytes.size());
    return static_cast<std::int64_t>(unsignedOf(bytes) << unused) >> unused;
}

std::vector<std::uint8_t> bytesOf(std::uint64_t value, std::uint32_t size)
{
    std::vector<std::uint8_t> out(size);
    for (std::uint32_t i = 0; i < std::min<std::uint32_t>(size, 8); ++i)
        out[i] = static_cast<std::uint8_t>(value >> (8 * i));
    return out;
}

double floatingOf(std::span<const std::uint8_t> bytes)
{
    if (bytes.size() == sizeof(float)) {
        float f = 0;
        std::memcpy(&f, bytes.data(), sizeof f);
        return f;
    }
    double d = 0;
    std::memcpy(&d, bytes.data(), std::min(bytes.size(), sizeof d));
    return d;
}

std::vector<std::uint8_t> bitsOf(std::span<const std::uint8_t> bytes, unsigned bitOffset, unsigned bitSize, bool isSigned, std::uint32_t size)
{
    std::uint64_t value = unsignedOf(bytes) >> bitOffset;
    const std::uint64_t mask = bitSize >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bitSize) - 1;
    value &= mask;
    if (isSigned && bitSize > 0 && ((value >> (bitSize - 1)) & 1) != 0)
        value |= ~mask;
    std::vector<std::uint8_t> out(size);
    for (std::uint32_t i = 0; i < size && i < 8; ++i)
        out[i] = static_cast<std::uint8_t>(value >> (8 * i));
    return out;
}

Types::Types() { types_.push_back({Type::Kind::none, "void"}); }

TypeId Types::add(Type type)
{
    types_.push_back(std::move(type));
    return TypeId{static_cast<std::uint32_t>(types_.size() - 1)};
}

TypeId Types::resolve(TypeId id) const
{
    for (int i = 0; i < kDeepest && at(id).kind == Type::Kind::alias; ++i)
        id = at(id).element;
    return at(id).kind == Type::Kind::alias ? kNoType : id;
}

std::uint32_t Types::size(TypeId id) const
{
    const Type& type = resolved(id);
    // A structure cannot hold itself but by a pointer, so this ends, unless the file is damaged: there sizes are given, not worked out.
    if (type.kind == Type::Kind::array && type.size == 0) {
        const Type& element = resolved(type.element);
        return type.count * (element.kind == Type::Kind::array && element.size == 0 ? resolved(element.element).size * element.count : element.size);
    }
    return type.size;
}

std::string Types::name(TypeId id) const
{
    std::string suffix;
    for (int i = 0; i < kDeepest; ++i) {
        const Type& type = at(id);
        if (!type.name.empty())
            return type.name + (suffix.empty() ? "" : " " + suffix);
        switch (type.kind) {
        case Type::Kind::pointer:
            suffix = suffix.starts_with("[") ? "(*)" + suffix : "*" + suffix;
            id = type.element;
            break;
        case Type::Kind::array:
            suffix += fmt::format("[{}]", type.count);
            id = type.element;
            break;
        case Type::Kind::alias: id = type.element; break;
        case Type::Kind::function:
            suffix += "()";
            id = type.element;
            break;
        case Type::Kind::structure: return type.isUnion ? "union" : "struct";
        case Type::Kind::enumeration: return "enum";
        default: return "void" + (suffix.empty() ? "" : " " + suffix);
        }
    }
    return "?";
}

TypeId Types::pointerTo(TypeId element, bool inFlash)
{
    Type type{Type::Kind::pointer, {}, pointers_.bytes};
    type.element = element;
    type.inFlash = inFlash;
    return add(std::move(type));
}

TypeId Types::integer(std::uint32_t size, bool isSigned)
{
    for (std::uint32_t i = 0; i < types_.size(); ++i)
        if (types_[i].kind == Type::Kind::integer && types_[i].size == size && types_[i].isSigned == isSigned)
            return TypeId{i};
    return add({Type::Kind::integer, fmt::format("{}int{}_t", isSigned ? "" : "u", size * 8), size, isSigned});
}

TypeId Types::doubleType()
{
    for (std::uint32_t i = 0; i < types_.size(); ++i)
        if (types_[i].kind == Type::Kind::floating && types_[i].size == 8)
            return TypeId{i};
    return add({Type::Kind::floating, "double (8 bytes)", 8, true});
}

TypeId Types::find(const std::string& name) const
{
    for (std::uint32_t i = 0; i < types_.size(); ++i)
        if (!types_[i].name.empty() && types_[i].name == name)
            return TypeId{i};
    return kNoType;
}

std::string Types::format(TypeId id, std::span<const std::uint8_t> bytes, Radix radix, const std::function<std::string(std::uint32_t, bool)>& symbol) const
{
    const Type& type = resolved(id);
    if (bytes.size() < size(id))
        return "?";
    switch (type.kind) {
    case Type::Kind::none:
    case Type::Kind::function:
    case Type::Kind::alias: return "void";
    case Type::Kind::integer: return numberText(unsignedOf(bytes.first(type.size)), signedOf(bytes.first(type.size)), type.size, type.isSigned, radix);
    case Type::Kind::boolean:
        if (radix != Radix::natural)
            return numberText(unsignedOf(bytes.first(type.size)), 0, type.size, false, radix);
        return bytes[0] == 0 ? "false" : bytes[0] == 1 ? "true" : fmt::format("true (0x{:02x})", bytes[0]);
    case Type::Kind::character: {
        const std::string number = numberText(bytes[0], static_cast<std::int8_t>(bytes[0]), 1, type.isSigned, radix);
        return radix == Radix::natural && bytes[0] >= 0x20 && bytes[0] < 0x7F ? fmt::format("{} '{}'", number, static_cast<char>(bytes[0])) : number;
    }
    case Type::Kind::floating:
        if (radix == Radix::hexadecimal || radix == Radix::binary)
            return numberText(unsignedOf(bytes.first(type.size)), 0, type.size, false, radix);
        return fmt::format("{:g}", floatingOf(bytes.first(type.size)));
    case Type::Kind::enumeration: {
        const std::int64_t value = type.isSigned ? signedOf(bytes.first(type.size)) : static_cast<std::int64_t>(unsignedOf(bytes.first(type.size)));
        if (radix == Radix::natural)
            for (const auto& [name, number] : type.values)
                if (number == value)
                    return name;
        return numberText(unsignedOf(bytes.first(type.size)), value, type.size, type.isSigned, radix);
    }
    case Type::Kind::pointer: {
        const auto address = static_cast<std::uint32_t>(unsignedOf(bytes.first(std::min<std::size_t>(type.size, bytes.size()))));
        const bool isCode = resolved(type.element).kind == Type::Kind::function;
        const std::uint32_t leads = isCode ? pointers_.codeAddress(address) : address;
        std::string text = fmt::format("0x{:0{}x}", leads, pointers_.bytes * 2);
        if (symbol) {
            const std::string name = symbol(leads, isCode || type.inFlash);
            if (!name.empty() && address != 0)
                text += " " + name;
        }
        return text;
    }
    case Type::Kind::array: {
        const std::uint32_t each = size(type.element);
        if (each == 0 || type.count == 0)
            return "[]";
        if (resolved(type.element).kind == Type::Kind::character && radix == Radix::natural) {
            std::string text = "\"";
            std::size_t i = 0;
            for (; i < type.count && bytes[i] != 0; ++i)
                text += characterText(bytes[i]);
            return text + "\"";
        }
        std::string text = "[";
        for (std::size_t i = 0; i < type.count; ++i) {
            if (i == kMostElements) {
                text += fmt::format(", and {} more", type.count - kMostElements);
                break;
            }
            text += (i == 0 ? "" : ", ") + format(type.element, bytes.subspan(i * each, each), radix, symbol);
        }
        return text + "]";
    }
    case Type::Kind::structure: {
        std::string text = "{";
        for (const Member& member : type.members) {
            const Type& inner = resolved(member.type);
            const std::uint32_t size = this->size(member.type);
            if (member.offset >= bytes.size() || (member.bitSize == 0 && member.offset + size > bytes.size()))
                continue;
            std::vector<std::uint8_t> bits;
            std::span<const std::uint8_t> part = bytes.subspan(member.offset);
            if (member.bitSize != 0)
                part = bits = bitsOf(part, member.bitOffset, member.bitSize, inner.isSigned, size);
            text += fmt::format("{}{}{}{}", text.size() > 1 ? ", " : "", member.name, member.name.empty() ? "" : " ", format(member.type, part, radix, symbol));
        }
        return text + "}";
    }
    }
    return "?";
}

}  // namespace bramix::debug
