// Which functions had the time, all the run long: of each chip, told by its core (code_time.h), kept in stretches (share_log.h).
//
// It goes with the session: whoever runs the world again from a remembered moment puts back what was under way then; what is known already is passed over; on another
// course what lay ahead is forgotten. Names are numbered once for the whole run, so firmware may change in it.
// Not thread-safe. Tested by tests/session/profile/function_times_test.cpp.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "bench/world.h"
#include "chip/code_time.h"
#include "debug/symbols.h"
#include "tape/share_log.h"

namespace bramix::session {

class FunctionTimes {
public:
    // The time of a chip's functions; "asleep", "in reset", and empty for code that belongs to no function, are names too.
    struct Log {
        std::vector<std::string> names;  // by id of `shares`
        tape::ShareLog shares;
        std::vector<tape::ShareLog::Stretch> last;  // up to where the run has ever come, while the present lies before that
        template <class Archive>
        void state(Archive& ar)
        {
            ar(names, shares, last);
        }
    };

    // Listens to the chips of a world that have firmware, from now on, in stretches so long. The world must outlive the listening.
    void listen(bench::World& world, const std::map<std::string, debug::Symbols const*>& symbols, kernel::Duration stretch = chip::Mcu::kUsualStretch);
    // What is under way is told to its end; nobody is listened to any more. Before the world goes, and after firmware has been replaced.
    void stop();

    // Under way in each chip.
    [[nodiscard]] std::vector<chip::CodeTime::State> states() const;
    void setStates(const std::vector<chip::CodeTime::State>& states);
    // The present is about to be left for the past.
    void leave();
    // What comes after t will not be.
    void dropAfter(kernel::Time t);
    void clear();

    void setBound(std::size_t bytes);
    [[nodiscard]] std::size_t bytes() const;

    struct Shares {
        const std::vector<std::string>* names = nullptr;
        std::vector<tape::ShareLog::Part> parts;
    };
    // By columns of a window; `behind`: the present lies before where the run has come to. Names are null of a chip that nothing is known of.
    [[nodiscard]] Shares columns(const std::string& chip, kernel::Time from, kernel::Time to, std::size_t count, bool behind) const;

    [[nodiscard]] bool listensTo(const std::string& chip) const { return logs_.contains(chip); }
    // So many stretches are known of a chip; they reach so far.
    [[nodiscard]] std::pair<std::uint64_t, kernel::Time> known(const std::string& chip) const
    {
        const auto log = logs_.find(chip);
        return log == logs_.end() ? std::pair<std::uint64_t, kernel::Time>() : std::pair(log->second.shares.count(), log->second.shares.end());
    }

    // For recordings.
    [[nodiscard]] std::map<std::string, Log> logs(bool behind) const;
    void setLogs(std::map<std::string, Log> logs);

private:
    struct Listener {
        std::string id;
        chip::Mcu* chip = nullptr;
        std::unique_ptr<chip::CodeTime> time;
        tape::ShareLog* log = nullptr;
    };
    [[nodiscard]] static std::vector<tape::ShareLog::Stretch> open(const Listener& listener);

    std::vector<std::unique_ptr<Listener>> listeners_;
    std::map<std::string, Log> logs_;
    std::size_t bound_ = SIZE_MAX;
};

}  // namespace bramix::session
