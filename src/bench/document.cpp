#include "bench/document.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <filesystem>
#include <set>
#include <sstream>
#include <unistd.h>

#include <fmt/format.h>

#include "bench/toml_read.h"
#include "kernel/units.h"

#include "kernel/files.h"

namespace bramix::bench {

using kernel::fail;

namespace {

std::string orNone(std::string names) { return names.empty() ? "none" : names; }

// Values as they are called now, from benches that have them as they were called before.
std::string asNow(const std::string& setting, std::string value)
{
    if (setting == "overload")
        return value == "destroys" ? "burns out" : value == "warns" ? "only warns" : value;
    return value;
}

std::string settingNames(const PartKind& kind)
{
    std::string out;
    for (const SettingKind& s : kind.settings)
        out += (out.empty() ? "" : ", ") + s.name;
    return orNone(std::move(out));
}

std::string controlNames(const PartKind& kind)
{
    std::string out;
    for (const ControlKind& c : kind.controls)
        out += (out.empty() ? "" : ", ") + c.name;
    return orNone(std::move(out));
}


constexpr int kFormat = 1;

// Comment lines directly above each block header, by the header's line; and those at the head of the file under 0.
std::map<int, std::string> commentsAbove(std::string_view text)
{
    std::map<int, std::string> out;
    std::string pending;
    bool atHead = true;
    int number = 0;
    std::istringstream in{std::string(text)};
    for (std::string line; std::getline(in, line);) {
        ++number;
        if (!line.empty() && line.back() == '\r')
            line.pop_back();
        const std::size_t first = line.find_first_not_of(" \t");
        if (first != std::string::npos && line[first] == '#') {
            pending += line.substr(first) + "\n";
            continue;
        }
        if (first == std::string::npos) {
            if (atHead && !pending.empty())
                out[0] += pending + "\n";
            if (atHead)
                pending.clear();
            continue;
        }
        if (line.compare(first, 1, "[") == 0 && !pending.empty())
            out[number] = pending;
        else if (atHead)
            out[0] += pending;
        pending.clear();
        atHead = false;
    }
    return out;
}

std::string quote(std::string_view text)
{
    std::string out = "\"";
    for (const char c : text) {
        switch (c) {
        case '"': out += "\\\""; break;
        case '\\': out += "\\\\"; break;
        case '\n': out += "\\n"; break;
        case '\t': out += "\\t"; break;
        case '\r': out += "\\r"; break;
        default:
            if (static_cast<unsigned char>(c) < 0x20 || c == 0x7F)
                out += fmt::format("\\u{:04X}", static_cast<unsigned char>(c));
            else
                out += c;
        }
    }
    return out + "\"";
}

bool isBareKey(std::string_view key)
{
    return !key.empty() && std::all_of(key.begin(), key.end(), [](unsigned char c) { return std::isalnum(c) != 0 || c == '-' || c == '_'; });
}

std::string keyText(std::string_view key) { return isBareKey(key) ? std::string(key) : quote(key); }

std::vector<UnknownKey> keepUnknown(const TableReader& reader, const std::string& what, std::vector<std::string>* warnings)
{
    std::vector<UnknownKey> out;
    for (const auto& [key, value] : reader.unknown()) {
        std::ostringstream text;
        value.visit([&](const auto& node) {
            if constexpr (toml::is_table<decltype(node)>) {
                toml::table inlined = node;
                inlined.is_inline(true);
                text << toml::toml_formatter{inlined, toml::format_flags::none};
            } else if constexpr (toml::is_array<decltype(node)>) {
                // An array of tables written inside a block must be inline.
                toml::array inlined = node;
                for (toml::node& item : inlined)
                    if (toml::table* t = item.as_table())
                        t->is_inline(true);
                text << toml::toml_formatter{inlined};
            } else {
                text << toml::toml_formatter{node};
            }
        });
        std::string flat = text.str();
        std::replace(flat.begin(), flat.end(), '\n', ' ');
        out.push_back({std::string(key.str()), flat});
        if (warnings != nullptr)
            warnings->push_back(fmt::format("{}: {} has \"{}\", which this version does not know; it is kept", placeOf(reader.name(), *reader.table().get(key.str())), what, std::string(key.str())));
    }
    return out;
}

struct Loader {
    const std::string& name;
    const std::map<int, std::string>& comments;
    std::vector<std::string>* warnings;
    kernel::Error error{};

    Remarks remarksOf(TableReader& r, const std::string& what)
    {
        Remarks out;
        out.line = static_cast<int>(r.table().source().begin.line);
        out.unknown = keepUnknown(r, what, warnings);
        const auto comment = comments.find(out.line);
        if (comment != comments.end())
            out.comment = comment->second;
        return out;
    }

    PinRef pinRef(TableReader& r, const std::string& text)
    {
        auto ref = parsePinRef(text);
        if (!ref) {
            r.wrong(r.table(), ref.error().what);
            return {};
        }
        return *ref;
    }

    PartItem part(TableReader& r)
    {
        PartItem p;
        p.id = r.text("id", {}, true);
        p.kind = r.text("kind", {}, true);
        p.label = r.text("label");
        const auto [x, y] = r.point("at");
        p.at = {x, y};
        p.turn = static_cast<int>(r.integer("turn", 0, 0, 3));
        p.order = r.texts("order");
        p.firmware = r.text("firmware");
        p.registers = r.text("registers");
        p.key = r.text("key");
        if (const toml::table* set = r.subtable("set")) {
            TableReader values(name, *set);
            for (const auto& [key, value] : *set)
                p.set[std::string(key.str())] = asNow(std::string(key.str()), values.anyText(key.str()));
            r.adopt(values);
        }
        if (const toml::table* controls = r.subtable("controls")) {
            TableReader values(name, *controls);
            for (const auto& [key, value] : *controls)
                p.controls[std::string(key.str())] = values.number(key.str(), 0);
            r.adopt(values);
        }
        if (const toml::table* follows = r.subtable("follow")) {
            TableReader controls(name, *follows);
            for (const auto& [key, value] : *follows)
                if (const toml::table* one = controls.subtable(key.str())) {
                    TableReader f(name, *one);
                    p.follow[std::string(key.str())] = follow(f);
                    controls.adopt(f);
                }
            r.adopt(controls);
        }
        if (const toml::table* mute = r.subtable("mute")) {
            TableReader reasons(name, *mute);
            for (const auto& [key, value] : *mute)
                p.mute[std::string(key.str())] = reasons.text(key.str());
            r.adopt(reasons);
        }
        if (r.ok() && (p.id.empty() || p.id.find('.') != std::string::npos))
            r.wrong(r.table(), fmt::format("id \"{}\"; expected a name without a point", p.id));
        p.remarks = remarksOf(r, "part \"" + p.id + "\"");
        return p;
    }

    FollowItem follow(TableReader& r)
    {
        FollowItem f;
        f.curve = r.pairs("curve");
        f.csv = r.text("csv");
        f.repeat = r.flag("repeat", false);
        f.noise = r.number("noise", 0);
        f.drift = r.number("drift", 0);
        f.every = r.number("every", f.every);
        constexpr double kLeastStep = 1e-5, kMostStep = 3600;
        for (std::size_t i = 0; i < f.curve.size() && r.ok(); ++i)
            if (f.curve[i].first < 0 || (i > 0 && f.curve[i].first <= f.curve[i - 1].first))
                r.wrong(r.table(), fmt::format("\"curve\" has {} s out of its order; expected times that grow from 0", f.curve[i].first));
        if (r.ok() && !(f.every >= kLeastStep && f.every <= kMostStep))
            r.wrong(r.table(), fmt::format("\"every\" is {} s; expected {} to {}", f.every, kLeastStep, kMostStep));
        if (r.ok() && (f.noise < 0 || f.drift < 0))
            r.wrong(r.table(), "\"noise\" and \"drift\" are spreads; expected no less than 0");
        return f;
    }

    WireItem wire(TableReader& r)
    {
        WireItem w;
        const auto ends = r.texts("ends", true);
        if (r.ok() && ends.size() != 2)
            r.wrong(r.table(), fmt::format("a wire has {} ends; expected 2", ends.size()));
        if (r.ok()) {
            w.from = pinRef(r, ends[0]);
            w.to = pinRef(r, ends[1]);
        }
        w.color = r.text("color", "slate");
        if (r.ok() && std::find(wireColors().begin(), wireColors().end(), w.color) == wireColors().end())
            r.wrong(*r.table().get("color"), fmt::format("color \"{}\"; expected {}", w.color, fmt::join(wireColors(), ", ")));
        for (const auto& [x, y] : r.points("via"))
            w.via.push_back({x, y});
        w.ribbon = r.text("ribbon");
        w.remarks = remarksOf(r, "a wire");
        return w;
    }

    NetItem net(TableReader& r)
    {
        NetItem n;
        n.name = r.text("name", {}, true);
        for (const std::string& text : r.texts("pins", true))
            n.pins.push_back(pinRef(r, text));
        n.remarks = remarksOf(r, "net \"" + n.name + "\"");
        return n;
    }

    StopItem stop(TableReader& r)
    {
        StopItem s;
        s.at = r.text("at", {}, true);
        s.chip = r.text("chip");
        s.when = r.text("when");
        s.say = r.text("say");
        s.count = static_cast<int>(r.integer("count", 1, 1, 1'000'000'000));
        s.off = r.integer("off", 0, 0, 1) != 0;
        s.remarks = remarksOf(r, "stop \"" + s.at + "\"");
        return s;
    }

    WatchItem watch(TableReader& r)
    {
        WatchItem w;
        w.expression = r.text("expression", {}, true);
        w.chip = r.text("chip");
        w.radix = r.text("radix");
        w.remarks = remarksOf(r, "watch \"" + w.expression + "\"");
        return w;
    }

    ButtonItem button(TableReader& r)
    {
        ButtonItem b;
        b.label = r.text("label", {}, true);
        b.bytes = r.text("bytes", {}, true);
        b.uart = r.text("uart");
        b.every = r.text("every");
        b.key = r.text("key");
        b.remarks = remarksOf(r, "button \"" + b.label + "\"");
        return b;
    }

    BookmarkItem bookmark(TableReader& r)
    {
        BookmarkItem b;
        b.name = r.text("name", {}, true);
        b.at = r.text("at", {}, true);
        b.remarks = remarksOf(r, "bookmark \"" + b.name + "\"");
        return b;
    }

    template <class Item>
    void each(TableReader& top, std::string_view key, std::vector<Item>& out, Item (Loader::*read)(TableReader&))
    {
        const toml::array* tables = top.tables(key);
        if (tables == nullptr)
            return;
        for (const toml::node& node : *tables) {
            TableReader r(name, *node.as_table());
            Item item = (this->*read)(r);
            if (!r.ok()) {
                top.adopt(r);
                return;
            }
            out.push_back(std::move(item));
        }
    }
};

std::string pointText(GridPoint p) { return fmt::format("[{}, {}]", p.x, p.y); }

std::string followText(const FollowItem& f)
{
    std::string out;
    const auto add = [&out](const std::string& text) { out += (out.empty() ? "" : ", ") + text; };
    if (!f.curve.empty()) {
        std::string points;
        for (const auto& [t, v] : f.curve)
            points += fmt::format("{}[{}, {}]", points.empty() ? "" : ", ", t, v);
        add("curve = [" + points + "]");
    }
    if (!f.csv.empty())
        add("csv = " + quote(f.csv));
    if (f.repeat)
        add("repeat = true");
    if (f.noise != 0)
        add(fmt::format("noise = {}", f.noise));
    if (f.drift != 0)
        add(fmt::format("drift = {}", f.drift));
    if (f.every != FollowItem{}.every)
        add(fmt::format("every = {}", f.every));
    return out.empty() ? "{}" : "{ " + out + " }";
}

void writeUnknown(std::string& out, const Remarks& remarks)
{
    for (const UnknownKey& u : remarks.unknown)
        out += fmt::format("{} = {}\n", keyText(u.key), u.value);
}

}  // namespace

const std::vector<std::string>& wireColors()
{
    static const std::vector<std::string> colors{"ink", "rust", "amber", "leaf", "sky", "violet", "bark", "slate"};
    return colors;
}

const PartItem* Document::part(std::string_view id) const
{
    const auto found = std::find_if(parts.begin(), parts.end(), [&](const PartItem& p) { return p.id == id; });
    return found == parts.end() ? nullptr : &*found;
}

PartItem* Document::part(std::string_view id) { return const_cast<PartItem*>(std::as_const(*this).part(id)); }

std::string Document::freshId(std::string_view stem) const
{
    for (int n = 1;; ++n) {
        std::string id = fmt::format("{}{}", stem, n);
        if (part(id) == nullptr)
            return id;
    }
}

Result<PinRef> parsePinRef(std::string_view text)
{
    const std::size_t point = text.rfind('.');
    if (point == std::string_view::npos || point == 0 || point + 1 == text.size())
        return fail("", fmt::format("\"{}\" is not a pin; expected \"part.pin\"", text));
    return PinRef{std::string(text.substr(0, point)), std::string(text.substr(point + 1))};
}

Result<Document> parseDocument(const std::string& name, std::string_view text, std::vector<std::string>* warnings)
{
    const auto table = parseToml(name, text);
    if (!table)
        return tl::unexpected(table.error());
    const auto comments = commentsAbove(text);
    Loader loader{name, comments, warnings};
    TableReader top(name, *table);
    Document d;
    if (table->get("bramix") == nullptr)
        return fail(name, fmt::format("has no \"bramix = {}\"; expected a bench", kFormat));
    const std::int64_t format = top.integer("bramix", kFormat, 1, 1'000'000, true);
    if (top.ok() && format != kFormat)
        return fail(placeOf(name, *table->get("bramix")), fmt::format("is of format {}; this version reads format {}", format, kFormat), "use a newer Bramix");
    d.title = top.text("title", d.title);
    d.notes = top.text("notes");
    d.build = top.text("build");
    d.lanes = top.texts("lanes");
    d.capture = top.text("capture");
    d.captureAt = top.text("capture-at");
    if (!d.captureAt.empty() && top.ok() && !kernel::parseQuantity(d.captureAt, kernel::Unit::second))
        top.wrong(*table->get("capture-at"), fmt::format("\"{}\"; expected a time such as \"5.1ms\"", d.captureAt));
    loader.each(top, "part", d.parts, &Loader::part);
    loader.each(top, "wire", d.wires, &Loader::wire);
    loader.each(top, "net", d.nets, &Loader::net);
    loader.each(top, "stop", d.stops, &Loader::stop);
    loader.each(top, "watch", d.watches, &Loader::watch);
    loader.each(top, "button", d.buttons, &Loader::button);
    loader.each(top, "bookmark", d.bookmarks, &Loader::bookmark);
    if (!top.ok())
        return tl::unexpected(top.error());
    d.remarks.unknown = keepUnknown(top, "the bench", warnings);
    if (const auto head = comments.find(0); head != comments.end())
        d.remarks.comment = head->second;
    std::set<std::string> ids;
    for (const PartItem& p : d.parts)
        if (!ids.insert(p.id).second)
            return fail(fmt::format("{}: line {}", name, p.remarks.line), fmt::format("a second part \"{}\"; expected ids that differ", p.id));
    return d;
}

std::string writeDocument(const Document& d)
{
    std::string out = d.remarks.comment;
    // A key stands only where there is something to say.
    const auto given = [&out](const char* key, const std::string& value) {
        if (!value.empty())
            out += fmt::format("{} = {}\n", key, quote(value));
    };
    out += fmt::format("bramix = {}\ntitle = {}\n", kFormat, quote(d.title));
    given("notes", d.notes);
    given("build", d.build);
    if (!d.lanes.empty()) {
        std::string lanes;
        for (const std::string& lane : d.lanes)
            lanes += (lanes.empty() ? "" : ", ") + quote(lane);
        out += fmt::format("lanes = [{}]\n", lanes);
    }
    given("capture", d.capture);
    given("capture-at", d.captureAt);
    writeUnknown(out, d.remarks);
    for (const PartItem& p : d.parts) {
        out += fmt::format("\n{}[[part]]\nid = {}\nkind = {}\n", p.remarks.comment, quote(p.id), quote(p.kind));
        given("label", p.label);
        out += fmt::format("at = {}\n", pointText(p.at));
        if (p.turn != 0)
            out += fmt::format("turn = {}\n", p.turn);
        if (!p.order.empty()) {
            std::string names;
            for (const std::string& name : p.order)
                names += (names.empty() ? "" : ", ") + quote(name);
            out += fmt::format("order = [{}]\n", names);
        }
        given("firmware", p.firmware);
        given("registers", p.registers);
        given("key", p.key);
        if (!p.set.empty()) {
            std::string values;
            for (const auto& [key, value] : p.set)
                values += fmt::format("{}{} = {}", values.empty() ? "" : ", ", keyText(key), quote(value));
            out += fmt::format("set = {{ {} }}\n", values);
        }
        if (!p.controls.empty()) {
            std::string values;
            for (const auto& [key, value] : p.controls)
                values += fmt::format("{}{} = {}", values.empty() ? "" : ", ", keyText(key), value);
            out += fmt::format("controls = {{ {} }}\n", values);
        }
        if (!p.follow.empty()) {
            std::string items;
            for (const auto& [key, f] : p.follow)
                items += fmt::format("{}{} = {}", items.empty() ? "" : ", ", keyText(key), followText(f));
            out += fmt::format("follow = {{ {} }}\n", items);
        }
        if (!p.mute.empty()) {
            std::string reasons;
            for (const auto& [rule, reason] : p.mute)
                reasons += fmt::format("{}{} = {}", reasons.empty() ? "" : ", ", keyText(rule), quote(reason));
            out += fmt::format("mute = {{ {} }}\n", reasons);
        }
        writeUnknown(out, p.remarks);
    }
    for (const WireItem& w : d.wires) {
        out += fmt::format("\n{}[[wire]]\nends = [{}, {}]\ncolor = {}\n", w.remarks.comment, quote(w.from.text()), quote(w.to.text()), quote(w.color));
        if (!w.via.empty()) {
            std::string via;
            for (const GridPoint p : w.via)
                via += (via.empty() ? "" : ", ") + pointText(p);
            out += fmt::format("via = [{}]\n", via);
        }
        if (!w.ribbon.empty())
            out += fmt::format("ribbon = {}\n", quote(w.ribbon));
        writeUnknown(out, w.remarks);
    }
    for (const NetItem& n : d.nets) {
        std::string pins;
        for (const PinRef& p : n.pins)
            pins += (pins.empty() ? "" : ", ") + quote(p.text());
        out += fmt::format("\n{}[[net]]\nname = {}\npins = [{}]\n", n.remarks.comment, quote(n.name), pins);
        writeUnknown(out, n.remarks);
    }
    for (const StopItem& s : d.stops) {
        out += fmt::format("\n{}[[stop]]\nat = {}\n", s.remarks.comment, quote(s.at));
        given("chip", s.chip);
        given("when", s.when);
        given("say", s.say);
        if (s.count != 1)
            out += fmt::format("count = {}\n", s.count);
        if (s.off)
            out += "off = 1\n";
        writeUnknown(out, s.remarks);
    }
    for (const WatchItem& w : d.watches) {
        out += fmt::format("\n{}[[watch]]\nexpression = {}\n", w.remarks.comment, quote(w.expression));
        given("chip", w.chip);
        given("radix", w.radix);
        writeUnknown(out, w.remarks);
    }
    for (const ButtonItem& b : d.buttons) {
        out += fmt::format("\n{}[[button]]\nlabel = {}\nbytes = {}\n", b.remarks.comment, quote(b.label), quote(b.bytes));
        given("uart", b.uart);
        given("every", b.every);
        given("key", b.key);
        writeUnknown(out, b.remarks);
    }
    for (const BookmarkItem& b : d.bookmarks) {
        out += fmt::format("\n{}[[bookmark]]\nname = {}\nat = {}\n", b.remarks.comment, quote(b.name), quote(b.at));
        writeUnknown(out, b.remarks);
    }
    return out;
}

Result<Document> loadDocument(const std::string& file, std::vector<std::string>* warnings)
{
    const auto text = readTextFile(file);
    if (!text)
        return tl::unexpected(text.error());
    return parseDocument(file, *text, warnings);
}

std::set<std::string> filesNamed(const Document& document)
{
    std::set<std::string> out;
    for (const PartItem& part : document.parts) {
        if (!part.firmware.empty())
            out.insert(part.firmware);
        if (!part.registers.empty())
            out.insert(part.registers);
        for (const auto& [name, value] : part.set)
            if (value.find_first_of("/.") != std::string::npos)
                out.insert(value);
        for (const auto& [name, follow] : part.follow)
            if (!follow.csv.empty())
                out.insert(follow.csv);
    }
    if (!document.capture.empty())
        out.insert(document.capture);
    return out;
}

Result<void> saveText(const std::string& file, const std::string& text) { return kernel::writeFile(file, text); }

Result<void> checkOrder(const std::vector<std::string>& order, const PartKind& kind)
{
    if (order.empty())
        return {};
    std::vector<std::string> names, given = order;
    for (const PinKind& pin : kind.pins)
        names.push_back(pin.name);
    std::vector<std::string> sorted = names;
    std::sort(sorted.begin(), sorted.end());
    std::sort(given.begin(), given.end());
    if (kind.chip != nullptr || kind.plugs)
        return fail("order", fmt::format("the pins of a {} lie as they lie", kind.title));
    if (given != sorted)
        return fail("order", fmt::format("\"{}\" are not its pins, each once; expected {} in another order", fmt::join(order, " "), fmt::join(names, " ")));
    return {};
}

Result<void> checkDocument(const Document& d, const Catalogue& catalogue, const std::string& name)
{
    const auto place = [&](const Remarks& r) { return r.line > 0 ? fmt::format("{}: line {}", name, r.line) : name; };
    for (const PartItem& p : d.parts) {
        const PartKind* kind = catalogue.find(p.kind);
        if (kind == nullptr)
            return fail(place(p.remarks), fmt::format("part \"{}\" is of kind \"{}\", which the catalogue does not have", p.id, p.kind), "bramix-cli list parts shows what it has");
        if (!p.firmware.empty() && kind->chip == nullptr)
            return fail(place(p.remarks), fmt::format("part \"{}\" has firmware, but a {} runs none", p.id, kind->title));
        if (!p.registers.empty() && kind->chip == nullptr)
            return fail(place(p.remarks), fmt::format("part \"{}\" has registers described, but a {} has none", p.id, kind->title));
        if (auto ok = checkOrder(p.order, *kind); !ok)
            return fail(place(p.remarks), fmt::format("part \"{}\": {}", p.id, ok.error().what));
        for (const auto& [key, value] : p.controls) {
            const ControlKind* control = kind->control(key);
            if (control == nullptr)
                return fail(place(p.remarks), fmt::format("part \"{}\" has no live control \"{}\"; it has {}", p.id, key, controlNames(*kind)));
            if (!(value >= control->least && value <= control->most))
                return fail(place(p.remarks), fmt::format("{}.{} stands at {}; expected {} to {}", p.id, key, value, control->least, control->most));
        }
        for (const auto& [key, value] : p.follow)
            if (kind->control(key) == nullptr || kind->chip != nullptr)
                return fail(place(p.remarks), fmt::format("part \"{}\" has no live control \"{}\" that could follow anything", p.id, key));
        for (const auto& [key, value] : p.set) {
            const SettingKind* setting = kind->setting(key);
            if (setting == nullptr && key == "voltage" && kind->behaviour == "supply")
                continue;  // of ground, in benches of before: it never did anything
            if (setting == nullptr)
                return fail(place(p.remarks), fmt::format("part \"{}\" has no setting \"{}\"; it has {}", p.id, key, settingNames(*kind)));
            if (setting->type == "fuse") {
                auto bytes = kind->options;
                if (auto ok = chip::setOption(*kind->chip, bytes, key, value); !ok)
                    return fail(place(p.remarks), fmt::format("{}.{} is \"{}\"; {}", p.id, key, value, ok.error().what));
            }
            if (setting->type == "choice" && std::find(setting->choices.begin(), setting->choices.end(), value) == setting->choices.end())
                return fail(place(p.remarks), fmt::format("{}.{} is \"{}\"; expected {}", p.id, key, value, fmt::join(setting->choices, ", ")));
        }
    }
    const auto checkPin = [&](const PinRef& ref, const Remarks& r) -> Result<void> {
        const PartItem* part = d.part(ref.part);
        if (part == nullptr)
            return fail(place(r), fmt::format("\"{}\" names a part that is not on the bench", ref.text()));
        const PartKind* kind = catalogue.find(part->kind);
        if (kind->pin(ref.pin) == nullptr) {
            std::vector<std::string> names;
            for (const PinKind& p : kind->pins)
                names.push_back(p.name);
            return fail(place(r), fmt::format("{} \"{}\" has no pin \"{}\"; it has {}", kind->title, ref.part, ref.pin, fmt::join(names, ", ")));
        }
        return {};
    };
    for (const WireItem& w : d.wires)
        for (const PinRef* end : {&w.from, &w.to})
            if (auto ok = checkPin(*end, w.remarks); !ok)
                return ok;
    for (const NetItem& n : d.nets)
        for (const PinRef& pin : n.pins)
            if (auto ok = checkPin(pin, n.remarks); !ok)
                return ok;
    return {};
}

}  // namespace bramix::bench
