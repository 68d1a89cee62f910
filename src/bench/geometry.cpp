#include "bench/geometry.h"

#include <algorithm>
#include <array>
#include <cstdlib>
#include <map>
#include <queue>
#include <string_view>
#include <unordered_map>

namespace bramix::bench {

namespace {

constexpr int kMargin = 8;      // how far beyond its ends and the bodies a path may go
constexpr int kBend = 4;        // a bend costs as much as so many steps
constexpr int kAlong = 12;      // lying on another wire
constexpr int kBesideBody = 1;
constexpr int kPastPin = 10;      // beside another pin's tip: two steps off, a way round of some steps costs less
constexpr int kLargestArea = 400 * 400;  // beyond this a plain corner must do

constexpr std::array<GridPoint, 4> kSteps{GridPoint{1, 0}, GridPoint{0, 1}, GridPoint{-1, 0}, GridPoint{0, -1}};

// Drops repeated points and points in the middle of a straight stretch.
std::vector<GridPoint> tidy(const std::vector<GridPoint>& path)
{
    std::vector<GridPoint> out;
    for (const GridPoint p : path) {
        if (!out.empty() && out.back() == p)
            continue;
        while (out.size() >= 2) {
            const GridPoint a = out[out.size() - 2];
            const GridPoint b = out.back();
            if (!((a.x == b.x && b.x == p.x) || (a.y == b.y && b.y == p.y)))
                break;
            out.pop_back();
        }
        out.push_back(p);
    }
    return out;
}

// Shortest way with few bends around the bodies, by Dijkstra's search over (cell, direction).
class Router {
public:
    Router(const Document& document, const Catalogue& catalogue, GridPoint from, GridPoint to, const std::vector<std::vector<GridPoint>>& taken) : from_(from), to_(to)
    {
        area_ = {std::min(from.x, to.x) - kMargin, std::min(from.y, to.y) - kMargin, std::max(from.x, to.x) + kMargin, std::max(from.y, to.y) + kMargin};
        // Bodies in the way widen the area, so that there is a way around them.
        for (const PartItem& part : document.parts)
            if (const PartKind* kind = catalogue.find(part.kind); kind != nullptr && !kind->plugs) {
                const GridRect r = bodyRect(part, *kind);
                if (r.right >= area_.left && r.left <= area_.right && r.bottom >= area_.top && r.top <= area_.bottom)
                    bodies_.push_back(r);
            }
        for (const GridRect& r : bodies_)
            area_ = {std::min(area_.left, r.left - 3), std::min(area_.top, r.top - 3), std::max(area_.right, r.right + 3), std::max(area_.bottom, r.bottom + 3)};
        width_ = area_.right - area_.left + 1;
        height_ = area_.bottom - area_.top + 1;
        if (width_ * height_ > kLargestArea)
            return;
        cost_.assign(static_cast<std::size_t>(width_ * height_), 1);
        for (const PartItem& part : document.parts)
            if (const PartKind* kind = catalogue.find(part.kind); kind != nullptr && !kind->plugs)
                block(part, *kind);
        for (const auto& path : taken)
            for (std::size_t i = 1; i < path.size(); ++i)
                cover(path[i - 1], path[i]);
    }

    [[nodiscard]] std::vector<GridPoint> route()
    {
        if (cost_.empty())
            return rightAngled(from_, {}, to_);
        struct Node {
            int cost;
            int index;
            bool operator>(const Node& o) const { return cost != o.cost ? cost > o.cost : index > o.index; }
        };
        std::vector<int> best(cost_.size() * 4, INT32_MAX);
        std::vector<int> before(cost_.size() * 4, -1);
        std::priority_queue<Node, std::vector<Node>, std::greater<>> open;
        for (int d = 0; d < 4; ++d) {
            best[static_cast<std::size_t>(cell(from_) * 4 + d)] = 0;
            open.push({0, cell(from_) * 4 + d});
        }
        int end = -1;
        while (!open.empty() && end < 0) {
            const Node n = open.top();
            open.pop();
            if (n.cost > best[static_cast<std::size_t>(n.index)])
                continue;
            const GridPoint at = place(n.index / 4);
            if (at == to_) {
                end = n.index;
                break;
            }
            for (int d = 0; d < 4; ++d) {
                if (d == ((n.index % 4) ^ 2))
                    continue;  // no turning back
                const GridPoint next{at.x + kSteps[static_cast<std::size_t>(d)].x, at.y + kSteps[static_cast<std::size_t>(d)].y};
                if (!area_.contains(next))
                    continue;
                const int step = next == to_ ? 1 : cost_[static_cast<std::size_t>(cell(next))];
                if (step < 0)
                    continue;
                const int total = n.cost + step + (d == n.index % 4 ? 0 : kBend);
                const int index = cell(next) * 4 + d;
                if (total < best[static_cast<std::size_t>(index)]) {
                    best[static_cast<std::size_t>(index)] = total;
                    before[static_cast<std::size_t>(index)] = n.index;
                    open.push({total, index});
                }
            }
        }
        if (end < 0)
            return rightAngled(from_, {}, to_);
        std::vector<GridPoint> path;
        for (int i = end; i >= 0; i = before[static_cast<std::size_t>(i)])
            path.push_back(place(i / 4));
        std::reverse(path.begin(), path.end());
        return tidy(path);
    }

private:
    [[nodiscard]] int cell(GridPoint p) const { return (p.y - area_.top) * width_ + (p.x - area_.left); }
    [[nodiscard]] GridPoint place(int cell) const { return {area_.left + cell % width_, area_.top + cell / width_}; }

    // Whether anything in this box, or a step or two beside it, lies where the wire may run.
    [[nodiscard]] bool matters(int left, int top, int right, int bottom) const { return left - 2 <= area_.right && right + 2 >= area_.left && top - 2 <= area_.bottom && bottom + 2 >= area_.top; }

    void block(const PartItem& part, const PartKind& kind)
    {
        const GridRect r = bodyRect(part, kind);
        if (!matters(r.left, r.top, r.right, r.bottom))
            return;
        for (int y = r.top - 1; y <= r.bottom + 1; ++y)
            for (int x = r.left - 1; x <= r.right + 1; ++x) {
                if (!area_.contains({x, y}))
                    continue;
                int& c = cost_[static_cast<std::size_t>(cell({x, y}))];
                if (r.contains({x, y}))
                    c = -1;
                else if (c > 0)
                    c += kBesideBody;
            }
        // A pin lies on or in the body: from an end of this wire there must be a way out, straight from the pin. Past other pins a wire goes two steps off, or it
        // would look as if it joined them.
        for (const PinKind& pin : kind.pins) {
            const GridPoint at = pinPlace(part, kind, pin);
            int bestWay = INT32_MAX;
            GridPoint direction{};
            for (const GridPoint d : kSteps) {
                int steps = 0;
                GridPoint p = at;
                while (r.contains(p)) {
                    p = {p.x + d.x, p.y + d.y};
                    ++steps;
                }
                if (steps < bestWay) {
                    bestWay = steps;
                    direction = d;
                }
            }
            if (at == from_ || at == to_) {
                for (GridPoint p = at; r.contains(p); p = {p.x + direction.x, p.y + direction.y})
                    if (area_.contains(p))
                        cost_[static_cast<std::size_t>(cell(p))] = 1;
                continue;
            }
            const GridPoint tip{at.x + bestWay * direction.x, at.y + bestWay * direction.y};
            if (area_.contains(tip))
                if (int& c = cost_[static_cast<std::size_t>(cell(tip))]; c > 0)
                    c += kPastPin;
        }
    }

    void cover(GridPoint a, GridPoint b)
    {
        if (!matters(std::min(a.x, b.x), std::min(a.y, b.y), std::max(a.x, b.x), std::max(a.y, b.y)))
            return;
        const GridPoint step{(b.x > a.x) - (b.x < a.x), (b.y > a.y) - (b.y < a.y)};
        for (GridPoint p = a;; p = {p.x + step.x, p.y + step.y}) {
            if (area_.contains(p))
                if (int& c = cost_[static_cast<std::size_t>(cell(p))]; c > 0)
                    c += kAlong;
            if (p == b)
                break;
        }
    }

    GridPoint from_, to_;
    GridRect area_;
    int width_ = 0, height_ = 0;
    std::vector<GridRect> bodies_;
    std::vector<int> cost_;  // of entering a cell; -1 is closed
};

}  // namespace

std::vector<GridPoint> rightAngled(GridPoint from, const std::vector<GridPoint>& via, GridPoint to)
{
    std::vector<GridPoint> path{from};
    const auto go = [&](GridPoint next) {
        const GridPoint last = path.back();
        if (last.x != next.x && last.y != next.y) {
            // Leave in the direction in which the path came, where there is one; else upright first.
            const bool upright = path.size() < 2 || path[path.size() - 2].x == last.x;
            path.push_back(upright ? GridPoint{last.x, next.y} : GridPoint{next.x, last.y});
        }
        path.push_back(next);
    };
    for (const GridPoint p : via)
        go(p);
    go(to);
    return tidy(path);
}

GridPoint pinPlace(const PartItem& part, const PartKind& kind, const PinKind& pin)
{
    // With an order of its own, a pin stands where the kind's pin of that number does.
    const auto own = std::find(part.order.begin(), part.order.end(), pin.name);
    const auto number = static_cast<std::size_t>(own - part.order.begin());
    const GridPoint offset = turned(number < kind.pins.size() && own != part.order.end() ? kind.pins[number].at : pin.at, part.turn);
    return {part.at.x + offset.x, part.at.y + offset.y};
}

std::optional<GridPoint> pinPlace(const Document& document, const Catalogue& catalogue, const PinRef& ref)
{
    const PartItem* part = document.part(ref.part);
    const PartKind* kind = part == nullptr ? nullptr : catalogue.find(part->kind);
    const PinKind* pin = kind == nullptr ? nullptr : kind->pin(ref.pin);
    return pin == nullptr ? std::nullopt : std::optional(pinPlace(*part, *kind, *pin));
}

GridRect bodyRect(const PartItem& part, const PartKind& kind)
{
    const GridPoint far = turned(kind.size, part.turn);
    return {part.at.x + std::min(0, far.x), part.at.y + std::min(0, far.y), part.at.x + std::max(0, far.x), part.at.y + std::max(0, far.y)};
}

std::vector<GridPoint> wirePath(const Document& document, const Catalogue& catalogue, const WireItem& wire, const std::vector<std::vector<GridPoint>>& taken)
{
    const auto from = pinPlace(document, catalogue, wire.from);
    const auto to = pinPlace(document, catalogue, wire.to);
    if (!from || !to)
        return {};
    if (!wire.via.empty())
        return rightAngled(*from, wire.via, *to);
    if (from->x == to->x || from->y == to->y)
        if (std::abs(from->x - to->x) + std::abs(from->y - to->y) <= 2)
            return {*from, *to};
    return Router(document, catalogue, *from, *to, taken).route();
}

std::vector<std::vector<GridPoint>> wirePaths(const Document& document, const Catalogue& catalogue)
{
    // Paths that a person made lie first; the others find their way around them.
    std::vector<std::vector<GridPoint>> paths(document.wires.size());
    std::vector<std::vector<GridPoint>> taken;
    for (const bool made : {true, false})
        for (std::size_t i = 0; i < document.wires.size(); ++i)
            if (document.wires[i].via.empty() != made) {
                paths[i] = wirePath(document, catalogue, document.wires[i], taken);
                taken.push_back(paths[i]);
            }
    return paths;
}

const std::vector<std::vector<GridPoint>>& WirePaths::update(const Document& document, const Catalogue& catalogue, std::chrono::milliseconds most)
{
    const auto began = std::chrono::steady_clock::now();
    // What stands somewhere new.
    std::map<std::string, GridRect> bodies;
    std::vector<GridRect> fresh;
    for (const PartItem& part : document.parts)
        if (const PartKind* kind = catalogue.find(part.kind); kind != nullptr && !kind->plugs) {
            const GridRect r = bodyRect(part, *kind);
            bodies.emplace(part.id, r);
            const auto before = bodies_.find(part.id);
            if (before == bodies_.end() || !(before->second == r))
                fresh.push_back(r);
        }
    const auto blocked = [&](const std::vector<GridPoint>& path) {
        for (const GridRect& r : fresh)
            for (std::size_t i = 1; i < path.size(); ++i) {
                const GridPoint a = path[i - 1], b = path[i];
                if (std::max(a.x, b.x) >= r.left && std::min(a.x, b.x) <= r.right && std::max(a.y, b.y) >= r.top && std::min(a.y, b.y) <= r.bottom)
                    return true;
            }
        return false;
    };
    std::unordered_map<std::string_view, std::pair<const PartItem*, const PartKind*>> parts;
    for (const PartItem& part : document.parts)
        parts.emplace(part.id, std::pair(&part, catalogue.find(part.kind)));
    const auto place = [&](const PinRef& ref) -> std::optional<GridPoint> {
        const auto found = parts.find(ref.part);
        const PinKind* pin = found == parts.end() || found->second.second == nullptr ? nullptr : found->second.second->pin(ref.pin);
        return pin == nullptr ? std::nullopt : std::optional(pinPlace(*found->second.first, *found->second.second, *pin));
    };
    paths_.assign(document.wires.size(), {});
    std::vector<std::size_t> open;
    std::vector<std::vector<GridPoint>> taken;
    std::map<std::pair<PinRef, PinRef>, Way> ways;
    for (std::size_t i = 0; i < document.wires.size(); ++i) {
        const WireItem& wire = document.wires[i];
        const auto from = place(wire.from), to = place(wire.to);
        const auto known = ways_.find({wire.from, wire.to});
        if (!from || !to || known == ways_.end() || !(known->second.from == *from) || !(known->second.to == *to) || known->second.via != wire.via || (wire.via.empty() && blocked(known->second.path))) {
            open.push_back(i);
            continue;
        }
        paths_[i] = known->second.path;
        taken.push_back(paths_[i]);
        ways.emplace(known->first, known->second);
    }
    // As wirePaths() does: those that a person made lie first.
    std::stable_partition(open.begin(), open.end(), [&](std::size_t i) { return !document.wires[i].via.empty(); });
    waiting_ = 0;
    for (const std::size_t i : open) {
        const WireItem& wire = document.wires[i];
        // One at least, so that calls come to an end.
        if (waiting_ > 0 || (i != open.front() && std::chrono::steady_clock::now() - began > most)) {
            ++waiting_;
            if (const auto from = place(wire.from), to = place(wire.to); from && to)
                paths_[i] = rightAngled(*from, wire.via, *to);
            continue;
        }
        paths_[i] = wirePath(document, catalogue, wire, taken);
        taken.push_back(paths_[i]);
        const auto from = place(wire.from), to = place(wire.to);
        if (from && to)
            ways.insert_or_assign({wire.from, wire.to}, Way{*from, *to, wire.via, paths_[i]});
    }
    ways_ = std::move(ways);
    bodies_ = std::move(bodies);
    return paths_;
}

std::vector<std::pair<PinRef, PinRef>> pluggedIn(const Document& document, const Catalogue& catalogue)
{
    std::map<std::pair<int, int>, PinRef> holes;
    for (const PartItem& part : document.parts)
        if (const PartKind* kind = catalogue.find(part.kind); kind != nullptr && kind->plugs)
            for (const PinKind& pin : kind->pins)
                holes.try_emplace({pinPlace(part, *kind, pin).x, pinPlace(part, *kind, pin).y}, PinRef{part.id, pin.name});
    std::vector<std::pair<PinRef, PinRef>> out;
    if (holes.empty())
        return out;
    for (const PartItem& part : document.parts)
        if (const PartKind* kind = catalogue.find(part.kind); kind != nullptr && !kind->plugs)
            for (const PinKind& pin : kind->pins)
                if (const auto hole = holes.find({pinPlace(part, *kind, pin).x, pinPlace(part, *kind, pin).y}); hole != holes.end())
                    out.emplace_back(PinRef{part.id, pin.name}, hole->second);
    return out;
}

}  // namespace bramix::bench
