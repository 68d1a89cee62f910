#include "parts/generator.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <fstream>
#include <numbers>
#include <sstream>

#include <fmt/format.h>

#include "circuit/waveform.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;

struct Shape {
    enum class Kind : std::uint8_t { constant, square, pulse, sine, triangle, file } kind = Kind::constant;
    double hertz = 1000;
    double low = 0, high = 5;
    double duty = 0.5;
    std::vector<std::pair<double, double>> points;  // of a file: seconds, volts
};

// What moves smoothly; squares and pulses are edges, each with its alarm.
class Smooth final : public circuit::Waveform {
public:
    Shape shape;
    Time begin{};  // phase 0

    [[nodiscard]] double at(Time t) const override
    {
        const double s = phase(t);
        const double middle = (shape.low + shape.high) / 2, half = (shape.high - shape.low) / 2;
        switch (shape.kind) {
        case Shape::Kind::sine: return middle + half * std::sin(2 * std::numbers::pi * s);
        case Shape::Kind::triangle: return s < 0.5 ? shape.low + 4 * half * s : shape.high - 4 * half * (s - 0.5);
        case Shape::Kind::file: return fromFile(s * period());
        default: return shape.low;
        }
    }
    [[nodiscard]] Time nextCorner(Time t) const override
    {
        if (shape.kind == Shape::Kind::sine)
            return kernel::kNever;
        const double seconds = phase(t) * period();
        double next = period();
        if (shape.kind == Shape::Kind::triangle)
            next = seconds < period() / 2 ? period() / 2 : period();
        for (const auto& [at, volts] : shape.points)
            if (at > seconds + 1e-12 && at < next)
                next = at;
        return t + std::max(Duration(static_cast<std::int64_t>(std::llround((next - seconds) * 1e12))), Duration(1));
    }
    [[nodiscard]] Duration step() const override
    {
        const double part = shape.kind == Shape::Kind::sine ? 100 : 2;
        return std::max(Duration(static_cast<std::int64_t>(period() / part * 1e12)), Duration(10));
    }

private:
    [[nodiscard]] double period() const { return shape.kind == Shape::Kind::file ? shape.points.back().first : 1 / shape.hertz; }
    // 0 to 1, reckoned in whole picoseconds first, so that it stays exact after hours.
    [[nodiscard]] double phase(Time t) const
    {
        const auto picos = std::max<std::int64_t>(static_cast<std::int64_t>(std::llround(period() * 1e12)), 1);
        return static_cast<double>((t - begin).count() % picos) / static_cast<double>(picos);
    }
    [[nodiscard]] double fromFile(double s) const
    {
        const auto next = std::upper_bound(shape.points.begin(), shape.points.end(), s, [](double x, const auto& p) { return x < p.first; });
        if (next == shape.points.begin())
            return next->second;
        if (next == shape.points.end())
            return shape.points.back().second;
        const auto& [t0, v0] = *(next - 1);
        return v0 + (next->second - v0) * (s - t0) / (next->first - t0);
    }
};

class Generator final : public StatefulPart<Generator> {
public:
    Generator(PartContext& context, Shape shape, double ohms)
        : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), full_(shape), element_(circuit_.addSource(context.net("S"), context.net("GND"), {shape.low}, {ohms}, context.id, shape.kind >= Shape::Kind::sine)),
          alarm_(context.queue, [this](Time due) { edge(due); })
    {
        hertz_ = shape.hertz;
        begin();
    }

    void setControl(std::string_view name, double value) override
    {
        if (name == "frequency")
            hertz_ = std::clamp(value, 0.001, 1e7);
        else
            amplitude_ = std::clamp(value, 0.0, 1.0);
        begin();
    }
    [[nodiscard]] double control(std::string_view name) const override { return name == "frequency" ? hertz_ : amplitude_; }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }
    [[nodiscard]] std::string why(std::string_view) const override
    {
        static constexpr std::array kNames{"its constant voltage", "its square wave", "its pulses", "its sine", "its triangle", "the voltages of its file"};
        const std::string name = kNames[static_cast<std::size_t>(full_.kind)];
        const bool timed = full_.kind != Shape::Kind::constant && full_.kind != Shape::Kind::file;
        return timed ? fmt::format("{} of {}", name, kernel::formatQuantity(hertz_, kernel::Unit::hertz, 4)) : name;
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(hertz_, amplitude_, isHigh_, wave_.begin, alarm_);
        if constexpr (Archive::kLoading)
            place();
    }

private:
    [[nodiscard]] bool edges() const { return full_.kind == Shape::Kind::square || full_.kind == Shape::Kind::pulse; }

    void place()
    {
        wave_.shape = full_;
        wave_.shape.hertz = hertz_;
        wave_.shape.high = full_.low + (full_.high - full_.low) * amplitude_;
        for (auto& [at, volts] : wave_.shape.points)
            volts *= amplitude_;
        if (edges() || full_.kind == Shape::Kind::constant) {
            const bool high = full_.kind == Shape::Kind::constant || isHigh_;
            circuit_.setSource(element_, {high ? wave_.shape.high : wave_.shape.low}, cause_);
            return;
        }
        circuit_.setWave(element_, nullptr, cause_);
        circuit_.setWave(element_, &wave_, cause_);
    }
    // From phase 0.
    void begin()
    {
        wave_.begin = queue_.now();
        isHigh_ = edges();
        place();
        if (edges())
            arm(queue_.now());
    }
    void edge(Time due)
    {
        isHigh_ = !isHigh_;
        place();
        arm(due);
    }
    void arm(Time from)
    {
        const double part = isHigh_ ? full_.duty : 1 - full_.duty;
        alarm_.arm(from + std::max(Duration(static_cast<std::int64_t>(std::llround(part / hertz_ * 1e12))), Duration(1000)));
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    Shape full_;
    Smooth wave_;
    circuit::ElementId element_;
    kernel::Alarm alarm_;
    double hertz_ = 1000;
    double amplitude_ = 1;
    bool isHigh_ = false;
};

kernel::Result<std::vector<std::pair<double, double>>> readPoints(const PartContext& context)
{
    const std::string where = context.id + ".file";
    constexpr std::size_t kLargest = 64U << 20U;
    const std::string file = context.setting("file");
    const auto text = context.contents("file", kLargest);
    if (!text)
        return kernel::fail(text.error().where, text.error().what, "expected lines of seconds and volts");
    std::istringstream in(*text);
    std::vector<std::pair<double, double>> points;
    std::string line;
    for (int number = 1; std::getline(in, line); ++number) {
        std::replace(line.begin(), line.end(), ',', ' ');
        if (line.find_first_not_of(" \t\r") == std::string::npos || line.front() == '#')
            continue;
        std::istringstream words(line);
        double t = 0, v = 0;
        if (!(words >> t >> v) || !std::isfinite(t) || !std::isfinite(v))
            return kernel::fail(where, fmt::format("\"{}\" line {}: expected seconds and volts", file, number));
        if (!points.empty() && t <= points.back().first)
            return kernel::fail(where, fmt::format("\"{}\" line {}: expected a later time than before", file, number));
        points.emplace_back(t, v);
        if (points.size() > 1'000'000)
            return kernel::fail(where, "\"" + file + "\" has more than a million lines");
    }
    if (points.size() < 2 || points.front().first < 0 || points.back().first < 1e-9)
        return kernel::fail(where, "\"" + file + "\"; expected at least two lines, from 0 s on");
    return points;
}

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeGenerator(PartContext& context)
{
    Shape shape;
    const std::string wave = context.setting("wave");
    constexpr std::string_view kNames[] = {"constant", "square", "pulse", "sine", "triangle", "file"};
    const auto* const name = std::find(std::begin(kNames), std::end(kNames), wave);
    if (name == std::end(kNames))
        return kernel::fail(context.id + ".wave", "\"" + wave + "\"; expected constant, square, pulse, sine, triangle or file");
    shape.kind = static_cast<Shape::Kind>(name - std::begin(kNames));
    const auto hertz = context.quantity("frequency", kernel::Unit::hertz, 0.001, 1e7);
    const auto low = context.quantity("low", kernel::Unit::volt, -100, 100);
    const auto high = context.quantity("high", kernel::Unit::volt, -100, 100);
    const auto duty = context.quantity("duty", kernel::Unit::none, 0.1, 99.9);
    const auto inner = context.quantity("inner", kernel::Unit::ohm, 0.001, 1e6);
    for (const auto* q : {&hertz, &low, &high, &duty, &inner})
        if (!*q)
            return tl::unexpected(q->error());
    shape.hertz = *hertz;
    shape.low = *low;
    shape.high = *high;
    shape.duty = shape.kind == Shape::Kind::square ? 0.5 : *duty / 100;
    if (shape.kind == Shape::Kind::file) {
        auto points = readPoints(context);
        if (!points)
            return tl::unexpected(points.error());
        shape.points = std::move(*points);
    }
    return std::make_unique<Generator>(context, std::move(shape), *inner);
}

}  // namespace bramix::parts
