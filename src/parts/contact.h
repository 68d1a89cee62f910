// One mechanical contact: wanted open or closed, it gets there by way of bounces.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include <algorithm>
#include <string>

#include "parts/part.h"

namespace bramix::parts {

inline constexpr circuit::Ohms kContactOhms{0.05};

class Contact {
public:
    Contact(PartContext& context, circuit::ElementId element, kernel::Duration bounce, std::string_view name)
        : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), element_(element), bounce_(bounce),
          random_(context.seed, context.id + "." + std::string(name)), alarm_(context.queue, [this](kernel::Time due) { ring(due); })
    {
    }

    void want(bool closed)
    {
        if (closed == wanted_)
            return;
        wanted_ = closed;
        settledAt_ = queue_.now() + (closed ? bounce_ : bounce_ / 3);
        put(closed);
        if (bounce_ > kernel::Duration::zero())
            next(queue_.now());
    }

    [[nodiscard]] bool wanted() const { return wanted_; }
    // The position at power-up: there without a bounce.
    void place(bool closed)
    {
        wanted_ = closed;
        put(closed);
    }

    // When it last touched or parted.
    [[nodiscard]] kernel::Time changedAt() const { return changedAt_; }
    [[nodiscard]] std::string why() const
    {
        const std::string now = now_ ? "its contact touches" : "its contact parts";
        return now_ != wanted_ ? now + ": it bounces" : now;
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(wanted_, now_, settledAt_, changedAt_, random_, alarm_);
        if constexpr (Archive::kLoading)
            circuit_.setClosed(element_, now_, cause_);
    }

private:
    void put(bool closed)
    {
        now_ = closed;
        changedAt_ = queue_.now();
        circuit_.setClosed(element_, closed, cause_);
    }

    // A stay is a twentieth to a fourth of the bounce time.
    void next(kernel::Time from)
    {
        const std::int64_t part = bounce_.count() / 20;
        const kernel::Time due = from + kernel::Duration(part + static_cast<std::int64_t>(random_.below(static_cast<std::uint64_t>(part) * 4 + 1)));
        alarm_.arm(std::min(due, std::max(settledAt_, from)));
    }

    void ring(kernel::Time due)
    {
        if (due >= settledAt_) {
            put(wanted_);
            return;
        }
        put(!now_);
        next(due);
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    circuit::ElementId element_;
    kernel::Duration bounce_;
    kernel::Random random_;
    kernel::Alarm alarm_;
    bool wanted_ = false;
    bool now_ = false;
    kernel::Time settledAt_{}, changedAt_{};
};

// Of several contacts, the one that moved last.
inline std::string whyOf(std::initializer_list<const Contact*> contacts)
{
    return (*std::max_element(contacts.begin(), contacts.end(), [](const Contact* a, const Contact* b) { return a->changedAt() < b->changedAt(); }))->why();
}

// The setting "bounce": a time of at most a second, or "off".
kernel::Result<kernel::Duration> bounceOf(const PartContext& context);

}  // namespace bramix::parts
