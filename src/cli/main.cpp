#include <csignal>
#include <cstdio>
#include <iostream>
#include <exception>

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>

#include "bench/document.h"
#include "bench/rehearsal.h"
#include "bench/world.h"
#include "cli/pages_command.h"
#include "cli/recording_command.h"
#include "cli/run_command.h"
#include "cli/run_options.h"
#include "cli/sweep_command.h"
#include "kernel/check.h"

namespace {

using namespace bramix;

constexpr const char* kAllow = "a FILE outside the folder of the bench that it may use";

int unusable(const kernel::Error& error)
{
    fmt::print(stderr, "{}\n", error.text());
    return cli::kUnusableInput;
}

// Loads a bench, builds its world, and prints what was noticed on the way.
int checkCommand(const std::string& file, const std::vector<std::string>& allow)
{
    const auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue)
        return unusable(catalogue.error());
    std::vector<std::string> warnings;
    const auto document = bench::loadDocument(file, &warnings);
    if (!document)
        return unusable(document.error());
    if (const auto ok = bench::checkDocument(*document, *catalogue, file); !ok)
        return unusable(ok.error());
    const auto files = cli::filesOf(file, allow);
    if (!files)
        return unusable(files.error());
    const bench::WorldOptions options{.folder = files->folder, .confined = files->confined, .allowed = files->allowed};
    const auto world = bench::World::build(*document, *catalogue, options, nullptr);
    if (!world)
        return unusable(world.error());
    for (const std::string& w : warnings)
        fmt::print("warning: {}\n", w);
    bool errors = false;
    std::vector<bench::Finding> findings = (*world)->findings();
    for (bench::Finding& f : bench::rehearse(*document, *catalogue, options))
        findings.push_back(std::move(f));
    for (const bench::Finding& f : findings) {
        if (!f.muted.empty()) {
            fmt::print("muted: {}: {} [{}: {}]\n", f.where, f.message, f.rule, f.muted);
            continue;
        }
        fmt::print("{}: {}: {} [{}]\n", bench::severityName(f.severity), f.where, f.message, f.rule);
        errors = errors || f.severity == bench::Severity::error;
    }
    fmt::print("{}: {} parts, {} wires, {} nets, {} chips: {}\n", document->title, document->parts.size(), document->wires.size(), document->nets.size(), (*world)->chips().size(),
               errors ? "has errors" : "can run");
    return errors ? cli::kLimitReached : cli::kGoalReached;
}

int listCommand(const std::string& what)
{
    if (what == "chips") {
        for (const chip::Device* chip : chip::allDevices())
            fmt::print("{:<16} {}\n", chip->id, chip->about);
        return cli::kGoalReached;
    }
    const auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue)
        return unusable(catalogue.error());
    for (const auto& [id, kind] : catalogue->kinds())
        if (kind.listed)
            fmt::print("{:<16} {}\n", id, kind.about);
    return cli::kGoalReached;
}

void setUpLog(const std::string& level, bool quiet)
{
    auto logger = std::make_shared<spdlog::logger>("bramix", std::make_shared<spdlog::sinks::stderr_sink_mt>());
    logger->set_pattern("%l: %v");
    spdlog::set_default_logger(logger);
    spdlog::set_level(quiet ? spdlog::level::off : spdlog::level::from_str(level));
}

int run(int argc, char** argv)
{
    CLI::App app("Runs a bench, or a bare chip, without a window.", "bramix-cli");
    app.set_version_flag("--version", "bramix-cli " BRAMIX_VERSION);
    app.require_subcommand(1);
    std::string level = "warning";
    bool quiet = false;

    cli::RunOptions o;
    CLI::App* runApp = app.add_subcommand("run", "run a bench, or a bare chip, and stop at a goal");
    runApp->add_option("BENCH", o.bench, "the bench to power up");
    runApp->add_option("--chip", o.chip, "a chip for a bare run, e.g. atmega328p");
    runApp->add_option("--clock", o.clock, "core clock of a bare run, e.g. 16MHz");
    runApp->add_option("--firmware", o.firmware, "FILE, or PART=FILE")->allow_extra_args(false);
    runApp->add_option("--allow", o.allow, kAllow)->allow_extra_args(false);
    runApp->add_option("--for", o.forTime, "stop after this much simulated time, e.g. 2s");
    runApp->add_option("--max-cycles", o.maxCycles, "stop after so many clock cycles of the first chip")->check(CLI::PositiveNumber);
    runApp->add_option("--until-serial", o.untilSerial, "stop when a line of any UART matches");
    runApp->add_flag("--until-halt", o.untilHalt, "stop when the firmware can never run again");
    runApp->add_option("--serial", o.serial, "UART=WHERE: -, FILE, pty, tcp:PORT, none")->allow_extra_args(false);
    runApp->add_option("--send", o.send, "UART@TIME=TEXT")->allow_extra_args(false);
    runApp->add_option("--set", o.set, "PART.CONTROL@TIME=VALUE")->allow_extra_args(false);
    runApp->add_option("--fuse", o.fuses, "NAME=VALUE")->allow_extra_args(false);
    runApp->add_option("--gdb", o.gdb, "PORT");
    runApp->add_option("--pace", o.pace, "max, real, or a factor");
    runApp->add_option("--vcd", o.vcd, "write signals as a Value Change Dump");
    runApp->add_option("--trace", o.trace, "voltages and currents over time, comma separated: NET, PART.PIN, PART:current");
    runApp->add_option("--trace-file", o.traceFile, "where traces go, as CSV; - is standard output");
    runApp->add_option("--signals", o.signals, "which, comma separated, * and ? allowed");
    runApp->add_option("--decode", o.decode, "DECODER:LINES, e.g. uart:mcu.PD1 or i2c:SDA=mcu.PC4,SCL=mcu.PC5")->allow_extra_args(false);
    runApp->add_option("--decoded", o.decoded, "write what is decoded as CSV; - for standard output");
    runApp->add_option("--record", o.record, "write the whole recording of the run: edges with causes, bytes, findings");
    runApp->add_option("--report", o.report, "write the JSON report; - for standard output");
    runApp->add_option("--seed", o.seed, "seed of everything random");
    runApp->add_flag("--quiet", quiet, "log nothing");
    runApp->add_option("--log", level, "trace, debug, info, warning, error or off")->check(CLI::IsMember({"trace", "debug", "info", "warning", "error", "off"}));

    std::string checkFile;
    CLI::App* checkApp = app.add_subcommand("check", "load and check a bench without running it");
    checkApp->add_option("BENCH", checkFile, "the bench")->required();
    std::vector<std::string> checkAllow;
    checkApp->add_option("--allow", checkAllow, kAllow)->allow_extra_args(false);

    cli::SweepOptions s;
    CLI::App* sweepApp = app.add_subcommand("sweep", "figures of a bench over one of its settings, as CSV");
    sweepApp->add_option("BENCH", s.bench, "the bench")->required();
    sweepApp->add_option("--vary", s.vary, "PART.NAME=FROM..TO, a setting or a live control")->required();
    sweepApp->add_option("--points", s.points, "how many values, 101 by default");
    sweepApp->add_flag("--ratio", s.ratio, "logarithmic steps in place of linear ones");
    sweepApp->add_option("--curves", s.curves, "PART.NAME=A,B,C: a curve for each");
    sweepApp->add_option("--plot", s.plot, "PIN, NET, PIN:PIN, PART:current or PART:power")->required()->allow_extra_args(false);
    sweepApp->add_option("--set", s.set, "PART.CONTROL=VALUE")->allow_extra_args(false);
    sweepApp->add_option("--hold", s.hold, "PART.PIN=LEVEL of a chip's pin: 0, 1, z, or a voltage")->allow_extra_args(false);
    sweepApp->add_option("--allow", s.allow, kAllow)->allow_extra_args(false);
    sweepApp->add_option("--csv", s.csv, "where to; - for standard output");

    cli::RecordingOptions r;
    CLI::App* recordingApp = app.add_subcommand("recording", "what a recorded run holds, without running it");
    recordingApp->add_option("FILE", r.file, "what run --record wrote")->required();
    recordingApp->add_option("--decode", r.decode, "DECODER:LINES, e.g. i2c:SDA=mcu.PC4,SCL=mcu.PC5, or \"interrupts mcu\"")->allow_extra_args(false);
    recordingApp->add_option("--decoded", r.decoded, "write what is decoded as CSV; - for standard output");
    recordingApp->add_option("--edges", r.edges, "write edges with their causes as CSV, or as VCD if the file is called so");
    recordingApp->add_option("--signals", r.signals, "which, comma separated, * and ? allowed");

    std::string pagesFolder;
    CLI::App* pagesApp = app.add_subcommand("pages", "write a page of documentation for every part");
    pagesApp->add_option("FOLDER", pagesFolder, "where to")->required()->check(CLI::ExistingDirectory);

    std::string listWhat;
    CLI::App* listApp = app.add_subcommand("list", "what can be put on a bench");
    listApp->add_option("WHAT", listWhat, "chips or parts")->required()->check(CLI::IsMember({"chips", "parts"}));

    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        if (error.get_exit_code() == 0)
            return app.exit(error);
        fmt::print(stderr, "bramix-cli: {}; bramix-cli --help shows what is expected\n", error.what());
        return cli::kUnusableInput;
    }
    setUpLog(level, quiet);
    for (std::string* bench : {&o.bench, &checkFile, &s.bench})
        *bench = cli::benchIn(*bench);
    if (runApp->parsed())
        return cli::runCommand(o);
    if (recordingApp->parsed())
        return cli::recordingCommand(r);
    if (pagesApp->parsed())
        return cli::pagesCommand(pagesFolder);
    if (sweepApp->parsed())
        return cli::sweepCommand(s);
    return checkApp->parsed() ? checkCommand(checkFile, checkAllow) : listCommand(listWhat);
}

}  // namespace

int main(int argc, char** argv)
{
    std::signal(SIGPIPE, SIG_IGN);  // a reader that has gone is an output that cannot be written
    try {
        const int code = run(argc, argv);
        std::cout.flush();
        if (std::fflush(stdout) == 0 && std::ferror(stdout) == 0 && std::cout)
            return code;
        std::fputs("standard output: could not be written to its end; expected a reader, or room on the disk\n", stderr);
        return cli::kBug;
    } catch (const std::exception& bug) {
        std::fprintf(stderr, "Bramix itself failed: %s\n", bug.what());
        return cli::kBug;
    }
}
