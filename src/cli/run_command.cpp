#include "cli/run_command.h"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <set>
#include <thread>

#include <unistd.h>

#include <fmt/format.h>
#include <re2/re2.h>
#include <nlohmann/json.hpp>
#include <spdlog/spdlog.h>

#include "cli/decode_output.h"
#include "cli/energy_meter.h"
#include "cli/part_report.h"
#include "cli/run_options.h"
#include "cli/trace_output.h"
#include "kernel/units.h"
#include "link/endpoint.h"
#include "link/listener.h"
#include "session/gdb/gdb_server.h"
#include "session/session.h"

namespace bramix::cli {

using bench::Document;
using kernel::Duration;
using kernel::fail;
using kernel::Result;
using kernel::Time;
using session::Session;

namespace {

std::atomic<bool> gInterrupted{false};  // set by the signal handler, the one thing that reaches in from outside

// The first ends the run in good order; a second one ends the program, whatever it does.
void onSignal(int number)
{
    if (gInterrupted.exchange(true))
        ::_exit(128 + number);
}

// A line longer than this is matched by its end only: matching is done again at every byte.
constexpr std::size_t kPastBytes = 256U << 20U;  // with a debugger, for going back
constexpr std::size_t kRecordedBytes = 1U << 30U;  // of the tape of --record: some 900 million edges
constexpr std::size_t kLongestLine = 1000;
constexpr std::size_t kMostUnsent = 1U << 16U;  // bytes from outside that wait for their turn on a line

struct UartPort {
    std::string name;
    std::unique_ptr<link::Endpoint> endpoint;
    std::string line;     // the present line, for matching
    std::string pending;  // output not yet written
};

struct Scheduled {
    Duration at{};
    std::size_t order = 0;
    bool isSend = false;
    std::size_t uart = 0;
    std::string part, control;
    double value = 0;
    std::string text;
};

// One run, from its options to its report.
class Run {
public:
    explicit Run(const RunOptions& options) : options_(options) {}

    Result<void> prepare();
    void tellFindings();
    int execute();

private:
    Result<void> readGoals();
    Result<void> openSession();
    Result<void> openSerial();
    Result<void> schedule();
    Result<void> chooseSignals();
    Result<void> openTrace();
    [[nodiscard]] Result<double> controlValue(const std::string& part, const std::string& control, const std::string& text) const;

    void received(const session::SerialByte& byte);
    void applyDue();
    void readInputs();
    void writeOutputs();
    void keepPace();
    [[nodiscard]] Time sliceEnd() const;
    bool serveDebugger(bool& attached);
    int finish(const std::string& stop, const std::string& detail, int code);
    Result<void> writeReport(const std::string& stop, const std::string& detail);

    const RunOptions& options_;
    bench::Catalogue catalogue_;
    Document document_;
    std::set<std::string> chosen_;  // parts whose firmware was given on the command line
    DecodeOutput decoders_;  // outlives the session that they hear
    std::unique_ptr<Session> session_;
    std::unique_ptr<link::Listener> listener_;       // of --gdb
    std::unique_ptr<session::Debugger> debugger_;
    std::unique_ptr<session::GdbServer> gdb_;
    std::vector<UartPort> ports_;
    std::unique_ptr<TraceOutput> trace_;
    std::vector<bench::NetId> vcdNets_;
    std::vector<std::string> vcdNames_;
    std::vector<Scheduled> scheduled_;
    std::size_t nextScheduled_ = 0;
    std::unique_ptr<re2::RE2> pattern_;  // in linear time, whatever the pattern
    bool matched_ = false;
    Time end_ = kernel::kNever;
    std::string endDetail_ = "time";
    std::optional<EnergyMeter> energy_;  // of a run with a report
    double pace_ = 0;  // 0: as fast as possible
    std::chrono::steady_clock::time_point began_;
};

Result<void> Run::prepare()
{
    if (auto ok = readGoals(); !ok)
        return ok;
    if (auto ok = openSession(); !ok)
        return ok;
    if (auto ok = openSerial(); !ok)
        return ok;
    if (auto ok = schedule(); !ok)
        return ok;
    if (auto ok = chooseSignals(); !ok)
        return ok;
    if (auto ok = openTrace(); !ok)
        return ok;
    const bool serialThere = std::any_of(options_.serial.begin(), options_.serial.end(), [](const std::string& s) { return s.ends_with("=-"); });
    if (options_.decoded == "-" && (serialThere || (!options_.chip.empty() && options_.serial.empty())))
        return fail("--decoded", "standard output carries the serial line already; expected a file, or --serial UART=none");
    // Outputs last: where anything is wrong, files are as they were.
    if (auto ok = decoders_.open(*session_, options_.decode, options_.decoded, !options_.chip.empty()); !ok)
        return ok;
    return options_.vcd.empty() ? Result<void>() : session_->startVcd(options_.vcd, vcdNets_, vcdNames_);
}

// Once nothing stands in the way of the run any more: they would bury the line that says what does.
void Run::tellFindings()
{
    const auto tell = [](const bench::Finding& f) {
        if (!f.muted.empty())
            return spdlog::info("{:.9f} s: {} [{}, muted: {}]", kernel::seconds(f.time), f.message, f.rule, f.muted);
        const auto level = f.severity == bench::Severity::error ? spdlog::level::err : f.severity == bench::Severity::warning ? spdlog::level::warn : spdlog::level::info;
        spdlog::log(level, "{:.9f} s{}{}: {} [{}]", kernel::seconds(f.time), f.source.empty() ? "" : ", ", f.source, f.message, f.rule);
    };
    for (const bench::Finding& f : session_->findings())
        tell(f);
    session_->onFinding = tell;
}

Result<void> Run::openTrace()
{
    if (options_.trace.empty() != options_.traceFile.empty())
        return fail(options_.trace.empty() ? "--trace-file" : "--trace", options_.trace.empty() ? "says where traces go; expected --trace NET|PIN|PART:current too" : "says what is traced; expected --trace-file FILE too");
    if (options_.trace.empty())
        return {};
    auto trace = TraceOutput::begin(session_->world(), options_.trace, options_.traceFile);
    if (!trace)
        return tl::unexpected(trace.error());
    trace_ = std::move(*trace);
    return {};
}

Result<void> Run::readGoals()
{
    const auto at = [](const char* option, auto result) {
        if (!result)
            result.error().where = option;
        return result;
    };
    if (!options_.forTime.empty()) {
        const auto span = at("--for", kernel::parseDuration(options_.forTime));
        if (!span)
            return tl::unexpected(span.error());
        end_ = Time(*span);
    }
    if (!options_.untilSerial.empty()) {
        // Byte by byte: what a chip sends need not be text.
        re2::RE2::Options how(re2::RE2::Latin1);
        how.set_log_errors(false);
        pattern_ = std::make_unique<re2::RE2>(options_.untilSerial, how);
        if (!pattern_->ok())
            return fail("--until-serial", fmt::format("\"{}\" is not a regular expression: {}", options_.untilSerial, pattern_->error()));
    }
    if (options_.pace == "real") {
        pace_ = 1;
    } else if (options_.pace != "max") {
        const auto factor = kernel::parseQuantity(options_.pace, kernel::Unit::none);
        if (!factor || *factor <= 0)
            return fail("--pace", fmt::format("\"{}\"; expected max, real, or a factor such as 0.5", options_.pace));
        pace_ = *factor;
    }
    if (!options_.fuses.empty() && options_.chip.empty())
        return fail("--fuse", "is for a bare chip; on a bench each fuse is a setting of the board");
    if (!options_.gdb.empty()) {
        char* end = nullptr;
        const unsigned long port = std::strtoul(options_.gdb.c_str(), &end, 10);
        if (*end != 0 || port > 65535)
            return fail("--gdb", fmt::format("\"{}\" is not a port; expected a number to 65535, or 0 for any that is free", options_.gdb));
        auto listener = link::Listener::open(static_cast<std::uint16_t>(port));
        if (!listener)
            return tl::unexpected(listener.error());
        listener_ = std::move(*listener);
    }
    return {};
}

Result<void> Run::openSession()
{
    auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue)
        return tl::unexpected(catalogue.error());
    catalogue_ = std::move(*catalogue);
    if (options_.bench.empty() == options_.chip.empty())
        return fail("run", options_.bench.empty() ? "nothing to run; expected a bench file, or --chip" : "both a bench and --chip; expected one of them");
    if (!options_.bench.empty()) {
        std::vector<std::string> warnings;
        auto document = bench::loadDocument(options_.bench, &warnings);
        if (!document)
            return tl::unexpected(document.error());
        for (const std::string& w : warnings)
            spdlog::warn("{}", w);
        if (!options_.clock.empty())
            return fail("--clock", "is for a bare chip; on a bench the clock is a setting of the board");
        if (auto ok = bench::checkDocument(*document, catalogue_, options_.bench); !ok)
            return ok;
        document_ = std::move(*document);
    } else {
        const chip::Device* chip = chip::findDevice(options_.chip);
        if (chip == nullptr)
            return fail("--chip", fmt::format("\"{}\" is not known", options_.chip), "bramix-cli list chips shows what is");
        bench::PartItem mcu;
        mcu.id = "mcu";
        mcu.kind = bench::bareKind(*chip);
        if (!options_.clock.empty()) {
            auto hz = kernel::parseQuantity(options_.clock, kernel::Unit::hertz);
            if (!hz || *hz < 1 || *hz > 1e9)
                return fail("--clock", hz ? fmt::format("\"{}\" is out of range; expected 1Hz to 1GHz", options_.clock) : hz.error().what);
            mcu.set["clock"] = fmt::format("{}", static_cast<std::uint64_t>(*hz + 0.5));
        }
        chip::OptionBytes fuses = chip->ideal;
        for (const std::string& option : options_.fuses) {
            const std::size_t equals = option.find('=');
            if (equals == std::string::npos)
                return fail("--fuse", fmt::format("\"{}\"; expected NAME=VALUE, as in BOOTRST=0", option));
            if (auto ok = chip::setOption(*chip, fuses, option.substr(0, equals), option.substr(equals + 1)); !ok)
                return fail("--fuse", fmt::format("\"{}\": {}", option, ok.error().what));
        }
        for (const chip::OptionField& field : chip->options)
            if (const unsigned value = chip::optionValue(*chip, fuses, field.name); value != chip::optionValue(*chip, chip->ideal, field.name))
                mcu.set[field.name] = fmt::format("{}", value);
        document_.title = chip->title;
        document_.parts.push_back(mcu);
    }
    for (const std::string& option : options_.firmware) {
        const std::size_t equals = option.find('=');
        bench::PartItem* target = nullptr;
        std::string file = option;
        if (equals != std::string::npos && document_.part(option.substr(0, equals)) != nullptr) {
            target = document_.part(option.substr(0, equals));
            file = option.substr(equals + 1);
        } else {
            for (bench::PartItem& p : document_.parts)
                if (catalogue_.find(p.kind)->chip != nullptr) {
                    if (target != nullptr)
                        return fail("--firmware", "the bench has several chips; expected PART=FILE");
                    target = &p;
                }
        }
        if (target == nullptr || catalogue_.find(target->kind)->chip == nullptr)
            return fail("--firmware", fmt::format("\"{}\": there is no chip to run it", option));
        target->firmware = std::filesystem::absolute(file).string();
        chosen_.insert(target->id);
        // Errors shall name the file as it was given.
        if (auto read = chip::loadFirmware(file, *catalogue_.find(target->kind)->chip); !read)
            return tl::unexpected(read.error());
    }
    if (!options_.chip.empty() && options_.firmware.empty())
        return fail("run", "a bare chip has nothing to do; expected --firmware FILE");
    session::SessionOptions sessionOptions;
    sessionOptions.seed = options_.seed;
    if (!options_.bench.empty()) {
        auto files = filesOf(options_.bench, options_.allow);
        if (!files)
            return tl::unexpected(files.error());
        sessionOptions.folder = std::move(files->folder);
        sessionOptions.confined = files->confined;
        sessionOptions.allowed = std::move(files->allowed);
    }
    for (const bench::PartItem& part : document_.parts)
        if (chosen_.contains(part.id))
            sessionOptions.allowed.push_back(part.firmware);
    sessionOptions.interrupt = &gInterrupted;
    sessionOptions.historyBytes = listener_ != nullptr ? kPastBytes : 0;
    if (!options_.record.empty())
        sessionOptions.tapeBytes = kRecordedBytes;
    auto opened = Session::open(document_, catalogue_, sessionOptions);
    if (!opened)
        return tl::unexpected(opened.error());
    session_ = std::move(*opened);
    session_->world().stopWhenHalted(options_.untilHalt);
    session_->alsoWatch(options_.decode);
    if (listener_ != nullptr) {
        if (session_->world().chips().empty())
            return fail("--gdb", "there is no chip on this bench to be debugged");
        debugger_ = std::make_unique<session::Debugger>(*session_);
        gdb_ = std::make_unique<session::GdbServer>(*session_, *debugger_);
        fmt::print(stderr, "gdb: 127.0.0.1:{}\n", listener_->port());
    }
    session_->onSerial = [this](const session::SerialByte& byte) { received(byte); };
    return {};
}

Result<void> Run::openSerial()
{
    for (const auto& uart : session_->world().uarts())
        ports_.push_back({uart.name, nullptr, {}, {}});
    for (const std::string& option : options_.serial) {
        const std::size_t equals = option.find('=');
        if (equals == std::string::npos)
            return fail("--serial", fmt::format("\"{}\"; expected UART=WHERE", option));
        const auto uart = session_->world().uartByName(option.substr(0, equals));
        if (!uart)
            return fail("--serial", fmt::format("\"{}\" is not a UART here", option.substr(0, equals)));
        auto endpoint = link::openEndpoint(option.substr(equals + 1));
        if (!endpoint)
            return tl::unexpected(endpoint.error());
        ports_[*uart].endpoint = std::move(*endpoint);
        if (const std::string name = ports_[*uart].endpoint->name(); !name.empty())
            fmt::print(stderr, "{}: {}\n", option.substr(0, equals), name);
    }
    if (!options_.chip.empty() && !ports_.empty() && ports_[0].endpoint == nullptr)
        ports_[0].endpoint = std::move(*link::openEndpoint("-"));
    return {};
}

Result<double> Run::controlValue(const std::string& part, const std::string& control, const std::string& text) const
{
    if (const bench::PartItem* item = document_.part(part))
        if (const bench::PartKind* kind = catalogue_.find(item->kind))
            if (const bench::ControlKind* c = kind->control(control)) {
                if (c->type == "dial") {
                    const auto value = kernel::parseQuantity(text, kernel::unitNamed(c->unit));
                    if (!value || *value < c->least || *value > c->most)
                        return fail("--set", fmt::format("{}.{}: \"{}\"; expected {} to {}", part, control, text, c->least, c->most));
                    return *value;
                }
                if (text == c->low)
                    return 0.0;
                if (text == c->high)
                    return 1.0;
            }
    const auto value = kernel::parseQuantity(text, kernel::Unit::none);
    if (!value)
        return fail("--set", fmt::format("{}.{}: \"{}\"; expected 0 or 1", part, control, text));
    return *value;
}

Result<void> Run::schedule()
{
    for (const std::string& option : options_.send) {
        const auto input = parseTimedInput("--send", option);
        if (!input)
            return tl::unexpected(input.error());
        const auto uart = session_->world().uartByName(input->target);
        if (!uart)
            return fail("--send", fmt::format("\"{}\" is not a UART here", input->target));
        const auto bytes = unescape("--send", input->text);
        if (!bytes)
            return tl::unexpected(bytes.error());
        scheduled_.push_back({input->at, scheduled_.size(), true, *uart, {}, {}, 0, *bytes});
        session_->world().connectLine(*uart);
    }
    for (const std::string& option : options_.set) {
        const auto input = parseTimedInput("--set", option);
        if (!input)
            return tl::unexpected(input.error());
        const auto ref = bench::parsePinRef(input->target);
        if (!ref)
            return fail("--set", fmt::format("\"{}\"; expected PART.CONTROL@TIME=VALUE", option));
        const auto value = controlValue(ref->part, ref->pin, input->text);
        if (!value)
            return tl::unexpected(value.error());
        // Asked for its present value first, so that a wrong name is told before anything runs.
        if (auto known = session_->world().setControl(ref->part, ref->pin, session_->world().control(ref->part, ref->pin)); !known) {
            known.error().where = "--set: " + known.error().where;
            return known;
        }
        scheduled_.push_back({input->at, scheduled_.size(), false, 0, ref->part, ref->pin, *value, {}});
    }
    std::sort(scheduled_.begin(), scheduled_.end(), [](const Scheduled& a, const Scheduled& b) { return a.at != b.at ? a.at < b.at : a.order < b.order; });
    if (options_.maxCycles > 0) {
        if (session_->world().chips().empty())
            return fail("--max-cycles", "there is no chip on the bench");
        // More than simulated time has: no limit.
        const auto& clock = session_->world().chips()[0].chip->clock();
        constexpr double kMostSeconds = 9e6;
        const bool endless = static_cast<double>(options_.maxCycles) / static_cast<double>(clock.hz()) > kMostSeconds;
        const Time at = endless ? kernel::kNever : clock.timeOf({options_.maxCycles});
        if (at < end_) {
            end_ = at;
            endDetail_ = "cycles";
        }
    }
    return {};
}

Result<void> Run::chooseSignals()
{
    if (options_.vcd.empty()) {
        if (!options_.signals.empty())
            return fail("--signals", "says what goes into a dump; expected --vcd FILE too");
        return {};
    }
    std::vector<std::string> patterns;
    std::string rest = options_.signals;
    while (!rest.empty()) {
        const std::size_t comma = rest.find(',');
        patterns.push_back(rest.substr(0, comma));
        rest = comma == std::string::npos ? "" : rest.substr(comma + 1);
    }
    const auto& world = session_->world();
    std::vector<bench::NetId>& nets = vcdNets_;
    std::vector<std::string>& names = vcdNames_;
    std::vector<bool> used(patterns.size());
    const auto consider = [&](const std::string& name, bench::NetId net, bool byDefault) {
        bool wanted = patterns.empty() && byDefault;
        for (std::size_t i = 0; i < patterns.size(); ++i)
            if (matchesWildcard(patterns[i], name) || (!options_.chip.empty() && matchesWildcard("mcu." + patterns[i], name)))
                wanted = used[i] = true;
        if (wanted && std::find(names.begin(), names.end(), name) == names.end()) {
            nets.push_back(net);
            names.push_back(name);
        }
    };
    for (const bench::PartItem& part : document_.parts) {
        const bench::PartKind* kind = catalogue_.find(part.kind);
        for (const bench::PinKind& pin : kind->pins)
            if (const auto id = world.pin({part.id, pin.name})) {
                const bool port = kind->chip != nullptr && chip::isPortPin(*kind->chip, pin.chipPin);
                consider(part.id + "." + pin.name, world.circuit().netOf(*id), port);
                for (const std::string& alias : pin.aliases)  // by the name that it was asked for
                    if (std::find(patterns.begin(), patterns.end(), part.id + "." + alias) != patterns.end())
                        consider(part.id + "." + alias, world.circuit().netOf(*id), false);
            }
    }
    for (const bench::NetItem& net : document_.nets)
        if (!net.pins.empty())
            if (const auto id = world.pin({net.pins[0].part, catalogue_.find(document_.part(net.pins[0].part)->kind)->pin(net.pins[0].pin)->name}))
                consider(net.name, world.circuit().netOf(*id), true);
    for (std::size_t i = 0; i < patterns.size(); ++i)
        if (!used[i])
            return fail("--signals", fmt::format("\"{}\" matches no pin or net", patterns[i]));
    return {};
}

void Run::received(const session::SerialByte& byte)
{
    if (!byte.fromChip)
        return;
    UartPort& port = ports_[byte.uart];
    port.pending += static_cast<char>(byte.byte);
    if (!pattern_ || matched_)
        return;
    if (byte.byte == '\n')
        port.line.clear();
    else if (byte.byte != '\r')
        port.line += static_cast<char>(byte.byte);
    if (port.line.size() > kLongestLine)
        port.line.erase(0, port.line.size() / 2);
    if (re2::RE2::PartialMatch(port.line, *pattern_)) {
        matched_ = true;
        session_->world().requestStop();
    }
}

void Run::applyDue()
{
    while (nextScheduled_ < scheduled_.size() && Time(scheduled_[nextScheduled_].at) <= session_->world().now()) {
        const Scheduled& s = scheduled_[nextScheduled_++];
        if (s.isSend)
            session_->send(s.uart, s.text);
        else
            (void)session_->setControl(s.part, s.control, s.value);
    }
}

// Bytes from outside wait until the firmware has switched the receiver on: before that there is no rate to send them at.
void Run::readInputs()
{
    for (std::size_t i = 0; i < ports_.size(); ++i)
        // And no more than the line is about to send: who floods it waits, as at a wire.
        if (ports_[i].endpoint != nullptr && ports_[i].endpoint->descriptor() >= 0 && session_->world().receives(i) && session_->world().uarts()[i].line->unsent() < kMostUnsent)
            if (const std::string bytes = ports_[i].endpoint->read(); !bytes.empty())
                session_->send(i, bytes);
}

void Run::writeOutputs()
{
    for (UartPort& port : ports_) {
        if (port.pending.empty())
            continue;
        if (port.endpoint != nullptr) {
            port.endpoint->write(port.pending);
            port.endpoint->flush();
        }
        port.pending.clear();
    }
}

// Waits until the wall clock has come as far as the simulation, looking at Ctrl-C in between.
void Run::keepPace()
{
    if (pace_ == 0)
        return;
    const auto due = began_ + std::chrono::duration_cast<std::chrono::steady_clock::duration>(std::chrono::duration<double>(kernel::seconds(session_->world().now()) / pace_));
    while (!gInterrupted && std::chrono::steady_clock::now() < due)
        std::this_thread::sleep_until(std::min(due, std::chrono::steady_clock::now() + std::chrono::milliseconds(20)));
}

Time Run::sliceEnd() const
{
    const bool listening = std::any_of(ports_.begin(), ports_.end(), [](const UartPort& p) { return p.endpoint != nullptr && p.endpoint->descriptor() >= 0; });
    const Duration slice = pace_ != 0 ? Duration(std::chrono::milliseconds(5)) : listening ? Duration(std::chrono::milliseconds(2)) : Duration(std::chrono::milliseconds(50));
    const Time now = session_->world().now();
    Time end = now > kernel::kNever - slice ? kernel::kNever : now + slice;
    if (nextScheduled_ < scheduled_.size())
        end = std::min(end, std::max(now, Time(scheduled_[nextScheduled_].at)));
    if (energy_)
        end = std::min(end, std::max(now, energy_->next()));
    return std::min(end, end_);
}

int Run::execute()
{
    std::signal(SIGINT, onSignal);
    std::signal(SIGTERM, onSignal);
    began_ = std::chrono::steady_clock::now();
    if (!options_.report.empty())
        energy_.emplace(document_, catalogue_, end_ == kernel::kNever ? Duration{} : end_ - Time{});
    bench::World& world = session_->world();
    const bool hasUntil = pattern_ != nullptr || options_.untilHalt;
    bool attached = listener_ != nullptr;  // from the start: nothing runs before a debugger has come
    for (;;) {
        if (listener_ != nullptr && !serveDebugger(attached)) {
            if (gInterrupted)
                return finish("interrupted", "signal", hasUntil ? kLimitReached : kGoalReached);
            if (gdb_->wants() == session::GdbServer::Wants::kill)
                return finish("interrupted", "killed by the debugger", kGoalReached);
            continue;
        }
        applyDue();
        readInputs();
        if (energy_ && world.now() >= energy_->next())
            energy_->look(world);
        if (attached) {
            if (debugger_->advance(sliceEnd())) {
                listener_->write(gdb_->stopped());
                writeOutputs();
                continue;
            }
        } else {
            session_->advance(sliceEnd());
        }
        writeOutputs();
        if (matched_)
            return finish("goal", "serial match", kGoalReached);
        if (world.faulted())
            return finish("fault", session_->faultText(), kFaulted);
        if (world.halted())
            return finish("goal", "halt", kGoalReached);
        if (world.now() >= end_)
            return finish(hasUntil ? "limit" : "goal", endDetail_, hasUntil ? kLimitReached : kGoalReached);
        if (gInterrupted)
            return finish("interrupted", "signal", hasUntil ? kLimitReached : kGoalReached);
        keepPace();
    }
}

// Hears what the debugger has to say. False: nothing is to run just now.
bool Run::serveDebugger(bool& attached)
{
    using Wants = session::GdbServer::Wants;
    const bool there = listener_->connected();
    if (there && listener_->isNew()) {
        gdb_->begin();
        attached = true;
    }
    if (!there) {
        if (attached && gdb_->wants() == Wants::run) {
            gdb_->end();  // gone without a word
            attached = false;
        }
        if (!attached)
            return true;
        listener_->wait(100);
        return false;
    }
    if (gdb_->wants() != Wants::run)
        listener_->wait(100);
    listener_->write(gdb_->take(listener_->read()));
    if (gdb_->wants() == Wants::kill) {
        listener_->disconnect();
        return false;
    }
    if (gdb_->wants() == Wants::detach || !listener_->connected()) {
        gdb_->end();
        listener_->disconnect();
        attached = false;
        return true;
    }
    return gdb_->wants() == Wants::run;
}

int Run::finish(const std::string& stop, const std::string& detail, int code)
{
    if (listener_ != nullptr && listener_->connected())
        listener_->write(gdb_->finished(code));
    if (stop == "fault")
        fmt::print(stderr, "{}\n", detail);
    const auto lost = [&](const std::string& line) {
        fmt::print(stderr, "{}\n", line);
        code = kBug;
    };
    if (!decoders_.finish(session_->world().now()))
        lost(options_.decoded + ": could not be written to its end; expected room on the disk");
    if (!session_->finishVcd())
        lost(options_.vcd + ": could not be written to its end; expected room on the disk");
    if (trace_ != nullptr)
        if (auto traced = trace_->finish(); !traced)
            lost(traced.error().text());
    if (!options_.record.empty())
        if (auto saved = session_->saveRecording(options_.record); !saved)
            lost(saved.error().text());
    if (auto kept = session_->saveEeprom(); !kept)
        fmt::print(stderr, "{}\n", kept.error().text());  // the run itself is good
    if (!options_.report.empty())
        if (auto written = writeReport(stop, detail); !written)
            lost(written.error().text());
    return code;
}

Result<void> Run::writeReport(const std::string& stop, const std::string& detail)
{
    using nlohmann::ordered_json;
    const double wall = std::chrono::duration<double>(std::chrono::steady_clock::now() - began_).count();
    const double simulated = kernel::seconds(session_->world().now());
    ordered_json report;
    report["stop"] = stop;
    report["detail"] = detail;
    report["simulated_seconds"] = simulated;
    report["wall_seconds"] = wall;
    report["realtime_factor"] = wall > 0 ? simulated / wall : 0;
    report["chips"] = ordered_json::array();
    for (const auto& unit : session_->world().chips()) {
        ordered_json chip;
        chip["id"] = unit.id;
        chip["chip"] = unit.chip->device().id;
        chip["clock_hz"] = unit.chip->clock().hz();
        chip["cycles"] = unit.chip->cycles();
        chip["instructions"] = unit.chip->instructions();
        chip["pc"] = fmt::format("0x{:04x}", unit.chip->codeAddress());
        chip["stack_low_water"] = unit.chip->lowestStack() ? ordered_json(fmt::format("0x{:04x}", *unit.chip->lowestStack())) : ordered_json();
        report["chips"].push_back(chip);
    }
    report["parts"] = partReport(document_, catalogue_, session_->world(), energy_ ? &*energy_ : nullptr);
    report["findings"] = ordered_json::array();
    for (const bench::Finding& f : session_->findings()) {
        ordered_json finding{{"severity", bench::severityName(f.severity)}, {"rule", f.rule}, {"where", f.where}, {"time", kernel::seconds(f.time)}, {"source", f.source}, {"message", f.message}};
        if (!f.otherSource.empty())
            finding["other_source"] = f.otherSource;
        if (!f.muted.empty())
            finding["muted"] = f.muted;
        report["findings"].push_back(std::move(finding));
    }
    const std::string text = report.dump(2, ' ', false, ordered_json::error_handler_t::replace) + "\n";
    if (options_.report != "-")
        return bench::saveText(options_.report, text);
    std::cout << text << std::flush;
    return std::cout ? Result<void>() : fail("standard output", "the report could not be written; expected a reader, or room on the disk");
}

}  // namespace

int runCommand(const RunOptions& options)
{
    Run run(options);
    if (auto ok = run.prepare(); !ok) {
        fmt::print(stderr, "{}\n", ok.error().text());
        return kUnusableInput;
    }
    run.tellFindings();
    return run.execute();
}

}  // namespace bramix::cli
