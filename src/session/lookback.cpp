// Going through the past in a world of its own.
#include "session/lookback.h"

#include <algorithm>

#include <fmt/format.h>

#include "debug/expression.h"
#include "debug/function_map.h"
#include "debug/local_stops.h"
#include "session/debugger.h"
#include "session/expression_follower.h"
#include "session/local_follower.h"
#include "session/local_value.h"

namespace bramix::session {

using bench::World;

namespace {

constexpr int kStepsBetweenLooksAtTheClock = 256;
constexpr std::uint16_t kNoFunction = debug::FunctionMap::kNone;

}  // namespace

struct Lookback::Variable {
    std::string expression;
    ExpressionFollower follower;
    bool shown = false;  // its first value
};

// One chip's way through the past.
struct Lookback::Pass {
    explicit Pass(std::unique_ptr<PastWay> w) : way(std::move(w)) {}

    std::unique_ptr<PastWay> way;
    std::size_t chip = 0;
    bool placed = false;          // it stands somewhere from which it can go on
    bool ended = false;           // nothing more can be found
    Time from{}, at{};            // what is known
    Duration wide{};              // the window for which it was begun
    std::string trouble;

    debug::FunctionMap map;
    struct Open {
        std::uint16_t function = kNoFunction;
        std::uint16_t sp = 0;     // behind the return address
        std::size_t span = 0;
    };
    std::vector<Open> stack;
    std::optional<std::size_t> asleep;  // the span of the sleep in progress
    std::uint16_t spBefore = 0;
    bool functions = false;
    std::map<std::string, FoundSpans> found;     // by variable
    std::vector<Variable> variables;
    struct Local {
        std::string text;
        LocalFollower follower;
    };
    std::vector<Local> locals;

    [[nodiscard]] const World::ChipUnit& unit() const { return way->past().world().chips()[chip]; }
    FoundSpans& functionsFound() { return found[std::string()]; }
    // One of them has more than can be shown; the others go on.
    void giveUp(FoundSpans& one)
    {
        one.tooMany = true;
        ended = ended || std::all_of(found.begin(), found.end(), [](const auto& f) { return f.second.tooMany || !f.second.trouble.empty(); });
    }
    [[nodiscard]] bool gaveUp() const { return std::any_of(found.begin(), found.end(), [](const auto& f) { return f.second.tooMany; }); }
};

Lookback::Lookback(Session& session, const bench::Catalogue& catalogue) : session_(session), catalogue_(catalogue), values_(session, catalogue), closer_(session, catalogue), volts_(session, catalogue), longVolts_(session, catalogue), metered_(session, catalogue), shares_(session, catalogue) {}

void Lookback::wantShares(Time from, Time to, Duration column)
{
    if (column <= Duration{} || column >= chip::avr::Chip::kUsualStretch || (running_ && to >= session_.world().now()))
        shares_.rest();
    else
        shares_.want(from, to, column);
}

void Lookback::wantVolts(const std::vector<bench::PinRef>& pins, Time from, Time to, bool atPresent)
{
    const bool records = running_ && to >= session_.world().now();
    const bool isLong = !atPresent && to - from > kShortVolts;
    std::vector<bench::PinRef> wanted = records ? std::vector<bench::PinRef>() : missing(pins, from, to);
    if (!atPresent)
        (isLong ? volts_ : longVolts_).rest();
    // Zoomed in where the long search has all that came, there is nothing to look for.
    if (!atPresent && !isLong)
        std::erase_if(wanted, [&](const bench::PinRef& pin) { return covers(longVolts_.of(pin), from, to); });
    (atPresent ? metered_ : isLong ? longVolts_ : volts_).want(wanted, from, to);
}

// Those whose own record does not reach over what is wanted.
std::vector<bench::PinRef> Lookback::missing(const std::vector<bench::PinRef>& pins, Time from, Time to) const
{
    std::vector<bench::PinRef> out;
    for (const bench::PinRef& pin : pins)
        if (session_.channelOf(pin) != UINT32_MAX && !covers(session_.waveform(pin), from, to) && std::find(out.begin(), out.end(), pin) == out.end())
            out.push_back(pin);
    return out;
}

bool Lookback::covers(const tape::Waveform* w, Time from, Time to) const
{
    const bool exact = to - from > kShortVolts || (w != nullptr && w->exactFrom() <= from);
    return w != nullptr && exact && !w->empty() && w->knownFrom() <= std::max({from, session_.earliest(), Time{}}) && w->knownTo() >= std::min(to, session_.latest());
}

const tape::Waveform* Lookback::voltage(const bench::PinRef& pin, Time from, Time to) const
{
    const tape::Waveform* own = session_.waveform(pin);
    const bool isLong = to - from > kShortVolts;
    const PastVolts* const first = isLong ? &longVolts_ : &volts_;
    for (const tape::Waveform* w : {own, first->of(pin), longVolts_.of(pin)})
        if (covers(w, from, to))
            return w;
    // Nothing has all of it yet.
    for (const PastVolts* past : {first, isLong ? &volts_ : &longVolts_, &metered_})
        if (const tape::Waveform* found = past->of(pin); found != nullptr && !found->empty() && found->knownFrom() <= to && found->knownTo() >= from && (own == nullptr || own->empty() || own->knownFrom() > found->knownFrom() || own->knownTo() < from))
            return found;
    return own;
}

Lookback::~Lookback() = default;

void Lookback::want(const std::vector<Wish>& wishes, Time from, Time to)
{
    from = std::max(from, Time{});
    to = std::min(to, session_.latest());
    const bool longer = to - from > kLongest;
    std::map<std::string, std::vector<std::string>> byChip;
    std::vector<PastValues::Wish> variables;
    for (const Wish& w : wishes) {
        const bool isVariable = !w.variable.empty();
        const FoundSpans* known = found(w);
        if (isVariable && (longer || (known != nullptr && known->tooMany)))
            variables.emplace_back(w.chip, w.variable);
        if (!isVariable || !longer)
            byChip[w.chip].push_back(w.variable);
    }
    values_.rest();
    closer_.rest();
    if (!variables.empty()) {
        PastValues& shown = values_.coarseFor(from, to) ? closer_ : values_;
        shown.want(variables, from, to);
        shown_ = &shown;
    }
    std::erase_if(passes_, [&](const auto& p) { return !byChip.contains(p.first); });
    const bool anotherCourse = course_ != session_.course();
    course_ = session_.course();
    from_ = from;
    to_ = to;
    for (auto& [chip, names] : byChip) {
        auto& pass = passes_[chip];
        std::sort(names.begin(), names.end());
        names.erase(std::unique(names.begin(), names.end()), names.end());
        const auto same = [&] { return pass->found.size() == names.size() && std::all_of(names.begin(), names.end(), [&](const auto& v) { return pass->found.contains(v); }); };
        // What begins earlier, or so much later that what lies between would be in vain, or is of another course, is looked for anew; so is what was too much in a far wider window.
        constexpr int kNarrower = 4;
        const bool narrower = pass != nullptr && pass->gaveUp() && (to - from) * kNarrower <= pass->wide;
        const bool keeps = !narrower && pass != nullptr && !anotherCourse && same() && from >= pass->from && from <= pass->at && !pass->ended;
        if (keeps)
            continue;
        if (!narrower && pass != nullptr && !anotherCourse && same() && from >= pass->from && to <= pass->at)
            continue;
        pass = std::make_unique<Pass>(pass == nullptr ? std::make_unique<PastWay>(session_, catalogue_) : std::move(pass->way));
        pass->way->again();
        pass->wide = to - from;
        // A little more than is seen, so that moving the view a little finds it there.
        pass->from = pass->at = std::max(Time{}, from - (to - from) / 4);
        for (const std::string& v : names)
            pass->found[v] = {};
        pass->functions = pass->found.contains(std::string());
        if (longer) {
            pass->ended = true;
            pass->trouble = fmt::format("zoom in to {} or less", kernel::formatQuantity(kernel::seconds(kLongest), kernel::Unit::second));
        }
        const auto& chips = session_.world().chips();
        const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == chip; });
        pass->chip = static_cast<std::size_t>(unit - chips.begin());
        if (unit == chips.end() || unit->firmwareFile.empty()) {
            pass->ended = true;
            pass->trouble = unit == chips.end() ? chip + " is no chip of this bench" : chip + " has no firmware";
        }
        for (auto& [variable, found] : pass->found)
            found.trouble = pass->trouble;
    }
}

bool Lookback::busy() const
{
    return values_.busy() || closer_.busy() || volts_.busy() || longVolts_.busy() || metered_.busy() || shares_.busy() || std::any_of(passes_.begin(), passes_.end(), [this](const auto& p) { return !p.second->ended && p.second->at < to_; });
}

Time Lookback::knownTo(const std::string& chip) const
{
    const auto pass = passes_.find(chip);
    return pass == passes_.end() ? Time{} : pass->second->at;
}

const FoundSpans* Lookback::found(const Wish& wish) const
{
    const auto pass = passes_.find(wish.chip);
    if (pass == passes_.end())
        return nullptr;
    const auto found = pass->second->found.find(wish.variable);
    return found == pass->second->found.end() ? nullptr : &found->second;
}

Result<Lookback::Scene> Lookback::sceneAt(const std::string& chip, std::uint32_t code, Time at)
{
    auto past = PastWorld::build(session_, catalogue_);
    if (!past)
        return tl::unexpected(past.error());
    World& world = (*past)->world();
    const auto& chips = world.chips();
    const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == chip; });
    if (unit == chips.end())
        return kernel::fail(chip, "is no chip of this bench");
    // An instruction that is seen to do something began a few cycles before; a peripheral that did it for one, somewhat more.
    constexpr std::int64_t kCyclesBefore = 64;
    const Duration lead = unit->chip->clock().span(kCyclesBefore);
    if (auto ok = (*past)->place(std::max(session_.earliest(), at - std::min(lead, at - Time{}))); !ok)
        return tl::unexpected(ok.error());
    const Program& program = session_.program(chip);
    Scene out;
    const auto index = static_cast<std::size_t>(unit - chips.begin());
    while (unit->chip->now() <= at && !world.faulted()) {
        (*past)->giveDueInputs();
        if (unit->chip->cpu().pc * 2 == code || out.frames.empty()) {
            out.frames = program.frames.unwind(program.symbols, ChipTarget(*unit), registersOf(*unit->chip));
            out.pins = debug::pinTable(*unit->table, *unit->chip);
        }
        const Time before = unit->chip->now();
        world.stepInstruction(index);
        if (unit->chip->now() == before && world.now() >= at)
            break;
    }
    return out;
}

Result<std::vector<std::string>> Lookback::whyAt(const std::vector<bench::PinRef>& pins, Time at)
{
    auto past = PastWorld::build(session_, catalogue_);
    if (!past)
        return tl::unexpected(past.error());
    if (auto ok = (*past)->place(at); !ok)
        return tl::unexpected(ok.error());
    // What was given at that very instant, too.
    (*past)->giveDueInputs();
    (*past)->world().runUntil(at);
    std::vector<std::string> out;
    for (const bench::PinRef& pin : pins)
        out.push_back((*past)->world().why(pin));
    return out;
}

// Puts the world to where the pass begins, or nearer to it; false while it is not there, or where that cannot be reached.
bool Lookback::begin(Pass& pass, std::chrono::steady_clock::time_point until)
{
    const auto give = [&](const std::string& trouble) {
        for (auto& [variable, found] : pass.found)
            if (found.trouble.empty())
                found.trouble = trouble;
        pass.ended = true;
        return false;
    };
    if (pass.from < session_.earliest())
        pass.from = pass.at = session_.earliest();
    // The way may be long, where few moments are remembered.
    const auto there = pass.way->go(pass.from, until);
    if (!there)
        return give(there.error().text());
    if (!*there)
        return false;
    pass.placed = true;

    const Program& program = session_.program(pass.unit().id);
    const debug::Symbols& symbols = program.symbols;
    const ChipTarget target(pass.unit());
    if (pass.functions) {
        FoundSpans& found = pass.functionsFound();
        pass.map = debug::FunctionMap(symbols, pass.unit().chip->cpu().flash(), *pass.unit().table);
        if (pass.map.names.empty())
            found.trouble = "the firmware tells no functions";
        // Those that have called it already.
        const std::vector<debug::Frame> frames = program.frames.unwind(symbols, target, registersOf(*pass.unit().chip));
        const int bytes = pass.unit().table->core.longPc ? 3 : 2;
        for (auto f = frames.rbegin(); f != frames.rend(); ++f) {
            if (f->inlined)
                continue;
            const std::uint16_t number = pass.map.of(f->registers.pc / 2);
            found.spans.push_back({pass.from, pass.from, static_cast<std::uint32_t>(pass.stack.size()), number == kNoFunction ? std::string() : pass.map.names[number]});
            pass.stack.push_back({number, static_cast<std::uint16_t>(f->cfa - bytes), found.spans.size() - 1});
        }
        pass.spBefore = pass.unit().chip->cpu().sp;
    }
    for (auto& [variable, found] : pass.found) {
        if (variable.empty() || !found.trouble.empty())
            continue;
        if (auto name = splitLocal(variable)) {
            if (auto ok = knowsLocal(symbols, *name); !ok) {
                found.trouble = ok.error().text();
                continue;
            }
            pass.locals.push_back({variable, LocalFollower(*name, debug::codeOf(symbols, pass.unit().chip->cpu().flash().size(), name->function))});
            continue;
        }
        ExpressionFollower follower(variable);
        if (const auto ok = follower.begin(session_.program(pass.unit().id), {pass.unit()}); !ok)
            found.trouble = ok.error().text();
        else
            pass.variables.push_back({variable, std::move(follower)});
    }
    return true;
}

// What has become of it all, now that one more instruction has run.
void Lookback::look(Pass& pass)
{
    const chip::avr::Chip& c = *pass.unit().chip;
    const Time now = c.now();
    if (FoundSpans* found = pass.functions ? &pass.functionsFound() : nullptr; found != nullptr && found->trouble.empty() && !found->tooMany) {
        const chip::avr::Cpu& cpu = c.cpu();
        if (pass.asleep && !cpu.sleeping)
            found->spans[*std::exchange(pass.asleep, std::nullopt)].to = now;
        while (pass.stack.size() > 1 && cpu.sp > pass.stack.back().sp) {
            found->spans[pass.stack.back().span].to = now;
            pass.stack.pop_back();
        }
        const std::uint16_t function = pass.map.of(cpu.pc);
        if (pass.stack.size() == 1 && cpu.sp > pass.stack[0].sp) {
            // Out of the outermost that was known. Where it has not only given room on the stack back, its caller has stood below it all the time.
            if (function != pass.stack[0].function && function != kNoFunction) {
                found->spans[pass.stack[0].span].to = now;
                for (Span& s : found->spans)
                    ++s.depth;
                found->spans.insert(found->spans.begin(), {pass.from, now, 0, pass.map.names[function]});
                pass.stack[0] = {function, cpu.sp, 0};
            }
            pass.stack[0].sp = cpu.sp;
        }
        const bool called = cpu.sp < pass.spBefore && (pass.stack.empty() || function != pass.stack.back().function || cpu.pc == 0 || pass.map.of(cpu.pc - 1) != function);
        const bool jumped = !called && (pass.stack.empty() || function != pass.stack.back().function);
        // Who is jumped to returns to where the other one would have.
        std::uint16_t sp = cpu.sp;
        if (jumped && !pass.stack.empty()) {
            found->spans[pass.stack.back().span].to = now;
            sp = pass.stack.back().sp;
            pass.stack.pop_back();
        }
        if (called || jumped) {
            if (found->spans.size() >= kMostSpans) {
                pass.giveUp(*found);
            } else {
                found->spans.push_back({now, now, static_cast<std::uint32_t>(pass.stack.size()), function == kNoFunction ? std::string() : pass.map.names[function]});
                pass.stack.push_back({function, sp, found->spans.size() - 1});
            }
        }
        pass.spBefore = cpu.sp;
        if (cpu.sleeping && !pass.asleep && !found->tooMany) {
            pass.asleep = found->spans.size();
            found->spans.push_back({now, now, static_cast<std::uint32_t>(pass.stack.size()), "asleep", true});
        }
    }
    for (Variable& v : pass.variables)
        lookAtVariable(pass, v);
    for (std::size_t i = 0; i < pass.locals.size(); ++i)
        lookAtLocal(pass, i);
}

void Lookback::lookAtVariable(Pass& pass, Variable& v)
{
    const World::ChipUnit& unit = pass.unit();
    FoundSpans& found = pass.found[v.expression];
    if (found.tooMany)
        return;
    const bool wasOpen = v.follower.open() && v.shown;
    const ExpressionFollower::News news = v.follower.look(session_.program(unit.id), {unit});
    if (news == ExpressionFollower::News::none && (v.shown || !v.follower.open()))
        return;
    Time from = unit.chip->now();
    if (wasOpen)
        found.spans.back().to = from;
    if (news == ExpressionFollower::News::ended)
        return;
    // A value that is half stored is not shown.
    if (wasOpen && v.follower.completes() && found.spans.size() > 1 && from - found.spans.back().from <= unit.chip->clock().span(kHalfStoredCycles)) {
        from = found.spans.back().from;
        found.spans.pop_back();
    }
    if (found.spans.size() >= kMostSpans)
        return pass.giveUp(found);
    v.shown = true;
    const ChipTarget target(unit);
    found.spans.push_back({from, unit.chip->now(), 0, debug::Evaluator(session_.program(unit.id).symbols, target, nullptr).format(v.follower.value(), debug::Radix::natural)});
}

void Lookback::lookAtLocal(Pass& pass, std::size_t index)
{
    Pass::Local& l = pass.locals[index];
    const World::ChipUnit& unit = pass.unit();
    const Time now = unit.chip->now();
    FoundSpans& found = pass.found[l.text];
    if (found.tooMany)
        return;
    const bool wasOpen = l.follower.open();
    const LocalFollower::News news = l.follower.look(session_.program(unit.id), unit);
    l.follower.stand(unit);
    if (news == LocalFollower::News::none)
        return;
    if (wasOpen)
        found.spans.back().to = now;
    if (news == LocalFollower::News::ended)
        return;
    const debug::Value& value = l.follower.value();
    const bool half = l.follower.goesOn() && value.bytes.size() > 1 && found.spans.back().from + unit.chip->clock().span(kHalfStoredCycles) >= now;
    const Time from = half ? found.spans.back().from : now;
    if (half)
        found.spans.pop_back();
    if (found.spans.size() >= kMostSpans)
        return pass.giveUp(found);
    const ChipTarget target(unit);
    found.spans.push_back({from, now, 0, debug::Evaluator(session_.program(unit.id).symbols, target, nullptr).format(value, debug::Radix::natural)});
}

void Lookback::step(Pass& pass)
{
    PastWorld& past = pass.way->past();
    World& world = past.world();
    if (past.nextInput() <= world.now()) {
        past.giveDueInputs();
        look(pass);  // what was written by hand
    }
    const Time stood = pass.unit().chip->now();
    // Time stands where the next input comes, or where the run itself stands and one may come still.
    world.stepInstruction(pass.chip, std::min(past.nextInput(), to_));
    look(pass);
    pass.at = std::max(pass.at, pass.unit().chip->now());
    pass.ended = pass.ended || world.faulted();
    // A chip in reset stands, while time goes on.
    if (pass.unit().chip->now() == stood)
        pass.at = std::max(pass.at, std::min(world.now(), to_));
}

// Spans that go on reach as far as has been looked.
void Lookback::close(Pass& pass)
{
    if (pass.functions && !pass.functionsFound().tooMany)
        for (const Pass::Open& open : pass.stack)
            pass.functionsFound().spans[open.span].to = pass.at;
    if (pass.asleep && !pass.functionsFound().tooMany)
        pass.functionsFound().spans[*pass.asleep].to = pass.at;
    for (const Variable& v : pass.variables)
        if (v.follower.open() && v.shown && !pass.found[v.expression].tooMany)
            pass.found[v.expression].spans.back().to = pass.at;
    for (const Pass::Local& l : pass.locals)
        if (l.follower.open() && !pass.found[l.text].tooMany)
            pass.found[l.text].spans.back().to = pass.at;
}

bool Lookback::work(std::chrono::steady_clock::duration budget)
{
    // All that have something to do share the time.
    const auto goesOn = [this](const Pass& pass) { return !pass.ended && pass.at < to_; };
    auto busy = std::count_if(passes_.begin(), passes_.end(), [&](const auto& p) { return goesOn(*p.second); });
    for (const bool one : {values_.busy(), closer_.busy(), volts_.busy(), longVolts_.busy(), metered_.busy(), shares_.busy()})
        busy += one ? 1 : 0;
    const auto share = budget / std::max<std::ptrdiff_t>(busy, 1);
    bool changed = values_.work(share);
    changed = closer_.work(share) || changed;
    changed = volts_.work(share) || changed;
    changed = longVolts_.work(share) || changed;
    changed = metered_.work(share) || changed;
    changed = shares_.work(share) || changed;
    for (auto& [chip, pass] : passes_) {
        if (!goesOn(*pass))
            continue;
        changed = true;
        const auto until = std::chrono::steady_clock::now() + share;
        if (!pass->placed && !begin(*pass, until))
            continue;
        if (pass->variables.empty() && pass->locals.empty() && (!pass->functions || !pass->functionsFound().trouble.empty())) {
            pass->ended = true;
            continue;
        }
        if (pass->functions || !pass->variables.empty() || !pass->locals.empty())
            look(*pass);
        do
            for (int i = 0; i < kStepsBetweenLooksAtTheClock && pass->at < to_ && !pass->ended; ++i)
                step(*pass);
        while (pass->at < to_ && !pass->ended && std::chrono::steady_clock::now() < until);
        close(*pass);
        // What lies far behind the window is not wanted any more.
        for (auto& [variable, found] : pass->found)
            if (found.spans.size() > kMostSpans / 2 && pass->from < from_ - (to_ - from_)) {
                const Time keep = from_ - (to_ - from_);
                std::vector<std::size_t> moved(found.spans.size(), 0);
                std::vector<Span> kept;
                for (std::size_t i = 0; i < found.spans.size(); ++i)
                    if (found.spans[i].to >= keep) {
                        moved[i] = kept.size();
                        kept.push_back(std::move(found.spans[i]));
                    }
                if (variable.empty()) {
                    for (Pass::Open& open : pass->stack)
                        open.span = moved[open.span];
                    if (pass->asleep)
                        pass->asleep = moved[*pass->asleep];
                }
                found.spans = std::move(kept);
                pass->from = std::max(pass->from, keep);
            }
    }
    return changed;
}

}  // namespace bramix::session
