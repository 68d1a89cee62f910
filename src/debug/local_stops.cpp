#include "debug/local_stops.h"

#include <algorithm>
#include <array>
#include <optional>

#include <dwarf.h>

#include "chip/avr/core/isa.h"
#include "chip/avr/core/operands.h"

namespace bramix::debug {

namespace avr = chip::avr;
using avr::Op;

namespace {

bool isCall(Op op) { return op == Op::call || op == Op::rcall || op == Op::icall || op == Op::eicall; }
bool isSkip(Op op) { return op == Op::cpse || op == Op::sbrc || op == Op::sbrs || op == Op::sbic || op == Op::sbis; }
bool isIndirectJump(Op op) { return op == Op::ijmp || op == Op::eijmp; }

// Into the frame, or where a pointer leads. A call leaves its return address, which is where a frame will stand that is being built so.
bool stores(Op op)
{
    switch (op) {
    case Op::sts: case Op::stX: case Op::stXInc: case Op::stXDec: case Op::stdY: case Op::stYInc: case Op::stYDec: case Op::stdZ: case Op::stZInc: case Op::stZDec: case Op::push: return true;
    default: return isCall(op);
    }
}

// What a place depends on.
struct Place {
    std::uint32_t registers = 0;  // bit by register
    bool memory = false;

    void add(const LocationExpression& expression, std::uint32_t bytes)
    {
        constexpr unsigned kRegisters = 32;
        const auto reg = [this](std::uint64_t first, std::uint32_t count) {
            for (std::uint64_t r = first; r < std::min<std::uint64_t>(first + count, kRegisters); ++r)
                registers |= 1U << r;
        };
        for (const Operation& op : expression)
            if (op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31)
                reg(op.atom - DW_OP_reg0, bytes);
            else if (op.atom == DW_OP_regx)
                reg(op.first, bytes);
            else if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31)
                reg(op.atom - DW_OP_breg0, 2), memory = true;
            else if (op.atom == DW_OP_bregx)
                reg(op.first, 2), memory = true;
            else if (op.atom == DW_OP_fbreg || op.atom == DW_OP_addr || op.atom == DW_OP_call_frame_cfa || op.atom == DW_OP_deref || op.atom == DW_OP_deref_size)
                memory = true;
    }
};

class Finder {
public:
    Finder(const Symbols& symbols, std::span<const std::uint16_t> flash, const avr::ChipTable& chip) : symbols_(symbols), flash_(flash), chip_(chip) {}

    LocalStops find(const std::string& function, const std::string& variable, bool indirect)
    {
        place_.memory = indirect;
        out_.inside = codeOf(symbols_, flash_.size(), function);
        for (std::size_t f = 0; f < symbols_.functions().size(); ++f) {
            const Function& candidate = symbols_.functions()[f];
            if (!isNamed(candidate, function))
                continue;
            for (const CodeRange& range : candidate.ranges)
                arrive(range.begin / 2);
            for (const int v : symbols_.localsOf(static_cast<int>(f)))
                if (const Variable& local = symbols_.variables()[static_cast<std::size_t>(v)]; local.name == variable)
                    addLocal(local);
        }
        for (const Function& f : symbols_.functions())
            if (f.caller < 0)
                for (const CodeRange& range : f.ranges)
                    read(range);
        for (auto* list : {&out_.arrivals, &out_.steps}) {
            std::sort(list->begin(), list->end());
            list->erase(std::unique(list->begin(), list->end()), list->end());
        }
        return std::move(out_);
    }

private:
    [[nodiscard]] bool inside(std::uint32_t word) const { return word < out_.inside.size() && out_.inside[word]; }
    void arrive(std::uint32_t word)
    {
        if (inside(word))
            out_.arrivals.push_back(word);
    }
    [[nodiscard]] avr::Instruction at(std::uint32_t word) const { return avr::decode(chip_.core, word, flash_[word], word + 1 < flash_.size() ? flash_[word + 1] : std::uint16_t{0xFFFF}); }

    void addLocal(const Variable& local)
    {
        for (const Location& l : local.locations) {
            place_.add(l.expression, symbols_.types().size(local.type));
            if (local.locations.size() > 1 || l.begin != 0) {
                bounds_.push_back(l.begin / 2);
                bounds_.push_back(l.end / 2);
            }
        }
        std::sort(bounds_.begin(), bounds_.end());
        bounds_.erase(std::unique(bounds_.begin(), bounds_.end()), bounds_.end());
    }
    // Which stretch between two notes of the compiler's a word lies in.
    [[nodiscard]] std::size_t stretch(std::uint32_t word) const { return static_cast<std::size_t>(std::upper_bound(bounds_.begin(), bounds_.end(), word) - bounds_.begin()); }

    // A function's code, instruction by instruction.
    void read(const CodeRange& range)
    {
        const auto end = static_cast<std::uint32_t>(std::min<std::size_t>(range.end / 2, flash_.size()));
        for (std::uint32_t word = range.begin / 2; word < end;) {
            const avr::Instruction i = at(word);
            look(word, i);
            word += i.words;
        }
    }

    void look(std::uint32_t word, const avr::Instruction& i)
    {
        const std::uint32_t after = word + i.words;
        std::array<std::uint32_t, 2> next{after, after};  // where it goes on, calls aside
        if (i.op == Op::rjmp || i.op == Op::jmp)
            next = {i.target, i.target};
        else if (i.op == Op::brbs || i.op == Op::brbc)
            next[1] = i.target;
        else if (isSkip(i.op))
            next[1] = after + (after < flash_.size() && avr::isTwoWords(flash_[after]) ? 2 : 1);
        const bool returns = i.op == Op::ret || i.op == Op::reti, anywhere = isIndirectJump(i.op);
        if (!inside(word)) {
            // Into the function, by whatever way. Through a pointer it is entered at its beginning.
            for (const std::uint32_t n : next)
                if (!returns && !anywhere && inside(n))
                    arrive(n);
            if ((i.op == Op::call || i.op == Op::rcall) && inside(i.target))
                arrive(i.target);
            return;
        }
        bool step = returns || (avr::operandsOf(i).writes & place_.registers) != 0 || (place_.memory && stores(i.op));
        for (const std::uint32_t n : next)
            if (!returns && !anywhere)
                step = step || !inside(n) || stretch(n) != stretch(word);
        const bool leavesByJump = (i.op == Op::rjmp || i.op == Op::jmp) && !inside(i.target);
        // What has run meanwhile may have changed it: what was called, or a prologue that functions share.
        if (isCall(i.op) || leavesByJump)
            arrive(after);
        if (i.op == Op::call || i.op == Op::rcall)
            arrive(i.target);
        // By a table to any place; where all are alike to the local, none needs a look.
        if (anywhere || leavesByJump)
            arriveAnywhere(stretch(word));
        if (step)
            out_.steps.push_back(word);
    }

    void arriveAnywhere(std::size_t from)
    {
        for (std::uint32_t word = 0; word < out_.inside.size() && !bounds_.empty(); ++word)
            if (inside(word) && stretch(word) != from)
                arrive(word);
    }

    const Symbols& symbols_;
    std::span<const std::uint16_t> flash_;
    const avr::ChipTable& chip_;
    LocalStops out_;
    Place place_;
    std::vector<std::uint32_t> bounds_;  // in order
};

}  // namespace

bool isNamed(const Function& function, const std::string& name) { return function.name == name || function.name.substr(0, function.name.find('(')) == name; }

std::vector<bool> codeOf(const Symbols& symbols, std::size_t flashWords, const std::string& function)
{
    std::vector<bool> out(flashWords);
    for (const Function& f : symbols.functions())
        if (isNamed(f, function))
            for (const CodeRange& range : f.ranges)
                for (std::size_t word = range.begin / 2; word < std::min<std::size_t>(range.end / 2, flashWords); ++word)
                    out[word] = true;
    return out;
}

LocalStops localStops(const Symbols& symbols, std::span<const std::uint16_t> flash, const avr::ChipTable& chip, const std::string& function, const std::string& variable, bool indirect)
{
    return Finder(symbols, flash, chip).find(function, variable, indirect);
}

}  // namespace bramix::debug
