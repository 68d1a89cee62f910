// Where things lie on the grid: turned parts, their pins, and the right-angled paths of wires.
// Tested by tests/bench/edits_test.cpp and tests/app/window_test.cpp.
#pragma once

#include <chrono>
#include <map>
#include <vector>

#include "bench/document.h"

namespace bramix::bench {

struct GridRect {
    int left = 0, top = 0, right = 0, bottom = 0;  // inclusive
    [[nodiscard]] bool contains(GridPoint p) const { return p.x >= left && p.x <= right && p.y >= top && p.y <= bottom; }
    bool operator==(const GridRect&) const = default;
};

// An offset from a part's corner after its quarter turns clockwise about that corner.
[[nodiscard]] constexpr GridPoint turned(GridPoint p, int turn)
{
    switch (turn & 3) {
    case 1: return {-p.y, p.x};
    case 2: return {-p.x, -p.y};
    case 3: return {p.y, -p.x};
    default: return p;
    }
}

[[nodiscard]] GridPoint pinPlace(const PartItem& part, const PartKind& kind, const PinKind& pin);
// Of a pin by name or alias; nothing where part or pin is not there.
[[nodiscard]] std::optional<GridPoint> pinPlace(const Document& document, const Catalogue& catalogue, const PinRef& ref);
[[nodiscard]] GridRect bodyRect(const PartItem& part, const PartKind& kind);

// The same for a bench that is being edited: a wire keeps the way that it has found while its ends stand and nothing new stands in its way, so that an edit finds new ways
// for few wires, and the others do not jump about.
class WirePaths {
public:
    // Looks for no longer than about `most`: wires that it has not come to by then run at right angles, through whatever is in their way, until the next call.
    [[nodiscard]] const std::vector<std::vector<GridPoint>>& update(const Document& document, const Catalogue& catalogue, std::chrono::milliseconds most = std::chrono::hours(1));
    // How many of the last call it has not come to.
    [[nodiscard]] std::size_t waiting() const { return waiting_; }
    void clear() { *this = {}; }

private:
    struct Way {
        GridPoint from, to;
        std::vector<GridPoint> via, path;
    };
    std::map<std::pair<PinRef, PinRef>, Way> ways_;
    std::map<std::string, GridRect> bodies_;
    std::vector<std::vector<GridPoint>> paths_;
    std::size_t waiting_ = 0;
};

// Leads of parts that stand on a hole of a breadboard: lead, hole.
[[nodiscard]] std::vector<std::pair<PinRef, PinRef>> pluggedIn(const Document& document, const Catalogue& catalogue);

// A path through points in turn, each leg at right angles; goes on in the direction in which it came.
[[nodiscard]] std::vector<GridPoint> rightAngled(GridPoint from, const std::vector<GridPoint>& via, GridPoint to);

// The path of a wire from pin to pin: along its bends where a person made some, else around the bodies of parts. Consecutive points
// share a coordinate. `taken` are the paths of other wires, which it crosses but does not cover.
[[nodiscard]] std::vector<GridPoint> wirePath(const Document& document, const Catalogue& catalogue, const WireItem& wire, const std::vector<std::vector<GridPoint>>& taken = {});
// Paths of all wires, in their order.
[[nodiscard]] std::vector<std::vector<GridPoint>> wirePaths(const Document& document, const Catalogue& catalogue);

}  // namespace bramix::bench
