// DWARF 2 to 5 by libdw: the tree of entries, walked once, into functions, variables and types.
#include <array>
#include <map>
#include <unordered_map>

#include <dwarf.h>

#include "debug/readers.h"

namespace bramix::debug {

namespace {

constexpr int kDeepest = 64;  // of nested entries; a damaged file may be endless

std::uint64_t number(Dwarf_Die* die, unsigned attribute, std::uint64_t otherwise = 0)
{
    Dwarf_Attribute a;
    Dwarf_Word value = 0;
    return dwarf_attr_integrate(die, attribute, &a) != nullptr && dwarf_formudata(&a, &value) == 0 ? value : otherwise;
}

// A location list, or one location that holds everywhere.
std::vector<Location> locationsOf(Dwarf_Attribute& a)
{
    std::vector<Location> out;
    Dwarf_Op* operations = nullptr;
    std::size_t count = 0;
    Dwarf_Addr base = 0, begin = 0, end = 0;
    for (std::ptrdiff_t offset = 0; (offset = dwarf_getlocations(&a, offset, &base, &begin, &end, &operations, &count)) > 0;) {
        Location l{static_cast<std::uint32_t>(begin), end > UINT32_MAX ? UINT32_MAX : static_cast<std::uint32_t>(end), {}};
        for (std::size_t i = 0; i < count; ++i) {
            l.expression.push_back({operations[i].atom, operations[i].number, operations[i].number2});
            // The operand is an expression of its own, which begins at this place; only a register is of use.
            Dwarf_Attribute inner;
            Dwarf_Op* entry = nullptr;
            std::size_t entries = 0;
            if ((operations[i].atom == DW_OP_GNU_entry_value || operations[i].atom == DW_OP_entry_value) && dwarf_getlocation_attr(&a, &operations[i], &inner) == 0 &&
                dwarf_getlocation(&inner, &entry, &entries) == 0 && entries == 1 && entry[0].atom >= DW_OP_reg0 && entry[0].atom <= DW_OP_reg31)
                l.expression.back().first = entry[0].atom - DW_OP_reg0;
        }
        out.push_back(std::move(l));
    }
    return out;
}

bool flag(Dwarf_Die* die, unsigned attribute)
{
    Dwarf_Attribute a;
    bool value = false;
    return dwarf_attr(die, attribute, &a) != nullptr && dwarf_formflag(&a, &value) == 0 && value;
}

}  // namespace

class DwarfReader {
public:
    DwarfReader(const ElfFile& file, Symbols& out) : file_(file), out_(out) {}

    bool read()
    {
        if (file_.dwarf() == nullptr)
            return false;
        Dwarf_CU* unit = nullptr;
        Dwarf_Die unitDie;
        std::uint8_t unitType = 0;
        bool any = false;
        while (dwarf_get_units(file_.dwarf(), unit, &unit, nullptr, &unitType, &unitDie, nullptr) == 0) {
            any = true;
            readLines(&unitDie);
            children(&unitDie, -1, 0);
        }
        return any;
    }

private:
    [[nodiscard]] std::string nameOf(Dwarf_Die* die) const { return file_.bounded(dwarf_diename(die)); }

    std::uint32_t fileIndex(const char* name)
    {
        const auto [entry, isNew] = files_.try_emplace(name, static_cast<std::uint32_t>(out_.files_.size()));
        if (isNew)
            out_.files_.emplace_back(name);
        return entry->second;
    }

    void readLines(Dwarf_Die* unit)
    {
        Dwarf_Lines* lines = nullptr;
        std::size_t count = 0;
        if (dwarf_getsrclines(unit, &lines, &count) != 0)
            return;
        for (std::size_t i = 0; i < count; ++i) {
            Dwarf_Line* row = dwarf_onesrcline(lines, i);
            Dwarf_Addr address = 0;
            int line = 0;
            bool end = false, statement = true;
            if (dwarf_lineaddr(row, &address) != 0 || dwarf_lineno(row, &line) != 0 || dwarf_lineendsequence(row, &end) != 0 || address >= out_.codeLimit())
                continue;
            (void)dwarf_linebeginstatement(row, &statement);
            const char* source = dwarf_linesrc(row, nullptr, nullptr);
            out_.lines_.push_back({static_cast<std::uint32_t>(address), end || source == nullptr ? Symbols::kEnd : fileIndex(source), line, statement});
        }
    }

    void children(Dwarf_Die* parent, int function, int depth)
    {
        Dwarf_Die die;
        if (depth > kDeepest || dwarf_child(parent, &die) != 0)
            return;
        do {
            switch (dwarf_tag(&die)) {
            case DW_TAG_subprogram:
            case DW_TAG_inlined_subroutine: readFunction(&die, function, depth); break;
            case DW_TAG_lexical_block: children(&die, function, depth + 1); break;
            case DW_TAG_namespace: children(&die, -1, depth + 1); break;
            case DW_TAG_variable:
            case DW_TAG_formal_parameter: readVariable(&die, function); break;
            case DW_TAG_structure_type: case DW_TAG_class_type: case DW_TAG_union_type:
                (void)typeOf(&die, 0);
                children(&die, -1, depth + 1);  // static members and inner classes
                break;
            case DW_TAG_base_type: case DW_TAG_typedef: case DW_TAG_enumeration_type: (void)typeOf(&die, 0); break;
            default: break;
            }
        } while (dwarf_siblingof(&die, &die) == 0);
    }

    void readFunction(Dwarf_Die* die, int enclosing, int depth)
    {
        Function f;
        const bool inlined = dwarf_tag(die) == DW_TAG_inlined_subroutine;
        Dwarf_Addr base = 0, begin = 0, end = 0;
        for (std::ptrdiff_t offset = 0; (offset = dwarf_ranges(die, offset, &base, &begin, &end)) > 0;)
            if (begin < end && end <= out_.codeLimit())
                f.ranges.push_back({static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)});
        if (f.ranges.empty())
            return;  // a declaration, or the pattern of what is inlined elsewhere
        Dwarf_Attribute a;
        const std::string linkage = file_.bounded(dwarf_attr_integrate(die, DW_AT_linkage_name, &a) != nullptr || dwarf_attr_integrate(die, DW_AT_MIPS_linkage_name, &a) != nullptr ? dwarf_formstring(&a) : nullptr);
        f.name = linkage.starts_with("_Z") ? demangled(linkage.c_str()) : nameOf(die);
        if (const char* file = dwarf_decl_file(die))
            f.file = file;
        (void)dwarf_decl_line(die, &f.line);
        if (inlined) {
            f.caller = enclosing;
            f.callLine = static_cast<int>(number(die, DW_AT_call_line));
            Dwarf_Die unit;
            Dwarf_Files* files = nullptr;
            std::size_t count = 0;
            const auto index = static_cast<std::size_t>(number(die, DW_AT_call_file));
            if (dwarf_diecu(die, &unit, nullptr, nullptr) != nullptr && dwarf_getsrcfiles(&unit, &files, &count) == 0 && index < count)
                if (const char* file = dwarf_filesrc(files, index, nullptr, nullptr))
                    f.callFile = file;
        } else if (dwarf_attr_integrate(die, DW_AT_frame_base, &a) != nullptr) {
            f.frameBase = locationsOf(a);
        }
        out_.functions_.push_back(std::move(f));
        children(die, static_cast<int>(out_.functions_.size()) - 1, depth + 1);
    }

    void readVariable(Dwarf_Die* die, int function)
    {
        Variable v;
        v.name = nameOf(die);
        v.function = function;
        v.parameter = dwarf_tag(die) == DW_TAG_formal_parameter;
        if (const char* file = dwarf_decl_file(die))
            v.file = file;
        (void)dwarf_decl_line(die, &v.line);
        Dwarf_Die typeDie;
        Dwarf_Attribute a;
        if (dwarf_attr_integrate(die, DW_AT_type, &a) != nullptr && dwarf_formref_die(&a, &typeDie) != nullptr)
            v.type = typeOf(&typeDie, 0);
        if (v.name.empty() || (flag(die, DW_AT_declaration) && function < 0))
            return;
        if (dwarf_attr_integrate(die, DW_AT_location, &a) != nullptr) {
            v.locations = locationsOf(a);
        } else if (dwarf_attr_integrate(die, DW_AT_const_value, &a) != nullptr) {
            Dwarf_Block block;
            Dwarf_Sword value = 0;
            if (dwarf_formblock(&a, &block) == 0) {
                v.constant.assign(block.data, block.data + block.length);
            } else if (dwarf_formsdata(&a, &value) == 0) {
                for (unsigned i = 0; i < 8; ++i)
                    v.constant.push_back(static_cast<std::uint8_t>(static_cast<std::uint64_t>(value) >> (8 * i)));
                if (const std::uint32_t size = out_.types_.size(v.type); size > 0 && size < v.constant.size())
                    v.constant.resize(size);
            }
        }
        // A static member stands twice: declared in its class, defined outside.
        if (v.locations.empty() && v.constant.empty() && function < 0)
            return;
        out_.variables_.push_back(std::move(v));
    }

    TypeId typeOf(Dwarf_Die* die, int depth)
    {
        const Dwarf_Off offset = dwarf_dieoffset(die);
        if (const auto found = types_.find(offset); found != types_.end())
            return found->second;
        if (depth > kDeepest)
            return kNoType;
        // The place is taken first: a structure may lead back to itself.
        const TypeId id = out_.types_.add({});
        types_[offset] = id;
        Type type;
        type.name = nameOf(die);
        type.size = static_cast<std::uint32_t>(number(die, DW_AT_byte_size));
        const auto element = [&] {
            Dwarf_Die inner;
            Dwarf_Attribute a;
            return dwarf_attr_integrate(die, DW_AT_type, &a) != nullptr && dwarf_formref_die(&a, &inner) != nullptr ? typeOf(&inner, depth + 1) : kNoType;
        };
        switch (dwarf_tag(die)) {
        case DW_TAG_base_type:
            switch (number(die, DW_AT_encoding)) {
            case DW_ATE_boolean: type.kind = Type::Kind::boolean; break;
            case DW_ATE_float: type.kind = Type::Kind::floating; type.isSigned = true; break;
            // A byte that somebody counts with is a number; one that C calls char is a letter too.
            case DW_ATE_signed_char: type.kind = type.name == "char" ? Type::Kind::character : Type::Kind::integer; type.isSigned = true; break;
            case DW_ATE_unsigned_char: type.kind = type.name == "char" ? Type::Kind::character : Type::Kind::integer; break;
            case DW_ATE_signed: type.kind = Type::Kind::integer; type.isSigned = true; break;
            default: type.kind = Type::Kind::integer; break;
            }
            break;
        case DW_TAG_pointer_type: case DW_TAG_reference_type: case DW_TAG_rvalue_reference_type:
            type.kind = Type::Kind::pointer;
            type.size = type.size == 0 ? 2 : type.size;
            type.element = element();
            type.inFlash = pointsToFlash(die);
            break;
        case DW_TAG_array_type: readArray(die, type, element()); break;
        case DW_TAG_structure_type: case DW_TAG_class_type: case DW_TAG_union_type:
            type.kind = Type::Kind::structure;
            type.isUnion = dwarf_tag(die) == DW_TAG_union_type;
            readMembers(die, type, depth);
            break;
        case DW_TAG_enumeration_type: {
            type.kind = Type::Kind::enumeration;
            Dwarf_Die inner;
            if (dwarf_child(die, &inner) == 0)
                do {
                    Dwarf_Attribute a;
                    Dwarf_Sword value = 0;
                    if (dwarf_tag(&inner) == DW_TAG_enumerator && dwarf_attr(&inner, DW_AT_const_value, &a) != nullptr && dwarf_formsdata(&a, &value) == 0) {
                        type.values.emplace_back(nameOf(&inner), value);
                        type.isSigned = type.isSigned || value < 0;
                    }
                } while (dwarf_siblingof(&inner, &inner) == 0);
            // Read as signed, 255 in one byte comes as -1.
            if (const std::string under = out_.types_.name(element()); under.find("unsigned") != std::string::npos || under.starts_with("uint"))
                for (auto& [name, value] : type.values)
                    if (value < 0 && type.size < 8)
                        value += std::int64_t{1} << (8 * type.size);
            break;
        }
        case DW_TAG_subroutine_type:
            type.kind = Type::Kind::function;
            type.element = element();
            break;
        case DW_TAG_typedef: case DW_TAG_const_type: case DW_TAG_volatile_type: case DW_TAG_restrict_type:
            type.kind = Type::Kind::alias;
            type.element = element();
            break;
        default: break;
        }
        out_.types_.at(id) = std::move(type);
        return id;
    }

    // Data in __flash has a qualified type of its own; avr-gcc marks it by its address class where it marks it at all.
    static bool pointsToFlash(Dwarf_Die* die) { return number(die, DW_AT_address_class) != 0; }

    void readArray(Dwarf_Die* die, Type& type, TypeId element)
    {
        std::vector<std::uint32_t> counts;
        Dwarf_Die inner;
        if (dwarf_child(die, &inner) == 0)
            do
                if (dwarf_tag(&inner) == DW_TAG_subrange_type) {
                    const std::uint64_t count = number(&inner, DW_AT_count, UINT64_MAX);
                    const std::uint64_t upper = number(&inner, DW_AT_upper_bound, UINT64_MAX);
                    counts.push_back(count != UINT64_MAX ? static_cast<std::uint32_t>(count) : upper != UINT64_MAX ? static_cast<std::uint32_t>(upper + 1) : 0);
                }
            while (dwarf_siblingof(&inner, &inner) == 0);
        if (counts.empty())
            counts.push_back(0);
        // The last dimension is the innermost.
        for (std::size_t i = counts.size(); i-- > 1;) {
            Type row{Type::Kind::array};
            row.element = element;
            row.count = counts[i];
            row.size = row.count * out_.types_.size(element);
            element = out_.types_.add(std::move(row));
        }
        type.kind = Type::Kind::array;
        type.element = element;
        type.count = counts[0];
        type.size = type.count * out_.types_.size(element);
    }

    void readMembers(Dwarf_Die* die, Type& type, int depth)
    {
        Dwarf_Die inner;
        if (dwarf_child(die, &inner) != 0)
            return;
        do {
            const int tag = dwarf_tag(&inner);
            if (tag != DW_TAG_member && tag != DW_TAG_inheritance)
                continue;
            if (flag(&inner, DW_AT_external) || flag(&inner, DW_AT_declaration))
                continue;  // static
            Member member;
            member.name = tag == DW_TAG_inheritance ? std::string() : nameOf(&inner);
            Dwarf_Die typeDie;
            Dwarf_Attribute a;
            if (dwarf_attr(&inner, DW_AT_type, &a) != nullptr && dwarf_formref_die(&a, &typeDie) != nullptr)
                member.type = typeOf(&typeDie, depth + 1);
            member.offset = memberOffset(&inner);
            member.bitSize = static_cast<std::uint8_t>(number(&inner, DW_AT_bit_size));
            if (member.bitSize != 0) {
                if (dwarf_attr(&inner, DW_AT_data_bit_offset, &a) != nullptr) {
                    const auto bits = static_cast<std::uint32_t>(number(&inner, DW_AT_data_bit_offset));
                    member.offset = bits / 8;
                    member.bitOffset = static_cast<std::uint8_t>(bits % 8);
                } else {
                    // DWARF 2 counts from the highest bit of the storage unit.
                    const auto unit = static_cast<std::uint32_t>(number(&inner, DW_AT_byte_size, out_.types_.size(member.type)));
                    member.bitOffset = static_cast<std::uint8_t>(unit * 8 - number(&inner, DW_AT_bit_offset) - member.bitSize);
                }
            }
            type.members.push_back(std::move(member));
        } while (dwarf_siblingof(&inner, &inner) == 0);
    }

    static std::uint32_t memberOffset(Dwarf_Die* member)
    {
        Dwarf_Attribute a;
        Dwarf_Word value = 0;
        if (dwarf_attr(member, DW_AT_data_member_location, &a) == nullptr)
            return 0;
        if (dwarf_formudata(&a, &value) == 0)
            return static_cast<std::uint32_t>(value);
        Dwarf_Op* operations = nullptr;
        std::size_t count = 0;
        return dwarf_getlocation(&a, &operations, &count) == 0 && count == 1 ? static_cast<std::uint32_t>(operations[0].number) : 0;
    }

    const ElfFile& file_;
    Symbols& out_;
    std::map<std::string, std::uint32_t> files_;
    std::unordered_map<Dwarf_Off, TypeId> types_;
};

bool readDwarf(const ElfFile& file, Symbols& into) { return DwarfReader(file, into).read(); }

}  // namespace bramix::debug
