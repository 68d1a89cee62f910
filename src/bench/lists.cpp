#include "bench/lists.h"

#include <map>

#include <fmt/format.h>

namespace bramix::bench {

namespace {

// RFC 4180: a field with a comma, a quote or a line break is quoted, and quotes in it are doubled.
std::string field(const std::string& text)
{
    if (text.find_first_of(",\"\r\n") == std::string::npos)
        return text;
    std::string out = "\"";
    for (const char c : text)
        out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

std::string labelled(const Document& document, const PinRef& ref)
{
    const PartItem* part = document.part(ref.part);
    return part == nullptr || part->label.empty() ? std::string() : part->label;
}

std::string aboutPin(const Document& document, const Catalogue& catalogue, const PinRef& ref)
{
    const PartItem* part = document.part(ref.part);
    const PartKind* kind = part == nullptr ? nullptr : catalogue.find(part->kind);
    const PinKind* pin = kind == nullptr ? nullptr : kind->pin(ref.pin);
    return pin == nullptr ? std::string() : pin->about;
}

}  // namespace

std::string wiringList(const Document& document, const Catalogue& catalogue)
{
    std::string out = "number,from,from label,from function,to,to label,to function,colour,net\r\n";
    int number = 0;
    const auto line = [&](const std::string& from, const std::string& fromLabel, const std::string& fromAbout, const PinRef& to, const std::string& color, const std::string& net) {
        out += fmt::format("{},{},{},{},{},{},{},{},{}\r\n", ++number, field(from), field(fromLabel), field(fromAbout), field(to.text()), field(labelled(document, to)),
                           field(aboutPin(document, catalogue, to)), color, field(net));
    };
    for (const WireItem& w : document.wires)
        line(w.from.text(), labelled(document, w.from), aboutPin(document, catalogue, w.from), w.to, w.color, "");
    // Of pins joined by a name, each to the first.
    for (const NetItem& net : document.nets)
        for (std::size_t i = 1; i < net.pins.size(); ++i)
            line(net.pins[0].text(), labelled(document, net.pins[0]), aboutPin(document, catalogue, net.pins[0]), net.pins[i], "", net.name);
    return out;
}

std::string billOfMaterials(const Document& document, const Catalogue& catalogue)
{
    struct Row {
        int count = 0;
        std::string title, settings, parts;
    };
    std::map<std::pair<std::string, std::string>, Row> rows;
    std::vector<const Row*> order;
    for (const PartItem& part : document.parts) {
        const PartKind* kind = catalogue.find(part.kind);
        std::string settings;
        // What tells one from another in a drawer; how it fails or bounces in the simulation does not.
        if (kind != nullptr)
            for (const SettingKind& s : kind->settings) {
                if (s.name == "overload" || s.name == "takes" || s.name == "moving" || s.name == "pull-up" || s.type == "bounce" || s.type == "baud" || s.type == "fuse" || s.name == "firmware" || s.choices.size() == 1)
                    continue;
                const auto given = part.set.find(s.name);
                const std::string value = given != part.set.end() ? given->second : s.standard;
                if (value.empty() || value == "typical")
                    continue;
                settings += (settings.empty() ? "" : "; ") + s.label + " " + value;
            }
        Row& row = rows[{part.kind, settings}];
        if (row.count++ == 0) {
            row.title = kind == nullptr ? part.kind : kind->title;
            row.settings = settings;
            order.push_back(&row);
        }
        row.parts += (row.parts.empty() ? "" : " ") + part.id;
    }
    std::string out = "count,part,settings,names\r\n";
    for (const Row* row : order)
        out += fmt::format("{},{},{},{}\r\n", row->count, field(row->title), field(row->settings), field(row->parts));
    return out;
}

}  // namespace bramix::bench
