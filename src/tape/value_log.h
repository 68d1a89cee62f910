// What a value was over a long time: each change where there are few, and where there are many what several in a row come to. For some of the time there may be none.
//
// Beyond a bound, what changed several times within a grain of time is put together: an entry then knows what the value was at its beginning and at its end, how far it went in between, and
// how often it changed. So the bound holds, least and most stay exact, and what happened rarely stays as it was.
// Invariant: entries are in order of time, each reaching to where the next begins.
// Tested by tests/tape/value_log_test.cpp.
#pragma once

#include <cstdint>
#include <vector>

#include "kernel/time.h"
#include "tape/waveform.h"

namespace bramix::tape {

class ValueLog {
public:
    struct Entry {
        Time from{};
        std::uint32_t changes = 1;  // 1: `first` stood all the time, or nothing did
        bool any = true;            // false: all the time there was no value
        double first = 0, last = 0, least = 0, most = 0;
        std::uint64_t raw = 0;      // what stood there, of a single change
    };

    // At least 8 entries.
    explicit ValueLog(std::size_t most = 60'000) : most_(most) {}

    // From `at` on it is this. Times must not decrease; a later word about the same instant holds.
    void change(Time at, double value, std::uint64_t raw) { add({at, 1, true, value, value, value, value, raw}); }
    // From `at` on there is no value.
    void end(Time at) { add({at, 1, false}); }
    // Takes the last change back, which must be a single one; false where there is none.
    bool takeBack();
    void clear()
    {
        entries_.clear();
        grain_ = {};
    }

    [[nodiscard]] const std::vector<Entry>& entries() const { return entries_; }
    // What changed several times within so long may have been put together; zero: nothing has.
    [[nodiscard]] Duration grain() const { return grain_; }
    // Those that have something between two instants: the first, and one beyond the last.
    [[nodiscard]] std::pair<std::size_t, std::size_t> between(Time from, Time to) const;
    // By columns, known up to `end`.
    [[nodiscard]] std::vector<WaveColumn> columns(Time from, Time to, std::size_t count, Time end) const;
    // How often it changed in each column; of entries that are put together, in the columns that they reach over: once at least.
    [[nodiscard]] std::vector<std::uint32_t> changes(Time from, Time to, std::size_t count) const;

private:
    void add(const Entry& entry);
    static Entry together(const Entry& a, const Entry& b);
    void coarsen();

    std::size_t most_;
    Duration grain_{};  // zero: nothing has been put together
    std::vector<Entry> entries_;
};

}  // namespace bramix::tape
