// What becomes of a part that is asked for more than it can stand.
//
// A first-order thermal model: the load, relative to what the part stands for good, heats it with its time constant; beyond 1 it is told, and beyond the
// part's margin the part burns through and stays dead until it is replaced (the bench is restarted or the part put anew). Short pulses whose mean is within the limit do no harm,
// as in a multiplexed display.
// Tested by tests/parts/analog_parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

struct WearLimit {
    double amps = 0;       // the load is the current over this,
    double watts = 0;      // or, where this is set, the power over this
    double margin = 2;     // burns through at this much load for good
    double seconds = 0.3;  // time constant
    double ohms = 0;       // of a resistor: below the voltage at which it takes half of its rated power nobody need look
    std::string remedy;    // "put a resistor in series"
};

class Wear final : public circuit::ElementListener {
public:
    // With the setting overload = "only warns" it never burns through.
    Wear(PartContext& context, circuit::ElementId element, WearLimit limit);

    void elementChanged(circuit::ElementId element, kernel::Time at) override;
    [[nodiscard]] bool dead() const { return dead_; }
    void replace();
    template <class Archive>
    void state(Archive& ar)
    {
        ar(heat_, load_, since_, dead_, cause_, alarm_);
        if constexpr (Archive::kLoading)
            circuit_.setBroken(element_, dead_, cause_);
    }

private:
    void advance(kernel::Time now);
    void arm(kernel::Time now);
    void ring(kernel::Time due);

    std::string id_;
    circuit::Circuit& circuit_;
    circuit::ElementId element_;
    WearLimit limit_;
    bool warnsOnly_;
    std::function<void(const Remark&)> remark_;
    kernel::Alarm alarm_;
    double heat_ = 0;  // 1: as hot as it stands for good
    double load_ = 0;
    kernel::Time since_{};
    bool dead_ = false;
    circuit::Cause cause_;  // of the load
};

// A part that is one element and wears.
class WearingPart : public StatefulPart<WearingPart> {
public:
    WearingPart(PartContext& context, circuit::ElementId element, WearLimit limit) : element_(element), wear_(context, element, std::move(limit)) {}
    [[nodiscard]] bool dead() const override { return wear_.dead(); }
    void replace() override { wear_.replace(); }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(wear_);
    }

private:
    circuit::ElementId element_;
    Wear wear_;
};

}  // namespace bramix::parts
