// Where the time goes and how deep the stack gets, instruction by instruction, while somebody counts.
// Tested by tests/chip/avr/core/stops_test.cpp, tests/chip/avr/core/counting_test.cpp.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <vector>

namespace bramix::chip {

// The deepest stack in each stretch of time. There are kMost stretches at most: when they are used up, two become one.
class StackTrace {
public:
    static constexpr std::size_t kMost = 512;

    void note(std::int64_t cycle, std::uint32_t sp)
    {
        if (lowest_.empty())
            from_ = cycle;
        std::size_t at = static_cast<std::size_t>(std::max<std::int64_t>(cycle - from_, 0) / width_);
        while (at >= kMost) {
            halve();
            at /= 2;
        }
        // A sleep leaves stretches in which nothing ran: the stack stood as it was.
        while (lowest_.size() <= at)
            lowest_.push_back(last_);
        lowest_[at] = std::min(lowest_[at], sp);
        last_ = sp;
    }
    [[nodiscard]] std::int64_t from() const { return from_; }
    [[nodiscard]] std::int64_t width() const { return width_; }  // cycles a stretch
    [[nodiscard]] const std::vector<std::uint32_t>& lowest() const { return lowest_; }

private:
    void halve()
    {
        for (std::size_t i = 0; i < lowest_.size(); i += 2)
            lowest_[i / 2] = i + 1 < lowest_.size() ? std::min(lowest_[i], lowest_[i + 1]) : lowest_[i];
        lowest_.resize((lowest_.size() + 1) / 2);
        width_ *= 2;
    }

    std::int64_t from_ = 0;
    std::int64_t width_ = 64;
    std::uint32_t last_ = UINT32_MAX;
    std::vector<std::uint32_t> lowest_;
};

// From the entry of an exception to its return; what interrupts it counts in.
struct HandlerTimes {
    std::int64_t times = 0;  // that have come to their end
    std::int64_t cycles = 0;
    std::int64_t longest = 0;
};

// Everything adds up to the cycles run.
struct CycleCounts {
    std::vector<std::int64_t> cycles;  // by slot of program memory (Device::codeStep), where the instruction begins
    std::vector<std::int64_t> times;   // how often it ran
    std::int64_t entries = 0;          // cycles spent entering exceptions, waking up included
    std::int64_t asleep = 0;
    std::array<HandlerTimes, 256> handlers{};  // by exception number
    StackTrace stack;

    [[nodiscard]] std::int64_t total() const
    {
        std::int64_t sum = entries + asleep;
        for (const std::int64_t c : cycles)
            sum += c;
        return sum;
    }
    void entered(unsigned exception, std::int64_t cycle) { open_.emplace_back(exception, cycle); }
    void returned(std::int64_t cycle)
    {
        if (open_.empty())
            return;  // entered before counting began, or a return that no exception asked for
        const auto [exception, since] = open_.back();
        open_.pop_back();
        HandlerTimes& h = handlers[exception];
        ++h.times;
        h.cycles += cycle - since;
        h.longest = std::max(h.longest, cycle - since);
    }
    // A reset leaves no handler to come back to.
    void forgetOpen() { open_.clear(); }

private:
    std::vector<std::pair<unsigned, std::int64_t>> open_;
};

}  // namespace bramix::chip
