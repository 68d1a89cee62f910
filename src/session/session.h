// A running bench without a window: world, tape, findings with their source lines, VCD, and the log of what came from outside.
//
// Invariant: the same document, firmware, seed and input log give the same run, bit for bit.
// Not thread-safe: whoever runs it owns it.
// Tested by tests/session/session_test.cpp.
#pragma once

#include <atomic>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "bench/document.h"
#include "bench/world.h"
#include "debug/frames.h"
#include "debug/symbols.h"
#include "session/bench_files.h"
#include "session/replay/history.h"
#include "session/serial/serial_log.h"
#include "session/lanes/usual_lanes.h"
#include "tape/decode.h"
#include "tape/tape.h"
#include "tape/waveform.h"
#include "tape/vcd.h"
#include "tape/vcd_read.h"

namespace bramix::session {

using bench::Finding;
using kernel::Duration;
using kernel::Result;
using kernel::Time;

struct SessionOptions {
    std::uint64_t seed = 1;
    std::string folder;                    // of the bench file
    bool confined = false;                 // nothing outside it is read or written,
    std::vector<std::string> allowed{};    // but these files, which a person has chosen
    bool record = true;                    // keep a tape
    std::size_t tapeBytes = 64U << 20U;
    std::size_t historyBytes = 0;          // for going back; 0: nothing is remembered
    std::size_t readEdges = SIZE_MAX;      // by watchLines() at one go; the rest is read later
    const std::atomic<bool>* interrupt = nullptr;  // while it is set the world stands still: World::interruptBy()
    kernel::Progress* progress = nullptr;  // told how far a long way through the past has come
    bool keepGoing = false;                // firmware that cannot be loaded is a finding, and no error
};

// In place of a UART's number: the run has gone back to this instant, and what came after it is no more.
inline constexpr std::uint16_t kRewound = UINT16_MAX;

struct Recording;
class FunctionTimes;
class LaneLog;
class LaneLogs;

// Among a chip's interrupts on the tape.
inline constexpr tape::State kResetMark = 255;

// Something that came from outside, at the instant at which it was applied.
struct Input {
    enum class Kind : std::uint8_t { control, send, firmware, edit, replace, poke, coreRegister } kind{};
    Time at{};
    std::string target;  // part.control, UART, or chip
    std::string text;    // bytes sent or written, file, or the name of a register
    double value = 0;    // of a control or a register; of a debugger's write into memory: the address
    debug::Space space = debug::Space::data;
};

// What a debugger wants to hear while the bench runs.
class SessionListener {
public:
    virtual ~SessionListener() = default;
    // Whether it wants edges in the run that begins: who does not makes them cheaper.
    [[nodiscard]] virtual bool wantsEdges() const { return true; }
    virtual void edgeSeen(bench::NetId net, bench::NetState state, Time at) = 0;
    virtual void byteSeen(const SerialByte& byte) = 0;
    virtual void findingSeen(const Finding& finding) = 0;
    virtual void worldChanged() = 0;  // another world, or other firmware in it
};

// What is known of a chip's firmware.
struct Program {
    debug::Symbols symbols;
    debug::FrameTable frames;
};

class Session final : private bench::WorldObserver, private circuit::ProbeListener {
public:
    [[nodiscard]] static Result<std::unique_ptr<Session>> open(bench::Document document, const bench::Catalogue& catalogue, const SessionOptions& options);
    ~Session() override;

    [[nodiscard]] const SessionOptions& options() const { return options_; }
    [[nodiscard]] const bench::Document& document() const { return document_; }
    [[nodiscard]] const bench::Catalogue& catalogue() const { return catalogue_; }
    [[nodiscard]] bench::World& world() { return *world_; }
    [[nodiscard]] const bench::World& world() const { return *world_; }
    [[nodiscard]] const tape::Tape& tape() const { return tape_; }
    // For edges and for what decoder lanes have said, together.
    void setTapeBytes(std::size_t bytes);
    [[nodiscard]] const SerialLog& serialLog() const { return serialLog_; }
    [[nodiscard]] const std::vector<Input>& inputs() const { return inputs_; }

    // Inputs; each is logged.
    [[nodiscard]] Result<void> setControl(const std::string& part, const std::string& control, double value);
    [[nodiscard]] Result<void> replacePart(const std::string& part);
    void send(std::size_t uart, const std::string& bytes);
    // As a debugger writes: one byte of memory (peripherals act on it), or a register of the core by its index in the chip's Device.
    void poke(std::size_t chip, debug::Space space, std::uint32_t address, std::uint8_t value);
    void setRegister(std::size_t chip, std::size_t index, std::uint64_t value);
    // Another image in flash, as a programmer writes it; the chip is reset.
    void writeFlash(std::size_t chip, const std::vector<std::uint8_t>& bytes);
    // Loads a file into a chip and resets it. On an error the earlier firmware stays.
    [[nodiscard]] Result<void> loadFirmware(const std::string& chip, const std::string& file);
    void allow(std::vector<std::string> files) { options_.allowed = std::move(files); }
    // Goes on with a changed bench: what is on both runs on as it was. On an error the old bench stays. `folder`: where its file lies now; empty: where it was.
    [[nodiscard]] Result<void> edit(bench::Document document, const std::string& folder = {});
    // From power-up, at time zero, with an empty tape. Reads firmware files anew; live controls keep their positions.
    [[nodiscard]] Result<void> restart();

    // Running. Ends at the goal, at a fault, or where a chip stops for the debugger. Inputs that lie ahead, after going back, are given again at
    // their instants.
    void advance(Time goal);
    // The same by one instruction of a chip.
    void advanceInstruction(std::size_t chip);
    // Puts the bench back to how it was at an earlier instant (a chip's instruction boundary, or any time: then the first boundary after it), or
    // forward. What came later stays known, on the tape too, and comes again, until something new is done: then it is forgotten, and the run takes
    // another course from there.
    [[nodiscard]] Result<void> goTo(Time t);
    // The same for looking around, back or as far forward as the run has ever come: what happens on the way is known already, and is told to nobody.
    [[nodiscard]] Result<void> travel(Time t);
    // The earliest instant that can be gone back to, and the latest that the run has ever come to.
    [[nodiscard]] Time earliest() const { return history_.empty() ? world_->now() : history_.moments().front().moment->at; }
    [[nodiscard]] Time latest() const { return std::max(latest_, world_->now()); }
    [[nodiscard]] const History& history() const { return history_; }
    // Another number: what was known of the past, or of what lay ahead, is no more.
    [[nodiscard]] std::uint64_t course() const { return course_; }
    // Another number: another world, or other firmware in it. Moments belong to one.
    [[nodiscard]] std::uint64_t worldNumber() const { return worldNumber_; }
    // Gives the inputs that are due to a world that goes through the same run; `applied` counts those that were given.
    void giveDueInputs(bench::World& world, std::size_t& applied) const;
    // Remembers the present.
    void remember();
    // Going through the past: nothing is recorded, nothing is told.
    class Replay;
    void setListener(SessionListener* listener) { listener_ = listener; }
    // What is known of a chip's firmware; never null for a chip of this bench.
    [[nodiscard]] Program& program(const std::string& chip) { return programs_[chip]; }

    // Writes each EEPROM that the firmware has changed to its file beside the bench, atomically. Done by itself at restart and at the end.
    [[nodiscard]] Result<void> saveEeprom();

    // Where a code address of a chip lies in its source.
    [[nodiscard]] debug::Place place(const std::string& chip, std::uint32_t code) const;
    // The buses of the bench, which are read as the run goes on, and watched for what breaks their protocols; and these decoder lanes too, from now on.
    [[nodiscard]] const std::vector<BusLane>& buses() const { return buses_; }
    void alsoWatch(const std::vector<std::string>& lanes);
    // Done after each piece of the run; again, where lanes have been added or there was more than one piece takes. False: there was nothing left to read.
    bool watchLines();
    // What a lane that is read has said so far (lane_logs.h); null of any other.
    [[nodiscard]] const LaneLog* laneLog(const std::string& lane) const;
    // Which functions had the time.
    [[nodiscard]] const FunctionTimes& functionTimes() const { return *functionTimes_; }
    // The present lies before where the run has come to, and nothing new has been done.
    [[nodiscard]] bool behind() const { return behind_; }
    // The findings so far, with their sources.
    [[nodiscard]] std::vector<Finding> findings() const;
    // One line about the chip that has faulted; empty where none has.
    [[nodiscard]] std::string faultText() const;

    // Records the voltage of these pins from now on, and of no others; what was recorded of a pin that stays is kept. Pins that are not there are passed over.
    void setProbes(const std::vector<bench::PinRef>& pins);
    // What was recorded of a pin up to now, or null.
    [[nodiscard]] const tape::Waveform* waveform(const bench::PinRef& pin);

    // The tape channel of a pin's net, or UINT32_MAX.
    [[nodiscard]] tape::ChannelId channelOf(const bench::PinRef& pin) const;
    // A capture of something else, as lanes beside the run's; its times are shifted by so much. Null: none.
    void setCapture(std::shared_ptr<const tape::Capture> capture, Duration shift)
    {
        capture_ = std::move(capture);
        captureShift_ = shift;
    }
    [[nodiscard]] const tape::Capture* capture() const { return capture_.get(); }
    [[nodiscard]] Duration captureShift() const { return captureShift_; }

    // The tape channel of a chip's interrupts: an edge's state is the number of the exception that runs from there on, 0 the main program, kResetMark a reset.
    [[nodiscard]] tape::ChannelId interruptsOf(std::size_t chip) const { return chip < interrupts_.size() ? interrupts_[chip].channel : UINT32_MAX; }

    // Called from inside the run, with what is new.
    std::function<void(const SerialByte&)> onSerial;
    std::function<void(const Finding&)> onFinding;

    // A decoder hears these nets from now on, by role; empty: a role that has no line. It must outlive the run.
    void decode(tape::Decoder& decoder, const std::vector<std::optional<bench::NetId>>& nets);

    // The whole run so far in one file (recording.h), with what stops have said. Atomically: a file that was there before stays until the new one is whole.
    [[nodiscard]] Result<void> saveRecording(const std::string& file, const std::vector<std::pair<Time, std::string>>& marks = {});
    // A session that has just begun takes a recording of the same bench for what lies ahead of it.
    void adopt(Recording recording);

    // Dumps signals from now on. Names are "part.pin" or a net's name; `names` are written into the file in their place.
    [[nodiscard]] Result<void> startVcd(const std::string& file, const std::vector<bench::NetId>& nets, const std::vector<std::string>& names);
    [[nodiscard]] bool finishVcd();

private:
    Session(const bench::Catalogue& catalogue, const SessionOptions& options);

    struct Interrupts {
        tape::ChannelId channel = UINT32_MAX;
        std::uint16_t actor = UINT16_MAX;
        std::uint8_t runs = 0;                // the exception; 0: none
        std::vector<std::uint8_t> outer{};    // those that it has interrupted, the last one last
    };

    // `from`: as an edit of what has run so far.
    [[nodiscard]] Result<std::unique_ptr<bench::World>> buildWorld(const bench::Document& document, Time from = {}, bool keepGoing = false);
    void takeWorld(std::unique_ptr<bench::World> world);
    void readSymbols();
    void listenToFunctions();
    void mapChannels(bool record);
    // A run that could only be looked at begins anew.
    void beginAnew();

    void piece(bench::NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant) override;
    void attachProbes();
    void edge(bench::NetId net, bench::NetState state, Time at, bench::Cause cause) override;
    void edgeHeard(bench::NetId net, bench::NetState state, Time at, bench::Cause cause);
    void interruptInAnother(Interrupts& i, std::uint8_t vector, Time at);
    void serialByte(std::size_t uart, std::uint8_t byte, bool good, bool fromChip, Time at) override;
    void finding(const Finding& finding) override;
    void interrupt(std::size_t chip, std::uint8_t vector, Time at) override;
    void reset(std::size_t chip, unsigned cause, Time at) override;
    void reckonNesting();

    void chooseWatched();
    void mute(Finding& finding) const;
    void log(Input input);
    // Something new is about to be done: what lay ahead will not happen.
    void branch();
    // What happens now has happened before, and is recorded.
    [[nodiscard]] bool knows(Time at) const { return behind_ && at <= latest_; }
    // The wiring or the firmware is another now: the past before it cannot be gone back into.
    void forgetPast();
    void applyDueInputs();
    void runUntil(Time t);
    [[nodiscard]] Remembered present();
    void rememberInTime(std::chrono::steady_clock::time_point began);
    void recall(const Remembered& from);

    const bench::Catalogue& catalogue_;
    SessionOptions options_;
    bench::Document document_;
    // What each edge and each interrupt look at lies together.
    tape::Tape tape_;
    bool building_ = false;
    bool behind_ = false;  // the present lies before latest_, and nothing new has been done
    Time latest_{};
    SessionListener* listener_ = nullptr;
    std::unique_ptr<tape::VcdWriter> vcd_;
    std::vector<std::vector<std::pair<tape::Decoder*, std::size_t>>> decodersOfNet_;  // empty where there are none; decoder and role
    std::vector<tape::ChannelId> channelOfNet_;
    std::vector<Interrupts> interrupts_;               // by chip
    std::unique_ptr<bench::World> world_;
    std::map<std::string, Program> programs_;
    std::map<std::string, std::string> symbolFile_;
    std::vector<Input> inputs_;
    std::size_t applied_ = 0;  // how many of them lie behind; those ahead are given again in time
    History history_{0};
    std::uint64_t course_ = 1, worldNumber_ = 1;
    SerialLog serialLog_;
    std::vector<BenchFile> beginnings_;  // as they were when the run began
    std::vector<BusLane> buses_;
    std::vector<std::string> alsoWatched_, watched_;
    std::unique_ptr<LaneLogs> laneLogs_;
    std::unique_ptr<FunctionTimes> functionTimes_;
    std::size_t tapeBytes_;
    std::size_t laneBytes_ = 0, logBytes_ = 0;  // of which so much is taken by what lanes have said, and by that and what functions had
    struct Misread {
        std::string lane;
        Finding finding;
        Time known{};  // when it was over
    };
    std::vector<Misread> misread_;  // what lanes have said that their protocols do not know, each lane once
    std::vector<Finding> recorded_;      // of a recording that was opened: what lies ahead is noticed already
    bool onlyLooked_ = false;            // such a recording cannot be run again from its beginning
    std::chrono::steady_clock::duration unremembered_{};  // work done since the last moment was remembered
    std::map<bench::PinRef, tape::Waveform> waveforms_;
    std::map<std::uint32_t, std::vector<tape::Waveform*>> waveformsOfNet_;
    std::shared_ptr<const tape::Capture> capture_;
    Duration captureShift_{};
    std::vector<std::vector<std::uint32_t>> vcdOfNet_;
    std::map<std::string, std::uint64_t> eepromSaved_;  // revision on disk, by chip
};

// While one stands, the session runs through what is known already.
class Session::Replay {
public:
    explicit Replay(Session& session) : session_(session), before_(std::exchange(session.building_, true)) {}
    ~Replay() { session_.building_ = before_; }
    Replay(const Replay&) = delete;
    Replay& operator=(const Replay&) = delete;

private:
    Session& session_;
    bool before_;
};

}  // namespace bramix::session
