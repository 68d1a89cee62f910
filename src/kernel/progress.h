// How far a long piece of work has come, as another thread sees it, which may also ask it to stop.
//
// The worker calls begin(), at() as it goes and end(), and looks at stopped() wherever it can leave off. Whoever shows it calls state() and stop().
// Tested by tests/app/progress_test.cpp.
#pragma once

#include <atomic>
#include <chrono>
#include <mutex>
#include <optional>
#include <string>
#include <utility>

namespace bramix::kernel {

class Progress {
public:
    struct State {
        std::string what;  // "Saving the recording"
        double share = 0;  // 0 to 1
        std::chrono::steady_clock::time_point since{};
    };

    // A request to stop that came before is none of this work's.
    void begin(std::string what)
    {
        const std::lock_guard lock(mutex_);
        stopped_ = false;
        share_ = 0;
        state_ = State{std::move(what), 0, std::chrono::steady_clock::now()};
    }
    void at(double share) { share_.store(share, std::memory_order_relaxed); }
    void end()
    {
        const std::lock_guard lock(mutex_);
        state_.reset();
        stopped_ = false;
    }
    [[nodiscard]] bool stopped() const { return stopped_.load(std::memory_order_relaxed); }

    // Nothing while nothing is under way.
    [[nodiscard]] std::optional<State> state() const
    {
        const std::lock_guard lock(mutex_);
        auto out = state_;
        if (out)
            out->share = share_.load(std::memory_order_relaxed);
        return out;
    }
    // False where there is nothing to stop.
    bool stop()
    {
        const std::lock_guard lock(mutex_);
        if (state_)
            stopped_ = true;
        return state_.has_value();
    }

private:
    mutable std::mutex mutex_;
    std::optional<State> state_;
    std::atomic<double> share_{0};
    std::atomic<bool> stopped_{false};
};

}  // namespace bramix::kernel
