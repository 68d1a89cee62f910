// STABS ("The stabs debug format", Free Software Foundation): twelve bytes a symbol, and a language of strings for types.
//
//   .stab entry:  strx 32 | type 8 | other 8 | desc 16 | value 32      strings in .stabstr, each unit's from an offset of its own
//
// Addresses of lines count from the beginning of their function. Types are numbered (file, index); an included header has a file number of its own,
// and one that was read before is named again by its name and a checksum.
#include <cctype>
#include <cstring>
#include <map>

#include <dwarf.h>

#include "debug/readers.h"

namespace bramix::debug {

namespace {

enum Stab : std::uint8_t {
    kUndf = 0x00, kGsym = 0x20, kFun = 0x24, kStsym = 0x26, kLcsym = 0x28, kRsym = 0x40, kSline = 0x44, kSo = 0x64, kLsym = 0x80, kBincl = 0x82, kSol = 0x84, kPsym = 0xA0,
    kEincl = 0xA2, kExcl = 0xC2,
};

constexpr int kDeepest = 64;
constexpr unsigned kFramePointer = 28;

}  // namespace

class StabsReader {
public:
    StabsReader(const ElfFile& file, Symbols& out) : file_(file), out_(out) {}

    bool read()
    {
        const Elf_Data* stabs = file_.section(".stab");
        const Elf_Data* strings = file_.section(".stabstr");
        if (stabs == nullptr || strings == nullptr || stabs->d_buf == nullptr || strings->d_buf == nullptr)
            return false;
        const auto* bytes = static_cast<const std::uint8_t*>(stabs->d_buf);
        std::size_t base = 0, nextBase = 0;
        for (std::size_t at = 0; at + 12 <= stabs->d_size; at += 12) {
            const auto word = [&](std::size_t offset, int length) {
                std::uint32_t value = 0;
                for (int i = length - 1; i >= 0; --i)
                    value = (value << 8) | bytes[at + offset + static_cast<std::size_t>(i)];
                return value;
            };
            const std::uint32_t type = bytes[at + 4];
            if (type == kUndf) {  // the head of a unit: its value is the size of its strings
                base = nextBase;
                nextBase += word(8, 4);
                continue;
            }
            const std::size_t string = base + word(0, 4);
            const char* text = string < strings->d_size && word(0, 4) != 0 ? static_cast<const char*>(strings->d_buf) + string : "";
            if (string < strings->d_size && memchr(text, 0, *text == 0 ? 1 : strings->d_size - string) == nullptr)
                text = "";
            symbol(static_cast<std::uint8_t>(type), word(6, 2), word(8, 4), text);
        }
        endFunction(lastLine_);
        return !out_.functions_.empty();
    }

private:
    using Key = std::pair<int, int>;  // unit or header, index

    void symbol(std::uint8_t type, std::uint32_t desc, std::uint32_t value, const std::string& text)
    {
        switch (type) {
        case kSo: source(value, text); break;
        case kSol: fileNow_ = fileIndex(text); break;
        case kBincl:
            scopes_.push_back(newScope_);
            headers_[{text, value}] = newScope_++;
            break;
        case kEincl: break;
        case kExcl: {
            const auto found = headers_.find({text, value});
            scopes_.push_back(found != headers_.end() ? found->second : newScope_++);
            break;
        }
        case kFun:
            if (text.empty())
                endFunction(functionAt_ + value);
            else
                function(value, text, static_cast<int>(desc));
            break;
        case kSline: {
            const std::uint32_t address = (function_ >= 0 ? functionAt_ : 0) + value;
            if (address < kElfData)
                out_.lines_.push_back({address, fileNow_, static_cast<int>(desc), true});
            lastLine_ = address + 2;
            break;
        }
        case kGsym: case kStsym: case kLcsym: case kRsym: case kLsym: case kPsym: variable(type, value, static_cast<int>(desc), text); break;
        default: break;
        }
    }

    void source(std::uint32_t address, const std::string& text)
    {
        if (text.empty()) {
            endFunction(address);
            if (!out_.lines_.empty())
                out_.lines_.push_back({address, Symbols::kEnd, 0, true});
            return;
        }
        if (text.ends_with('/')) {
            folder_ = text;
            return;
        }
        endFunction(address);
        fileNow_ = fileIndex(text);
        scopes_.assign(1, newScope_++);
    }

    std::uint32_t fileIndex(const std::string& text)
    {
        const std::string name = text.starts_with('/') ? text : folder_ + text;
        const auto [entry, isNew] = files_.try_emplace(name, static_cast<std::uint32_t>(out_.files_.size()));
        if (isNew)
            out_.files_.push_back(name);
        return entry->second;
    }

    void function(std::uint32_t address, const std::string& text, int line)
    {
        endFunction(address);
        Function f;
        f.name = demangled(text.substr(0, text.find(':')).c_str());
        f.file = out_.files_.empty() ? std::string() : out_.files_[fileNow_];
        f.line = line;
        f.ranges = {{address, address}};
        out_.functions_.push_back(std::move(f));
        function_ = static_cast<int>(out_.functions_.size()) - 1;
        functionAt_ = address;
        const std::size_t colon = text.find(':');
        if (colon != std::string::npos && colon + 2 < text.size()) {
            at_ = text.c_str() + colon + 2;
            (void)type(0);
        }
    }

    void endFunction(std::uint32_t address)
    {
        if (function_ >= 0 && out_.functions_[static_cast<std::size_t>(function_)].ranges[0].end == functionAt_ && address > functionAt_)
            out_.functions_[static_cast<std::size_t>(function_)].ranges[0].end = address;
        if (function_ >= 0 && address > functionAt_)
            lastFunction_ = function_;
        function_ = -1;
    }

    // "name:descriptor type".
    void variable(std::uint8_t stab, std::uint32_t value, int line, const std::string& text)
    {
        std::size_t colon = text.find(':');
        while (colon != std::string::npos && colon + 1 < text.size() && text[colon + 1] == ':')
            colon = text.find(':', colon + 2);
        if (colon == std::string::npos || colon + 1 >= text.size())
            return;
        at_ = text.c_str() + colon + 1;
        const std::string name = text.substr(0, colon);
        char descriptor = 0;
        if (std::isalpha(static_cast<unsigned char>(*at_)) != 0)
            descriptor = *at_++;
        if (descriptor == 't' || descriptor == 'T') {
            if (descriptor == 'T' && *at_ == 't')
                ++at_;  // C++: the tag is a type name too
            const TypeId id = type(0);
            Type& made = out_.types_.at(id);
            if (descriptor == 'T' || made.kind != Type::Kind::none) {
                // A name for something that has one already is an alias.
                if (descriptor == 't' && !made.name.empty() && made.name != name) {
                    Type alias{Type::Kind::alias, name};
                    alias.element = id;
                    alias.size = made.size;
                    const TypeId renamed = out_.types_.add(std::move(alias));
                    if (lastDefined_ != Key{-1, -1})
                        types_[lastDefined_] = renamed;
                } else {
                    made.name = name;
                    if (name == "char")
                        made.kind = Type::Kind::character;
                    else if (name == "bool" || name == "_Bool")
                        made.kind = Type::Kind::boolean;
                }
            }
            return;
        }
        Variable v;
        v.name = name;
        v.type = type(0);
        v.line = line;
        v.file = out_.files_.empty() ? std::string() : out_.files_[fileNow_];
        const bool local = descriptor != 'G' && descriptor != 'S';
        // Some versions name a function's variables after its end mark.
        v.function = local ? (function_ >= 0 ? function_ : lastFunction_) : -1;
        v.parameter = descriptor == 'p' || descriptor == 'P';
        const auto put = [&](std::uint8_t atom, std::uint64_t first, std::uint64_t second) { v.locations.push_back({0, UINT32_MAX, {{atom, first, second}}}); };
        switch (stab) {
        case kGsym: {
            const auto found = addresses().find(name);
            if (found == addresses().end())
                return;
            put(DW_OP_addr, found->second, 0);
            break;
        }
        case kStsym: case kLcsym: put(DW_OP_addr, value, 0); break;
        case kFun: return;
        case kRsym: put(DW_OP_regx, value, 0); break;
        case kPsym: case kLsym: put(DW_OP_bregx, kFramePointer, static_cast<std::uint64_t>(static_cast<std::int64_t>(static_cast<std::int32_t>(value)))); break;
        default: return;
        }
        // A parameter on the stack that lives in a register stands twice: the register wins.
        if (stab == kRsym)
            std::erase_if(out_.variables_, [&](const Variable& other) { return other.function == v.function && other.name == v.name && other.parameter && v.function >= 0 && !v.parameter; });
        out_.variables_.push_back(std::move(v));
    }

    // Globals carry no address of their own.
    const std::map<std::string, std::uint32_t>& addresses()
    {
        if (!addressesRead_) {
            addressesRead_ = true;
            for (Elf_Scn* section = nullptr; (section = elf_nextscn(file_.elf(), section)) != nullptr;) {
                GElf_Shdr header;
                if (gelf_getshdr(section, &header) == nullptr || header.sh_type != SHT_SYMTAB || header.sh_entsize == 0)
                    continue;
                Elf_Data* data = elf_getdata(section, nullptr);
                for (std::size_t i = 0; data != nullptr && i < header.sh_size / header.sh_entsize; ++i) {
                    GElf_Sym symbol;
                    if (gelf_getsym(data, static_cast<int>(i), &symbol) == nullptr)
                        continue;
                    if (const char* text = elf_strptr(file_.elf(), header.sh_link, symbol.st_name); text != nullptr && symbol.st_shndx != SHN_UNDEF)
                        addresses_[text] = static_cast<std::uint32_t>(symbol.st_value);
                }
            }
        }
        return addresses_;
    }

    // Types. at_ stands on the first character of one and ends behind it.

    std::int64_t integer()
    {
        const bool negative = *at_ == '-';
        if (negative)
            ++at_;
        // A leading 0 makes it octal, as C does.
        const unsigned base = *at_ == '0' ? 8 : 10;
        std::uint64_t value = 0;
        while (*at_ >= '0' && *at_ <= '9')
            value = value * base + static_cast<std::uint64_t>(*at_++ - '0');
        return negative ? -static_cast<std::int64_t>(value) : static_cast<std::int64_t>(value);
    }

    // ";low;high;"
    std::pair<std::int64_t, std::int64_t> bounds()
    {
        skip(';');
        const std::int64_t low = integer();
        skip(';');
        const std::int64_t high = integer();
        skip(';');
        return {low, high};
    }

    void skip(char c)
    {
        if (*at_ == c)
            ++at_;
    }

    Key key()
    {
        int scope = 0, index = 0;
        if (*at_ == '(') {
            ++at_;
            scope = static_cast<int>(integer());
            skip(',');
            index = static_cast<int>(integer());
            skip(')');
        } else {
            index = static_cast<int>(integer());
        }
        return {scope >= 0 && static_cast<std::size_t>(scope) < scopes_.size() ? scopes_[static_cast<std::size_t>(scope)] : -1, index};
    }

    TypeId type(int depth)
    {
        lastDefined_ = {-1, -1};
        if (depth > kDeepest)
            return kNoType;
        if (*at_ != '(' && std::isdigit(static_cast<unsigned char>(*at_)) == 0)
            return definition(depth, kNoType);
        const Key k = key();
        if (*at_ != '=') {
            const auto [entry, isNew] = types_.try_emplace(k, kNoType);
            if (isNew)
                entry->second = out_.types_.add({});
            return entry->second;
        }
        ++at_;
        auto [entry, isNew] = types_.try_emplace(k, kNoType);
        if (isNew)
            entry->second = out_.types_.add({});
        const TypeId id = entry->second;
        self_ = k;
        const TypeId made = definition(depth, id);
        if (made != id)
            types_[k] = made;
        lastDefined_ = k;
        return made;
    }

    // What stands behind an '='. `into` is the type to be filled in; kNoType: a new one.
    TypeId definition(int depth, TypeId into)
    {
        const Key self = self_;
        std::uint32_t bits = 0;
        while (*at_ == '@') {
            ++at_;
            if (*at_ == 's') {
                ++at_;
                bits = static_cast<std::uint32_t>(integer());
            }
            while (*at_ != 0 && *at_ != ';')
                ++at_;
            skip(';');
        }
        Type t;
        const auto finish = [&] {
            if (into == kNoType)
                return out_.types_.add(std::move(t));
            out_.types_.at(into) = std::move(t);
            return into;
        };
        if (*at_ == '(' || std::isdigit(static_cast<unsigned char>(*at_)) != 0) {
            const TypeId same = type(depth + 1);
            return same == into ? kNoType : same;  // void is defined as itself
        }
        switch (*at_++) {
        case 'r': {
            self_ = self;
            const Key base = peekKey();
            (void)type(depth + 1);
            const auto [low, high] = bounds();
            if (low > 0 && high == 0 && base != self) {
                t.kind = Type::Kind::floating;
                t.size = static_cast<std::uint32_t>(low);
                t.isSigned = true;
                break;
            }
            t.kind = Type::Kind::integer;
            t.isSigned = low < 0 || low > high;
            t.size = bits != 0 ? bits / 8 : high <= 0xFF ? 1 : high <= 0xFFFF ? 2 : high <= 0xFFFFFFFFLL ? 4 : 8;
            break;
        }
        case '*': case '&':
            t.kind = Type::Kind::pointer;
            t.size = 2;
            t.element = type(depth + 1);
            break;
        case 'k': case 'B':
            t.kind = Type::Kind::alias;
            t.element = type(depth + 1);
            t.size = out_.types_.size(t.element);
            break;
        case 'a': {
            // "r" index type ; low ; high ; element
            skip('r');
            (void)type(depth + 1);
            const auto [low, high] = bounds();
            t.kind = Type::Kind::array;
            t.count = high >= low ? static_cast<std::uint32_t>(high - low + 1) : 0;
            t.element = type(depth + 1);
            t.size = t.count * out_.types_.size(t.element);
            break;
        }
        case 's': case 'u': {
            t.kind = Type::Kind::structure;
            t.isUnion = at_[-1] == 'u';
            t.size = static_cast<std::uint32_t>(integer());
            // Its own members may point to it: what is known so far is put in place.
            if (into != kNoType)
                out_.types_.at(into) = t;
            members(t, depth);
            break;
        }
        case 'e':
            t.kind = Type::Kind::enumeration;
            t.size = bits != 0 ? bits / 8 : 2;
            while (*at_ != 0 && *at_ != ';') {
                const char* begin = at_;
                while (*at_ != 0 && *at_ != ':')
                    ++at_;
                std::string name(begin, at_);
                skip(':');
                t.values.emplace_back(std::move(name), integer());
                t.isSigned = t.isSigned || t.values.back().second < 0;
                if (*at_ != ',')
                    break;
                ++at_;
            }
            skip(';');
            break;
        case 'x': {
            // Only named here: struct, union or enum, and its name up to ':'.
            const char kind = *at_ != 0 ? *at_++ : 's';
            const char* begin = at_;
            while (*at_ != 0 && *at_ != ':')
                ++at_;
            t.name.assign(begin, at_);
            skip(':');
            t.kind = kind == 'e' ? Type::Kind::enumeration : Type::Kind::structure;
            t.isUnion = kind == 'u';
            break;
        }
        case 'f':
            t.kind = Type::Kind::function;
            t.element = type(depth + 1);
            break;
        default: break;  // what C++ adds is left out
        }
        return finish();
    }

    Key peekKey()
    {
        const char* const here = at_;
        const Key k = key();
        at_ = here;
        return k;
    }

    void members(Type& t, int depth)
    {
        while (*at_ != 0 && *at_ != ';') {
            const char* begin = at_;
            while (*at_ != 0 && *at_ != ':' && *at_ != ';')
                ++at_;
            if (*at_ != ':' || at_[1] == ':')
                return;  // methods: the data stand before them
            Member m;
            m.name.assign(begin, at_);
            ++at_;
            if (*at_ == '/')
                at_ += at_[1] != 0 ? 2 : 1;  // visibility
            m.type = type(depth + 1);
            skip(',');
            const auto position = static_cast<std::uint32_t>(integer());
            skip(',');
            const auto length = static_cast<std::uint32_t>(integer());
            skip(';');
            m.offset = position / 8;
            if (length != out_.types_.size(m.type) * 8 || position % 8 != 0) {
                m.bitSize = static_cast<std::uint8_t>(length);
                m.bitOffset = static_cast<std::uint8_t>(position % 8);
            }
            t.members.push_back(std::move(m));
        }
        skip(';');
    }

    const ElfFile& file_;
    Symbols& out_;
    std::string folder_;
    std::map<std::string, std::uint32_t> files_;
    std::uint32_t fileNow_ = 0;
    std::map<std::pair<std::string, std::uint32_t>, int> headers_;
    std::vector<int> scopes_;  // by file number of the unit
    int newScope_ = 0;
    std::map<Key, TypeId> types_;
    Key lastDefined_{-1, -1};
    Key self_{-1, -1};
    int function_ = -1, lastFunction_ = -1;
    std::uint32_t functionAt_ = 0, lastLine_ = 0;
    const char* at_ = "";
    std::map<std::string, std::uint32_t> addresses_;
    bool addressesRead_ = false;
};

bool readStabs(const ElfFile& file, Symbols& into) { return StabsReader(file, into).read(); }

}  // namespace bramix::debug
