#include "bench/edit.h"

#include <algorithm>
#include <map>

namespace bramix::bench {

namespace {

// A free name of the same stem: r7 for a copy of r1.
std::string idLike(const Document& document, const std::string& id)
{
    std::string stem = id;
    while (!stem.empty() && stem.back() >= '0' && stem.back() <= '9')
        stem.pop_back();
    return document.freshId(stem.empty() ? "part" : stem);
}

bool isIn(const std::set<std::string>& parts, const PinRef& ref) { return parts.contains(ref.part); }

GridPoint plus(GridPoint a, GridPoint b) { return {a.x + b.x, a.y + b.y}; }

// After an end has moved from `before` to `after`: the bend next to it follows along the axis that keeps the angle right.
void followEnd(GridPoint& bend, GridPoint before, GridPoint after)
{
    if (bend.x == before.x)
        bend.x = after.x;
    else if (bend.y == before.y)
        bend.y = after.y;
}

const PinKind* pinOf(const Document& document, const Catalogue& catalogue, const PinRef& ref)
{
    const PartItem* part = document.part(ref.part);
    const PartKind* kind = part == nullptr ? nullptr : catalogue.find(part->kind);
    return kind == nullptr ? nullptr : kind->pin(ref.pin);
}

// Changes parts by `change` and lets the wires follow.
template <class F>
void changePlaces(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, F change, std::optional<GridPoint> together)
{
    struct Ends {
        std::optional<GridPoint> from, to;
    };
    std::vector<Ends> before;
    for (const WireItem& w : document.wires)
        before.push_back({pinPlace(document, catalogue, w.from), pinPlace(document, catalogue, w.to)});
    for (PartItem& part : document.parts)
        if (parts.contains(part.id))
            change(part);
    for (std::size_t i = 0; i < document.wires.size(); ++i) {
        WireItem& w = document.wires[i];
        if (w.via.empty() || !before[i].from || !before[i].to)
            continue;
        const bool fromMoved = isIn(parts, w.from);
        const bool toMoved = isIn(parts, w.to);
        if (fromMoved && toMoved && together) {
            for (GridPoint& p : w.via)
                p = plus(p, *together);
        } else {
            if (fromMoved)
                followEnd(w.via.front(), *before[i].from, *pinPlace(document, catalogue, w.from));
            if (toMoved)
                followEnd(w.via.back(), *before[i].to, *pinPlace(document, catalogue, w.to));
        }
    }
}

}  // namespace

std::string addPart(Document& document, const PartKind& kind, GridPoint at)
{
    PartItem item;
    item.id = kind.chip != nullptr && document.part(kind.idStem) == nullptr ? kind.idStem : document.freshId(kind.idStem);
    item.kind = kind.id;
    item.at = at;
    document.parts.push_back(item);
    return item.id;
}

void moveParts(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, GridPoint by)
{
    std::set<std::string> all = parts;
    for (const auto& [lead, hole] : pluggedIn(document, catalogue))
        if (parts.contains(hole.part))
            all.insert(lead.part);
    changePlaces(document, catalogue, all, [&](PartItem& part) { part.at = plus(part.at, by); }, by);
}

void turnParts(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts)
{
    changePlaces(
        document, catalogue, parts,
        [&](PartItem& part) {
            const PartKind* kind = catalogue.find(part.kind);
            if (kind == nullptr)
                return;
            // The corner moves so that the middle of the body stays, to within half a step.
            const GridRect before = bodyRect(part, *kind);
            part.turn = (part.turn + 1) & 3;
            const GridRect after = bodyRect(part, *kind);
            part.at.x += (before.left + before.right - after.left - after.right) / 2;
            part.at.y += (before.top + before.bottom - after.top - after.bottom) / 2;
        },
        std::nullopt);
}

namespace {

std::string freshRibbon(const Document& document)
{
    for (int n = 1;; ++n) {
        std::string name = fmt::format("ribbon{}", n);
        if (std::none_of(document.wires.begin(), document.wires.end(), [&](const WireItem& w) { return w.ribbon == name; }))
            return name;
    }
}

// The ribbons of wires from here on are new ones, beside those that they were copied from.
void renameRibbons(Document& document, std::size_t from)
{
    std::map<std::string, std::string> fresh;
    for (std::size_t i = from; i < document.wires.size(); ++i) {
        std::string& name = document.wires[i].ribbon;
        if (name.empty())
            continue;
        if (!fresh.contains(name))
            fresh[name] = freshRibbon(document);
        name = fresh[name];
    }
}

}  // namespace

Selection duplicate(Document& document, const Selection& what, GridPoint by)
{
    Selection copies;
    std::map<std::string, std::string> newId;
    const std::size_t partCount = document.parts.size();
    for (std::size_t i = 0; i < partCount; ++i) {
        if (!what.parts.contains(document.parts[i].id))
            continue;
        PartItem copy = document.parts[i];
        copy.id = idLike(document, copy.id);
        copy.at = plus(copy.at, by);
        copy.key.clear();
        newId[document.parts[i].id] = copy.id;
        copies.parts.insert(copy.id);
        document.parts.push_back(std::move(copy));
    }
    const std::size_t wireCount = document.wires.size();
    for (std::size_t i = 0; i < wireCount; ++i) {
        WireItem w = document.wires[i];
        if (!newId.contains(w.from.part) || !newId.contains(w.to.part))
            continue;
        w.from.part = newId[w.from.part];
        w.to.part = newId[w.to.part];
        for (GridPoint& p : w.via)
            p = plus(p, by);
        copies.wires.insert(document.wires.size());
        document.wires.push_back(std::move(w));
    }
    renameRibbons(document, wireCount);
    for (NetItem& net : document.nets) {
        const std::size_t pinCount = net.pins.size();
        for (std::size_t i = 0; i < pinCount; ++i)
            if (const auto found = newId.find(net.pins[i].part); found != newId.end())
                net.pins.push_back({found->second, net.pins[i].pin});
    }
    return copies;
}

std::string copyText(const Document& document, const Selection& what)
{
    Document out;
    out.title = document.title;
    for (const PartItem& part : document.parts)
        if (what.parts.contains(part.id))
            out.parts.push_back(part);
    for (const WireItem& wire : document.wires)
        if (isIn(what.parts, wire.from) && isIn(what.parts, wire.to))
            out.wires.push_back(wire);
    for (NetItem net : document.nets) {
        std::erase_if(net.pins, [&](const PinRef& pin) { return !isIn(what.parts, pin); });
        if (!net.pins.empty())
            out.nets.push_back(std::move(net));
    }
    return writeDocument(out);
}

Result<Selection> paste(Document& document, const Catalogue& catalogue, const std::string& text, GridPoint at)
{
    auto copied = parseDocument("clipboard", text);
    if (!copied)
        return tl::unexpected(copied.error());
    if (copied->parts.empty())
        return kernel::fail("clipboard", "holds no part");
    if (auto ok = checkDocument(*copied, catalogue, "clipboard"); !ok)
        return tl::unexpected(ok.error());
    GridPoint corner{INT32_MAX, INT32_MAX};
    for (const PartItem& part : copied->parts) {
        const GridRect body = bodyRect(part, *catalogue.find(part.kind));
        corner = {std::min(corner.x, body.left), std::min(corner.y, body.top)};
    }
    const GridPoint by{at.x - corner.x, at.y - corner.y};
    Selection pasted;
    std::map<std::string, std::string> newId;
    for (PartItem part : copied->parts) {
        const std::string id = document.part(part.id) == nullptr ? part.id : idLike(document, part.id);
        newId[part.id] = id;
        part.id = id;
        part.at = plus(part.at, by);
        pasted.parts.insert(id);
        document.parts.push_back(std::move(part));
    }
    for (WireItem wire : copied->wires) {
        wire.from.part = newId[wire.from.part];
        wire.to.part = newId[wire.to.part];
        for (GridPoint& p : wire.via)
            p = plus(p, by);
        pasted.wires.insert(document.wires.size());
        document.wires.push_back(std::move(wire));
    }
    renameRibbons(document, document.wires.size() - copied->wires.size());
    for (const NetItem& net : copied->nets) {
        auto here = std::find_if(document.nets.begin(), document.nets.end(), [&](const NetItem& n) { return n.name == net.name; });
        if (here == document.nets.end())
            here = document.nets.insert(document.nets.end(), NetItem{net.name, {}, {}});
        for (const PinRef& pin : net.pins)
            here->pins.push_back({newId[pin.part], pin.pin});
    }
    return pasted;
}

void align(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, Edge edge)
{
    const bool across = edge == Edge::left || edge == Edge::right || edge == Edge::middleAcross;
    std::vector<std::pair<std::string, GridRect>> bodies;
    for (const std::string& id : parts)
        if (const PartItem* part = document.part(id))
            if (const PartKind* kind = catalogue.find(part->kind))
                bodies.emplace_back(id, bodyRect(*part, *kind));
    if (bodies.size() < 2)
        return;
    const auto low = [&](const GridRect& r) { return across ? r.left : r.top; };
    const auto high = [&](const GridRect& r) { return across ? r.right : r.bottom; };
    int target = edge == Edge::left || edge == Edge::top ? INT32_MAX : edge == Edge::right || edge == Edge::bottom ? INT32_MIN : 0;
    for (const auto& [id, r] : bodies)
        target = edge == Edge::left || edge == Edge::top ? std::min(target, low(r)) : edge == Edge::right || edge == Edge::bottom ? std::max(target, high(r)) : target + low(r) + high(r);
    if (edge == Edge::middleAcross || edge == Edge::middleDown)
        target /= static_cast<int>(bodies.size());
    for (const auto& [id, r] : bodies) {
        const int by = edge == Edge::left || edge == Edge::top ? target - low(r) : edge == Edge::right || edge == Edge::bottom ? target - high(r) : (target - low(r) - high(r)) / 2;
        if (by != 0)
            moveParts(document, catalogue, {id}, across ? GridPoint{by, 0} : GridPoint{0, by});
    }
}

void distribute(Document& document, const Catalogue& catalogue, const std::set<std::string>& parts, bool across)
{
    struct Body {
        std::string id;
        int low, high;
    };
    std::vector<Body> bodies;
    for (const std::string& id : parts)
        if (const PartItem* part = document.part(id))
            if (const PartKind* kind = catalogue.find(part->kind)) {
                const GridRect r = bodyRect(*part, *kind);
                bodies.push_back({id, across ? r.left : r.top, across ? r.right : r.bottom});
            }
    if (bodies.size() < 3)
        return;
    std::sort(bodies.begin(), bodies.end(), [](const Body& a, const Body& b) { return a.low != b.low ? a.low < b.low : a.id < b.id; });
    int room = bodies.back().low - bodies.front().high;
    for (std::size_t i = 1; i + 1 < bodies.size(); ++i)
        room -= bodies[i].high - bodies[i].low;
    const auto gaps = static_cast<int>(bodies.size()) - 1;
    int at = bodies.front().high;
    for (std::size_t i = 1; i + 1 < bodies.size(); ++i) {
        // What does not divide goes to the first gaps.
        const auto index = static_cast<int>(i);
        const int wanted = at + (room * index / gaps - room * (index - 1) / gaps);
        const int by = wanted - bodies[i].low;
        if (by != 0)
            moveParts(document, catalogue, {bodies[i].id}, across ? GridPoint{by, 0} : GridPoint{0, by});
        at = wanted + bodies[i].high - bodies[i].low;
    }
}

bool replaceKind(Document& document, const Catalogue& catalogue, const std::string& id, const std::string& kindId)
{
    PartItem* part = document.part(id);
    const PartKind* before = part == nullptr ? nullptr : catalogue.find(part->kind);
    const PartKind* after = catalogue.find(kindId);
    if (before == nullptr || after == nullptr)
        return false;
    const auto mapped = [&](const std::string& name) -> std::optional<std::string> {
        if (const PinKind* same = after->pin(name))
            return same->name;
        for (std::size_t i = 0; i < before->pins.size() && i < after->pins.size(); ++i)
            if (before->pins[i].name == name)
                return after->pins[i].name;
        return std::nullopt;
    };
    const auto usable = [&](const PinRef& ref) { return ref.part != id || mapped(ref.pin); };
    for (const WireItem& w : document.wires)
        if (!usable(w.from) || !usable(w.to))
            return false;
    for (const NetItem& n : document.nets)
        if (!std::all_of(n.pins.begin(), n.pins.end(), usable))
            return false;
    const auto take = [&](PinRef& ref) {
        if (ref.part == id)
            ref.pin = *mapped(ref.pin);
    };
    for (WireItem& w : document.wires) {
        take(w.from);
        take(w.to);
    }
    for (NetItem& n : document.nets)
        std::for_each(n.pins.begin(), n.pins.end(), take);
    std::erase_if(part->set, [&](const auto& s) {
        const SettingKind* now = after->setting(s.first);
        const SettingKind* was = before->setting(s.first);
        return now == nullptr || was == nullptr || now->type != was->type || (!now->choices.empty() && std::find(now->choices.begin(), now->choices.end(), s.second) == now->choices.end());
    });
    const auto gone = [after](const auto& entry) { return after->control(entry.first) == nullptr; };
    std::erase_if(part->follow, gone);
    std::erase_if(part->controls, [&](const auto& entry) { return gone(entry) || entry.second < after->control(entry.first)->least || entry.second > after->control(entry.first)->most; });
    part->order.clear();
    part->kind = kindId;
    if (after->chip == nullptr)
        part->firmware.clear();
    return true;
}

void remove(Document& document, const Selection& what)
{
    std::vector<WireItem> wires;
    for (std::size_t i = 0; i < document.wires.size(); ++i)
        if (!what.wires.contains(i) && !isIn(what.parts, document.wires[i].from) && !isIn(what.parts, document.wires[i].to))
            wires.push_back(std::move(document.wires[i]));
    document.wires = std::move(wires);
    for (NetItem& net : document.nets)
        std::erase_if(net.pins, [&](const PinRef& pin) { return isIn(what.parts, pin); });
    std::erase_if(document.nets, [](const NetItem& net) { return net.pins.empty(); });
    std::erase_if(document.parts, [&](const PartItem& part) { return what.parts.contains(part.id); });
}

bool toggleRibbon(Document& document, const std::set<std::size_t>& wires)
{
    if (wires.empty() || *wires.rbegin() >= document.wires.size())
        return false;
    if (std::all_of(wires.begin(), wires.end(), [&](std::size_t i) { return !document.wires[i].ribbon.empty(); })) {
        for (const std::size_t i : wires)
            document.wires[i].ribbon.clear();
        return true;
    }
    std::map<std::pair<std::string, std::string>, std::vector<std::size_t>> between;
    for (const std::size_t i : wires)
        between[std::minmax(document.wires[i].from.part, document.wires[i].to.part)].push_back(i);
    bool made = false;
    for (const auto& [ends, group] : between) {
        if (group.size() < 2)
            continue;
        const std::string name = freshRibbon(document);
        for (const std::size_t i : group)
            document.wires[i].ribbon = name;
        made = true;
    }
    return made;
}

bool addWire(Document& document, const Catalogue& catalogue, const PinRef& from, const PinRef& to, const std::vector<GridPoint>& via)
{
    if (from == to)
        return false;
    for (const WireItem& w : document.wires)
        if ((w.from == from && w.to == to) || (w.from == to && w.to == from))
            return false;
    WireItem wire;
    wire.from = from;
    wire.to = to;
    wire.via = via;
    wire.color = colorFor(document, catalogue, from, to);
    document.wires.push_back(std::move(wire));
    return true;
}

namespace {

// What a pin's own words say of its wire's colour; empty where nothing.
std::string colorOfPin(const PinKind& pin)
{
    if (pin.ground)
        return "ink";
    if (pin.supplyVolts)
        return "rust";
    // A breadboard's rails are marked, and legs that are called by a colour have it.
    if (pin.about.find("rail") != std::string::npos)
        return pin.about.ends_with("minus") ? "ink" : pin.about.ends_with("plus") ? "rust" : "";
    static const std::map<std::string, std::string, std::less<>> legs{{"red", "rust"}, {"green", "leaf"}, {"blue", "sky"}};
    const auto leg = legs.find(pin.about);
    return leg == legs.end() ? "" : leg->second;
}

// Of all that wires and net flags join to a pin already: "ink" for a ground, "rust" for a supply.
std::string colorOfNet(const Document& document, const Catalogue& catalogue, const PinRef& pin)
{
    std::vector<PinRef> reached{pin};
    const auto reach = [&](const PinRef& other) {
        if (std::find(reached.begin(), reached.end(), other) == reached.end())
            reached.push_back(other);
    };
    for (std::size_t i = 0; i < reached.size(); ++i) {
        const PinRef at = reached[i];
        if (const PinKind* kind = pinOf(document, catalogue, at); kind != nullptr && (kind->ground || kind->supplyVolts))
            return kind->ground ? "ink" : "rust";
        for (const WireItem& w : document.wires) {
            if (w.from == at)
                reach(w.to);
            if (w.to == at)
                reach(w.from);
        }
        for (const NetItem& net : document.nets)
            if (std::find(net.pins.begin(), net.pins.end(), at) != net.pins.end())
                for (const PinRef& other : net.pins)
                    reach(other);
    }
    return {};
}

}  // namespace

std::string colorFor(const Document& document, const Catalogue& catalogue, const PinRef& from, const PinRef& to)
{
    for (const bool ownWords : {true, false})
        for (const PinRef* ref : {&from, &to})
            if (const PinKind* pin = pinOf(document, catalogue, *ref))
                if (const std::string color = ownWords ? colorOfPin(*pin) : colorOfNet(document, catalogue, *ref); !color.empty())
                    return color;
    // A wire that goes on from another has its colour; a fresh one takes the signal colour used least.
    for (const WireItem& w : document.wires)
        if (w.from == from || w.to == from || w.from == to || w.to == to)
            return w.color;
    const std::vector<std::string> signals{"sky", "violet", "leaf", "amber", "bark", "slate"};
    return *std::min_element(signals.begin(), signals.end(), [&](const std::string& a, const std::string& b) {
        const auto uses = [&](const std::string& c) { return std::count_if(document.wires.begin(), document.wires.end(), [&](const WireItem& w) { return w.color == c; }); };
        return uses(a) < uses(b);
    });
}

void setNetFlag(Document& document, const Catalogue& catalogue, const PinRef& pin, const std::string& name)
{
    for (NetItem& net : document.nets)
        std::erase(net.pins, pin);
    std::erase_if(document.nets, [](const NetItem& net) { return net.pins.empty(); });
    if (name.empty())
        return;
    auto net = std::find_if(document.nets.begin(), document.nets.end(), [&](const NetItem& n) { return n.name == name; });
    if (net == document.nets.end()) {
        document.nets.push_back({name, {}, {}});
        net = std::prev(document.nets.end());
        // GND, 5V and their like mean the board's own pin of that name, where there is one.
        for (const PartItem& part : document.parts) {
            const PartKind* kind = catalogue.find(part.kind);
            const PinKind* own = kind == nullptr || kind->chip == nullptr ? nullptr : kind->pin(name);
            if (own != nullptr && (own->ground || own->supplyVolts) && !(PinRef{part.id, own->name} == pin)) {
                net->pins.push_back({part.id, own->name});
                break;
            }
        }
    }
    net->pins.push_back(pin);
}

std::string netFlagOf(const Document& document, const PinRef& pin)
{
    for (const NetItem& net : document.nets)
        if (std::find(net.pins.begin(), net.pins.end(), pin) != net.pins.end())
            return net.name;
    return {};
}

bool renamePart(Document& document, const std::string& from, const std::string& to)
{
    if (to.empty() || to.find('.') != std::string::npos || (from != to && document.part(to) != nullptr))
        return false;
    const auto rename = [&](PinRef& ref) {
        if (ref.part == from)
            ref.part = to;
    };
    for (PartItem& part : document.parts)
        if (part.id == from)
            part.id = to;
    for (WireItem& w : document.wires) {
        rename(w.from);
        rename(w.to);
    }
    for (NetItem& net : document.nets)
        for (PinRef& pin : net.pins)
            rename(pin);
    return true;
}

}  // namespace bramix::bench
