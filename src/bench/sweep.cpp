#include "bench/sweep.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "bench/world.h"

namespace bramix::bench {

using kernel::fail;
using kernel::Unit;

namespace {

constexpr std::size_t kMostPoints = 100'001;

// An operating point depends on figures in these units alone.
bool countsAtRest(std::string_view type) { return type == "ohm" || type == "volt" || type == "ampere" || type == "number"; }

Result<SweepFigure> figureNamed(const Document& document, const Catalogue& catalogue, const std::string& text)
{
    const auto figures = sweepFigures(document, catalogue);
    const auto found = std::find_if(figures.begin(), figures.end(), [&](const SweepFigure& f) { return f.text() == text; });
    if (found != figures.end())
        return *found;
    const std::string part = text.substr(0, text.find('.'));
    std::string has;
    for (const SweepFigure& f : figures)
        if (f.part == part)
            has += (has.empty() ? "" : ", ") + f.name;
    if (document.part(part) == nullptr)
        return fail(text, "names no part of this bench; expected \"part.setting\" or \"part.control\"");
    return fail(text, has.empty() ? part + " has no figure that a sweep could move" : "is no figure that a sweep could move; " + part + " has " + has);
}

}  // namespace

std::vector<SweepFigure> sweepFigures(const Document& document, const Catalogue& catalogue)
{
    std::vector<SweepFigure> out;
    for (const PartItem& part : document.parts) {
        const PartKind* kind = catalogue.find(part.kind);
        if (kind == nullptr || kind->chip != nullptr)
            continue;
        for (const SettingKind& s : kind->settings)
            if (countsAtRest(s.type)) {
                const auto given = part.set.find(s.name);
                const Unit unit = kernel::unitNamed(s.type);
                out.push_back({part.id, s.name, unit, false, kernel::parseQuantity(given != part.set.end() ? given->second : s.standard, unit).value_or(0), {}, {}});
            }
        for (const ControlKind& c : kind->controls)
            if (c.type == "dial" && c.unit != "hertz")
                out.push_back({part.id, c.name, kernel::unitNamed(c.unit), true, c.standard, c.least, c.most});
    }
    return out;
}

Result<std::vector<double>> sweepValues(double from, double to, std::size_t points, bool logarithmic)
{
    if (!std::isfinite(from) || !std::isfinite(to) || from == to)
        return fail("range", "expected two different ends");
    if (points < 2 || points > kMostPoints)
        return fail("points", fmt::format("{}; expected 2 to {}", points, kMostPoints));
    if (logarithmic && from * to <= 0)
        return fail("range", "steps of equal ratio need two ends of the same sign, and neither may be 0");
    std::vector<double> out(points);
    const auto last = static_cast<double>(points - 1);
    for (std::size_t i = 0; i < points; ++i) {
        const double share = static_cast<double>(i) / last;
        out[i] = logarithmic ? from * std::pow(to / from, share) : from + (to - from) * share;
    }
    out.back() = to;
    return out;
}

Unit SweepTrace::unit() const { return what == What::voltage ? Unit::volt : what == What::current ? Unit::ampere : Unit::watt; }

std::string SweepTrace::text() const
{
    if (!name.empty())
        return name;
    if (what == What::voltage)
        return against ? pin.text() + ":" + against->text() : pin.text();
    return part + (what == What::current ? ":current" : ":power");
}

Result<SweepTrace> parseTrace(std::string_view text)
{
    SweepTrace out;
    const std::size_t colon = text.find(':');
    const std::string_view second = colon == std::string_view::npos ? std::string_view() : text.substr(colon + 1);
    if (second == "current" || second == "power") {
        out.what = second == "current" ? SweepTrace::What::current : SweepTrace::What::power;
        out.part = text.substr(0, colon);
        return out;
    }
    const auto pin = parsePinRef(text.substr(0, colon));
    if (!pin)
        return fail(std::string(text), "expected a pin (r1.2), two pins (d1.A:d1.K), or a part's current or power (d1:current, d1:power)");
    out.pin = *pin;
    if (colon != std::string_view::npos) {
        const auto against = parsePinRef(second);
        if (!against)
            return fail(std::string(text), "expected a pin, \"current\" or \"power\" behind the colon");
        out.against = *against;
    }
    return out;
}

std::string SweepTable::name(const SweepCurve& curve) const
{
    std::string out = request.traces[curve.trace].text();
    if (curve.also)
        out += fmt::format(", {} {}", request.also->figure, kernel::formatQuantity(*curve.also, alsoUnit));
    return out;
}

std::string SweepTable::csv() const
{
    const auto field = [](const std::string& text, Unit unit) {
        const std::string symbol(kernel::symbol(unit));
        return "\"" + text + (symbol.empty() ? "" : " [" + symbol + "]") + "\"";
    };
    std::string out = field(request.axis.figure, unit);
    for (const SweepCurve& c : curves)
        out += "," + field(name(c), request.traces[c.trace].unit());
    out += '\n';
    for (std::size_t i = 0; i < request.axis.values.size(); ++i) {
        out += fmt::format("{}", request.axis.values[i]);
        for (const SweepCurve& c : curves)
            out += i < c.y.size() && std::isfinite(c.y[i]) ? fmt::format(",{}", c.y[i]) : ",";
        out += '\n';
    }
    return out;
}

Result<Sweep> Sweep::begin(Document document, const Catalogue& catalogue, kernel::FileAccess files, SweepRequest request)
{
    Sweep sweep(std::move(document), catalogue, std::move(files));
    auto axis = figureNamed(sweep.document_, catalogue, request.axis.figure);
    if (!axis)
        return tl::unexpected(axis.error());
    sweep.axis_ = *axis;
    sweep.table_.unit = axis->unit;
    if (request.also) {
        auto also = figureNamed(sweep.document_, catalogue, request.also->figure);
        if (!also)
            return tl::unexpected(also.error());
        if (request.also->figure == request.axis.figure)
            return fail(request.also->figure, "is swept already; the curves need another figure");
        sweep.also_ = *also;
        sweep.table_.alsoUnit = also->unit;
    }
    if (request.axis.values.empty() || (request.also && request.also->values.empty()))
        return fail(request.axis.figure, "expected at least one value");
    if (request.traces.empty())
        return fail("plot", "nothing is to be plotted; expected a pin, or a part's current or power");
    const auto built = World::build(sweep.document_, catalogue, {.folder = sweep.files_.folder, .confined = sweep.files_.confined, .allowed = sweep.files_.allowed, .steady = true}, nullptr);
    if (!built)
        return tl::unexpected(built.error());
    const World& world = **built;
    for (SweepTrace& trace : request.traces) {
        if (trace.what != SweepTrace::What::voltage) {
            const parts::Part* part = world.part(trace.part);
            if (part == nullptr || !part->mainElement())
                return fail(trace.text(), sweep.document_.part(trace.part) == nullptr ? "names no part of this bench" : "has no current of its own to plot");
            continue;
        }
        for (PinRef* pin : {&trace.pin, trace.against ? &*trace.against : nullptr})
            if (pin != nullptr && !world.pin(*pin))
                return fail(pin->text(), "is no pin of this bench");
    }
    sweep.dropGoverned(request);
    for (std::size_t t = 0; t < request.traces.size(); ++t)
        for (std::size_t k = 0; k < (request.also ? request.also->values.size() : 1); ++k)
            sweep.table_.curves.push_back({t, request.also ? std::optional(request.also->values[k]) : std::nullopt, {}});
    sweep.table_.request = std::move(request);
    return sweep;
}

// A setting may say where a live control stands at power-up, as a supply's does; then the sweep moves that control, wherever a hand has put it.
void Sweep::dropGoverned(SweepRequest& request) const
{
    const auto built = [&](const SweepFigure& figure, double value) -> std::unique_ptr<World> {
        Document document = document_;
        document.part(figure.part)->set[figure.name] = fmt::format("{}", value);
        auto world = World::build(document, *catalogue_, {.folder = files_.folder, .confined = files_.confined, .allowed = files_.allowed, .steady = true}, nullptr);
        return world ? std::move(*world) : nullptr;
    };
    const auto drop = [&](const SweepFigure& figure, const std::vector<double>& values) {
        if (figure.control)
            return;
        const auto first = built(figure, values.front()), last = built(figure, values.back());
        if (first == nullptr || last == nullptr)
            return;  // step() tells
        std::erase_if(request.controls, [&](const auto& c) {
            const std::string name = c.first.substr(c.first.find('.') + 1);
            return c.first.starts_with(figure.part + ".") && first->control(figure.part, name) != last->control(figure.part, name);
        });
    };
    drop(axis_, request.axis.values);
    if (also_)
        drop(*also_, request.also->values);
}

Result<bool> Sweep::step()
{
    const SweepRequest& request = table_.request;
    const std::size_t points = request.axis.values.size();
    const std::size_t sets = request.also ? request.also->values.size() : 1;
    if (next_ == points * sets)
        return false;
    const std::size_t set = next_ / points;
    const double value = request.axis.values[next_ % points];
    ++next_;
    const auto give = [&](const SweepFigure& figure, double v) {
        if (!figure.control)
            document_.part(figure.part)->set[figure.name] = fmt::format("{}", v);
    };
    give(axis_, value);
    if (also_)
        give(*also_, request.also->values[set]);
    auto built = World::build(document_, *catalogue_, {.folder = files_.folder, .confined = files_.confined, .allowed = files_.allowed, .steady = true}, nullptr);
    if (!built)
        return tl::unexpected(built.error());
    World& world = **built;
    for (const auto& [name, position] : request.controls)
        (void)world.setControl(name.substr(0, name.find('.')), name.substr(name.find('.') + 1), position);
    const auto turn = [&](const SweepFigure& figure, double v) -> Result<void> {
        if (!figure.control)
            return {};
        if (v < *figure.least || v > *figure.most)
            return fail(figure.text(), fmt::format("{}; expected {} to {}", v, *figure.least, *figure.most));
        return world.setControl(figure.part, figure.name, v);
    };
    if (auto ok = turn(axis_, value); !ok)
        return tl::unexpected(ok.error());
    if (also_)
        if (auto ok = turn(*also_, request.also->values[set]); !ok)
            return tl::unexpected(ok.error());
    world.hold(request.drives);
    const std::vector<Finding> told = world.findings();
    const bool solved = std::none_of(told.begin(), told.end(), [](const Finding& f) { return f.rule == "no-solution" || f.rule == "oscillation"; });
    table_.unsolved += solved ? 0 : 1;
    for (std::size_t t = 0; t < request.traces.size(); ++t) {
        const SweepTrace& trace = request.traces[t];
        double y = std::numeric_limits<double>::quiet_NaN();
        const auto volts = [&](const PinRef& pin) { return world.circuit().voltage(world.circuit().netOf(*world.pin(pin))).value; };
        if (solved && trace.what == SweepTrace::What::voltage)
            y = volts(trace.pin) - (trace.against ? volts(*trace.against) : 0);
        else if (solved)
            y = trace.what == SweepTrace::What::current ? world.circuit().current(*world.part(trace.part)->mainElement()).value : world.circuit().watts(*world.part(trace.part)->mainElement());
        table_.curves[t * sets + set].y.push_back(y);
    }
    return true;
}

}  // namespace bramix::bench
