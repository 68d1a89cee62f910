// Simulated time: a 64-bit count of picoseconds since power-up (range: 106 days), and clock cycles, which are
// another type. The two are converted in one place, ClockDomain, exactly (128-bit intermediate): cycle n of an
// f Hz clock lies at ceil(n * 1e12 / f) ps, so nothing drifts however long the run.
// Invariant: firstCycleAtOrAfter(timeOf(c)) == c for every clock below 1 THz.
// Tested by tests/kernel/kernel_test.cpp.
#pragma once

#include <chrono>
#include <compare>
#include <cstdint>
#include <ratio>

namespace bramix::kernel {

using Duration = std::chrono::duration<std::int64_t, std::pico>;

struct SimClock {
    using rep = Duration::rep;
    using period = Duration::period;
    using duration = Duration;
    using time_point = std::chrono::time_point<SimClock, Duration>;
    static constexpr bool is_steady = true;
};

using Time = SimClock::time_point;

inline constexpr Time kNever = Time::max();
inline constexpr std::int64_t kPicosPerSecond = 1'000'000'000'000;

constexpr double seconds(Duration d) { return static_cast<double>(d.count()) * 1e-12; }
constexpr double seconds(Time t) { return seconds(t.time_since_epoch()); }

// A count of clock cycles of one chip. Signed, so that differences are plain.
struct Cycles {
    std::int64_t n = 0;

    constexpr auto operator<=>(const Cycles&) const = default;
    constexpr Cycles operator+(Cycles o) const { return {n + o.n}; }
    constexpr Cycles operator-(Cycles o) const { return {n - o.n}; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(n);
    }
};

inline constexpr Cycles kNoCycles{INT64_MAX};

// One clock: from the instant epoch on, its frequency is constant and cycle epochCycle begins at epoch.
class ClockDomain {
public:
    explicit ClockDomain(std::uint64_t hz = 1'000'000) { restart(Time{}, Cycles{}, hz); }

    // Changes the frequency at an instant; cycle `at` begins there. hz must be 1 .. 1e12.
    void restart(Time epoch, Cycles at, std::uint64_t hz)
    {
        epoch_ = epoch;
        epochCycle_ = at;
        hz_ = hz;
        wholePicos_ = kPicosPerSecond % static_cast<std::int64_t>(hz) == 0 ? kPicosPerSecond / static_cast<std::int64_t>(hz) : 0;
        perPico_ = wholePicos_ == 0 ? 0 : 1.0 / static_cast<double>(wholePicos_);
    }

    [[nodiscard]] std::uint64_t hz() const { return hz_; }

    // The first picosecond of a cycle.
    [[nodiscard]] Time timeOf(Cycles c) const
    {
        const std::int64_t n = c.n - epochCycle_.n;
        if (wholePicos_ != 0) [[likely]]
            return epoch_ + Duration(n * wholePicos_);
        const auto hz = static_cast<__int128>(hz_);
        const __int128 product = static_cast<__int128>(n) * kPicosPerSecond;
        return epoch_ + Duration(static_cast<std::int64_t>((product + hz - 1) / hz));
    }

    // The first cycle that begins at t or later.
    [[nodiscard]] Cycles firstCycleAtOrAfter(Time t) const
    {
        if (t == kNever)
            return kNoCycles;
        const std::int64_t picos = (t - epoch_).count();
        if (picos <= 0)
            return epochCycle_;
        if (wholePicos_ != 0) [[likely]]
            return {epochCycle_.n + wholeCycles(picos + wholePicos_ - 1)};
        const __int128 product = static_cast<__int128>(picos - 1) * static_cast<__int128>(hz_);
        return {epochCycle_.n + static_cast<std::int64_t>(product / kPicosPerSecond) + 1};
    }

    // How long n cycles take, rounded up to a picosecond.
    [[nodiscard]] Duration span(std::int64_t n) const { return timeOf({epochCycle_.n + n}) - epoch_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(epoch_, epochCycle_, hz_);
        restart(epoch_, epochCycle_, hz_);
    }

private:
    // picos / wholePicos_, exactly: a product in floating point is off by a few at most, which the remainder shows. A division of 64 bits
    // takes several times as long, and every event asks.
    [[nodiscard]] std::int64_t wholeCycles(std::int64_t picos) const
    {
        auto cycles = static_cast<std::int64_t>(static_cast<double>(picos) * perPico_);
        std::int64_t rest = picos - cycles * wholePicos_;
        while (rest < 0) [[unlikely]] {
            --cycles;
            rest += wholePicos_;
        }
        while (rest >= wholePicos_) [[unlikely]] {
            ++cycles;
            rest -= wholePicos_;
        }
        return cycles;
    }

    Time epoch_;
    Cycles epochCycle_;
    std::uint64_t hz_ = 1;
    double perPico_ = 0;
    std::int64_t wholePicos_ = 0;  // picoseconds a cycle where that is a whole number, else 0; saves the division
};

}  // namespace bramix::kernel
