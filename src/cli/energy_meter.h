// What each supply of a bench has given over a run: mean current and energy. A board on USB is one: what it takes there, for its chip and all that hangs on
// its supply pins.
//
// Currents of a bench with chips change at every instruction, so they are looked at: once in each of equal stretches of time, at an instant within it that
// wanders through the stretch by the golden ratio. What repeats is so met at evenly spread places of its period, whatever that is. The error of a
// mean falls with the number of looks, less than a thousandth of the swing after five thousand; what stands still is exact. The run is not changed by it.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <string>
#include <vector>

#include "bench/world.h"

namespace bramix::cli {

class EnergyMeter {
public:
    struct Supply {
        std::string id;
        bench::PinRef plus, minus;  // minus.part is empty where the other side is ground
        bench::PinRef second;       // of a board on USB, its 3.3 V pin; an empty part: none
        bool usb = false;
        double coulombs = 0, joules = 0;
    };

    // Looks five thousand times in a run of `length`, and once a millisecond in one whose length is not known; at boards a tenth as often.
    EnergyMeter(const bench::Document& document, const bench::Catalogue& catalogue, kernel::Duration length);

    // When to look next; never where there is no supply.
    [[nodiscard]] kernel::Time next() const { return supplies_.empty() ? kernel::kNever : next_; }
    // At that instant.
    void look(const bench::World& world);
    [[nodiscard]] const std::vector<Supply>& supplies() const { return supplies_; }
    // In seconds; 0 before the first look.
    [[nodiscard]] double span() const { return kernel::seconds(stretch_) * static_cast<double>(looks_); }

private:
    std::vector<Supply> supplies_;
    kernel::Duration stretch_;
    kernel::Time next_{};
    std::uint64_t looks_ = 0, boardEvery_ = 1;
    double phase_ = 0;
};

}  // namespace bramix::cli
