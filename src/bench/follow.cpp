#include "bench/follow.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

namespace bramix::bench {

namespace {

constexpr std::size_t kMostPoints = 1'000'000;

std::string_view trimmed(std::string_view s)
{
    constexpr std::string_view kBlank = " \t\r";
    const std::size_t first = s.find_first_not_of(kBlank);
    return first == std::string_view::npos ? std::string_view() : s.substr(first, s.find_last_not_of(kBlank) - first + 1);
}

bool number(std::string_view text, double& out)
{
    text = trimmed(text);
    if (text.starts_with('+'))
        text.remove_prefix(1);
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), out);
    return error == std::errc() && end == text.data() + text.size() && std::isfinite(out);
}

}  // namespace

kernel::Result<std::vector<std::pair<double, double>>> parseCurve(const std::string& name, std::string_view text)
{
    std::vector<std::pair<double, double>> out;
    std::size_t line = 0;
    bool heading = true;  // one line of words may stand first
    while (!text.empty()) {
        const std::size_t end = text.find('\n');
        const std::string_view row = trimmed(text.substr(0, end));
        text = end == std::string_view::npos ? std::string_view() : text.substr(end + 1);
        ++line;
        if (row.empty() || row.front() == '#')
            continue;
        const auto wrong = [&](const std::string& what) { return kernel::fail(fmt::format("{}: line {}", name, line), what); };
        const std::size_t part = row.find_first_of(",;\t");
        double t = 0, v = 0;
        const bool good = part != std::string_view::npos && number(row.substr(0, part), t) && number(row.substr(part + 1, row.find_first_of(",;\t", part + 1) - part - 1), v);
        if (!good && heading) {
            heading = false;
            continue;
        }
        heading = false;
        if (!good)
            return wrong(fmt::format("\"{}\"; expected seconds and a value, parted by a comma", row.substr(0, 60)));
        if (t < 0 || (!out.empty() && t <= out.back().first))
            return wrong(fmt::format("{} s does not come after the line before; expected times that grow from 0", t));
        if (out.size() == kMostPoints)
            return wrong(fmt::format("has more than {} points", kMostPoints));
        out.emplace_back(t, v);
    }
    if (out.empty())
        return kernel::fail(name, "has no points; expected lines of seconds and a value");
    return out;
}

double curveAt(const std::vector<std::pair<double, double>>& curve, bool repeat, double t)
{
    const double length = curve.back().first;
    if (repeat && length > 0)
        t = std::fmod(t, length);
    const auto after = std::upper_bound(curve.begin(), curve.end(), t, [](double at, const auto& point) { return at < point.first; });
    if (after == curve.begin())
        return curve.front().second;
    if (after == curve.end())
        return curve.back().second;
    const auto before = std::prev(after);
    return before->second + (after->second - before->second) * (t - before->first) / (after->first - before->first);
}

Follower::Follower(kernel::EventQueue& queue, FollowItem item, double least, double most, double base, kernel::Random random, std::function<void(double)> put)
    : item_(std::move(item)), least_(least), most_(most), base_(base), random_(random), put_(std::move(put)), alarm_(queue, [this](kernel::Time due) { step(due); })
{
    alarm_.arm(queue.now());
}

double Follower::normal()
{
    const double radius = std::sqrt(-2 * std::log(1 - random_.uniform()));
    return radius * std::cos(2 * std::numbers::pi * random_.uniform());
}

void Follower::step(kernel::Time at)
{
    const double value = item_.curve.empty() ? base_ : curveAt(item_.curve, item_.repeat, kernel::seconds(at));
    if (item_.drift > 0)
        walk_ += item_.drift * std::sqrt(item_.every / 60) * normal();
    put_(std::clamp(value + walk_ + (item_.noise > 0 ? item_.noise * normal() : 0), least_, most_));
    alarm_.arm(at + kernel::Duration(static_cast<std::int64_t>(std::llround(item_.every * 1e12))));
}

}  // namespace bramix::bench
