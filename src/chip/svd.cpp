#include "chip/svd.h"

#include <algorithm>
#include <cctype>
#include <map>
#include <set>

#include <fmt/format.h>
#include <pugixml.hpp>

namespace bramix::chip {

using kernel::fail;
using kernel::Result;
using pugi::xml_node;

namespace {

constexpr unsigned kDeepest = 16;        // clusters in clusters, and what is derived from what
constexpr std::uint64_t kMostOfOne = 65'536;  // of one array

// Thrown inside the reader only, and caught where it begins.
struct Wrong {
    xml_node at;
    std::string what;
};

// Text as people wrote it over several lines.
std::string words(std::string_view text)
{
    std::string out;
    for (const char c : text)
        if (std::isspace(static_cast<unsigned char>(c)) == 0)
            out += c;
        else if (!out.empty() && out.back() != ' ')
            out += ' ';
    while (!out.empty() && out.back() == ' ')
        out.pop_back();
    return out;
}

std::string textOf(xml_node node, const char* child) { return words(node.child_value(child)); }

// scaledNonNegativeInteger of the schema: decimal, 0x, # or 0b for binary, with k, m, g or t behind. An x among binary digits does not matter.
struct Number {
    std::uint64_t value = 0, ignored = 0;
};
Number number(xml_node at, std::string_view text, bool doNotCare = false)
{
    const auto wrong = [&] { return Wrong{at, fmt::format("\"{}\" is no number; expected one like 12, 0x1F or #0101", text)}; };
    std::string_view digits = text;
    unsigned base = 10, shift = 0;
    if (digits.starts_with('+'))
        digits.remove_prefix(1);
    if (digits.starts_with("0x") || digits.starts_with("0X")) {
        base = 16;
        digits.remove_prefix(2);
    } else if (digits.starts_with('#')) {
        base = 2;
        digits.remove_prefix(1);
    } else if (digits.starts_with("0b") || digits.starts_with("0B")) {
        base = 2;
        digits.remove_prefix(2);
    }
    if (base != 2 && !digits.empty()) {
        const std::string_view scales = "kmgt";
        if (const auto scale = scales.find(static_cast<char>(std::tolower(digits.back()))); scale != std::string_view::npos) {
            shift = 10 * (static_cast<unsigned>(scale) + 1);
            digits.remove_suffix(1);
        }
    }
    Number out;
    if (digits.empty())
        throw wrong();
    for (const char c : digits) {
        const int d = std::isdigit(static_cast<unsigned char>(c)) != 0 ? c - '0' : std::isxdigit(static_cast<unsigned char>(c)) != 0 ? std::tolower(c) - 'a' + 10 : -1;
        const bool any = base == 2 && doNotCare && (c == 'x' || c == 'X');
        if (!any && (d < 0 || d >= static_cast<int>(base)))
            throw wrong();
        if (out.value > (UINT64_MAX - 15) / base)
            throw wrong();
        out.value = out.value * base + static_cast<std::uint64_t>(any ? 0 : d);
        out.ignored = out.ignored * base + (any ? 1 : 0);
    }
    if (shift != 0 && out.value > UINT64_MAX >> shift)
        throw wrong();
    out.value <<= shift;
    return out;
}

// What registers take from the levels above them.
struct Inherited {
    unsigned size = 32;
    Access access = Access::readWrite;
    std::uint64_t reset = 0, resetMask = UINT64_MAX;
};

Access accessOf(xml_node at, const std::string& text)
{
    if (text == "read-only")
        return Access::readOnly;
    if (text == "write-only")
        return Access::writeOnly;
    if (text == "read-write")
        return Access::readWrite;
    if (text == "writeOnce")
        return Access::writeOnce;
    if (text == "read-writeOnce")
        return Access::readWriteOnce;
    throw Wrong{at, fmt::format("access \"{}\" is unknown; expected read-only, write-only, read-write, writeOnce or read-writeOnce", text)};
}

class Reader {
public:
    explicit Reader(xml_node device) : device_(device) {}

    RegisterMap read()
    {
        RegisterMap out;
        out.device = need(device_, "name");
        out.about = textOf(device_, "description");
        if (const std::string unit = textOf(device_, "addressUnitBits"); !unit.empty())
            out.addressUnitBits = static_cast<unsigned>(number(device_.child("addressUnitBits"), unit).value);
        if (out.addressUnitBits == 0 || out.addressUnitBits > 64)
            throw Wrong{device_.child("addressUnitBits"), "addressUnitBits is not 1 to 64"};
        out.bigEndian = textOf(device_.child("cpu"), "endian") == "big";
        const Inherited above = inherit({}, device_);
        for (const xml_node p : device_.child("peripherals").children("peripheral"))
            for (const auto& [index, label, step] : copies(p))
                out.peripherals.push_back(peripheral(p, index, label, step, above));
        if (out.peripherals.empty())
            throw Wrong{device_, "has no peripherals"};
        std::stable_sort(out.peripherals.begin(), out.peripherals.end(), [](const auto& a, const auto& b) { return a.base < b.base; });
        return out;
    }

private:
    struct Copy {
        std::uint64_t index = 0;
        std::string label;       // what stands for %s; empty of what is there once
        std::uint64_t step = 0;  // addresses (bits of a field) from one to the next
    };

    // An element of its own, else of what it is derived from, else nothing.
    static std::vector<xml_node> lineage(xml_node node)
    {
        std::vector<xml_node> out{node};
        while (const char* from = out.back().attribute("derivedFrom").value()) {
            if (*from == '\0')
                break;
            const xml_node next = source(out.back(), from);
            if (!next)
                throw Wrong{out.back(), fmt::format("is derived from \"{}\", which is not there", from)};
            if (std::find(out.begin(), out.end(), next) != out.end() || out.size() > kDeepest)
                throw Wrong{node, "is derived from itself"};
            out.push_back(next);
        }
        return out;
    }

    // "MODER" beside it, "MODER.MODER0" in the same peripheral, "GPIOA.MODER.MODER0" from the top, or the name alone of what lies elsewhere.
    static xml_node source(xml_node node, std::string_view path)
    {
        const std::string kind = node.name();
        std::vector<xml_node> starts{node.parent()};
        for (xml_node n = node.parent(); n; n = n.parent())
            if (std::string_view(n.name()) == "peripheral")
                starts.push_back(n.child("registers"));
        starts.push_back(node.root().child("device").child("peripherals"));
        for (xml_node at : starts) {
            for (std::string_view rest = path; at && !rest.empty();) {
                const std::size_t dot = rest.find('.');
                const std::string_view name = rest.substr(0, dot);
                rest = dot == std::string_view::npos ? std::string_view() : rest.substr(dot + 1);
                xml_node next;
                for (const xml_node n : at.children())
                    if (!next && words(n.child_value("name")) == name && (!rest.empty() || (n.name() == kind && n != node)))
                        next = n;
                if (next && rest.empty())
                    return next;
                at = next.child("registers") ? next.child("registers") : next.child("fields") ? next.child("fields") : next;
            }
        }
        return anywhere(node, kind, path);
    }

    // Some write the name alone of what lies elsewhere.
    static xml_node anywhere(xml_node but, const std::string& kind, std::string_view name)
    {
        return but.root().find_node([&](xml_node n) { return n != but && n.name() == kind && words(n.child_value("name")) == name; });
    }

    static std::string property(const std::vector<xml_node>& from, const char* name)
    {
        for (const xml_node n : from)
            if (n.child(name))
                return textOf(n, name);
        return {};
    }
    static xml_node childOf(const std::vector<xml_node>& from, const char* name)
    {
        for (const xml_node n : from)
            if (const xml_node c = n.child(name))
                return c;
        return {};
    }
    static std::string need(xml_node node, const char* name)
    {
        std::string out = textOf(node, name);
        if (out.empty())
            throw Wrong{node, fmt::format("<{}> has no <{}>", node.name(), name)};
        return out;
    }

    static Inherited inherit(Inherited out, const std::vector<xml_node>& from)
    {
        const auto value = [&](const char* name, auto& to) {
            if (const std::string text = property(from, name); !text.empty())
                to = static_cast<std::remove_reference_t<decltype(to)>>(number(from.front(), text).value);
        };
        value("size", out.size);
        value("resetValue", out.reset);
        value("resetMask", out.resetMask);
        if (const std::string access = property(from, "access"); !access.empty())
            out.access = accessOf(from.front(), access);
        return out;
    }
    static Inherited inherit(const Inherited& above, xml_node node) { return inherit(above, std::vector{node}); }

    // How often an element is there: once, or as its `dim` says.
    static std::vector<Copy> copies(xml_node node)
    {
        const auto from = lineage(node);
        const std::string dim = property({node}, "dim").empty() ? property(from, "dim") : property({node}, "dim");
        const std::string name = property(from, "name");
        // What is derived from an array is one thing again unless its own name is an array's.
        if (dim.empty() || name.find("%s") == std::string::npos)
            return {Copy{}};
        const std::uint64_t count = number(node, dim).value, step = number(node, property(from, "dimIncrement").empty() ? "0" : property(from, "dimIncrement")).value;
        if (count == 0 || count > kMostOfOne)
            throw Wrong{node, fmt::format("dim is {}; expected 1 to {}", count, kMostOfOne)};
        std::vector<std::string> labels = indexes(node, property(from, "dimIndex"), count);
        std::vector<Copy> out;
        for (std::uint64_t i = 0; i < count; ++i)
            out.push_back({i, labels[i], step});
        return out;
    }

    // "0-3", "A-D", "one,two,three"; without one, numbers from 0.
    static std::vector<std::string> indexes(xml_node node, const std::string& text, std::uint64_t count)
    {
        std::vector<std::string> out;
        const auto dash = text.find('-');
        if (text.empty()) {
            for (std::uint64_t i = 0; i < count; ++i)
                out.push_back(std::to_string(i));
        } else if (text.find(',') == std::string::npos && dash != std::string::npos) {
            const std::string first = words(text.substr(0, dash)), last = words(text.substr(dash + 1));
            if (first.size() == 1 && last.size() == 1 && std::isalpha(static_cast<unsigned char>(first[0])) != 0) {
                for (int c = first[0]; c <= last[0]; ++c)
                    out.emplace_back(1, static_cast<char>(c));
            } else {
                const std::uint64_t low = number(node, first).value, high = number(node, last).value;
                for (std::uint64_t i = low; i <= high && out.size() <= count; ++i)
                    out.push_back(std::to_string(i));
            }
        } else {
            for (std::size_t at = 0; at <= text.size();) {
                const std::size_t end = std::min(text.find(',', at), text.size());
                out.push_back(words(text.substr(at, end - at)));
                at = end + 1;
            }
        }
        if (out.size() != count)
            throw Wrong{node, fmt::format("dimIndex \"{}\" names {} and dim is {}", text, out.size(), count)};
        return out;
    }

    static std::string named(std::string pattern, const std::string& label)
    {
        if (const auto at = pattern.find("%s"); at != std::string::npos)
            pattern.replace(at, 2, label);
        return pattern;
    }

    PeripheralGroup peripheral(xml_node node, std::uint64_t index, const std::string& label, std::uint64_t step, const Inherited& above)
    {
        const auto from = lineage(node);
        PeripheralGroup out;
        out.name = named(need(node, "name"), label);
        out.about = property(from, "description");
        out.base = number(node, need(node, "baseAddress")).value + index * step;
        if (const xml_node first = childOf(from, "interrupt"))
            for (const xml_node i : first.parent().children("interrupt"))
                out.interrupts.push_back({need(i, "name"), textOf(i, "description"), static_cast<unsigned>(number(i, need(i, "value")).value)});
        std::set<std::string> own;
        // Registers of its own stand in place of derived ones of the same name.
        for (const xml_node n : from) {
            std::vector<PeripheralRegister> found;
            registers(n.child("registers"), out.base, {}, inherit(above, from), 0, found);
            for (PeripheralRegister& r : found)
                if (!own.contains(r.name))
                    out.registers.push_back(std::move(r));
            for (const PeripheralRegister& r : out.registers)
                own.insert(r.name);
        }
        std::stable_sort(out.registers.begin(), out.registers.end(), [](const auto& a, const auto& b) { return a.address < b.address; });
        return out;
    }

    void registers(xml_node list, std::uint64_t base, const std::string& prefix, const Inherited& above, unsigned depth, std::vector<PeripheralRegister>& out)
    {
        if (depth > kDeepest)
            throw Wrong{list, "has clusters in clusters without end"};
        for (const xml_node node : list.children()) {
            const std::string_view kind = node.name();
            if (kind != "register" && kind != "cluster")
                continue;
            const auto from = lineage(node);
            for (const Copy& copy : copies(node)) {
                const std::string offset = property(from, "addressOffset");
                if (offset.empty())
                    throw Wrong{node, fmt::format("<{}> has no <addressOffset>", kind)};
                const std::uint64_t at = base + number(node, offset).value + copy.index * copy.step;
                const std::string name = prefix + named(property(from, "name"), copy.label);
                if (name.size() == prefix.size())
                    throw Wrong{node, fmt::format("<{}> has no <name>", kind)};
                if (++count_ > kMostRegisters)
                    throw Wrong{node, fmt::format("has more than {} registers", kMostRegisters)};
                if (kind == "cluster") {
                    for (const xml_node n : from)
                        registers(n, at, name + ".", inherit(above, from), depth + 1, out);
                    continue;
                }
                out.push_back(oneRegister(from, name, at, above));
            }
        }
    }

    PeripheralRegister oneRegister(const std::vector<xml_node>& from, const std::string& name, std::uint64_t address, const Inherited& above)
    {
        const Inherited own = inherit(above, from);
        if (own.size == 0 || own.size > 64)
            throw Wrong{from.front(), fmt::format("register {} has a size of {} bits; expected 1 to 64", name, own.size)};
        PeripheralRegister out{name, property(from, "description"), address, own.size, own.access, own.reset, own.resetMask, childOf(from, "readAction") ? true : false, {}};
        std::set<std::string> had;
        for (const xml_node n : from)
            for (const xml_node f : n.child("fields").children("field")) {
                const auto ancestry = lineage(f);
                for (const Copy& copy : copies(f)) {
                    RegisterField made = field(ancestry, copy, own);
                    if (made.low + made.bits > own.size)
                        throw Wrong{f, fmt::format("field {}.{} ends at bit {} of {}", name, made.name, made.low + made.bits - 1, own.size)};
                    out.readActs = out.readActs || childOf(ancestry, "readAction");
                    if (had.insert(made.name).second)
                        out.fields.push_back(std::move(made));
                }
            }
        std::stable_sort(out.fields.begin(), out.fields.end(), [](const auto& a, const auto& b) { return a.low > b.low; });
        return out;
    }

    static RegisterField field(const std::vector<xml_node>& from, const Copy& copy, const Inherited& above)
    {
        const xml_node node = from.front();
        RegisterField out;
        out.name = named(property(from, "name"), copy.label);
        if (out.name.empty())
            throw Wrong{node, "<field> has no <name>"};
        out.about = property(from, "description");
        std::uint64_t low = 0, bits = 1;
        // Its own place, else that of what it is derived from.
        const auto placed = std::find_if(from.begin(), from.end(), [](xml_node n) { return n.child("bitRange") || n.child("bitOffset") || n.child("lsb"); });
        if (placed == from.end())
            throw Wrong{node, fmt::format("field {} has no place; expected bitRange, bitOffset or lsb", out.name)};
        if (const std::string range = textOf(*placed, "bitRange"); !range.empty()) {
            const auto colon = range.find(':');
            if (range.front() != '[' || range.back() != ']' || colon == std::string::npos)
                throw Wrong{node, fmt::format("bitRange \"{}\" is none; expected one like [7:4]", range)};
            low = number(node, words(range.substr(colon + 1, range.size() - colon - 2))).value;
            bits = number(node, words(range.substr(1, colon - 1))).value - low + 1;
        } else if (placed->child("lsb")) {
            low = number(node, textOf(*placed, "lsb")).value;
            bits = number(node, need(*placed, "msb")).value - low + 1;
        } else {
            low = number(node, textOf(*placed, "bitOffset")).value;
            if (const std::string width = property(from, "bitWidth"); !width.empty())
                bits = number(node, width).value;
        }
        low += copy.index * copy.step;
        if (low > 63 || bits == 0 || bits > 64 - low)
            throw Wrong{node, fmt::format("field {} has {} bits from bit {}; expected bits within 0 to 63", out.name, bits, low)};
        out.low = static_cast<unsigned>(low);
        out.bits = static_cast<unsigned>(bits);
        const std::string access = property(from, "access");
        out.access = access.empty() ? above.access : accessOf(node, access);
        for (const xml_node n : from)
            if (n.child("enumeratedValues")) {
                for (const xml_node list : n.children("enumeratedValues"))
                    values(list, out);
                break;
            }
        return out;
    }

    static void values(xml_node list, RegisterField& out)
    {
        xml_node holder = list;
        if (*list.attribute("derivedFrom").value() != '\0') {
            const std::string_view path = list.attribute("derivedFrom").value();
            const std::string_view last = path.substr(path.rfind('.') == std::string_view::npos ? 0 : path.rfind('.') + 1);
            holder = list.root().find_node([&](xml_node n) { return n != list && std::string_view(n.name()) == "enumeratedValues" && words(n.child_value("name")) == last; });
            if (!holder)
                throw Wrong{list, fmt::format("is derived from \"{}\", which is not there", path)};
        }
        const std::string usage = textOf(list, "usage").empty() ? textOf(holder, "usage") : textOf(list, "usage");
        auto& to = usage == "write" ? out.writeValues : out.values;
        for (const xml_node v : holder.children("enumeratedValue")) {
            FieldValue made{textOf(v, "name"), textOf(v, "description"), 0, 0, textOf(v, "isDefault") == "true"};
            if (!made.otherwise) {
                const Number n = number(v, need(v, "value"), true);
                made.value = n.value;
                made.ignored = n.ignored;
            }
            to.push_back(std::move(made));
        }
    }

    xml_node device_;
    std::size_t count_ = 0;
};

std::size_t lineAt(std::string_view text, std::ptrdiff_t offset)
{
    const auto end = text.begin() + std::clamp<std::ptrdiff_t>(offset, 0, static_cast<std::ptrdiff_t>(text.size()));
    return 1 + static_cast<std::size_t>(std::count(text.begin(), end, '\n'));
}

}  // namespace

Result<RegisterMap> readSvd(const std::string& name, std::string_view text)
{
    if (text.size() > kLargestSvd)
        return fail(name, fmt::format("is larger than {} MB", kLargestSvd >> 20U));
    pugi::xml_document document;
    const auto parsed = document.load_buffer(text.data(), text.size());
    if (!parsed)
        return fail(fmt::format("{}: line {}", name, lineAt(text, parsed.offset)), fmt::format("is no XML: {}", parsed.description()));
    const xml_node device = document.child("device");
    if (!device)
        return fail(name, "is no register description: it has no <device>");
    try {
        return Reader(device).read();
    } catch (const Wrong& wrong) {
        return fail(fmt::format("{}: line {}", name, lineAt(text, wrong.at.offset_debug())), wrong.what);
    }
}

}  // namespace bramix::chip
