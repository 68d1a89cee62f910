#include "debug/local_stops.h"

#include <algorithm>
#include <array>
#include <optional>

#include <dwarf.h>

#include "chip/families.h"

namespace bramix::debug {

using chip::Flow;
using chip::InstructionInfo;

namespace {

// What a place depends on.
struct Place {
    chip::RegisterSet registers;
    bool memory = false;

    void add(const LocationExpression& expression, std::uint32_t bytes, const chip::Device& device)
    {
        // A value may take several registers, one after the other.
        const auto reg = [&](std::uint64_t dwarf, std::uint32_t size) {
            std::uint32_t room = 0;
            for (std::uint64_t number = dwarf; room < size; ++number) {
                const auto found = std::find_if(device.coreRegisters.begin(), device.coreRegisters.end(), [number](const chip::CoreRegister& r) { return r.dwarfNumber == static_cast<int>(number); });
                if (found == device.coreRegisters.end())
                    return;
                const auto index = static_cast<std::size_t>(found - device.coreRegisters.begin());
                if (index < registers.size() && found->role == chip::CoreRole::general)
                    registers.set(index);
                room += found->bytes();
            }
        };
        const std::uint32_t pointer = device.pointerBytes;
        for (const Operation& op : expression)
            if (op.atom >= DW_OP_reg0 && op.atom <= DW_OP_reg31)
                reg(op.atom - DW_OP_reg0, bytes);
            else if (op.atom == DW_OP_regx)
                reg(op.first, bytes);
            else if (op.atom >= DW_OP_breg0 && op.atom <= DW_OP_breg31)
                reg(op.atom - DW_OP_breg0, pointer), memory = true;
            else if (op.atom == DW_OP_bregx)
                reg(op.first, pointer), memory = true;
            else if (op.atom == DW_OP_fbreg || op.atom == DW_OP_addr || op.atom == DW_OP_call_frame_cfa || op.atom == DW_OP_deref || op.atom == DW_OP_deref_size)
                memory = true;
    }
};

class Finder {
public:
    Finder(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device) : symbols_(symbols), code_(code), device_(device) {}

    LocalStops find(const std::string& function, const std::string& variable, bool indirect)
    {
        place_.memory = indirect;
        out_.inside = codeOf(symbols_, code_, device_, function);
        for (std::size_t f = 0; f < symbols_.functions().size(); ++f) {
            const Function& candidate = symbols_.functions()[f];
            if (!isNamed(candidate, function))
                continue;
            for (const CodeRange& range : candidate.ranges)
                arrive(range.begin);
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
    [[nodiscard]] bool inside(std::uint32_t address) const
    {
        const std::size_t slot = device_.slotOf(address);
        return slot < out_.inside.size() && out_.inside[slot];
    }
    void arrive(std::uint32_t address)
    {
        if (inside(address))
            out_.arrivals.push_back(address);
    }

    void addLocal(const Variable& local)
    {
        for (const Location& l : local.locations) {
            place_.add(l.expression, symbols_.types().size(local.type), device_);
            if (local.locations.size() > 1 || l.begin != 0) {
                bounds_.push_back(l.begin);
                bounds_.push_back(l.end);
            }
        }
        std::sort(bounds_.begin(), bounds_.end());
        bounds_.erase(std::unique(bounds_.begin(), bounds_.end()), bounds_.end());
    }
    // Which stretch between two notes of the compiler's an address lies in.
    [[nodiscard]] std::size_t stretch(std::uint32_t address) const { return static_cast<std::size_t>(std::upper_bound(bounds_.begin(), bounds_.end(), address) - bounds_.begin()); }

    // A function's code, instruction by instruction.
    void read(const CodeRange& range)
    {
        for (std::uint32_t address = range.begin; address < range.end;) {
            const InstructionInfo i = chip::decode(device_, code_, address);
            if (i.size == 0)
                return;
            look(address, i);
            address += i.size;
        }
    }

    void look(std::uint32_t address, const InstructionInfo& i)
    {
        const std::uint32_t after = address + i.size;
        std::array<std::uint32_t, 2> next{after, after};  // where it goes on, calls aside
        if (i.flow == Flow::jump)
            next = {*i.target, *i.target};
        else if (i.flow == Flow::branch || i.flow == Flow::skip)
            next[1] = *i.target;
        const bool returns = i.isReturn(), anywhere = i.flow == Flow::indirectJump;
        if (!inside(address)) {
            // Into the function, by whatever way. Through a pointer it is entered at its beginning.
            for (const std::uint32_t n : next)
                if (!returns && !anywhere && inside(n))
                    arrive(n);
            if (i.flow == Flow::call && inside(*i.target))
                arrive(*i.target);
            return;
        }
        bool step = returns || (i.writes & place_.registers).any() || (place_.memory && i.stores);
        for (const std::uint32_t n : next)
            if (!returns && !anywhere)
                step = step || !inside(n) || stretch(n) != stretch(address);
        const bool leavesByJump = i.flow == Flow::jump && !inside(*i.target);
        // What has run meanwhile may have changed it: what was called, or a prologue that functions share.
        if (i.isCall() || leavesByJump)
            arrive(after);
        if (i.flow == Flow::call)
            arrive(*i.target);
        // By a table to any place; where all are alike to the local, none needs a look.
        if (anywhere || leavesByJump)
            arriveAnywhere(stretch(address));
        if (step)
            out_.steps.push_back(address);
    }

    void arriveAnywhere(std::size_t from)
    {
        for (std::size_t slot = 0; slot < out_.inside.size() && !bounds_.empty(); ++slot)
            if (const std::uint32_t address = device_.codeAt(slot); out_.inside[slot] && stretch(address) != from)
                arrive(address);
    }

    const Symbols& symbols_;
    const chip::CodeView& code_;
    const chip::Device& device_;
    LocalStops out_;
    Place place_;
    std::vector<std::uint32_t> bounds_;  // code addresses, in order
};

}  // namespace

bool isNamed(const Function& function, const std::string& name) { return function.name == name || function.name.substr(0, function.name.find('(')) == name; }

std::vector<bool> codeOf(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device, const std::string& function)
{
    std::vector<bool> out(code.bytes.size() / device.codeStep);
    for (const Function& f : symbols.functions())
        if (isNamed(f, function))
            for (const CodeRange& range : f.ranges)
                for (std::uint32_t address = range.begin; address < range.end; address += device.codeStep)
                    if (const std::size_t slot = device.slotOf(address); slot < out.size())
                        out[slot] = true;
    return out;
}

LocalStops localStops(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device, const std::string& function, const std::string& variable, bool indirect)
{
    return Finder(symbols, code, device).find(function, variable, indirect);
}

}  // namespace bramix::debug
