// What a person does to a bench, as functions from document to document: add, move, turn, duplicate, remove, wire, name a net.
// None of them leaves a wire or net pin without its part. Tested by tests/bench/edits_test.cpp.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "bench/geometry.h"

namespace bramix::bench {

// Parts by id and wires by index: what is selected, and what an edit works on.
struct Selection {
    std::set<std::string> parts;
    std::set<std::size_t> wires;
    [[nodiscard]] bool empty() const { return parts.empty() && wires.empty(); }
    bool operator==(const Selection&) const = default;
};

// Returns the new part's id.
std::string addPart(Document& document, const PartKind& kind, GridPoint at);
// What is plugged into a breadboard that moves goes with it. Wires between moved parts move with their bends; a wire with one end moved keeps the bends that still make right angles.
void moveParts(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, GridPoint by);
// A quarter turn clockwise, each part about the middle of its body.
void turnParts(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts);
// Copies parts, the wires between them, and their places in nets; returns the copies.
Selection duplicate(Document& document, const Selection& what, GridPoint by);
// The same as text, to be pasted into this bench or another: a small bench of its own.
[[nodiscard]] std::string copyText(const Document& document, const Selection& what);
// What was copied, with its upper left corner at a place and with ids of its own. An error for text that is no bench.
[[nodiscard]] Result<Selection> paste(Document& document, const Catalogue& catalogue, const std::string& text, GridPoint at);
void remove(Document& document, const Selection& what);

// Lines parts up by an edge of their bodies, or by their middles, with the outermost one (the average of the middles).
enum class Edge { left, right, top, bottom, middleAcross, middleDown };
void align(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, Edge edge);
// Moves all but the outermost so that the gaps between bodies are alike.
void distribute(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, bool across);
// Another kind in the place of a part: wires and flags stay on pins of the same name, others go to the pin of the same number; settings that both know stay. False
// where the kind has too few pins for the wires.
bool replaceKind(Document& document, const Catalogue& catalogue, const std::string& part, const std::string& kind);
// False where the wire would join a pin to itself or is there already.
bool addWire(Document& document, const Catalogue& catalogue, const PinRef& from, const PinRef& to, const std::vector<GridPoint>& via);
// Makes ribbons of these wires, one for each two parts that two of them or more join, or takes them apart where all of them lie in ribbons already.
// False where there is nothing to do.
bool toggleRibbon(Document& document, const std::set<std::size_t>& wires);
// The colour that a new wire takes: rust to a supply, ink to ground, else one that its neighbours do not have.
[[nodiscard]] std::string colorFor(const Document& document, const Catalogue& catalogue, const PinRef& from, const PinRef& to);
// Gives a pin a net flag; an empty name takes it away. A net named like a board's supply pin takes that pin in.
void setNetFlag(Document& document, const Catalogue& catalogue, const PinRef& pin, const std::string& name);
[[nodiscard]] std::string netFlagOf(const Document& document, const PinRef& pin);
// Renames a part and everything that speaks of it; false where the name is taken or unusable.
bool renamePart(Document& document, const std::string& from, const std::string& to);

}  // namespace bramix::bench
