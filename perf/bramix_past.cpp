// How long the way into the past is: runs a bench for so many minutes, then goes to random moments of it and steps back there; and what lanes of functions and of a variable take at any
// length, "CHIP EXPRESSION".
//
//   bramix_past BENCH.toml [MINUTES] [MOMENTS] [MEGABYTES] [bare|tape|both|cost|"CHIP EXPRESSION"|"volts PART.PIN"] [PART.CONTROL]
//
// With "cost" it tells what recording costs, by pieces of so many minutes. With another of the words it only runs, pressing that control now and then, with nothing kept, with the tape, or with tape and history: to count instructions of. Otherwise it
// prints what the run took with and without a tape and a history, how many moments are remembered in how much memory, and the times of the ways.
#include <algorithm>
#include <cstdlib>
#include <ctime>
#include <filesystem>
#include <vector>

#include <fmt/format.h>

#include "kernel/random.h"
#include "session/debugger/debugger.h"
#include "session/lanes/function_lane.h"
#include "session/profile/function_times.h"

using namespace bramix;
using Clock = std::chrono::steady_clock;

namespace {

double since(Clock::time_point t) { return std::chrono::duration<double>(Clock::now() - t).count(); }

std::unique_ptr<session::Session> open(const bench::Document& document, const bench::Catalogue& catalogue, session::SessionOptions options)
{
    auto s = session::Session::open(document, catalogue, options);
    if (!s) {
        fmt::print(stderr, "{}\n", s.error().text());
        std::exit(2);
    }
    return std::move(*s);
}

// As a window runs it at full speed, in slices.
double run(session::Session& s, kernel::Time until, const std::string& control = {}, kernel::Duration slice = std::chrono::milliseconds(1))
{
    const std::size_t point = control.find('.');
    bool on = false;
    const auto began = Clock::now();
    constexpr auto kWall = std::chrono::milliseconds(4);
    while (s.world().now() < until) {
        const auto from = Clock::now();
        // Pressed and let go every half second.
        constexpr auto kHalf = std::chrono::milliseconds(500);
        const auto next = kernel::Time(kHalf * ((s.world().now() - kernel::Time{}) / kHalf + 1));
        s.advance(std::min({until, s.world().now() + slice, control.empty() ? until : next}));
        if (!control.empty() && s.world().now() >= next && !s.setControl(control.substr(0, point), control.substr(point + 1), (on = !on) ? 1 : 0)) {
            fmt::print(stderr, "{} is no control of this bench\n", control);
            std::exit(2);
        }
        const auto took = Clock::now() - from;
        slice = took > kWall ? slice / 2 : took < kWall / 2 ? std::min<kernel::Duration>(slice * 2, std::chrono::milliseconds(200)) : slice;
    }
    return since(began);
}

void tell(const char* what, std::vector<double> times)
{
    std::sort(times.begin(), times.end());
    double sum = 0;
    for (const double t : times)
        sum += t;
    fmt::print("{:<28} mean {:6.1f} ms   19 of 20 within {:6.1f} ms   longest {:6.1f} ms   of {}\n", what, sum / static_cast<double>(times.size()) * 1e3, times[times.size() * 19 / 20] * 1e3, times.back() * 1e3, times.size());
}

// A lane of functions of windows of each length, and how long a variable is looked for.
void lookAtLanes(session::Session& s, const bench::Catalogue& catalogue, const std::string& chip, const std::string& variable, kernel::Time end)
{
    constexpr std::size_t kColumns = 1100;
    session::Lookback look(s, catalogue);
    for (kernel::Duration span = end - kernel::Time{}; chip != "volts" && session::showsShares({kernel::Time{}, kernel::Time{} + span, kColumns}); span /= 4) {
        std::vector<double> times;
        std::size_t shares = 0;
        for (int i = 0; i < 30; ++i) {
            const kernel::Time from = kernel::Time{} + (end - kernel::Time{} - span) / 30 * i;
            session::ReadLane lane;
            const auto began = Clock::now();
            session::readFunctions(s, look, chip, {from, from + span, kColumns}, lane);
            times.push_back(since(began));
            shares += lane.shares.size();
        }
        tell(fmt::format("functions, {:.4g} s", kernel::seconds(span)).c_str(), times);
        if (shares == 0)
            fmt::print("nothing is known\n");
    }
    fmt::print("shares of functions          {} bytes\n", s.functionTimes().bytes());
    const auto began = Clock::now();
    if (chip == "volts") {
        const auto pin = bench::parsePinRef(variable);
        look.wantVolts({pin ? *pin : bench::PinRef{}}, kernel::Time{}, end, false);
        while (look.busy())
            (void)look.work(std::chrono::milliseconds(50));
        const tape::Waveform* w = pin ? look.voltage(*pin, kernel::Time{}, end) : nullptr;
        fmt::print("{:<28} {:.1f} s, {} points\n", variable + " all the time", since(began), w == nullptr ? 0 : w->size());
        return;
    }
    look.want({{chip, variable}}, kernel::Time{}, end);
    while (look.busy())
        (void)look.work(std::chrono::milliseconds(50));
    const session::PastValues::Found* found = look.values().of({chip, variable});
    std::uint64_t changes = 0;
    if (found != nullptr)
        for (const auto& e : found->values.entries())
            changes += e.changes;
    fmt::print("{:<28} {:.1f} s, {} values{}\n", variable + " all the time", since(began), changes, found == nullptr || found->trouble.empty() ? "" : ": " + found->trouble);
}

// Two sessions of the bench turn by turn, one that keeps nothing and one that records, a few milliseconds each, by the thread's own time: so that what disturbs the machine falls on both, and the
// best of many is undisturbed.
void tellCost(session::Session& bare, session::Session& tape, kernel::Duration piece, const std::string& control)
{
    constexpr int kTimes = 600;
    const auto now = [] {
        timespec t{};
        clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
        return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_nsec) * 1e-9;
    };
    std::vector<double> times[2], ratios;
    for (int i = 0; i < kTimes; ++i) {
        for (session::Session* s : {&bare, &tape}) {
            const double began = now();
            (void)run(*s, s->world().now() + piece, control, std::chrono::milliseconds(200));
            times[s == &tape ? 1 : 0].push_back(now() - began);
        }
        ratios.push_back(times[1].back() / times[0].back());
    }
    for (auto* t : {&times[0], &times[1], &ratios})
        std::sort(t->begin(), t->end());
    for (const int percent : {0, 2, 5, 10}) {
        const auto i = static_cast<std::size_t>(kTimes * percent / 100);
        fmt::print("{:>3} % of the pieces took at most {:.3f} ms with nothing kept, {:.3f} ms recorded: {:+.1f} %\n", percent, times[0][i] * 1e3, times[1][i] * 1e3, (times[1][i] / times[0][i] - 1) * 100);
    }
    fmt::print("of neighbouring pieces       {:+.1f} % in the median, half of them {:+.1f} to {:+.1f} %\n", (ratios[kTimes / 2] - 1) * 100, (ratios[kTimes / 4] - 1) * 100, (ratios[kTimes * 3 / 4] - 1) * 100);
}

}  // namespace

int main(int argc, char** argv)
{
    if (argc < 2) {
        fmt::print(stderr, "bramix_past: expected BENCH.toml [MINUTES] [MOMENTS] [MEGABYTES]\n");
        return 2;
    }
    const double minutes = argc > 2 ? std::atof(argv[2]) : 10;
    const int moments = argc > 3 ? std::atoi(argv[3]) : 1000;
    const auto bound = static_cast<std::size_t>(argc > 4 ? std::atoi(argv[4]) : 384) << 20U;
    const auto catalogue = bench::Catalogue::loadInstalled();
    auto document = bench::loadDocument(argv[1]);
    if (!catalogue || !document) {
        fmt::print(stderr, "{}\n", !catalogue ? catalogue.error().text() : document.error().text());
        return 2;
    }
    const auto end = kernel::Time(kernel::Duration(static_cast<std::int64_t>(minutes * 60e12)));
    session::SessionOptions options;
    options.folder = std::filesystem::path(argv[1]).parent_path().string();
    options.tapeBytes = 256U << 20U;

    const std::string only = argc > 5 ? argv[5] : "";
    const bool lanes = only.find(' ') != std::string::npos;
    if (only == "cost") {
        auto without = options, with = options;
        without.record = false;
        without.historyBytes = with.historyBytes = 0;
        tellCost(*open(*document, *catalogue, without), *open(*document, *catalogue, with), kernel::Duration(static_cast<std::int64_t>(minutes * 60e12)), argc > 6 ? argv[6] : "");
        return 0;
    }
    if (!only.empty() && !lanes) {
        options.record = only != "bare";
        options.historyBytes = only == "both" ? bound : 0;
        (void)run(*open(*document, *catalogue, options), end, argc > 6 ? argv[6] : "");
        return 0;
    }
    // Turn by turn, so that the machine's good and bad minutes fall on all of them alike.
    const auto share = kernel::Time((end - kernel::Time{}) / 10);
    std::vector<double> bare, tape, both;
    for (int i = 0; i < (lanes ? 0 : 5); ++i)
        for (auto& [times, record, history] : {std::tuple<std::vector<double>&, bool, bool>{bare, false, false}, {tape, true, false}, {both, true, true}}) {
            auto o = options;
            o.record = record;
            o.historyBytes = history ? bound : 0;
            const auto s = open(*document, *catalogue, o);
            times.push_back(run(*s, share));
        }
    const auto best = [](const std::vector<double>& v) { return *std::min_element(v.begin(), v.end()); };
    if (!lanes)
        fmt::print("{:.0f} s of the bench            {:.2f} s with nothing kept, {:.2f} s with the tape ({:+.1f} %), {:.2f} s with tape and history ({:+.1f} %); best of 5\n", kernel::seconds(share), best(bare), best(tape),
                   (best(tape) / best(bare) - 1) * 100, best(both), (best(both) / best(bare) - 1) * 100);

    options.historyBytes = bound;
    const auto s = open(*document, *catalogue, options);
    const double took = run(*s, end);
    std::size_t edges = 0;
    for (tape::ChannelId c = 0; c < s->tape().channelCount(); ++c)
        edges += s->tape().count(c);
    fmt::print("{:.0f} minutes                   {:.1f} s, {} moments in {} MB, {} edges in {} MB\n", minutes, took, s->history().moments().size(), s->history().bytes() >> 20U, edges, s->tape().bytes() >> 20U);
    if (lanes) {
        lookAtLanes(*s, *catalogue, only.substr(0, only.find(' ')), only.substr(only.find(' ') + 1), end);
        return 0;
    }
    session::Debugger debugger(*s);
    kernel::Random random(1);
    std::vector<double> going, stepping;
    for (int i = 0; i < moments; ++i) {
        const auto began = Clock::now();
        if (!s->goTo(kernel::Time(kernel::Duration(static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>((end - kernel::Time{}).count()))))))) {
            fmt::print(stderr, "a moment could not be reached\n");
            return 1;
        }
        going.push_back(since(began));
        if (i % 5 != 0)
            continue;
        const auto stepped = Clock::now();
        if (debugger.back(session::Step::over))
            stepping.push_back(since(stepped));
    }
    tell("going to a random moment", going);
    if (!stepping.empty())
        tell("stepping back over a line", stepping);
    return 0;
}
