// Voltages that were not recorded, measured afterwards: a second world runs through the stretch that is looked at with probes on its nets.
// Tested by tests/session/lookback_test.cpp.
#pragma once

#include <map>
#include <memory>
#include <vector>

#include "session/past_world.h"
#include "tape/waveform.h"

namespace bramix::session {

class PastVolts final : private circuit::ProbeListener {
public:
    PastVolts(Session& session, const bench::Catalogue& catalogue) : session_(session), catalogue_(catalogue) {}

    // Longer stretches are not gone through: a second takes about a thirtieth of one, of a busy bench.
    static constexpr Duration kLongest = std::chrono::seconds(20);

    // What is wanted from now on, and where; what is known of it already stays.
    void want(const std::vector<bench::PinRef>& pins, Time from, Time to);
    // Goes on for about so long. True where that changed anything.
    bool work(std::chrono::steady_clock::duration budget);
    [[nodiscard]] bool busy() const { return !ended_ && !waveforms_.empty() && known_ < to_; }
    // What has been found by now; null where it was not wanted.
    [[nodiscard]] const tape::Waveform* of(const bench::PinRef& pin) const;

private:
    void piece(bench::NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant) override;
    bool begin(std::chrono::steady_clock::time_point until);

    Session& session_;
    const bench::Catalogue& catalogue_;
    std::unique_ptr<PastWorld> past_;
    std::map<bench::PinRef, tape::Waveform> waveforms_;
    std::map<bench::NetId, std::vector<tape::Waveform*>> ofNet_;
    Time from_{}, to_{}, known_{};  // begins there, shall reach, has come to
    std::uint64_t course_ = 0;
    bool recalled_ = false, placed_ = false, ended_ = false;
};

}  // namespace bramix::session
