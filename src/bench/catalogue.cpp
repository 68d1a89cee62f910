#include "bench/catalogue.h"

#include "bench/part_search.h"

#include <algorithm>
#include <map>
#include <cctype>
#include <cstdlib>
#include <filesystem>

#include <fmt/format.h>

#include "bench/toml_read.h"
#include "kernel/units.h"
#include "parts/part.h"

namespace bramix::bench {

using kernel::fail;

namespace {

// The tables under a key of one manifest, each read by `read`; stops at the first error.
template <class F>
void forEachTable(TableReader& owner, std::string_view key, F read)
{
    const toml::array* tables = owner.tables(key);
    if (tables == nullptr)
        return;
    for (const toml::node& node : *tables) {
        TableReader reader(owner.name(), *node.as_table());
        read(reader);
        const toml::table unknown = reader.unknown();
        if (reader.ok() && !unknown.empty())
            reader.wrong(*node.as_table(), fmt::format("[[{}]] has an unknown key \"{}\"", key, std::string(unknown.begin()->first.str())));
        if (!reader.ok()) {
            owner.adopt(reader);
            return;
        }
    }
}

PinKind readPin(TableReader& r)
{
    PinKind pin;
    pin.name = r.text("name", {}, true);
    const auto [x, y] = r.point("at", true);
    pin.at = {x, y};
    pin.about = r.text("about");
    pin.chipPin = r.text("chip");
    pin.aliases = r.texts("alias");
    pin.ground = r.flag("ground", false);
    pin.output = r.flag("output", false);
    pin.must = r.text("must");
    const std::string supply = r.text("supply");
    if (!supply.empty()) {
        const auto volts = kernel::parseQuantity(supply, kernel::Unit::volt);
        if (volts)
            pin.supplyVolts = *volts;
        else
            r.wrong(r.table(), volts.error().what);
    }
    return pin;
}

SettingKind readSetting(TableReader& r)
{
    SettingKind s;
    s.name = r.text("name", {}, true);
    s.label = r.text("label", s.name);
    s.type = r.text("type", "text");
    s.standard = r.text("standard");
    s.choices = r.texts("choices");
    s.about = r.text("about");
    return s;
}

ControlKind readControl(TableReader& r)
{
    ControlKind c;
    c.name = r.text("name", {}, true);
    c.label = r.text("label", c.name);
    c.type = r.text("type", "toggle");
    c.low = r.text("low", "off");
    c.high = r.text("high", "on");
    c.unit = r.text("unit");
    c.choices = r.texts("choices");
    if (const auto box = r.points("box"); box.size() == 2)
        c.box = {GridPoint{box[0].first, box[0].second}, GridPoint{box[1].first, box[1].second}};
    if (c.type == "choice" && c.choices.size() < 2)
        r.wrong(r.table(), fmt::format("control \"{}\" is a choice; expected two choices or more", c.name));
    if (c.type == "dial" || c.type == "choice") {
        c.least = r.number("least", 0);
        c.most = r.number("most", 1);
        c.standard = r.number("standard", c.least);
        c.logarithmic = r.flag("logarithmic", false);
        if (c.type == "choice")
            c.most = static_cast<double>(c.choices.size()) - 1;
        if (!(c.least < c.most) || (c.logarithmic && c.least <= 0) || c.standard < c.least || c.standard > c.most)
            r.wrong(r.table(), fmt::format("dial \"{}\" goes from {} to {} and stands at {}; expected least < most, and standard between them", c.name, c.least, c.most, c.standard));
    } else {
        c.standard = static_cast<double>(r.integer("standard", 0, 0, 1));
    }
    return c;
}

InnerPart readInner(TableReader& r)
{
    InnerPart inner;
    inner.id = r.text("id", {}, true);
    inner.kind = r.text("kind", {}, true);
    if (const toml::table* set = r.subtable("set"))
        for (const auto& [key, value] : *set)
            inner.set[std::string(key.str())] = value.value_or(std::string());
    return inner;
}

// bench/language.h says how it is written.
Language readLanguage(TableReader& r)
{
    Language out;
    const std::string form = r.text("language");
    out.pointer = static_cast<unsigned>(r.integer("pointer", 1, 1, 4));
    const std::vector<std::string> names = r.texts("registers");
    if (form.empty()) {
        if (!names.empty())
            r.wrong(r.table(), "\"registers\" wants \"language\" beside it");
        return out;
    }
    static const std::map<std::string, Language::Form> kForms{{"registers", Language::Form::registers}, {"memory", Language::Form::memory}, {"character-display", Language::Form::characterDisplay},
                                                             {"display-commands", Language::Form::displayCommands}, {"commands", Language::Form::commands}, {"card", Language::Form::card}};
    const auto known = kForms.find(form);
    if (known == kForms.end()) {
        r.wrong(r.table(), fmt::format("language \"{}\"; expected registers, memory, character-display, display-commands, commands or card", form));
        return out;
    }
    out.form = known->second;
    for (const std::string& text : names) {
        Language::Name n;
        char* end = nullptr;
        n.first = n.last = static_cast<std::uint32_t>(std::strtoul(text.c_str(), &end, 0));
        bool good = end != text.c_str();
        if (*end == '-') {
            const char* const second = end + 1;
            n.last = static_cast<std::uint32_t>(std::strtoul(second, &end, 0));
            good = good && end != second && n.last >= n.first;
        }
        n.name = *end == ' ' ? end + 1 : "";
        if (const std::size_t comma = n.name.rfind(", "); comma != std::string::npos) {
            n.takes = static_cast<unsigned>(std::atoi(n.name.c_str() + comma + 2));
            n.name.erase(comma);
        }
        if (!good || n.name.empty())
            r.wrong(r.table(), fmt::format("register \"{}\"; expected one such as \"0x00 SECONDS\", \"0x08-0x3F RAM\" or \"0x81 contrast, 1\"", text));
        out.names.push_back(std::move(n));
    }
    return out;
}

// What differs from one chip to the next of its kind within the datasheet.
void addPullUpSetting(PartKind& kind)
{
    SettingKind s;
    s.name = "pull-up";
    s.label = "pull-up of a pin";
    s.about = "20 kΩ to 50 kΩ";
    s.type = "ohm";
    s.standard = "35k";
    kind.settings.push_back(std::move(s));
}

// Every fuse field of a chip is a setting of whatever holds it.
void addFuseSettings(PartKind& kind)
{
    for (const chip::OptionField& field : kind.chip->options) {
        SettingKind s;
        s.name = field.name;
        s.label = field.name;
        s.about = field.about;
        s.type = "fuse";
        const unsigned value = chip::optionValue(*kind.chip, kind.options, field.name);
        s.standard = field.bits == 1 ? fmt::format("{}", value) : fmt::format("0b{:0{}b}", value, field.bits);
        kind.settings.push_back(std::move(s));
    }
}

// The pins of a chip's package at the edges of a square adapter: from the first on the left downwards, then against the clock. Supply pins of one name (VDD, VDD2) hang together.
void layRoundAdapter(PartKind& kind)
{
    const chip::Device& device = *kind.chip;
    const int size = kind.size.x, side = static_cast<int>(device.package.size()) / 4, first = (size - side) / 2;
    std::map<std::string, std::vector<std::string>> together;
    int n = 0;
    for (const chip::PackagePin& package : device.package) {
        const int at = first + n % side;
        PinKind pin;
        pin.name = package.name;
        pin.about = package.functions.empty() ? "port pin" : package.functions;
        pin.at = n / side == 0 ? GridPoint{0, at} : n / side == 1 ? GridPoint{at, size} : n / side == 2 ? GridPoint{size, size - at} : GridPoint{size - at, 0};
        bool isTwin = false;
        for (const std::string& supply : {device.supply.plus, device.supply.minus}) {
            const bool numbered = package.name.size() == supply.size() + 1 && package.name.starts_with(supply) && std::isdigit(static_cast<unsigned char>(package.name.back())) != 0;
            if (numbered || package.name == supply)
                together[supply].push_back(package.name);
            isTwin = isTwin || numbered;
        }
        if (!isTwin && package.functions != "boot mode")
            pin.chipPin = package.name;
        kind.pins.push_back(std::move(pin));
        ++n;
    }
    for (auto& [supply, pins] : together)
        kind.joins.push_back({std::move(pins), {}});
}

Result<PartKind> readManifest(const std::string& file, const std::string& folder)
{
    const auto text = readTextFile(file);
    if (!text)
        return tl::unexpected(text.error());
    const auto table = parseToml(file, *text);
    if (!table)
        return tl::unexpected(table.error());
    TableReader r(file, *table);
    PartKind kind;
    kind.id = r.text("kind", {}, true);
    kind.title = r.text("title", {}, true);
    kind.about = r.text("about", {}, true);
    kind.words = r.texts("words");
    kind.behaviour = r.text("behaviour");
    kind.idStem = r.text("id", "part");
    const auto [w, h] = r.point("size", true);
    kind.notes = r.text("notes");
    kind.language = readLanguage(r);
    kind.reads = r.text("reads");
    kind.plugs = r.flag("plugs", false);
    kind.size = {w, h};
    kind.folder = folder;
    const std::string chipId = r.text("chip");
    if (!chipId.empty()) {
        kind.chip = chip::findDevice(chipId);
        if (kind.chip == nullptr)
            r.wrong(*table, fmt::format("chip \"{}\" is not known", chipId));
    }
    kind.bridge = r.text("bridge");
    if (table->contains("lamp")) {
        const auto [x2, y2] = r.point("lamp");
        kind.lamp = GridPoint{x2, y2};
    }
    if (const auto box = r.points("reset-button"); box.size() == 2)
        kind.resetButton = {GridPoint{box[0].first, box[0].second}, GridPoint{box[1].first, box[1].second}};
    for (const auto& [key, place] : {std::pair("screen", &kind.screen), std::pair("shaft", &kind.shaft)})
        if (const auto box = r.points(key); box.size() == 2)
            *place = {GridPoint{box[0].first, box[0].second}, GridPoint{box[1].first, box[1].second}};
    const std::vector<std::string> fuses = r.texts("fuses");
    if (kind.chip != nullptr) {
        kind.options = kind.chip->shipped;
        for (const std::string& fuse : fuses) {
            const std::size_t equals = std::min(fuse.find('='), fuse.size());
            if (auto ok = chip::setOption(*kind.chip, kind.options, fuse.substr(0, equals), equals == fuse.size() ? std::string() : fuse.substr(equals + 1)); !ok)
                r.wrong(*table, ok.error().where + ": " + ok.error().what);
        }
    }
    const std::string clock = r.text("clock");
    if (!clock.empty())
        kind.clockHz = static_cast<std::uint64_t>(kernel::parseQuantity(clock, kernel::Unit::hertz).value_or(0));
    forEachTable(r, "pin", [&](TableReader& t) { kind.pins.push_back(readPin(t)); });
    if (r.flag("adapter", false)) {
        if (kind.chip == nullptr || !kind.pins.empty() || kind.chip->package.size() % 4 != 0 || w != h)
            r.wrong(*table, "\"adapter\" wants a chip whose package has as many pins on each of four sides, a square size, and no pins of its own");
        else
            layRoundAdapter(kind);
    }
    forEachTable(r, "setting", [&](TableReader& t) { kind.settings.push_back(readSetting(t)); });
    forEachTable(r, "control", [&](TableReader& t) { kind.controls.push_back(readControl(t)); });
    forEachTable(r, "inside", [&](TableReader& t) { kind.inner.push_back(readInner(t)); });
    forEachTable(r, "join", [&](TableReader& t) { kind.joins.push_back({t.texts("pins", true), t.text("when")}); });
    for (std::size_t equals = kind.reads.find('='); equals != std::string::npos; equals = kind.reads.find('=', equals + 1)) {
        // Roles are written large, options small.
        const std::string pin = kind.reads.substr(equals + 1, kind.reads.find(',', equals) - equals - 1);
        if (std::isupper(static_cast<unsigned char>(kind.reads[equals - 1])) != 0 && kind.pin(pin) == nullptr)
            r.wrong(*table, fmt::format("\"reads\" names \"{}\", which is no pin of it", pin));
    }
    const toml::table unknown = r.unknown();
    if (r.ok() && !unknown.empty())
        r.wrong(*table, fmt::format("has an unknown key \"{}\"", std::string(unknown.begin()->first.str())));
    if (r.ok() && !kind.behaviour.empty() && !parts::knowsBehaviour(kind.behaviour))
        r.wrong(*table, fmt::format("behaviour \"{}\" is not known", kind.behaviour));
    if (!r.ok())
        return tl::unexpected(r.error());
    if (kind.chip != nullptr) {
        addPullUpSetting(kind);
        addFuseSettings(kind);
    }
    return kind;
}

}  // namespace

const PinKind* PartKind::pin(std::string_view name) const
{
    for (const PinKind& p : pins)
        if (p.name == name)
            return &p;
    for (const PinKind& p : pins)
        if (std::find(p.aliases.begin(), p.aliases.end(), name) != p.aliases.end())
            return &p;
    return nullptr;
}

const SettingKind* PartKind::setting(std::string_view name) const
{
    const auto found = std::find_if(settings.begin(), settings.end(), [&](const SettingKind& s) { return s.name == name; });
    return found == settings.end() ? nullptr : &*found;
}

const ControlKind* PartKind::control(std::string_view name) const
{
    const auto found = std::find_if(controls.begin(), controls.end(), [&](const ControlKind& c) { return c.name == name; });
    return found == controls.end() ? nullptr : &*found;
}

Result<Catalogue> Catalogue::load(const std::string& folder)
{
    namespace fs = std::filesystem;
    Catalogue out;
    std::error_code ec;
    std::vector<fs::path> folders;
    for (const auto& entry : fs::directory_iterator(folder, ec))
        if (entry.is_directory() && fs::exists(entry.path() / "part.toml"))
            folders.push_back(entry.path());
    if (folders.empty())
        return fail(folder, "holds no catalogue; expected folders with part.toml in them", "set BRAMIX_SHARE to the folder that holds catalogue/");
    std::sort(folders.begin(), folders.end());
    for (const fs::path& path : folders) {
        auto kind = readManifest((path / "part.toml").string(), path.string());
        if (!kind)
            return tl::unexpected(kind.error());
        out.kinds_[kind->id] = std::move(*kind);
    }
    out.addBareChips();
    return out;
}

Result<Catalogue> Catalogue::loadInstalled() { return load(shareFolder() + "/catalogue"); }

std::string shareFolder()
{
    if (const char* given = std::getenv("BRAMIX_SHARE"))
        return given;
    std::error_code ec;
    const auto exe = std::filesystem::read_symlink("/proc/self/exe", ec);
    return (exe.parent_path().parent_path() / "share" / "bramix").string();
}

std::string bareKind(const chip::Device& chip) { return "bare-" + chip.id; }

// A chip on nothing: every port pin, with supply, clock and reset ideal. Used for runs without a bench; not drawn.
void Catalogue::addBareChips()
{
    for (const chip::Device* chip : chip::allDevices()) {
        PartKind kind;
        kind.id = bareKind(*chip);
        kind.title = chip->title;
        kind.about = chip->about;
        kind.idStem = "mcu";
        kind.chip = chip;
        kind.clockHz = chip->usualHz;
        kind.listed = false;
        kind.ideal = true;
        kind.options = chip->ideal;
        addPullUpSetting(kind);
        addFuseSettings(kind);
        for (const auto& package : chip->package) {
            PinKind pin;
            pin.name = package.name;
            pin.about = package.functions;
            pin.chipPin = package.name;
            if (pin.about.starts_with("supply") || pin.about.starts_with("analog supply"))
                pin.supplyVolts = chip->supply.usualVolts;
            pin.ground = pin.about == "ground";
            kind.pins.push_back(std::move(pin));
        }
        kinds_[kind.id] = std::move(kind);
    }
}

const PartKind* Catalogue::find(std::string_view id) const
{
    const auto found = kinds_.find(id);
    return found == kinds_.end() ? nullptr : &found->second;
}

std::vector<const PartKind*> Catalogue::search(std::string_view query) const
{
    std::vector<const PartKind*> out;
    for (const PartHit& hit : searchParts(kinds_, query))
        out.push_back(hit.kind);
    return out;
}

}  // namespace bramix::bench
