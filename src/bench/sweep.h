// A sweep: how currents, voltages and powers of a bench stand while one figure of it goes through a range.
//
// Each point is an operating point of its own: the bench is built with that value, capacitors stand charged, inductors are their windings, and the pins of chips
// hold what they are given. No time passes and nothing burns through, so that a curve may go where a part would not survive.
// A point whose circuit has no solution is not a number and is counted; the rest of the sweep goes on.
// Tested by tests/bench/sweep_test.cpp.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "bench/catalogue.h"
#include "bench/document.h"
#include "circuit/circuit.h"
#include "kernel/files.h"
#include "kernel/units.h"

namespace bramix::bench {

// A figure that a sweep can move: a setting with a unit, or a live control that is a dial.
struct SweepFigure {
    std::string part;
    std::string name;
    kernel::Unit unit = kernel::Unit::none;
    bool control = false;
    double present = 0;                 // as the bench has it; 0 where that is a word
    std::optional<double> least, most;  // a dial's ends

    [[nodiscard]] std::string text() const { return part + "." + name; }
};

// All figures of a bench, in its order. Those that mean nothing to an operating point (frequencies, capacitances, times) are left out.
[[nodiscard]] std::vector<SweepFigure> sweepFigures(const Document& document, const Catalogue& catalogue);

struct SweepAxis {
    std::string figure;  // "part.name"
    std::vector<double> values;
};

// `points` values from one end to the other, evenly or by equal ratios; both ends must then have the same sign.
[[nodiscard]] Result<std::vector<double>> sweepValues(double from, double to, std::size_t points, bool logarithmic);

struct SweepTrace {
    enum class What { voltage, current, power } what = What::voltage;
    PinRef pin;                     // of a voltage: of this pin
    std::optional<PinRef> against;  // to this one; ground where there is none
    std::string part;               // of a current or power: through this part
    std::string name{};             // how it is called where that is no pin: a net

    [[nodiscard]] kernel::Unit unit() const;
    // As it is written: "r1.2", "d1.A:d1.K", "d1:current", "d1:power".
    [[nodiscard]] std::string text() const;
    bool operator==(const SweepTrace&) const = default;
};

[[nodiscard]] Result<SweepTrace> parseTrace(std::string_view text);

struct SweepRequest {
    SweepAxis axis;
    std::optional<SweepAxis> also;  // a curve for each of these
    std::vector<SweepTrace> traces;
    std::map<PinRef, circuit::Drive> drives;  // what chips' pins hold
    std::map<std::string, double> controls;   // where live controls stand: "part.control"
};

struct SweepCurve {
    std::size_t trace = 0;
    std::optional<double> also;
    std::vector<double> y;  // one for each value of the axis; not a number where there is no solution
};

struct SweepTable {
    SweepRequest request;
    kernel::Unit unit = kernel::Unit::none;      // of the axis
    kernel::Unit alsoUnit = kernel::Unit::none;
    std::vector<SweepCurve> curves;              // as far as they are worked out
    std::size_t unsolved = 0;

    // "d1:current, r1.resistance 100 Ω".
    [[nodiscard]] std::string name(const SweepCurve& curve) const;
    // Comma separated, a head line with units, a line a value; numbers in full precision, nothing where there is no solution.
    [[nodiscard]] std::string csv() const;
};

// Works a sweep out point by point, so that whoever asks can show it growing and give it up.
class Sweep {
public:
    // Everything that can be wrong with a request is told here. What the bench may name is as for a run.
    [[nodiscard]] static Result<Sweep> begin(Document document, const Catalogue& catalogue, kernel::FileAccess files, SweepRequest request);

    // One point more; false when there is none. An error is a value that the part does not take.
    [[nodiscard]] Result<bool> step();
    [[nodiscard]] const SweepTable& table() const { return table_; }

private:
    Sweep(Document document, const Catalogue& catalogue, kernel::FileAccess files) : document_(std::move(document)), catalogue_(&catalogue), files_(std::move(files)) {}

    void dropGoverned(SweepRequest& request) const;

    Document document_;
    const Catalogue* catalogue_;
    kernel::FileAccess files_;
    SweepFigure axis_;
    std::optional<SweepFigure> also_;
    SweepTable table_;
    std::size_t next_ = 0;
};

}  // namespace bramix::bench
