#include "cli/pages_command.h"

#include <fmt/format.h>

#include "bench/document.h"
#include "cli/run_command.h"

namespace bramix::cli {

namespace {

// A cell of a table.
std::string cell(std::string text)
{
    for (std::size_t at = 0; (at = text.find('|', at)) != std::string::npos; at += 2)
        text.replace(at, 1, "\\|");
    return text;
}

std::string joined(const std::vector<std::string>& words, const char* between)
{
    std::string out;
    for (const std::string& w : words)
        out += (out.empty() ? "" : between) + w;
    return out;
}

std::string range(const bench::ControlKind& c)
{
    if (c.type == "dial")
        return fmt::format("{} to {}{}", c.least, c.most, c.logarithmic ? ", by decades" : "");
    return c.type == "choice" ? joined(c.choices, ", ") : fmt::format("0 {}, 1 {}", c.low, c.high);
}

}  // namespace

std::string partPage(const bench::PartKind& kind)
{
    std::string out = fmt::format("# {}\n\n`{}`: {}.\n", kind.title, kind.id, kind.about);
    if (!kind.notes.empty())
        out += "\n" + kind.notes + (kind.notes.back() == '\n' ? "" : "\n");
    out += "\n| pin | what it is |\n| --- | --- |\n";
    for (const bench::PinKind& pin : kind.pins)
        out += fmt::format("| `{}` | {}{} |\n", cell(pin.name), cell(pin.about), pin.aliases.empty() ? "" : fmt::format("{}also {}", pin.about.empty() ? "" : "; ", cell(joined(pin.aliases, ", "))));
    if (!kind.settings.empty()) {
        out += "\n| setting | what it is | standard | values |\n| --- | --- | --- | --- |\n";
        for (const bench::SettingKind& s : kind.settings)
            out += fmt::format("| `{}` | {}{} | {} | {} |\n", s.name, cell(s.label), s.about.empty() ? "" : ": " + cell(s.about), s.standard.empty() ? "none" : "`" + s.standard + "`",
                               s.choices.empty() ? s.type : joined(s.choices, ", "));
    }
    if (!kind.controls.empty()) {
        out += "\n| live control | what it is | values | at power-up |\n| --- | --- | --- | --- |\n";
        for (const bench::ControlKind& c : kind.controls)
            out += fmt::format("| `{}` | {} | {} | {} |\n", cell(c.name), cell(c.label), range(c), c.standard);
    }
    return out;
}

int pagesCommand(const std::string& folder)
{
    const auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue) {
        fmt::print(stderr, "{}\n", catalogue.error().text());
        return kUnusableInput;
    }
    std::string index = "# Parts\n\n| part | what it is |\n| --- | --- |\n";
    for (const auto& [id, kind] : catalogue->kinds()) {
        if (!kind.listed)
            continue;
        index += fmt::format("| [{}]({}.md) | {} |\n", kind.title, id, cell(kind.about));
        if (const auto saved = bench::saveText(folder + "/" + id + ".md", partPage(kind)); !saved) {
            fmt::print(stderr, "{}\n", saved.error().text());
            return kUnusableInput;
        }
    }
    if (const auto saved = bench::saveText(folder + "/README.md", index); !saved) {
        fmt::print(stderr, "{}\n", saved.error().text());
        return kUnusableInput;
    }
    return kGoalReached;
}

}  // namespace bramix::cli
