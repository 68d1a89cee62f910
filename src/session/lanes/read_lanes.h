// Lanes of the tape that show more than a pin's level: what lines say, voltages, several pins as one number, interrupts.
//
// A lane is a text, as it stands in the bench file and as a person types it:
//   mcu.PB3                           a pin (which is drawn from the tape directly)
//   i2c:SDA=mcu.PC4,SCL=mcu.PC5       a decoder of tape/decode.h and its lines
//   volts mcu.PC0                     a voltage
//   value mcu.PD4 mcu.PD5 mcu.PD6     pins as a number in hex, the first the lowest bit
//   interrupts mcu                    which interrupt runs
//   functions mcu                     which function runs, those that called it below, or how much each had (session/lanes/function_lane.h)
//   variable mcu gates[0].cm          what a variable was, found by going through it once more (session/replay/lookback.h)
//   variable mcu sum in mean          a local of a function
//   capture gate.open                 a signal of a capture that was read in (tape/vcd_read.h)
//   group Motor, folded Motor         a heading over the lanes that follow it, which shows them or not; it reads nothing itself
//   usual                             those of usualReadLanes(), in a list of lanes
// Tested by tests/session/lanes/read_lanes_test.cpp.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "session/replay/lookback.h"
#include "session/session.h"

namespace bramix::session {

struct LaneSpec {
    enum class Kind : std::uint8_t { pin, decoded, volts, value, interrupts, functions, variable, capture, group } kind = Kind::pin;
    std::vector<bench::PinRef> pins;  // of a decoder: by role; an empty one for a role without a line
    tape::DecoderSpec decoder;
    std::string chip;                 // or the signal of a capture, or the name of a group
    std::string variable;             // an expression
    bool folded = false;              // of a group
};

// An error says what was expected. That parts and pins are there is not looked at.
[[nodiscard]] Result<LaneSpec> parseLane(const std::string& text);

// What a function of a chip had of some time.
struct FunctionShare {
    enum class Kind : std::uint8_t { function, interrupt, asleep, inReset } kind = Kind::function;
    std::string name;
    double seconds = 0;
};

// What such a lane shows in a window of time.
struct ReadLane {
    std::string text;    // the lane
    std::string name;    // "i2c"
    std::string lines;   // what it reads
    std::string trouble; // why it shows nothing, or empty
    std::vector<tape::Decoded> items;         // what was read, or which interrupt, or which number
    std::vector<tape::Decoded> meaning;       // what that says to the part that it goes to (part_language.h)
    bool speaks = false;                      // there is such a part
    bool crowded = false;                     // too much to be told one by one: zoom in
    std::vector<tape::Column> columns;        // where something goes on all the same: 1 while it does
    std::vector<Time> outstanding;            // and where something stands out there: it breaks the protocol, or nobody acknowledged it
    std::vector<Time> edges;                  // of a capture, where they are few
    std::vector<tape::WaveColumn> wave;       // of a voltage, or of a variable that has too many values to be told one by one
    double low = 0, high = 0;                 // and its bounds in the window
    std::vector<std::uint8_t> depths;         // of functions: how deep each item stands; else empty
    std::size_t rows = 1;                     // the deepest of them and one
    // Of functions in a long window, in place of items: who had how much of each column, and who they are, those first that had the most.
    struct Share {
        std::uint32_t column = 0;
        std::uint16_t function = 0;  // index
        float part = 0;              // of the column, 0 to 1
    };
    std::vector<FunctionShare> functions;
    std::vector<Share> shares;
    Duration every{};                         // of a variable that moves by itself: how often it was looked at; else zero
    Time knownTo = kernel::kNever;            // what is being looked for still is known up to here
};

struct Window {
    Time from{}, to{};
    std::size_t columns = 0;
    bool operator==(const Window&) const = default;
};

// Works lanes out, and does not again while neither they nor the tape have changed.
class LaneReader {
public:
    // `lookback` is asked for what was not recorded, and shows what it has found by now.
    void read(Session& session, Lookback& lookback, const std::vector<std::string>& lanes, const Window& window, std::vector<ReadLane>& out);
    // Forgets what was worked out: another session.
    void clear() { kept_.clear(); }

private:
    struct Kept {
        Window window;
        std::size_t edges = 0;   // of its lines, within reach
        std::uint64_t items = 0; // that they have said, where that is known
        std::shared_ptr<const ReadLane> lane;
    };
    std::map<std::string, Kept> kept_;
    std::uint64_t looks_ = 0;
};

// In a list of lanes: all those that a bench has by itself (usual_lanes.h).
inline constexpr std::string_view kUsualLanes = "usual";

// Everything that a decoder lane has to say from one instant to another, at most `most` items; the first that did not fit is the last of them cut off.
// What it says to the parts that it goes to stands among them. Of a lane that the session reads (lane_logs.h) what it has said is taken as it stands.
[[nodiscard]] Result<std::vector<tape::Decoded>> readAll(const Session& session, const std::string& lane, Time from, Time to, std::size_t most);

// Decodes such a lane from `from` on, through at most `mostEdges` edges, and gives item by item to `take` until that says no. Where it has come to: `to`, or earlier. What the session
// has kept of the lane is not asked.
[[nodiscard]] Result<Time> decodeLane(const Session& session, const std::string& lane, Time from, Time to, std::size_t mostEdges, const std::function<bool(const tape::Decoded&)>& take);

// Who brought an edge about: "mcu: lock.c:42 openGate", "key1", or empty.
[[nodiscard]] std::string causeOf(const Session& session, const tape::Edge& edge);

}  // namespace bramix::session
