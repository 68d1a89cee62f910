// What is due, and when. An Alarm is a standing appointment owned by whoever wants to be called: it is armed for an
// instant, disarmed, armed again, without allocating. Alarms due at one instant ring in the order in which they were armed, after those that have a rank, in its order:
// of who arms an alarm now and then only to look, so that it makes no difference to anybody else how often.
// Invariant: heap_ is a binary min-heap on (due, order), and heap_[alarm.slot_].alarm == &alarm for every armed alarm. The keys lie in the heap
// itself, so that finding a place touches nothing else and compares without a branch.
// Alarms are saved by their owners (due time and order), so a restored world rings in the same order.
// Tested by tests/kernel/kernel_test.cpp.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <utility>
#include <vector>

#include "kernel/time.h"

namespace bramix::kernel {

class Alarm;

class EventQueue {
public:
    EventQueue() = default;
    EventQueue(const EventQueue&) = delete;
    EventQueue& operator=(const EventQueue&) = delete;

    // The instant of the earliest alarm, or kNever.
    [[nodiscard]] Time nextDue() const { return next_; }

    // The simulated present: the instant up to which alarms have rung.
    [[nodiscard]] Time now() const { return now_; }

    // Rings every alarm due at `until` or before, in order, including those armed meanwhile; the present is then `until`.
    // Does nothing where `until` is already past.
    void advanceTo(Time until)
    {
        if (next_ <= until) [[unlikely]] {
            ring(until);
            if (next_ <= until) [[unlikely]]
                return;  // interrupted
        }
        if (until > now_)
            now_ = until;
    }

    // Hears of each alarm when it has rung, to look at what it has changed; empty: nobody does. Not to arm anything, and no state.
    void hear(std::function<void(Time due)> rung) { rung_ = std::move(rung); }

    // While the flag is set nothing rings and time stands: whoever set it wants the run to end, whatever the alarms do. `interrupted` is called then. No state.
    void interruptBy(const std::atomic<bool>* flag, std::function<void()> interrupted)
    {
        interrupt_ = flag;
        interrupted_ = std::move(interrupted);
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(now_, order_);
    }

private:
    friend class Alarm;

    struct Entry {
        static constexpr std::uint64_t kAfterRanks = 1ULL << 32U;
        unsigned __int128 key = 0;  // due, as an unsigned number in its order, and order
        Alarm* alarm = nullptr;
    };

    void ring(Time until);
    void insert(Alarm& alarm);
    void moved(Alarm& alarm);
    void remove(Alarm& alarm);
    void siftUp(const Entry& entry, std::uint32_t slot);
    void siftDown(const Entry& entry, std::uint32_t slot);
    void place(const Entry& entry, std::uint32_t slot);
    [[nodiscard]] static Entry entryOf(Alarm& alarm);
    void refreshNext();

    std::vector<Entry> heap_;
    Alarm* ringing_ = nullptr;  // in the heap still, but no longer due; null once it has been armed again
    Time now_{};
    Time next_ = kNever;
    std::uint64_t order_ = Entry::kAfterRanks;
    std::function<void(Time)> rung_;
    const std::atomic<bool>* interrupt_ = nullptr;
    std::function<void()> interrupted_;
};

class Alarm {
public:
    using Callback = std::function<void(Time due)>;

    Alarm(EventQueue& queue, Callback callback) : queue_(queue), callback_(std::move(callback)) {}
    Alarm(EventQueue& queue, Callback callback, std::uint32_t rank) : queue_(queue), callback_(std::move(callback)), ranked_(true), order_(rank) {}
    ~Alarm() { disarm(); }
    Alarm(const Alarm&) = delete;
    Alarm& operator=(const Alarm&) = delete;

    // Rings once at `due`; an earlier appointment is forgotten. A due time already past rings at the next advance.
    void arm(Time due);
    void disarm();

    [[nodiscard]] bool armed() const { return slot_ != kIdle && queue_.ringing_ != this; }
    [[nodiscard]] Time due() const { return armed() ? due_ : kNever; }

    template <class Archive>
    void state(Archive& ar)
    {
        bool isArmed = armed();
        Time due = due_;
        std::uint64_t order = order_;
        ar(isArmed, due, order);
        if constexpr (Archive::kLoading)
            restore(isArmed, due, order);
    }

private:
    friend class EventQueue;
    static constexpr std::uint32_t kIdle = UINT32_MAX;

    void restore(bool isArmed, Time due, std::uint64_t order);

    EventQueue& queue_;
    Callback callback_;
    Time due_{};
    bool ranked_ = false;
    std::uint64_t order_ = 0;
    std::uint32_t slot_ = kIdle;
};

}  // namespace bramix::kernel
