#include "session/tracing/expression_follower.h"

#include <algorithm>

namespace bramix::session {

namespace {

class MemoryTarget final : public debug::Target {
public:
    explicit MemoryTarget(const ExpressionFollower::Memory& memory) : memory_(memory), chip_(memory.unit) {}
    [[nodiscard]] std::uint8_t data(std::uint32_t address) const override { return memory_.data(address); }
    [[nodiscard]] std::uint8_t flash(std::uint32_t address) const override { return chip_.flash(address); }
    [[nodiscard]] std::uint8_t eeprom(std::uint32_t address) const override { return memory_.eeprom(address); }
    [[nodiscard]] const chip::Device& device() const override { return chip_.device(); }
    [[nodiscard]] const chip::RegisterMap& registers() const override { return chip_.registers(); }
    [[nodiscard]] std::uint64_t coreRegister(std::size_t index) const override { return chip_.coreRegister(index); }

private:
    const ExpressionFollower::Memory& memory_;
    ChipTarget chip_;
};

void readInto(std::vector<std::uint8_t>& bytes, const debug::Use& place, const ExpressionFollower::Memory& memory)
{
    bytes.clear();
    for (std::uint32_t i = 0; i < place.length; ++i)
        bytes.push_back(place.space == debug::Space::eeprom ? memory.eeprom(place.address + i) : memory.data(place.address + i));
}

}  // namespace

std::uint8_t ExpressionFollower::Memory::data(std::uint32_t address) const
{
    return when && kindsOf({debug::Space::data, address, 1}, *unit.device).peripheral ? unit.chip->readDataAt(address, *when) : unit.chip->readData(address);
}

ExpressionFollower::Kinds ExpressionFollower::kindsOf(const debug::Use& place, const chip::Device& device)
{
    if (place.space == debug::Space::eeprom)
        return {false, true, false};
    Kinds out;
    for (std::uint32_t i = 0; i < place.length; ++i) {
        const std::uint32_t address = place.address + i;
        // What lies nowhere, as behind a pointer that was never set, is looked at like memory.
        (device.registerAt(address) ? out.core : address >= device.peripheralBegin && address < device.peripheralEnd ? out.peripheral : out.memory) = true;
    }
    return out;
}

Result<void> ExpressionFollower::begin(Program& program, const Memory& memory)
{
    const auto ok = workOut(program, memory);
    if (!ok && (parts_.empty() || !byValues_))
        return tl::unexpected(ok.error());
    if (!parts_.empty())
        return {};
    return kernel::fail(expression_, value_.space == debug::Space::flash ? "stands in flash, where it does not change" : "is constant: nothing in memory decides it", "expected what a program changes, such as a variable or a register");
}

Result<void> ExpressionFollower::workOut(Program& program, const Memory& memory)
{
    const MemoryTarget target(memory);
    std::vector<debug::Use> uses;
    debug::Evaluator evaluator(program.symbols, target, nullptr);
    evaluator.noteUses(&uses);
    evaluator.rememberNames(&names_);
    auto value = evaluator.evaluate(expression_);
    byValues_ = evaluator.failedByValues();
    fixed_ = value && uses.empty() && value->inMemory && value->bitSize == 0;
    if (value && value->inMemory)
        uses.push_back(debug::placeOf(*value));
    std::erase_if(uses, [](const debug::Use& use) { return use.space == debug::Space::flash || use.length == 0; });
    const auto alike = [](const Part& part, const debug::Use& use) { return part.place.space == use.space && part.place.address == use.address && part.place.length == use.length; };
    moved_ = uses.size() != parts_.size() || !std::equal(parts_.begin(), parts_.end(), uses.begin(), alike);
    parts_.resize(uses.size());
    for (std::size_t i = 0; i < uses.size(); ++i) {
        parts_[i].place = uses[i];
        readInto(parts_[i].bytes, uses[i], memory);
    }
    open_ = value && !value->bytes.empty();
    if (!value)
        return tl::unexpected(value.error());
    value_ = std::move(*value);
    if (value_.space == debug::Space::flash)
        value_.inMemory = false;  // in none that changes
    return {};
}

ExpressionFollower::News ExpressionFollower::look(Program& program, const Memory& memory)
{
    const auto before = changed_;
    const std::size_t byteBefore = changedByte_;
    std::optional<std::size_t> changed;
    bool several = false;
    moved_ = false;
    for (std::size_t i = 0; i < parts_.size(); ++i) {
        Part& part = parts_[i];
        readInto(now_, part.place, memory);
        if (now_ == part.bytes)
            continue;
        several = several || changed;
        changed = i;
        changedByte_ = static_cast<std::size_t>(std::mismatch(now_.begin(), now_.end(), part.bytes.begin()).first - now_.begin());
        part.bytes.swap(now_);
    }
    if (!changed)
        return News::none;
    changed_ = several || parts_[*changed].bytes.size() < 2 ? std::nullopt : changed;
    completes_ = changed_ && before == changed_ && changedByte_ != byteBefore;
    if (fixed_) {
        value_.bytes = parts_.front().bytes;
        return News::value;
    }
    const bool wasOpen = open_;
    const std::vector<std::uint8_t> was = value_.bytes;
    if (const auto ok = workOut(program, memory); !ok || !open_)
        return wasOpen ? News::ended : News::none;
    return wasOpen && was == value_.bytes ? News::none : News::value;
}

}  // namespace bramix::session
