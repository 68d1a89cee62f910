#include <bit>

#include <fmt/format.h>

#include "chip/arm9/core/isa.h"
#include "debug/arch/arm9/architecture.h"

namespace bramix::debug::arm9 {

namespace core = chip::arm9;

namespace {

constexpr const char* kConditions[] = {"eq", "ne", "cs", "cc", "mi", "pl", "vs", "vc", "hi", "ls", "ge", "lt", "gt", "le", "", ""};
constexpr const char* kShifts[] = {"lsl", "lsr", "asr", "ror"};

std::string reg(std::uint32_t n)
{
    static constexpr const char* kNames[] = {"sp", "lr", "pc"};
    n &= 15U;
    return n < 13 ? fmt::format("r{}", n) : kNames[n - 13];
}

std::string listOf(std::uint32_t list)
{
    std::string out;
    for (unsigned n = 0; n < 16; ++n)
        if (((list >> n) & 1U) != 0)
            out += (out.empty() ? "" : ", ") + reg(n);
    return "{" + out + "}";
}

// "r3", "r3, lsl #2", "r3, lsl r4", "r3, rrx".
std::string shifted(std::uint32_t w)
{
    const std::uint32_t type = w >> 5 & 3U, amount = w >> 7 & 31U;
    if ((w & 0x10U) != 0)
        return fmt::format("{}, {} {}", reg(w), kShifts[type], reg(w >> 8));
    if (amount == 0 && type == 0)
        return reg(w);
    if (amount == 0 && type == 3)
        return reg(w) + ", rrx";
    return fmt::format("{}, {} #{}", reg(w), kShifts[type], amount == 0 ? 32 : amount);
}

std::uint32_t immediateOf(std::uint32_t w) { return std::rotr(w & 0xFFU, static_cast<int>((w >> 8 & 15U) * 2)); }

class Text {
public:
    Text(InstructionText& out, const Symbols* symbols, std::uint32_t address, bool thumb) : out_(out), symbols_(symbols), address_(address), thumb_(thumb) {}

    void write(std::uint32_t w)
    {
        condition_ = kConditions[w >> 28];
        out_.cycles = "1";
        if ((w >> 28) == 15U) {
            if ((w & 0x0D70F000U) == 0x0550F000U)
                return set("pld", addressOf(w));
            if ((w & 0x0E000000U) == 0x0A000000U)
                return set("blx", leads(address_ + 8 + (static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6) | (w >> 23 & 2U)))), void(out_.cycles = "3");
            return set("undefined", "");
        }
        switch (w >> 25 & 7U) {
        case 0: case 1:
            if ((w & 0x02000090U) == 0x90U)
                return (w & 0x60U) != 0 ? extra(w) : multiply(w);
            if ((w & 0x01900000U) == 0x01000000U)
                return miscellaneous(w);
            return dataProcessing(w);
        case 2: case 3:
            if ((w & 0x02000010U) == 0x02000010U)
                return set("undefined", "");
            return single(w);
        case 4: return block(w);
        case 5:
            out_.cycles = *condition_ == 0 ? "3" : "1/3";
            return set(std::string((w & 1U << 24) != 0 ? "bl" : "b") + condition_, leads(address_ + 8 + static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6)));
        default:
            if ((w & 0x0F000000U) == 0x0F000000U) {
                out_.cycles = "3";
                return set(std::string("svc") + condition_, fmt::format("0x{:x}", w & 0xFFFFFFU));
            }
            if ((w & 0x0F000010U) == 0x0E000010U)
                return set(std::string((w & 1U << 20) != 0 ? "mrc" : "mcr") + condition_, fmt::format("{}, {}, {}, cr{}, cr{}, {{{}}}", w >> 8 & 15U, w >> 21 & 7U, reg(w >> 12), w >> 16 & 15U, w & 15U, w >> 5 & 7U));
            return set("undefined", "");
        }
    }

    // To an address, by a condition.
    void branch(const char* name, std::uint32_t condition, std::uint32_t to)
    {
        out_.cycles = condition == 14 ? "3" : "1/3";
        set(std::string(name) + kConditions[condition], leads(to));
    }

private:
    void set(std::string mnemonic, std::string operands)
    {
        out_.mnemonic = std::move(mnemonic);
        out_.operands = std::move(operands);
    }
    std::string leads(std::uint32_t to)
    {
        if (symbols_ != nullptr)
            if (const std::string name = symbols_->nameOf(to, Space::flash); !name.empty())
                out_.note = "-> " + name;
        return fmt::format("0x{:08x}", to);
    }

    void dataProcessing(std::uint32_t w)
    {
        static constexpr const char* kNames[] = {"and", "eor", "sub", "rsb", "add", "adc", "sbc", "rsc", "tst", "teq", "cmp", "cmn", "orr", "mov", "bic", "mvn"};
        const std::uint32_t op = w >> 21 & 15U;
        const bool tests = op >= 8 && op <= 11, flags = (w & 1U << 20) != 0 && !tests;
        const std::string d = reg(w >> 12), n = reg(w >> 16), suffix = std::string(flags ? "s" : "") + condition_;
        const bool immediate = (w & 1U << 25) != 0;
        const std::string operand = immediate ? fmt::format("#{}", immediateOf(w)) : shifted(w);
        if ((w & 0x02000010U) == 0x10U)
            out_.cycles = "2";
        if (op == 13 && !immediate) {
            if (w == 0xE1A00000U)
                return set("nop", "");
            const std::uint32_t type = w >> 5 & 3U, amount = w >> 7 & 31U;
            if ((w & 0x10U) != 0)
                return set(kShifts[type] + suffix, fmt::format("{}, {}, {}", d, reg(w), reg(w >> 8)));
            if (amount != 0 || type == 1 || type == 2)
                return set(kShifts[type] + suffix, fmt::format("{}, {}, #{}", d, reg(w), amount == 0 ? 32 : amount));
            if (type == 3)
                return set("rrx" + suffix, fmt::format("{}, {}", d, reg(w)));
        }
        if (tests)
            return set(kNames[op] + suffix, n + ", " + operand);
        if (op == 13 || op == 15)
            return set(kNames[op] + suffix, d + ", " + operand);
        if (thumb_ && op == 3 && immediate && immediateOf(w) == 0)
            return set("neg" + suffix, d + ", " + n);
        if (!thumb_ && immediate && (op == 4 || op == 2) && (w >> 16 & 15U) == core::kPc) {
            const std::uint32_t to = op == 4 ? address_ + 8 + immediateOf(w) : address_ + 8 - immediateOf(w);
            out_.note = fmt::format("0x{:x}", to);
        }
        set(kNames[op] + suffix, d + ", " + n + ", " + operand);
    }

    void multiply(std::uint32_t w)
    {
        const std::string suffix = std::string((w & 1U << 20) != 0 ? "s" : "") + condition_, d = reg(w >> 16), n = reg(w >> 12), s = reg(w >> 8), m = reg(w);
        if ((w & 0x0FB00FF0U) == 0x01000090U)
            return set(std::string((w & 1U << 22) != 0 ? "swpb" : "swp") + condition_, fmt::format("{}, {}, [{}]", reg(w >> 12), m, reg(w >> 16))), void(out_.cycles = "2");
        if ((w & 0x0F000000U) != 0)
            return set("undefined", "");
        if ((w & 1U << 23) != 0) {
            static constexpr const char* kNames[] = {"umull", "umlal", "smull", "smlal"};
            out_.cycles = "3";
            return set(kNames[w >> 21 & 3U] + suffix, fmt::format("{}, {}, {}, {}", n, d, m, s));
        }
        if ((w & 1U << 22) != 0)
            return set("undefined", "");
        out_.cycles = "2";
        if ((w & 1U << 21) != 0)
            return set("mla" + suffix, fmt::format("{}, {}, {}, {}", d, m, s, n));
        if (thumb_)
            return set("mul" + suffix, fmt::format("{}, {}, {}", d, m, s));
        set("mul" + suffix, fmt::format("{}, {}, {}", d, m, s));
    }

    void miscellaneous(std::uint32_t w)
    {
        const std::string d = reg(w >> 12), m = reg(w), n = reg(w >> 16), s = reg(w >> 8);
        const char* const status = (w & 1U << 22) != 0 ? "SPSR" : "CPSR";
        if ((w & 1U << 25) != 0 || (w & 0xF0U) == 0) {
            if ((w & 1U << 21) == 0)
                return (w & 1U << 25) != 0 ? set("undefined", "") : set(std::string("mrs") + condition_, d + ", " + status);
            std::string fields;
            for (const auto& [bit, letter] : {std::pair{19U, 'f'}, {18U, 's'}, {17U, 'x'}, {16U, 'c'}})
                if ((w >> bit & 1U) != 0)
                    fields += letter;
            return set(std::string("msr") + condition_, fmt::format("{}_{}, {}", status, fields, (w & 1U << 25) != 0 ? fmt::format("#{}", immediateOf(w)) : m));
        }
        out_.cycles = "3";
        switch (w & 0x0FF000F0U) {
        case 0x01200010: return set(std::string("bx") + condition_, m);
        case 0x01200020: return set(std::string("bxj") + condition_, m);
        case 0x01200030: return set(std::string("blx") + condition_, m);
        default: break;
        }
        out_.cycles = "1";
        if ((w & 0x0FF000F0U) == 0x01600010U)
            return set(std::string("clz") + condition_, d + ", " + m);
        if ((w & 0xF0U) == 0x50U) {
            static constexpr const char* kNames[] = {"qadd", "qsub", "qdadd", "qdsub"};
            return set(std::string(kNames[w >> 21 & 3U]) + condition_, fmt::format("{}, {}, {}", d, m, n));
        }
        if ((w & 0x0FF000F0U) == 0x01200070U)
            return set("bkpt", fmt::format("0x{:04x}", (w >> 4 & 0xFFF0U) | (w & 15U)));
        if ((w & 0x90U) != 0x80U)
            return set("undefined", "");
        const char x = (w & 0x20U) != 0 ? 't' : 'b', y = (w & 0x40U) != 0 ? 't' : 'b';
        // Halves: d stands where n does elsewhere.
        switch (w >> 21 & 3U) {
        case 0: return set(fmt::format("smla{}{}{}", x, y, condition_), fmt::format("{}, {}, {}, {}", n, m, s, d));
        case 1: return (w & 0x20U) != 0 ? set(fmt::format("smulw{}{}", y, condition_), fmt::format("{}, {}, {}", n, m, s)) : set(fmt::format("smlaw{}{}", y, condition_), fmt::format("{}, {}, {}, {}", n, m, s, d));
        case 2: return set(fmt::format("smlal{}{}{}", x, y, condition_), fmt::format("{}, {}, {}, {}", d, n, m, s));
        default: return set(fmt::format("smul{}{}{}", x, y, condition_), fmt::format("{}, {}, {}", n, m, s));
        }
    }

    // "[r1, #4]!", "[r1], -r2, lsl #1".
    std::string addressOf(std::uint32_t w)
    {
        const bool pre = (w & 1U << 24) != 0, up = (w & 1U << 23) != 0, write = (w & 1U << 21) != 0;
        std::string offset;
        if ((w & 1U << 25) != 0)
            offset = (up ? "" : "-") + shifted(w);
        else if ((w & 0xFFFU) != 0 || !up || !pre || write)
            offset = fmt::format("#{}{}", up ? "" : "-", w & 0xFFFU);
        return joined(w, pre, write, offset);
    }
    std::string joined(std::uint32_t w, bool pre, bool write, const std::string& offset)
    {
        const std::string n = reg(w >> 16);
        if (offset.empty())
            return fmt::format("[{}]{}", n, pre && write ? "!" : "");
        return pre ? fmt::format("[{}, {}]{}", n, offset, write ? "!" : "") : fmt::format("[{}], {}", n, offset);
    }

    void single(std::uint32_t w)
    {
        const bool isLoad = (w & 1U << 20) != 0, byte = (w & 1U << 22) != 0, asUser = (w & 1U << 24) == 0 && (w & 1U << 21) != 0;
        if (!thumb_ && (w & 0x0FFF0FFFU) == 0x052D0004U)
            return set(std::string("push") + condition_, "{" + reg(w >> 12) + "}");
        if (!thumb_ && (w & 0x0FFF0FFFU) == 0x049D0004U)
            return set(std::string("pop") + condition_, "{" + reg(w >> 12) + "}"), void(out_.cycles = (w >> 12 & 15U) == core::kPc ? "5" : "1");
        if (isLoad && (w >> 12 & 15U) == core::kPc)
            out_.cycles = "5";
        if ((w & 0x020F0000U) == 0x000F0000U) {
            const std::uint32_t base = thumb_ ? (address_ + 4) & ~3U : address_ + 8;
            const std::uint32_t to = (w & 1U << 23) != 0 ? base + (w & 0xFFFU) : base - (w & 0xFFFU);
            out_.note = fmt::format("0x{:x}", to);
        }
        set(fmt::format("{}{}{}{}", isLoad ? "ldr" : "str", byte ? "b" : "", asUser ? "t" : "", condition_), reg(w >> 12) + ", " + addressOf(asUser ? w & ~(1U << 21) : w));
    }

    void extra(std::uint32_t w)
    {
        const bool pre = (w & 1U << 24) != 0, up = (w & 1U << 23) != 0, write = (w & 1U << 21) != 0, isLoad = (w & 1U << 20) != 0;
        const std::uint32_t what = w >> 5 & 3U;
        const char* name = what == 1 ? (isLoad ? "ldrh" : "strh") : isLoad ? (what == 2 ? "ldrsb" : "ldrsh") : what == 2 ? "ldrd" : "strd";
        std::string offset;
        if ((w & 1U << 22) == 0)
            offset = (up ? "" : "-") + reg(w);
        else if (const std::uint32_t imm = (w >> 4 & 0xF0U) | (w & 15U); imm != 0 || !up || !pre || write)
            offset = fmt::format("#{}{}", up ? "" : "-", imm);
        std::string d = reg(w >> 12);
        if (!isLoad && what != 1) {
            if ((w >> 12 & 1U) != 0)
                return set("undefined", "");
            d += ", " + reg((w >> 12) + 1);
            out_.cycles = "2";
        }
        set(std::string(name) + condition_, d + ", " + joined(w, pre, write && pre, offset));
    }

    void block(std::uint32_t w)
    {
        const bool isLoad = (w & 1U << 20) != 0, write = (w & 1U << 21) != 0, status = (w & 1U << 22) != 0;
        const std::uint32_t how = w >> 23 & 3U, n = w >> 16 & 15U;
        out_.cycles = fmt::format("{}", std::max(std::popcount(w & 0xFFFFU), 1) + (isLoad && (w & 0x8000U) != 0 ? 4 : 0));
        const std::string list = listOf(w & 0xFFFFU) + (status ? "^" : "");
        if (n == core::kSp && write && how == (isLoad ? 1U : 2U) && !status)
            return set(std::string(isLoad ? "pop" : "push") + condition_, list);
        static constexpr const char* kModes[] = {"da", "", "db", "ib"};
        set(fmt::format("{}{}{}", isLoad ? "ldm" : "stm", kModes[how], condition_), fmt::format("{}{}, {}", reg(n), write ? "!" : "", list));
    }

    InstructionText& out_;
    const Symbols* symbols_;
    std::uint32_t address_;
    bool thumb_;
    const char* condition_ = "";
};

}  // namespace

InstructionText disassemble(const chip::Device&, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols)
{
    InstructionText out;
    out.address = address;
    out.size = 2;
    if (address < code.begin || std::size_t{address} - code.begin + 1 >= code.bytes.size()) {
        out.mnemonic = "outside memory";
        return out;
    }
    std::uint32_t word = 0;
    for (std::size_t i = 0; i < 4 && address - code.begin + i < code.bytes.size(); ++i)
        word |= std::uint32_t{code.bytes[address - code.begin + i]} << (8 * i);
    const char mark = symbols == nullptr ? '\0' : symbols->codeMark(address);
    const bool arm = mark == 'a' || (mark != 't' && (address & 3U) == 0 && ((word >> 28) == 14U || mark == 'd'));
    if (mark == 'd' && (address & 3U) == 0) {
        out.size = 4;
        out.mnemonic = ".word";
        out.operands = fmt::format("0x{:08x}", word);
        return out;
    }
    Text text(out, symbols, address, !arm);
    if (arm) {
        out.size = 4;
        text.write(word);
        return out;
    }
    using Kind = core::Expanded::Kind;
    const core::Expanded e = core::expandThumb(static_cast<std::uint16_t>(word));
    switch (e.kind) {
    case Kind::arm: text.write(e.word); break;
    case Kind::branch: text.branch("b", e.word >> 28, address + 4 + static_cast<std::uint32_t>(e.offset)); break;
    case Kind::linkHigh: {
        const core::Expanded low = core::expandThumb(static_cast<std::uint16_t>(word >> 16));
        if (low.kind == Kind::linkLow || low.kind == Kind::linkLowArm) {
            out.size = 4;
            const std::uint32_t to = address + 4 + static_cast<std::uint32_t>(e.offset) + static_cast<std::uint32_t>(low.offset);
            text.branch(low.kind == Kind::linkLow ? "bl" : "blx", 14, low.kind == Kind::linkLow ? to : to & ~3U);
            break;
        }
        [[fallthrough]];
    }
    default: out.mnemonic = "undefined"; break;
    }
    return out;
}

}  // namespace bramix::debug::arm9
