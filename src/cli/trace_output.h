// Voltages and currents over time as CSV: `--trace NET|PIN|PART:current,... --trace-file FILE`.
//
// Each trace is a run of points with straight lines between them: two at each bend, just before and at it, and in between as many as a curve needs to lie within a
// ten-thousandth of its swing. A row has the time and the value of each trace at it.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "bench/world.h"

namespace bramix::cli {

class TraceOutput final : private circuit::ProbeListener, private circuit::CurrentProbe {
public:
    // `list`: comma separated. An error names what is no net, pin or current.
    [[nodiscard]] static bench::Result<std::unique_ptr<TraceOutput>> begin(bench::World& world, const std::string& list, const std::string& file);
    // Writes what has been traced. To be called once, at the end.
    [[nodiscard]] bench::Result<void> finish();

private:
    struct Point {
        kernel::Time at{};
        double value = 0;
    };
    struct Trace {
        std::string name;
        bool current = false;
        std::uint32_t index = 0;  // of the net or element
        std::vector<Point> points;
    };

    TraceOutput(bench::World& world, std::string file) : world_(world), file_(std::move(file)) {}
    void piece(circuit::NetId net, kernel::Time from, kernel::Time to, const std::function<double(kernel::Time)>& volts, bool constant) override;
    void piece(circuit::ElementId element, kernel::Time from, kernel::Time to, const std::function<double(kernel::Time)>& amps, bool constant) override;
    void add(bool current, std::uint32_t index, kernel::Time from, kernel::Time to, const std::function<double(kernel::Time)>& value, bool constant);
    void refine(Trace& trace, const Point& a, const Point& b, const std::function<double(kernel::Time)>& value, double tolerance, int depth);
    void put(Trace& trace, const Point& point);

    bench::World& world_;
    std::string file_;
    std::vector<Trace> traces_;
    std::size_t points_ = 0;
};

}  // namespace bramix::cli
