// How wires lie on the sheet: each along its own path, and those of a ribbon side by side along one.
//
// The strands of a ribbon fan out to their pins at both ends and keep their order by the pins of the first; where the pins of the other end stand in another order,
// they cross in the fan there, as a cable is twisted.
// Tested by tests/app/ribbon_test.cpp.
#pragma once

#include <string>
#include <vector>

#include <QPolygonF>

#include "bench/document.h"

namespace bramix::app {

struct Ribbon {
    std::string name;
    QPolygonF spine;                 // its middle between the fans, in units of the sheet
    double width = 0;                // of all strands
    std::vector<std::size_t> wires;  // in the order in which they lie
};

struct WireLines {
    std::vector<QPolygonF> lines;    // one a wire, in units of the sheet
    std::vector<Ribbon> ribbons;
    std::vector<bool> strands;       // one a wire

    [[nodiscard]] bool isStrand(std::size_t wire) const { return wire < strands.size() && strands[wire]; }
};

// `paths` as the router found them, one a wire. A ribbon of which only one wire is left is none.
[[nodiscard]] WireLines layWires(const std::vector<bench::WireItem>& wires, const std::vector<std::vector<bench::GridPoint>>& paths);

}  // namespace bramix::app
