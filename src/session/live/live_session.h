// A session in a thread of its own. The window never waits for it: what a person does goes in as messages, applied between slices
// of at most a few milliseconds; what there is to see comes out as a Picture at most 60 times a second.
//
// Paced at the wall clock, or as fast as the machine allows. A bench that cannot be built leaves the last good one running; its
// trouble comes out as a message.
// Invariant: the session inside is touched by the thread alone.
// Tested by tests/session/session_test.cpp.
#pragma once

#include <atomic>
#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <optional>
#include <thread>

#include "kernel/progress.h"
#include "session/live/picture.h"
#include "session/debugger/debugger.h"
#include "session/gdb/gdb_server.h"
#include "session/session.h"
#include "session/lanes/tape_search.h"

namespace bramix::session {

// One line for the person at the window.
struct Message {
    bool error = false;
    std::string text;
};

// What an expression stood for at an instant.
struct Sample {
    std::uint32_t index = 0;  // of the expression in watchValues()
    Time at{};
    double value = 0;
};

class LiveSession {
public:
    static constexpr std::size_t kTapeBytes = 256U << 20U;  // some 200 million edges, where nothing else is said

    explicit LiveSession(const bench::Catalogue& catalogue);
    ~LiveSession();
    LiveSession(const LiveSession&) = delete;
    LiveSession& operator=(const LiveSession&) = delete;

    // A new bench, at time zero, paused. `folder` is where relative firmware paths begin.
    void open(const bench::Document& document, const std::string& folder);
    // The same bench, changed.
    // Files outside the bench's folder that a person has chosen; all others are not opened. Before open() and edit().
    void allow(std::vector<std::string> files);
    // Where it cannot be built the bench stands still, and says so (Picture::notBuilt), until it can. `folder`: of its file, where that has moved.
    void edit(const bench::Document& document, const std::string& folder = {});
    void run();
    // Pauses by itself when so much more time has gone by, to the picosecond, unless something stops it before.
    void runFor(Duration span);
    void pause();
    // Stepping, and what one step is.
    void step(Step step = Step::instruction);
    // The same, again and again, so many a second, until paused.
    void slowRun(Step step, double perSecond);
    void runTo(const bench::StopItem& once);
    void back(Step step);
    void backToStop();
    void backToChange(const std::string& what);
    void goTo(Time t);
    // The same while a hand drags: of several that have not been got round to, only the last counts.
    void drag(Time t);
    void setStops(const std::vector<bench::StopItem>& stops);
    void enterInterrupts(bool enter);
    // Counts cycles by instruction from now on, which slows the run; off: the counts stay until it is switched on again.
    void countCycles(bool on);
    void watchDebug(const DebugRequest& request);
    // Sets what an expression stands for, in the frame that is looked at; or a byte of memory.
    void assign(const std::string& expression, const std::string& value);
    void poke(debug::Space space, std::uint32_t address, std::uint8_t value);
    // A debugger from outside, by the GDB remote protocol: it has come, its bytes, it has gone. While it is there it alone runs and stops.
    void gdbCame();
    void gdbBytes(const std::string& bytes);
    void gdbGone();
    // What is to be sent to it. `left`: it has said goodbye.
    [[nodiscard]] std::string takeGdb(bool& left);
    void restart();
    void setFullSpeed(bool full);
    void setControl(const std::string& part, const std::string& control, double value);
    void replacePart(const std::string& part);
    void send(const std::string& uart, const std::string& bytes);
    // Bytes that have been sent to all lines together and have not gone out yet. Who sends without end waits while there are many.
    [[nodiscard]] std::size_t unsent() const { return queued_ + onLines_; }
    void loadFirmware(const std::string& chip, const std::string& file);
    void watchTape(const TapeRequest& request);
    // The nearest place on the tape that a search finds; handed to `done` on the session's thread.
    void search(const TapeQuery& query, std::function<void(Result<std::optional<TapeHit>>)> done);
    // What a decoder lane has to say between two instants, up to `most` items; handed to `done` on the session's thread.
    void readAll(const std::string& lane, Time from, Time to, std::size_t most, std::function<void(Result<std::vector<tape::Decoded>>)> done);
    // Why an edge of a pin came, at that very instant; handed to `done` on the session's thread.
    void whyEdge(const bench::PinRef& pin, Time at, std::function<void(EdgeStory)> done);
    // Where a line ("lock.c:42") or function has made edges, and how many.
    void edgesMadeBy(const std::string& place, std::function<void(std::vector<MadeEdges>)> done);
    // A capture from elsewhere as lanes beside the run's ("capture NAME"), and how far it is moved on the time axis.
    void setCapture(std::shared_ptr<const tape::Capture> capture, Duration shift);
    // The edges of these pins between two instants as CSV, or as VCD if the file is called so; `done` gets the error, or nothing.
    void writeEdges(const std::string& file, const std::vector<bench::PinRef>& lanes, Time from, Time to, std::function<void(std::string)> done);
    // The whole recording in one file (recording.h); `done` gets the error, or nothing.
    void saveRecording(const std::string& file, std::function<void(std::string)> done);
    // Right after open() of the same bench: a recording becomes what lies ahead.
    void adopt(std::shared_ptr<Recording> recording);
    // How much memory the tape may take; the oldest is forgotten beyond.
    void setTapeBytes(std::size_t bytes);
    void watchScope(const ScopeRequest& request);
    // The part whose series resistor is worked out in each picture; empty: none.
    void watchPart(const std::string& part);
    // Measures these pins over the last `span`.
    void watchProbes(const std::vector<bench::PinRef>& pins, Duration span);

    // Expressions over a firmware's variables whose values are wanted after every slice of the run (every few milliseconds); those without a value just now are passed over.
    void watchValues(const std::vector<std::string>& expressions);
    [[nodiscard]] std::vector<Sample> takeSamples();

    // The latest picture; never null.
    [[nodiscard]] std::shared_ptr<const Picture> picture() const;
    // What has come since the last call, all of it before the picture that picture() then gives.
    [[nodiscard]] std::vector<SerialByte> takeSerial();
    [[nodiscard]] std::vector<Message> takeMessages();
    // What holds the thread up just now, if anything does: a long way through the past, a file that is written. Stopping ends it where it has come to, or
    // leaves the file as it was; the bench itself goes on.
    [[nodiscard]] std::optional<kernel::Progress::State> work() const { return progress_.state(); }
    void stopWork();
    // Waits until every message sent so far has been applied and a picture of it published. For tests and batch drawing.
    void settle();

private:
    using Command = std::function<void()>;

    void post(Command command);
    void countUnsent();
    void loop(const std::stop_token& stop);
    void applyCommands();
    void slice();
    void publish(bool always);
    void say(bool error, std::string text);
    void adoptSession(std::unique_ptr<Session> session);
    void build(const bench::Document& document, const std::string& folder);
    void fillPins(Picture& picture);
    void fillLights(Picture& picture);
    void wantVoltages();
    void fillScope(Picture& picture);
    void fillProbes(Picture& picture);
    void applyProbes();
    void fillParts(Picture& picture) const;
    void fillTape(Picture& picture);
    void fillSerialLanes(Picture& picture) const;
    void fillSerialLane(Picture& picture, std::size_t uart) const;
    void fillReads(Picture& picture);
    void fillEvents(Picture& picture) const;
    void fillDebug(Picture& picture);
    void sampleValues();
    void lookBack(std::chrono::steady_clock::duration budget);
    void fillCounts(CountPicture& counts) const;
    void publishStop();
    void rewound();
    void showSerial();
    void takeSerialBack();
    void attachCounts();
    void startMoving();
    [[nodiscard]] bool refuseFor(const char* what);
    void gdbSay(const std::string& bytes);
    void gdbFollow();
    template <class Call>
    void goBack(Call&& call);
    void beginWork(std::string what);
    void endWork();
    void rebase();
    void rehearse();

    const bench::Catalogue& catalogue_;
    std::atomic<std::size_t> queued_ = 0;   // bytes that wait in commands,
    std::atomic<std::size_t> onLines_ = 0;  // and for their turn on a line

    mutable std::mutex mutex_;  // guards the members down to the blank line
    std::condition_variable_any wake_;
    std::deque<Command> commands_;
    std::shared_ptr<const Picture> picture_ = std::make_shared<Picture>();
    std::vector<SerialByte> serial_;
    std::vector<Sample> samples_;
    std::string gdbOut_;
    bool gdbLeft_ = false;
    std::optional<Time> dragTo_;
    std::vector<Message> messages_;

    // Of the thread alone.
    std::unique_ptr<Session> session_;
    std::unique_ptr<Debugger> debugger_;  // goes before the session
    std::unique_ptr<GdbServer> gdb_;
    std::unique_ptr<Lookback> lookback_;  // looks into the past for lanes of the tape
    std::chrono::steady_clock::time_point nextLook_{};
    std::vector<bench::StopItem> stops_;
    DebugRequest look_;
    bool stepping_ = false;        // what runs is a step: not held to the wall clock
    std::optional<std::pair<Step, double>> slow_;
    std::chrono::steady_clock::time_point nextSlow_{};
    std::string reason_;
    std::map<std::string, std::string> valuesBefore_, valuesNow_;  // of variables, by path, at the last stop and at this one
    debug::Registers registersBefore_;
    RegisterBytes ioBefore_;
    std::vector<std::vector<std::uint8_t>> ramBefore_;  // by region of the device; of others than RAM empty
    std::uint64_t program_ = 0;
    std::shared_ptr<const std::vector<std::uint8_t>> code_;
    std::vector<std::unique_ptr<chip::CycleCounts>> counts_;  // by chip
    bool counting_ = false;
    bool running_ = false;
    std::optional<Time> until_;    // where the run pauses by itself
    bool fullSpeed_ = false;
    std::string stopped_;
    std::string notBuilt_;  // why the bench as drawn could not be built; empty where it could
    std::string folder_ = ".";
    std::atomic<bool> interrupt_{false};  // whatever the simulation does, it stops: the program ends, or a person does not want to wait
    std::atomic<bool> ending_{false};
    kernel::Progress progress_;
    std::vector<std::string> allowed_;
    TapeRequest tape_;
    std::size_t tapeBytes_ = kTapeBytes;
    LaneReader reader_;
    std::pair<std::shared_ptr<const tape::Capture>, Duration> capture_;  // for the next session, too
    std::vector<std::pair<Time, std::string>> marks_;  // what stops have said, in order of time
    ScopeRequest scope_;
    std::vector<bench::PinRef> probes_;
    std::vector<std::string> values_;
    std::vector<Finding> foreseen_;  // what the first moments of a run will bring
    std::string watchedPart_;
    Duration probeSpan_ = std::chrono::milliseconds(100);
    std::optional<Time> singleAt_;  // where the one trigger was
    Time singleSince_{};            // it was asked for then
    std::uint64_t pictures_ = 0;
    bool wholeSerial_ = false;       // a recording has just been opened: what lies ahead in it is shown too, until the present moves
    std::uint64_t serialShown_ = 0;  // number of the first byte that has not been given out
    bool changed_ = true;
    bool reading_ = false;  // lanes are read that have been added
    std::chrono::steady_clock::time_point wallBase_{};
    Time simBase_{};
    std::chrono::steady_clock::time_point lastPublish_{};
    Duration sliceSpan_ = std::chrono::microseconds(500);
    // For speeds: over the last half second.
    std::chrono::steady_clock::time_point speedSince_{};
    Time speedSimSince_{};
    double busySeconds_ = 0;
    double speed_ = 0;
    double capacity_ = 0;
    // For duties and mean currents: what the integrals were at the last picture.
    Time integralsAt_{};
    std::vector<double> highBefore_, chargeBefore_;
    std::vector<std::uint64_t> changesBefore_;
    std::vector<double> dutyLast_, ampsLast_;
    std::vector<bool> busyLast_;

    std::jthread thread_;  // last: everything above must be there before it runs
};

}  // namespace bramix::session
