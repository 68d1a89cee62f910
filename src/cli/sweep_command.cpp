#include "cli/sweep_command.h"

#include <algorithm>

#include <fmt/format.h>

#include "bench/sweep.h"
#include "cli/run_command.h"
#include "cli/run_options.h"

namespace bramix::cli {

namespace {

using kernel::fail;
using kernel::Result;
using kernel::Unit;

// "part.name=rest" in two.
Result<std::pair<std::string, std::string>> split(const char* option, const std::string& text)
{
    const std::size_t equals = text.find('=');
    if (equals == std::string::npos || equals == 0 || equals + 1 == text.size())
        return fail(option, "\"" + text + "\"; expected PART.NAME=…");
    return std::pair(text.substr(0, equals), text.substr(equals + 1));
}

Result<double> value(const char* option, const std::string& text, Unit unit)
{
    auto v = kernel::parseQuantity(text, unit);
    if (!v)
        v.error().where = option;
    return v;
}

Result<bench::SweepTable> work(const SweepOptions& o)
{
    const auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue)
        return tl::unexpected(catalogue.error());
    auto document = bench::loadDocument(o.bench);
    if (!document)
        return tl::unexpected(document.error());
    if (const auto ok = bench::checkDocument(*document, *catalogue, o.bench); !ok)
        return tl::unexpected(ok.error());
    const auto figures = bench::sweepFigures(*document, *catalogue);
    const auto unitOf = [&](const std::string& name) {
        const auto found = std::find_if(figures.begin(), figures.end(), [&](const bench::SweepFigure& f) { return f.text() == name; });
        return found == figures.end() ? Unit::none : found->unit;
    };
    bench::SweepRequest request;
    const auto vary = split("--vary", o.vary);
    if (!vary)
        return tl::unexpected(vary.error());
    const std::size_t dots = vary->second.find("..");
    if (dots == std::string::npos)
        return fail("--vary", "\"" + vary->second + "\"; expected a range, such as 0V..5V");
    const auto from = value("--vary", vary->second.substr(0, dots), unitOf(vary->first));
    const auto to = value("--vary", vary->second.substr(dots + 2), unitOf(vary->first));
    for (const auto* v : {&from, &to})
        if (!*v)
            return tl::unexpected(v->error());
    auto values = bench::sweepValues(*from, *to, o.points < 0 ? 0 : static_cast<std::size_t>(o.points), o.ratio);
    if (!values) {
        values.error().where = values.error().where == "points" ? "--points" : "--vary";
        return tl::unexpected(values.error());
    }
    request.axis = {vary->first, std::move(*values)};
    if (!o.curves.empty()) {
        const auto curves = split("--curves", o.curves);
        if (!curves)
            return tl::unexpected(curves.error());
        request.also = bench::SweepAxis{curves->first, {}};
        for (std::size_t at = 0; at <= curves->second.size();) {
            const std::size_t comma = std::min(curves->second.find(',', at), curves->second.size());
            const auto v = value("--curves", curves->second.substr(at, comma - at), unitOf(curves->first));
            if (!v)
                return tl::unexpected(v.error());
            request.also->values.push_back(*v);
            at = comma + 1;
        }
    }
    for (const std::string& text : o.plot) {
        // A net is any of its pins.
        const auto net = std::find_if(document->nets.begin(), document->nets.end(), [&](const bench::NetItem& n) { return n.name == text && !n.pins.empty(); });
        auto trace = bench::parseTrace(net == document->nets.end() ? text : net->pins.front().text());
        if (trace && net != document->nets.end())
            trace->name = text;
        if (!trace)
            return tl::unexpected(trace.error());
        request.traces.push_back(std::move(*trace));
    }
    for (const std::string& text : o.set) {
        const auto given = split("--set", text);
        if (!given)
            return tl::unexpected(given.error());
        const auto v = value("--set", given->second, unitOf(given->first));
        if (!v)
            return tl::unexpected(v.error());
        request.controls[given->first] = *v;
    }
    for (const std::string& text : o.hold) {
        const auto given = split("--hold", text);
        if (!given)
            return tl::unexpected(given.error());
        const auto ref = bench::parsePinRef(given->first);
        const bench::PartItem* part = ref ? document->part(ref->part) : nullptr;
        const bench::PartKind* kind = part == nullptr ? nullptr : catalogue->find(part->kind);
        const bench::PinKind* pin = kind == nullptr ? nullptr : kind->pin(ref->pin);
        if (pin == nullptr || kind->chip == nullptr || pin->chipPin.empty())
            return fail("--hold", "\"" + given->first + "\" is no pin of a chip; expected PART.PIN=LEVEL");
        constexpr double kHigh = 5, kOhms = 25;  // as an output of these chips
        const std::string& level = given->second;
        circuit::Drive drive{level == "1" ? kHigh : 0, kOhms};
        if (level == "z") {
            drive = circuit::kFloating;
        } else if (level != "0" && level != "1") {
            const auto volts = value("--hold", level, Unit::volt);
            if (!volts)
                return tl::unexpected(volts.error());
            drive.volts = *volts;
        }
        request.drives[{ref->part, pin->name}] = drive;
    }
    auto files = filesOf(o.bench, o.allow);
    if (!files)
        return tl::unexpected(files.error());
    auto sweep = bench::Sweep::begin(std::move(*document), *catalogue, std::move(*files), std::move(request));
    if (!sweep)
        return tl::unexpected(sweep.error());
    for (;;) {
        const auto more = sweep->step();
        if (!more)
            return tl::unexpected(more.error());
        if (!*more)
            return sweep->table();
    }
}

}  // namespace

int sweepCommand(const SweepOptions& options)
{
    const auto table = work(options);
    if (!table) {
        fmt::print(stderr, "{}\n", table.error().text());
        return kUnusableInput;
    }
    if (table->unsolved > 0)
        fmt::print(stderr, "{} points have no solution and are left out\n", table->unsolved);
    if (options.csv == "-") {
        std::fputs(table->csv().c_str(), stdout);
        return kGoalReached;
    }
    if (const auto saved = bench::saveText(options.csv, table->csv()); !saved) {
        fmt::print(stderr, "{}\n", saved.error().text());
        return kBug;
    }
    return kGoalReached;
}

}  // namespace bramix::cli
