#include "cli/trace_output.h"

#include <algorithm>
#include <cmath>
#include <cstdio>

#include <fmt/format.h>

namespace bramix::cli {

using bench::Result;
using kernel::fail;
using kernel::Time;

namespace {

constexpr std::size_t kMostPoints = 20'000'000;  // 320 MB
constexpr int kDeepest = 12;                     // halvings of a piece

// How far a piece goes up and down, by a few looks.
double swingOf(double a, double b, Time from, Time to, const std::function<double(Time)>& value)
{
    double least = std::min(a, b), most = std::max(a, b);
    for (int i = 1; i < 8; ++i) {
        const double v = value(from + (to - from) / 8 * i);
        least = std::min(least, v);
        most = std::max(most, v);
    }
    return most - least;
}

}  // namespace

Result<std::unique_ptr<TraceOutput>> TraceOutput::begin(bench::World& world, const std::string& list, const std::string& file)
{
    std::unique_ptr<TraceOutput> out(new TraceOutput(world, file));
    const circuit::Circuit& circuit = world.circuit();
    for (std::size_t from = 0; from <= list.size();) {
        const std::size_t comma = std::min(list.find(',', from), list.size());
        const std::string name = list.substr(from, comma - from);
        from = comma + 1;
        Trace trace;
        trace.name = name;
        if (name.ends_with(":current")) {
            const parts::Part* part = world.part(name.substr(0, name.size() - 8));
            const auto element = part == nullptr ? std::nullopt : part->mainElement();
            if (!element)
                return fail("--trace", fmt::format("\"{}\" has no current of its own; expected a part with two leads, such as r1:current", name));
            trace.current = true;
            trace.index = static_cast<std::uint32_t>(*element);
        } else {
            std::optional<circuit::NetId> net;
            if (const auto ref = bench::parsePinRef(name))
                if (const auto pin = world.pin(*ref))
                    net = circuit.netOf(*pin);
            for (std::uint32_t i = 0; i < circuit.netCount() && !net; ++i)
                if (circuit.name(circuit::NetId{i}) == name)
                    net = circuit::NetId{i};
            if (!net)
                return fail("--trace", fmt::format("\"{}\" is no net, pin or current of this bench; expected NET, PART.PIN or PART:current", name));
            trace.index = static_cast<std::uint32_t>(*net);
        }
        out->traces_.push_back(std::move(trace));
    }
    for (const Trace& trace : out->traces_) {
        if (trace.current)
            world.probe(circuit::ElementId{trace.index}, out.get());
        else
            world.probe(circuit.pinsOf(circuit::NetId{trace.index}).front(), out.get());
    }
    return out;
}

void TraceOutput::piece(circuit::NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant) { add(false, static_cast<std::uint32_t>(net), from, to, volts, constant); }

void TraceOutput::piece(circuit::ElementId element, Time from, Time to, const std::function<double(Time)>& amps, bool constant)
{
    add(true, static_cast<std::uint32_t>(element), from, to, amps, constant);
}

// The last instant of a piece is the first of the next: its end stands a picosecond before.
void TraceOutput::add(bool current, std::uint32_t index, Time from, Time to, const std::function<double(Time)>& value, bool constant)
{
    const Time end = std::max(from, to - kernel::Duration(1));
    const Point a{from, value(from)}, b{end, constant ? value(from) : value(end)};
    for (Trace& trace : traces_) {
        if (trace.current != current || trace.index != index)
            continue;
        put(trace, a);
        if (!constant)
            refine(trace, a, b, value, 1e-4 * swingOf(a.value, b.value, a.at, b.at, value) + 1e-7, 0);
        put(trace, b);
    }
}

void TraceOutput::refine(Trace& trace, const Point& a, const Point& b, const std::function<double(Time)>& value, double tolerance, int depth)
{
    const Time middle = a.at + (b.at - a.at) / 2;
    if (depth == kDeepest || middle <= a.at || middle >= b.at)
        return;
    const Point m{middle, value(middle)};
    const Time quarter = a.at + (middle - a.at) / 2;
    // The middle alone may lie on the line by chance.
    if (std::fabs(m.value - (a.value + b.value) / 2) < tolerance && std::fabs(value(quarter) - (3 * a.value + b.value) / 4) < tolerance)
        return;
    refine(trace, a, m, value, tolerance, depth + 1);
    put(trace, m);
    refine(trace, m, b, value, tolerance, depth + 1);
}

// Points in the midst of a straight stretch add nothing.
void TraceOutput::put(Trace& trace, const Point& point)
{
    std::vector<Point>& p = trace.points;
    if (p.size() >= 2 && p.back().value == point.value && p[p.size() - 2].value == point.value) {
        p.back().at = point.at;
        return;
    }
    if (!p.empty() && p.back().at >= point.at) {
        p.back().value = point.value;
        return;
    }
    if (points_ >= kMostPoints)
        return;
    ++points_;
    p.push_back(point);
}

Result<void> TraceOutput::finish()
{
    world_.flushProbes();
    for (const Trace& trace : traces_) {
        if (trace.current)
            world_.probe(circuit::ElementId{trace.index}, nullptr);
        else
            world_.probe(world_.circuit().pinsOf(circuit::NetId{trace.index}).front(), nullptr);
    }
    std::FILE* const out = file_ == "-" ? stdout : std::fopen(file_.c_str(), "w");
    if (out == nullptr)
        return fail(file_, "cannot be written; expected a file in a folder that can be written");
    std::string line = "time_s";
    for (const Trace& trace : traces_)
        line += "," + trace.name;
    bool good = std::fprintf(out, "%s\n", line.c_str()) >= 0;
    std::vector<std::size_t> at(traces_.size(), 0);
    const auto valueAt = [](const Trace& trace, std::size_t next, Time t) {
        if (trace.points.empty())
            return 0.0;
        if (next == 0)
            return trace.points.front().value;
        const Point& a = trace.points[next - 1];
        if (next == trace.points.size() || a.at >= t)
            return a.value;
        const Point& b = trace.points[next];
        return a.value + (b.value - a.value) * (kernel::seconds(t - a.at) / kernel::seconds(b.at - a.at));
    };
    while (good) {
        Time t = kernel::kNever;
        for (std::size_t i = 0; i < traces_.size(); ++i)
            if (at[i] < traces_[i].points.size())
                t = std::min(t, traces_[i].points[at[i]].at);
        if (t == kernel::kNever)
            break;
        const std::int64_t picos = t.time_since_epoch().count();
        line = fmt::format("{}.{:012}", picos / 1'000'000'000'000, picos % 1'000'000'000'000);
        for (std::size_t i = 0; i < traces_.size(); ++i) {
            while (at[i] < traces_[i].points.size() && traces_[i].points[at[i]].at <= t)
                ++at[i];
            line += fmt::format(",{:.9g}", valueAt(traces_[i], at[i], t));
        }
        good = std::fprintf(out, "%s\n", line.c_str()) >= 0;
    }
    good = std::fflush(out) == 0 && good;
    if (out != stdout)
        good = std::fclose(out) == 0 && good;
    if (!good)
        return fail(file_, "could not be written to its end; expected room on the disk");
    if (points_ >= kMostPoints)
        return fail(file_, fmt::format("has {} points and ends there; trace fewer things, or a shorter time", kMostPoints));
    return {};
}

}  // namespace bramix::cli
