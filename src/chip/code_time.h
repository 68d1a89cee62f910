// Where a chip's time goes, by parts of its code, counted all the time at full speed: cycles of each part in each stretch of so many cycles.
//
// Parts are numbered by whoever asks, slot by slot of the program memory (Device::codeStep; a function is a part); three numbers stand for what is no code. The core tells when control has
// come to another part, and nothing in between: what it costs is a look at each call, return and interrupt.
//
// Stretches begin where metering began, at a reset, and where the clock changed, and are all equally long; one in which nothing changed goes on for several. So they are the
// same in each run, however it was cut into pieces, and every cycle is in one of them exactly.
// Tested by tests/chip/avr/core/code_time_test.cpp against the reference, instruction by instruction.
#pragma once

#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "kernel/share.h"

namespace bramix::chip {

class CodeTime {
public:
    static constexpr std::uint16_t kAsleep = 0, kInReset = 1, kElsewhere = 2, kFirstPart = 3;

    using Share = kernel::Share;  // a part and its cycles
    // Hears what each part had, in order of parts, of each stretch from one cycle to another.
    using Sink = std::function<void(std::int64_t from, std::int64_t to, std::span<const Share>)>;
    struct Stretch {
        std::int64_t from = 0, to = 0;  // cycles
        std::vector<Share> shares;      // in order of parts; together as long as the stretch
        bool operator==(const Stretch&) const = default;
    };

    // What is under way, to go on from later.
    struct State {
        std::uint16_t part = 0;
        std::int64_t since = 0, from = 0, to = 0;
        std::vector<Share> spent;
    };

    // The part of each slot of program memory, kFirstPart and up or kElsewhere; `parts`: one more than the highest. `stretch` in cycles.
    CodeTime(std::vector<std::uint16_t> partAt, std::size_t parts, std::int64_t stretch, Sink sink);

    [[nodiscard]] std::uint16_t partAt(std::uint32_t slot) const { return slot < partAt_.size() ? partAt_[slot] : kElsewhere; }
    // The same of a slot that is known to be there.
    [[nodiscard]] std::uint16_t known(std::size_t slot) const { return partAt_[slot]; }
    [[nodiscard]] bool crosses(std::uint32_t from, std::uint32_t to) const { return partAt(from) != partAt(to); }
    [[nodiscard]] std::uint16_t present() const { return part_; }

    // From `cycle` on a part runs.
    void enter(std::uint16_t part, std::int64_t cycle)
    {
        if (part != part_)
            change(part, cycle);
    }
    // The same of a part that is known to be another.
    void change(std::uint16_t part, std::int64_t cycle)
    {
        if (cycle >= to_) [[unlikely]]
            close(cycle);
        spend(cycle);
        part_ = part;
    }
    // Ends the stretch under way; the next ones have this length. Before the clock changes.
    void cut(std::int64_t cycle, std::int64_t stretch);
    // Begins anew at a cycle: nothing is under way.
    void begin(std::uint16_t part, std::int64_t cycle, std::int64_t stretch);

    // What is under way, up to `cycle`: one stretch, or two where it is longer and the second has been the present part's alone.
    [[nodiscard]] std::vector<Stretch> open(std::int64_t cycle) const;
    [[nodiscard]] State state() const;
    void setState(const State& state);

private:
    void spend(std::int64_t to)
    {
        spent_[part_] += to - since_;
        since_ = to;
    }
    void close(std::int64_t cycle);
    void give(std::int64_t to);

    std::vector<std::uint16_t> partAt_;
    std::vector<std::int64_t> spent_;  // by part, in the stretch under way
    Sink sink_;
    std::vector<Share> given_;   // room for what is told
    std::uint16_t part_ = kInReset;
    std::int64_t since_ = 0;            // of the present part, as far as it is not in spent_
    std::int64_t from_ = 0, to_ = 0;    // the stretch under way
    std::int64_t length_ = 1;
};

}  // namespace bramix::chip
