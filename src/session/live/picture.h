// A picture of a running bench: everything that the views need to draw one frame, published whole and never changed.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "bench/document.h"
#include "bench/finding.h"
#include "bench/series_resistor.h"
#include "circuit/circuit.h"
#include "parts/part.h"
#include "session/live/debug_picture.h"
#include "session/lanes/read_lanes.h"
#include "tape/decode.h"
#include "tape/measure.h"
#include "tape/tape.h"
#include "tape/waveform.h"

namespace bramix::session {

struct PinPicture {
    circuit::NetState state = circuit::NetState::floating;
    bool busy = false;    // changes faster than the eye follows
    circuit::Drive drive; // what it does to its net by itself
    double duty = 0;      // share of time high since the picture before
    double volts = 0;
    double amps = 0;      // out of the pin into the net
    std::optional<double> into;  // by this lead into its part, of one that is looked at closely
    bool drives = false;  // strongly
    double limitAmps = 0;      // absolute maximum; 0 where none is known
    double togetherAmps = 0;   // what the pins of its chip carry together, in or out, whichever is more
    double togetherLimit = 0;
    int adcCount = -1;         // what a conversion would give just now; -1 for a pin that is no analog input
    double adcReference = 0;   // volts
    bool pullsUp = false;
    bool supply = false;
    std::string net;
};

struct LightPicture {
    std::string part;
    std::string inner;
    std::string color;
    double amps = 0;        // mean since the picture before
    double brightness = 0;  // 0..1 as the eye sees it
};

// What a part does just now.
struct PartPicture {
    bool measured = false;  // has a current of its own
    double amps = 0;
    double watts = 0;
    bool dead = false;      // burnt through
    std::string face;       // what it shows itself
    parts::Part::Dots dots;
    std::optional<double> angle;  // of what turns
    std::optional<bench::SeriesPath> series;  // of an LED: the resistor that sets its current
};

struct ChipPicture {
    std::string id;
    std::string chip;
    std::uint32_t pc = 0;  // byte address
    std::string place;     // "lock.c:42"
    std::int64_t cycles = 0;
    std::uint64_t clockHz = 0;  // cycles a second
    bool sleeping = false;
    bool inReset = false;
    double amps = 0;      // from its supply, its pins' currents included
    double coulombs = 0;  // taken for itself since power-up
    std::string firmwareFile;
    unsigned clocksPerCycle = 1;  // of its oscillator
};

struct UartPicture {
    std::string name;
    bool on = false;
    double baud = 0;
    std::string format;  // "8N1"
};

struct LanePicture {
    std::string name;  // as it was asked for: "part.pin"
    tape::State before = 2;
    std::vector<tape::Column> columns;
    // The edges themselves with what caused them, where they are few enough to be told apart.
    struct Edge {
        kernel::Time at{};
        tape::State state = 2;
        std::string cause;
    };
    std::vector<Edge> edges;
};

// Characters close together on a serial line. Without text where there are too many to be read.
struct SerialRun {
    kernel::Time from{}, to{};
    std::string text;
};

// Why an edge came: who did it, and what led there.
struct EdgeStory {
    std::vector<std::string> lines;  // for a person, the first says who
    std::string chip;                // where the code is that did it; empty where no code did
    std::string place;               // "lock.c:42"
};

// Something that happened on the bench, for the ruler of the tape.
struct TapeEvent {
    enum class Kind : std::uint8_t { input, finding, mark } kind{};
    kernel::Time at{};
    std::string text;
    bool grave = false;  // a finding that is an error
};

// What the oscilloscope is to show: a window of `span` around a trigger, or the latest.
struct ScopeRequest {
    std::vector<bench::PinRef> channels;
    kernel::Duration span = std::chrono::milliseconds(10);
    std::size_t columns = 0;
    std::optional<std::size_t> trigger;  // a channel; none: the latest
    double level = 2.5;
    bool rising = true;
    double before = 0.25;   // share of the window before the trigger
    std::uint64_t single = 0;  // each new number waits for one trigger and stays there; 0: goes on
};

struct ScopeChannel {
    std::string name;
    std::vector<tape::WaveColumn> columns;
    std::optional<tape::WaveMeasures> measures;
};

struct ScopePicture {
    kernel::Time from{}, to{};
    bool triggered = false;
    bool waiting = false;      // for the one trigger
    kernel::Time trigger{};
    std::vector<ScopeChannel> channels;
};

struct Picture {
    std::uint64_t number = 0;
    kernel::Time now{};
    bool powered = false;  // there is a world at all
    bool running = false;
    double speed = 0;      // simulated seconds a second, of late
    double capacity = 0;   // what it would be without pacing
    bool atFullSpeed = false;
    std::string stopped;   // why it cannot go on, or empty
    std::string notBuilt;  // why what is drawn is not what is there: the bench stands still as long as this says something
    std::map<bench::PinRef, PinPicture> pins;
    std::vector<LightPicture> lights;
    std::map<std::string, double> controls;  // "part.control"
    std::map<std::string, PartPicture> parts;
    std::vector<ChipPicture> chips;
    std::vector<UartPicture> uarts;
    std::vector<bench::Finding> findings;
    kernel::Time tapeFrom{}, tapeTo{}, tapeKnownFrom{};
    std::vector<LanePicture> lanes;
    std::vector<ReadLane> reads;        // in the order in which they were asked for
    std::optional<tape::PulseMeasures> measured;  // between the marks, of the lane that was asked for
    std::vector<FunctionShare> measuredFunctions; // the same of a lane of functions
    std::vector<TapeEvent> events;      // in the window; the first few hundred
    // What the UARTs have said, out of the chip; those that have said something.
    struct SerialLane {
        std::string name;
        std::vector<SerialRun> runs;
    };
    std::vector<SerialLane> serialLanes;
    kernel::Time latest{};              // what is known reaches so far; the present may lie before it
    ScopePicture scope;
    std::map<bench::PinRef, tape::WaveMeasures> probes;  // over the last probeSpan
    kernel::Duration probeSpan{};
    DebugPicture debug;
};

// What the tape view shows just now.
struct TapeRequest {
    std::vector<bench::PinRef> lanes;
    std::optional<std::vector<std::string>> reads;  // lanes of session/lanes/read_lanes.h; none: the usual ones
    bool follow = true;             // `to` is the present
    // Marks, and the lane that is measured between them.
    std::optional<bench::PinRef> measure;
    std::string measureFunctions;   // or the chip whose functions are
    kernel::Time measureFrom{}, measureTo{};
    kernel::Time from{}, to{};
    std::size_t columns = 0;
};

}  // namespace bramix::session
