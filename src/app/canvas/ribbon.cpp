#include "app/canvas/ribbon.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "app/canvas/part_art.h"

namespace bramix::app {

namespace {

constexpr double kPitch = 5;     // between strands, in units of the sheet
constexpr double kBorder = 6;
constexpr double kMostFan = 34;  // how far from its pins a ribbon closes

QPointF unit(QPointF from, QPointF to)
{
    const QPointF d = to - from;
    const double length = std::hypot(d.x(), d.y());
    return length == 0 ? QPointF(1, 0) : d / length;
}

QPointF leftOf(QPointF direction) { return {direction.y(), -direction.x()}; }

double along(QPointF p, QPointF direction) { return p.x() * direction.x() + p.y() * direction.y(); }

// A line of right angles, moved to its left by so much.
QPolygonF beside(const QPolygonF& line, double by)
{
    QPolygonF out;
    for (qsizetype i = 0; i < line.size(); ++i) {
        QPointF shift;
        if (i > 0)
            shift += leftOf(unit(line[i - 1], line[i])) * by;
        if (i + 1 < line.size() && (i == 0 || std::fabs(along(unit(line[i - 1], line[i]), unit(line[i], line[i + 1]))) < 0.5))
            shift += leftOf(unit(line[i], line[i + 1])) * by;
        out << line[i] + shift;
    }
    return out;
}

// The path without the pieces that the fans take at its two ends.
QPolygonF shortened(QPolygonF line, double fan)
{
    const auto cut = [&](qsizetype end, qsizetype next) {
        const double length = std::hypot(line[next].x() - line[end].x(), line[next].y() - line[end].y());
        line[end] += unit(line[end], line[next]) * std::min(fan, length * (line.size() == 2 ? 0.4 : 0.8));
    };
    cut(0, 1);
    cut(line.size() - 1, line.size() - 2);
    return line;
}

QPolygonF inUnits(const std::vector<bench::GridPoint>& path)
{
    QPolygonF out;
    for (const bench::GridPoint& p : path)
        if (out.isEmpty() || out.back() != toUnits(p))
            out << toUnits(p);
    return out;
}

}  // namespace

WireLines layWires(const std::vector<bench::WireItem>& wires, const std::vector<std::vector<bench::GridPoint>>& paths)
{
    WireLines out;
    std::map<std::string, std::vector<std::size_t>> groups;
    for (std::size_t i = 0; i < paths.size(); ++i) {
        out.lines.push_back(inUnits(paths[i]));
        if (!wires[i].ribbon.empty() && out.lines.back().size() > 1)
            groups[wires[i].ribbon].push_back(i);
    }
    out.strands.resize(paths.size());
    for (auto& [name, group] : groups) {
        if (group.size() < 2)
            continue;
        // Every strand runs from the same end, however it was drawn.
        const std::string& end = wires[group[0]].from.part;
        const auto run = [&](std::size_t i) {
            QPolygonF line = out.lines[i];
            if (wires[i].from.part != end)
                std::reverse(line.begin(), line.end());
            return line;
        };
        // The middle pin's wire leads; a person's own bends count for more.
        std::vector<std::size_t> order = group;
        const auto lead = [&](QPointF normal) { std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return along(run(a)[0], normal) < along(run(b)[0], normal); }); };
        lead(leftOf(unit(run(group[0])[0], run(group[0])[1])));
        std::size_t leader = order[order.size() / 2];
        for (const std::size_t i : group)
            if (!wires[i].via.empty() && wires[leader].via.empty())
                leader = i;
        const QPolygonF path = run(leader);
        lead(leftOf(unit(path[0], path[1])));
        const double spread = std::fabs(along(run(order.back())[0] - run(order[0])[0], leftOf(unit(path[0], path[1]))));
        Ribbon ribbon{name, shortened(path, kStep + std::min(kMostFan, spread / 2 + 8)), kPitch * static_cast<double>(order.size() - 1) + kBorder, order};
        // Straight out of the pins first, past the beads of a board.
        const QPointF out0 = unit(path[0], path[1]) * kStep, out1 = unit(path.back(), path[path.size() - 2]) * kStep;
        const auto outOf = [](QPointF pin, QPointF spine, QPointF by) { return std::fabs(along(spine - pin, by)) > along(by, by) ? pin + by : pin; };
        for (std::size_t k = 0; k < order.size(); ++k) {
            const QPolygonF own = run(order[k]);
            QPolygonF line;
            line << own.front() << outOf(own.front(), ribbon.spine[0], out0) << beside(ribbon.spine, kPitch * (static_cast<double>(k) - static_cast<double>(order.size() - 1) / 2)) << outOf(own.back(), ribbon.spine.back(), out1) << own.back();
            if (wires[order[k]].from.part != end)
                std::reverse(line.begin(), line.end());
            out.lines[order[k]] = line;
            out.strands[order[k]] = true;
        }
        out.ribbons.push_back(std::move(ribbon));
    }
    return out;
}

}  // namespace bramix::app
