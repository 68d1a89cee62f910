// Voltages that were not recorded, measured afterwards: a second world runs through the stretch that is looked at with probes on its nets.
// Where that is long, a waveform keeps of several lines in a row what they come to (tape/waveform.h).
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <map>
#include <memory>
#include <vector>

#include "session/replay/past_search.h"
#include "tape/waveform.h"

namespace bramix::session {

class PastVolts final : private circuit::ProbeListener {
public:
    PastVolts(Session& session, const bench::Catalogue& catalogue) : way_(session, catalogue), search_(session) {}

    // So many points a waveform: half a million lines are a second of a busy bench, or an hour of a quiet one.
    static constexpr std::size_t kMostPoints = 1U << 19U;

    // What is wanted from now on, and where; what is known of it already stays.
    void want(const std::vector<bench::PinRef>& pins, Time from, Time to);
    // Nothing is wanted just now; what has been found is kept.
    void rest() { search_.rest(); }
    // Goes on for about so long. True where that changed anything.
    bool work(std::chrono::steady_clock::duration budget);
    [[nodiscard]] bool busy() const { return !search_.rests() && !waveforms_.empty() && search_.goesOn(); }
    // What has been found by now; null where it was not wanted, or the run has taken another course since.
    [[nodiscard]] const tape::Waveform* of(const bench::PinRef& pin) const;

private:
    void piece(bench::NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant) override;
    bool begin(std::chrono::steady_clock::time_point until);

    PastWay way_;
    PastSearch search_;
    std::map<bench::PinRef, tape::Waveform> waveforms_;
    std::map<bench::NetId, std::vector<tape::Waveform*>> ofNet_;
};

}  // namespace bramix::session
