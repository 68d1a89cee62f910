// The language of expressions: one climbing loop over a table of operators.
#include "debug/expression.h"

#include <algorithm>
#include <cctype>
#include <cstring>

#include <fmt/format.h>


namespace bramix::debug {

using kernel::fail;
using kernel::Result;

namespace {

constexpr int kDeepest = 100;  // of brackets

}  // namespace

class ExpressionParser {
public:
    ExpressionParser(Evaluator& evaluator, const std::string& text) : e_(evaluator), text_(text) {}

    Result<Value> parse()
    {
        auto value = conditional();
        if (value && peek() != 0)
            return fail(text_, fmt::format("\"{}\" is left over at column {}; an operator was expected", text_.substr(at_), at_ + 1));
        return value;
    }

private:
    struct Operator {
        const char* text;
        int level;
    };
    // Longest first where one begins another.
    static constexpr Operator kOperators[] = {{"||", 1}, {"&&", 2}, {"==", 6}, {"!=", 6}, {"<<", 8}, {">>", 8}, {"<=", 7}, {">=", 7}, {"<", 7}, {">", 7},
                                              {"|", 3},  {"^", 4},  {"&", 5},  {"+", 9},  {"-", 9},  {"*", 10}, {"/", 10}, {"%", 10}};

    char peek()
    {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0)
            ++at_;
        return at_ < text_.size() ? text_[at_] : '\0';
    }

    bool take(const char* word)
    {
        peek();
        if (text_.compare(at_, std::strlen(word), word) != 0)
            return false;
        at_ += std::strlen(word);
        return true;
    }

    tl::unexpected<kernel::Error> bad(const std::string& what) { return fail(text_, fmt::format("{} at column {}", what, at_ + 1)); }
    // With other values it may do.
    tl::unexpected<kernel::Error> impossible(const std::string& what)
    {
        e_.byValues_ = true;
        return bad(what);
    }

    [[nodiscard]] const Types& types() const { return e_.symbols_.types(); }
    [[nodiscard]] Type::Kind kind(const Value& v) const { return types().resolved(v.type).kind; }

    bool isFloating(const Value& v) const { return kind(v) == Type::Kind::floating; }

    [[nodiscard]] std::int64_t integerOf(const Value& v) const
    {
        const Type& type = types().resolved(v.type);
        if (type.kind == Type::Kind::array)
            return v.address;
        e_.used(v);
        if (type.kind == Type::Kind::floating)
            return static_cast<std::int64_t>(floatingOf(v.bytes));
        return type.isSigned ? signedOf(v.bytes) : static_cast<std::int64_t>(unsignedOf(v.bytes));
    }
    [[nodiscard]] double doubleOf(const Value& v) const
    {
        if (!isFloating(v))
            return static_cast<double>(integerOf(v));
        e_.used(v);
        return floatingOf(v.bytes);
    }

    Value number(std::int64_t n)
    {
        Value v;
        v.type = e_.symbols_.types().integer(8, true);
        v.bytes = bytesOf(static_cast<std::uint64_t>(n), 8);
        return v;
    }

    Value real(double d)
    {
        Value v;
        v.type = e_.symbols_.types().doubleType();
        v.bytes.resize(8);
        std::memcpy(v.bytes.data(), &d, 8);
        return v;
    }

    [[nodiscard]] bool isScalar(const Value& v) const { return kind(v) != Type::Kind::structure && kind(v) != Type::Kind::none && kind(v) != Type::Kind::function; }

    Result<Value> conditional()
    {
        auto condition = binary(1);
        if (!condition || peek() != '?')
            return condition;
        ++at_;
        const bool holds = isTrue(*condition);
        auto yes = unlessSkipped(!holds, [&] { return conditional(); });
        if (!yes)
            return yes;
        if (!take(":"))
            return bad("\":\" was expected");
        auto no = unlessSkipped(holds, [&] { return conditional(); });
        if (!no)
            return no;
        // Of one type whichever holds.
        const auto isNumber = [this](const Value& v) { return isScalar(v) && kind(v) != Type::Kind::pointer && kind(v) != Type::Kind::array; };
        if (isNumber(*yes) && isNumber(*no) && types().resolve(yes->type) != types().resolve(no->type)) {
            const Value& chosen = holds ? *yes : *no;
            return isFloating(*yes) || isFloating(*no) ? real(doubleOf(chosen)) : number(integerOf(chosen));
        }
        return holds ? yes : no;
    }

    [[nodiscard]] bool isTrue(const Value& v) const { return isFloating(v) ? doubleOf(v) != 0 : integerOf(v) != 0; }

    // What C would not work out is read, but may be impossible.
    template <class Call>
    Result<Value> unlessSkipped(bool skipped, Call&& call)
    {
        skipping_ += skipped ? 1 : 0;
        auto value = call();
        skipping_ -= skipped ? 1 : 0;
        return value;
    }

    const Operator* nextOperator(int level)
    {
        if (const char c = peek(); c == 0 || std::strchr("|&^=!<>+-*/%", c) == nullptr)
            return nullptr;
        for (const Operator& op : kOperators)
            if (text_.compare(at_, std::strlen(op.text), op.text) == 0)
                return op.level >= level ? &op : nullptr;
        return nullptr;
    }

    Result<Value> binary(int level)
    {
        auto left = unary();
        if (!left)
            return left;
        while (const Operator* op = nextOperator(level)) {
            at_ += std::strlen(op->text);
            const std::string_view text = op->text;
            const bool decided = isScalar(*left) && ((text == "&&" && !isTrue(*left)) || (text == "||" && isTrue(*left)));
            auto right = unlessSkipped(decided, [&] { return binary(op->level + 1); });
            if (!right)
                return right;
            left = apply(op->text, *left, *right);
            if (!left)
                return left;
        }
        return left;
    }

    // Nothing for an operator that does not compare.
    template <class Number>
    static std::optional<bool> compare(const std::string& op, Number x, Number y)
    {
        if (op == "<") return x < y;
        if (op == ">") return x > y;
        if (op == "<=") return x <= y;
        if (op == ">=") return x >= y;
        if (op == "==") return x == y;
        if (op == "!=") return x != y;
        if (op == "&&") return x != 0 && y != 0;
        if (op == "||") return x != 0 || y != 0;
        return std::nullopt;
    }

    Result<Value> apply(const std::string& op, const Value& a, const Value& b)
    {
        if (!isScalar(a) || !isScalar(b))
            return bad(fmt::format("\"{}\" wants numbers, not {}", op, types().name(isScalar(a) ? b.type : a.type)));
        const bool pointerA = kind(a) == Type::Kind::pointer || kind(a) == Type::Kind::array;
        if (pointerA && (op == "+" || op == "-") && kind(b) != Type::Kind::pointer) {
            const TypeId element = types().resolved(a.type).element;
            const std::int64_t step = std::max<std::int64_t>(types().size(element), 1) * integerOf(b);
            Value v;
            v.type = e_.symbols_.types().pointerTo(element, kind(a) == Type::Kind::array ? a.space == Space::flash : types().resolved(a.type).inFlash);
            v.bytes = bytesOf(static_cast<std::uint64_t>(integerOf(a) + (op == "+" ? step : -step)), 2);
            return v;
        }
        if (isFloating(a) || isFloating(b)) {
            const double x = doubleOf(a), y = doubleOf(b);
            if (op == "+") return real(x + y);
            if (op == "-") return real(x - y);
            if (op == "*") return real(x * y);
            if (op == "/") return real(x / y);
            if (const auto truth = compare(op, x, y))
                return number(*truth ? 1 : 0);
            return bad(fmt::format("\"{}\" wants whole numbers", op));
        }
        const std::int64_t x = integerOf(a), y = integerOf(b);
        const auto ux = static_cast<std::uint64_t>(x), uy = static_cast<std::uint64_t>(y);
        if (skipping_ > 0 && (y == 0 || y < 0 || y > 63) && (op == "/" || op == "%" || op == "<<" || op == ">>"))
            return number(0);
        if ((op == "/" || op == "%") && y == 0)
            return impossible("division by zero");
        if ((op == "/" || op == "%") && y == -1)
            return number(op == "/" ? static_cast<std::int64_t>(0 - ux) : 0);
        if ((op == "<<" || op == ">>") && (y < 0 || y > 63))
            return impossible(fmt::format("a shift by {} is not possible", y));
        if (op == "+") return number(static_cast<std::int64_t>(ux + uy));
        if (op == "-") return number(static_cast<std::int64_t>(ux - uy));
        if (op == "*") return number(static_cast<std::int64_t>(ux * uy));
        if (op == "/") return number(x / y);
        if (op == "%") return number(x % y);
        if (op == "<<") return number(static_cast<std::int64_t>(ux << uy));
        if (op == ">>") return number(x >> y);
        if (op == "&") return number(x & y);
        if (op == "|") return number(x | y);
        if (op == "^") return number(x ^ y);
        return number(compare(op, x, y).value_or(false) ? 1 : 0);
    }

    Result<Value> unary()
    {
        if (++depth_ > kDeepest)
            return bad("too deeply nested");
        auto value = unaryInner();
        --depth_;
        return value;
    }

    Result<Value> unaryInner()
    {
        const char c = peek();
        if (c == '(') {
            const std::size_t back = at_;
            ++at_;
            if (const TypeId type = typeName(); type != kNoType && take(")")) {
                auto value = unary();
                return value ? cast(type, *value) : value;
            }
            at_ = back;
            return postfix();
        }
        if (take("sizeof")) {
            auto value = unary();
            return value ? Result<Value>(number(types().size(value->type))) : value;
        }
        if (c != '*' && c != '&' && c != '-' && c != '+' && c != '!' && c != '~')
            return postfix();
        ++at_;
        auto value = unary();
        if (!value)
            return value;
        switch (c) {
        case '*': return kind(*value) == Type::Kind::array ? e_.element(*value, 0) : e_.pointee(*value);
        case '&': {
            if (!value->inMemory || value->bitSize != 0)
                return bad("this has no address");
            Value v;
            v.type = e_.symbols_.types().pointerTo(value->type, value->space == Space::flash);
            v.bytes = bytesOf(value->address, 2);
            return v;
        }
        default: break;
        }
        if (!isScalar(*value))
            return bad(fmt::format("\"{}\" wants a number, not {}", c, types().name(value->type)));
        if (isFloating(*value))
            return c == '!' ? number(doubleOf(*value) == 0 ? 1 : 0) : c == '-' ? real(-doubleOf(*value)) : c == '+' ? *value : Result<Value>(bad("\"~\" wants a whole number"));
        const std::int64_t n = integerOf(*value);
        return number(c == '-' ? static_cast<std::int64_t>(0 - static_cast<std::uint64_t>(n)) : c == '+' ? n : c == '!' ? (n == 0 ? 1 : 0) : ~n);
    }

    Value cast(TypeId type, const Value& from)
    {
        const Type& to = types().resolved(type);
        Value v;
        v.type = type;
        if (to.kind == Type::Kind::floating) {
            const double d = doubleOf(from);
            const auto f = static_cast<float>(d);
            v.bytes.resize(to.size);
            if (to.size == sizeof f)
                std::memcpy(v.bytes.data(), &f, sizeof f);
            else
                std::memcpy(v.bytes.data(), &d, std::min<std::size_t>(to.size, sizeof d));
        } else if (to.kind == Type::Kind::boolean) {
            v.bytes = bytesOf(integerOf(from) != 0 ? 1 : 0, to.size);
        } else if (to.kind == Type::Kind::structure || to.kind == Type::Kind::array) {
            v = from;
            v.type = type;
            v.bytes.resize(types().size(type));
        } else {
            v.bytes = bytesOf(static_cast<std::uint64_t>(integerOf(from)), to.size);
        }
        return v;
    }

    // A known type's name with stars; kNoType, and nothing taken, where there is none.
    TypeId typeName()
    {
        const std::size_t back = at_;
        std::string name;
        TypeId best = kNoType;
        std::size_t bestEnd = at_;
        for (int words = 0; words < 4; ++words) {
            peek();
            const std::size_t begin = at_;
            while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) != 0 || text_[at_] == '_'))
                ++at_;
            if (at_ == begin)
                break;
            const std::string word = text_.substr(begin, at_ - begin);
            if (word == "struct" || word == "union" || word == "enum" || word == "const" || word == "volatile")
                continue;
            name += (name.empty() ? "" : " ") + word;
            const TypeId found = standardType(name);
            if (found != kNoType) {
                best = found;
                bestEnd = at_;
            }
        }
        if (best == kNoType) {
            at_ = back;
            return kNoType;
        }
        at_ = bestEnd;
        while (peek() == '*') {
            ++at_;
            best = e_.symbols_.types().pointerTo(best, false);
        }
        return best;
    }

    TypeId standardType(const std::string& name)
    {
        if (e_.symbols_.global(name) >= 0)
            return kNoType;
        if (const TypeId known = types().find(name); known != kNoType)
            return known;
        struct Standard {
            const char* name;
            std::uint32_t size;
            bool isSigned;
        };
        const std::uint32_t whole = e_.target_.device().intBytes;
        const Standard kStandard[] = {{"char", 1, true}, {"signed char", 1, true}, {"unsigned char", 1, false}, {"int", whole, true}, {"unsigned int", whole, false}, {"unsigned", whole, false},
                                      {"long", 4, true}, {"unsigned long", 4, false}, {"int8_t", 1, true}, {"uint8_t", 1, false}, {"int16_t", 2, true}, {"uint16_t", 2, false},
                                      {"int32_t", 4, true}, {"uint32_t", 4, false}};
        for (const Standard& s : kStandard)
            if (name == s.name)
                return e_.symbols_.types().integer(s.size, s.isSigned);
        return kNoType;
    }

    Result<Value> postfix()
    {
        auto value = primary();
        while (value) {
            const char c = peek();
            if (c == '[') {
                ++at_;
                auto index = conditional();
                if (!index)
                    return index;
                if (!take("]"))
                    return bad("\"]\" was expected");
                const std::int64_t n = integerOf(*index);
                if (n < 0)
                    return impossible("an index below 0");
                const bool isArray = kind(*value) == Type::Kind::array;
                value = e_.element(*value, static_cast<std::size_t>(n));
                e_.byValues_ = e_.byValues_ || (isArray && !value);
            } else if (c == '.' || (c == '-' && at_ + 1 < text_.size() && text_[at_ + 1] == '>')) {
                at_ += c == '.' ? 1 : 2;
                if (c == '-') {
                    value = e_.pointee(*value);
                    if (!value)
                        return value;
                }
                const std::string name = word();
                value = memberByName(*value, name);
            } else {
                break;
            }
        }
        return value;
    }

    Result<Value> memberByName(const Value& of, const std::string& name)
    {
        const Type type = types().resolved(of.type);
        if (type.kind != Type::Kind::structure)
            return bad(fmt::format("{} has no members", types().name(of.type)));
        for (const Member& m : type.members)
            if (m.name == name)
                return e_.member(of, m);
        // Nameless structures and base classes: their members are ours.
        for (const Member& m : type.members)
            if (m.name.empty())
                if (auto inner = e_.member(of, m))
                    if (auto found = memberByName(*inner, name))
                        return found;
        return bad(fmt::format("{} has no member \"{}\"", types().name(of.type), name));
    }

    std::string word()
    {
        peek();
        const std::size_t begin = at_;
        while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) != 0 || text_[at_] == '_' || text_[at_] == '$'))
            ++at_;
        // Names within classes and namespaces.
        while (text_.compare(at_, 2, "::") == 0) {
            at_ += 2;
            while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) != 0 || text_[at_] == '_'))
                ++at_;
        }
        return text_.substr(begin, at_ - begin);
    }

    Result<Value> literal()
    {
        const char* begin = text_.c_str() + at_;
        char* end = nullptr;
        const bool binary = begin[0] == '0' && (begin[1] == 'b' || begin[1] == 'B');
        const bool hex = begin[0] == '0' && (begin[1] == 'x' || begin[1] == 'X');
        errno = 0;
        const std::uint64_t whole = std::strtoull(binary ? begin + 2 : begin, &end, binary ? 2 : 0);
        if (!binary && !hex && (*end == '.' || *end == 'e' || *end == 'E')) {
            const double d = std::strtod(begin, &end);
            at_ = static_cast<std::size_t>(end - text_.c_str());
            take("f");
            return real(d);
        }
        at_ = static_cast<std::size_t>(end - text_.c_str());
        while (at_ < text_.size() && std::strchr("uUlL", text_[at_]) != nullptr)
            ++at_;
        if (errno != 0 || (at_ < text_.size() && std::isalnum(static_cast<unsigned char>(text_[at_])) != 0))
            return bad("not a number");
        return number(static_cast<std::int64_t>(whole));
    }

    Result<Value> primary()
    {
        const char c = peek();
        if (c == '(') {
            ++at_;
            auto value = conditional();
            if (value && !take(")"))
                return bad("\")\" was expected");
            return value;
        }
        if (std::isdigit(static_cast<unsigned char>(c)) != 0)
            return literal();
        if (c == '\'') {
            if (at_ + 2 < text_.size() && text_[at_ + 1] != '\\' && text_[at_ + 2] == '\'') {
                at_ += 3;
                return number(static_cast<unsigned char>(text_[at_ - 2]));
            }
            if (at_ + 3 < text_.size() && text_[at_ + 3] == '\'') {
                at_ += 4;
                switch (text_[at_ - 2]) {
                case 'n': return number('\n');
                case 'r': return number('\r');
                case 't': return number('\t');
                case '0': return number(0);
                default: return number(static_cast<unsigned char>(text_[at_ - 2]));
                }
            }
            return bad("not a character");
        }
        std::string name = word();
        if (name.empty())
            return bad(c == 0 ? "a value was expected" : fmt::format("\"{}\" was not expected", c));
        return identifier(name);
    }

    Result<Value> identifier(const std::string& name)
    {
        if (e_.names_ == nullptr || e_.frame_ != nullptr)
            return meaningOf(name);
        if (const auto known = e_.names_->find(name); known != e_.names_->end())
            return known->second.inMemory ? e_.at(known->second.type, known->second.space, known->second.address) : Result<Value>(known->second);
        const std::size_t before = e_.uses_ == nullptr ? 0 : e_.uses_->size();
        auto value = meaningOf(name);
        // What is put together out of memory has no place of its own, and is read each time.
        if (value && (value->inMemory || (e_.uses_ != nullptr && e_.uses_->size() == before)))
            e_.names_->emplace(name, *value);
        return value;
    }

    Result<Value> meaningOf(const std::string& name)
    {
        const Symbols& symbols = e_.symbols_;
        // Locals of the frame, and of what it is inlined into.
        if (e_.frame_ != nullptr)
            for (int f = e_.frame_->function; f >= 0; f = symbols.functions()[static_cast<std::size_t>(f)].caller) {
                std::optional<Result<Value>> lost;
                const std::vector<int> locals = symbols.localsOf(f);
                // The one declared last, in the innermost block, hides the others.
                for (auto it = locals.rbegin(); it != locals.rend(); ++it) {
                    const Variable& v = symbols.variables()[static_cast<std::size_t>(*it)];
                    if (v.name != name)
                        continue;
                    auto value = e_.read(v);
                    if (value)
                        return value;
                    if (!lost)
                        lost = std::move(value);
                }
                if (lost)
                    return *lost;
            }
        const chip::Device& device = e_.target_.device();
        const chip::RegisterMap& registers = e_.target_.registers();
        const auto each = [&registers](const auto& use) {
            for (const chip::PeripheralGroup& group : registers.peripherals)
                for (const chip::PeripheralRegister& reg : group.registers)
                    if (use(reg))
                        return true;
            return false;
        };
        const auto registerNamed = [&](std::string_view wanted) -> const chip::PeripheralRegister* {
            const chip::PeripheralRegister* found = nullptr;
            each([&](const chip::PeripheralRegister& reg) {
                if (reg.name == wanted)
                    found = &reg;
                return found != nullptr;
            });
            // "GPIOA_ODR" where several peripherals have one of that name.
            for (const chip::PeripheralGroup& group : registers.peripherals)
                if (found == nullptr && wanted.size() > group.name.size() + 1 && wanted.starts_with(group.name) && wanted[group.name.size()] == '_')
                    for (const chip::PeripheralRegister& reg : group.registers)
                        if (reg.name == wanted.substr(group.name.size() + 1))
                            found = &reg;
            return found;
        };
        if (const chip::PeripheralRegister* reg = registerNamed(name))
            return e_.at(e_.symbols_.types().integer(reg->bits / 8, false), Space::data, static_cast<std::uint32_t>(reg->address));
        if (const int global = symbols.global(name); global >= 0)
            return e_.read(symbols.variables()[static_cast<std::size_t>(global)]);
        if (const auto value = enumerator(name))
            return number(*value);
        if (auto value = coreValue(name))
            return *value;
        if (const int f = symbols.functionByName(name); f >= 0) {
            Value v;
            Type code{Type::Kind::function, name};
            v.type = e_.symbols_.types().pointerTo(e_.symbols_.types().add(std::move(code)), true);
            v.bytes = bytesOf(symbols.functions()[static_cast<std::size_t>(f)].begin() / device.codePointerUnit + device.codePointerBit, device.pointerBytes);
            return v;
        }
        // A pair of registers that the datasheet names as one: TCNT1, ADC.
        const chip::PeripheralRegister* low = registerNamed(name + "L");
        const chip::PeripheralRegister* high = registerNamed(name + "H");
        if (low != nullptr && high != nullptr && high->address == low->address + 1)
            return e_.at(e_.symbols_.types().integer(2, false), Space::data, static_cast<std::uint32_t>(low->address));
        // A bit by its name is its number.
        std::optional<unsigned> bit;
        each([&](const chip::PeripheralRegister& reg) {
            for (const chip::RegisterField& field : reg.fields)
                if (field.name == name)
                    bit = field.low;
            return bit.has_value();
        });
        if (bit)
            return number(*bit);
        return fail(name, "is not known here: no variable, register or constant of this firmware has that name");
    }

    std::optional<std::int64_t> enumerator(const std::string& name)
    {
        for (std::uint32_t i = 0;; ++i) {
            if (i >= types().count())
                return std::nullopt;
            for (const auto& [word, value] : types().at(TypeId{i}).values)
                if (word == name)
                    return value;
        }
    }

    std::optional<Value> coreValue(std::string name)
    {
        if (name.starts_with('$'))
            name.erase(0, 1);
        const chip::Device& device = e_.target_.device();
        const auto core = coreRegister(device, name);
        std::uint32_t bytes = 0;
        for (std::size_t i = 0; core && i < core->count; ++i)
            bytes += device.coreRegisters[core->first + i].bytes();
        // Without a frame they are what stands in them now, which data memory may show too.
        if (e_.frame_ == nullptr) {
            if (!core)
                return std::nullopt;
            if (const int address = device.coreRegisters[core->first].dataAddress; address >= 0) {
                const auto value = e_.at(e_.symbols_.types().integer(bytes, false), Space::data, static_cast<std::uint32_t>(address));
                return value ? std::optional(*value) : std::nullopt;
            }
            return inRegisters(*core, bytes, [this](std::size_t index) { return e_.target_.coreRegister(index); });
        }
        const Registers& regs = e_.frame_->registers;
        if (name == "pc" || name == "PC") return number(regs.pc);
        if (!core) return std::nullopt;
        switch (device.coreRegisters[core->first].role) {
        case chip::CoreRole::stackPointer: return number(regs.sp);
        case chip::CoreRole::status: return number(static_cast<std::int64_t>(regs.r[core->first]));
        default: return inRegisters(*core, bytes, [&regs](std::size_t index) { return regs.r[index]; });
        }
    }

    template <class Read>
    Value inRegisters(const CoreName& core, std::uint32_t bytes, Read&& read)
    {
        Value v;
        v.type = e_.symbols_.types().integer(bytes, false);
        for (std::size_t i = core.first; i < core.first + core.count; ++i)
            for (unsigned byte = 0; byte < e_.target_.device().coreRegisters[i].bytes(); ++byte) {
                v.bytes.push_back(static_cast<std::uint8_t>(read(i) >> (8 * byte)));
                v.registers.push_back({static_cast<std::uint8_t>(i), static_cast<std::uint8_t>(byte)});
            }
        return v;
    }

    Evaluator& e_;
    const std::string text_;
    std::size_t at_ = 0;
    int depth_ = 0;
    int skipping_ = 0;
};

std::optional<CoreName> coreRegister(const chip::Device& device, std::string name)
{
    if (name.starts_with('$'))
        name.erase(0, 1);
    for (const chip::RegisterPair& pair : device.registerPairs)
        if (pair.name == name)
            return CoreName{pair.first, pair.count};
    for (std::size_t i = 0; i < device.coreRegisters.size(); ++i) {
        const chip::CoreRegister& reg = device.coreRegisters[i];
        std::string lower = reg.name;
        std::transform(lower.begin(), lower.end(), lower.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        if (reg.role != chip::CoreRole::programCounter && (name == reg.name || name == lower))
            return CoreName{i, 1};
    }
    return std::nullopt;
}

Result<Value> Evaluator::evaluate(const std::string& expression)
{
    byValues_ = false;
    return ExpressionParser(*this, expression).parse();
}

}  // namespace bramix::debug
