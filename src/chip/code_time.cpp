#include "chip/code_time.h"

#include <algorithm>
#include <utility>

#include "kernel/check.h"

namespace bramix::chip {

CodeTime::CodeTime(std::vector<std::uint16_t> partAt, std::size_t parts, std::int64_t stretch, Sink sink)
    : partAt_(std::move(partAt)), spent_((std::max<std::size_t>(parts, kFirstPart) + 3) / 4 * 4), sink_(std::move(sink)), given_(spent_.size() + 1), to_(stretch), length_(stretch)
{
    kernel::check(stretch > 0, "a stretch of no cycles");
    for (const std::uint16_t part : partAt_)
        kernel::check(part < spent_.size(), "a part beyond the last one");
}

// The stretch under way ends before `cycle`, and whole ones may lie in between, in which the present part ran alone.
void CodeTime::close(std::int64_t cycle)
{
    spend(to_);
    give(to_);
    if (const std::int64_t whole = (cycle - from_) / length_; whole > 0) {
        spend(from_ + whole * length_);
        give(since_);
    }
    to_ = from_ + length_;
}

void CodeTime::give(std::int64_t to)
{
    Share* at = given_.data();
    // Most parts have nothing: they are passed over four at a time.
    for (std::size_t four = 0; four < spent_.size(); four += 4) {
        std::int64_t* const spent = spent_.data() + four;
        if ((spent[0] | spent[1] | spent[2] | spent[3]) == 0)
            continue;
        for (std::size_t i = 0; i < 4; ++i)
            if (spent[i] != 0)
                *at++ = {static_cast<std::uint16_t>(four + i), std::exchange(spent[i], 0)};
    }
    const std::int64_t from = std::exchange(from_, to);
    sink_(from, to, {given_.data(), at});
}

void CodeTime::cut(std::int64_t cycle, std::int64_t stretch)
{
    if (cycle >= to_)
        close(cycle);
    spend(cycle);
    if (cycle > from_)
        give(cycle);
    length_ = stretch;
    to_ = from_ + length_;
}

void CodeTime::begin(std::uint16_t part, std::int64_t cycle, std::int64_t stretch)
{
    std::fill(spent_.begin(), spent_.end(), 0);
    part_ = part;
    since_ = from_ = cycle;
    length_ = stretch;
    to_ = from_ + length_;
}

std::vector<CodeTime::Stretch> CodeTime::open(std::int64_t cycle) const
{
    std::vector<Stretch> out{{from_, std::min(cycle, to_), {}}};
    for (std::size_t part = 0; part < spent_.size(); ++part)
        if (const std::int64_t cycles = spent_[part] + (part == part_ ? out[0].to - since_ : 0); cycles > 0)
            out[0].shares.push_back({static_cast<std::uint16_t>(part), cycles});
    if (cycle > to_)
        out.push_back({to_, cycle, {{part_, cycle - to_}}});
    return out;
}

CodeTime::State CodeTime::state() const
{
    State out{part_, since_, from_, to_, {}};
    for (std::size_t part = 0; part < spent_.size(); ++part)
        if (spent_[part] != 0)
            out.spent.push_back({static_cast<std::uint16_t>(part), spent_[part]});
    return out;
}

void CodeTime::setState(const State& state)
{
    begin(state.part, state.from, state.to - state.from);
    since_ = state.since;
    for (const Share& s : state.spent)
        spent_[s.id] = s.amount;
}

}  // namespace bramix::chip
