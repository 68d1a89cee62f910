// Looking for something on the tape, forward or back from an instant.
//
//   rise    fall    edge                 of the lane that is chosen
//   < 5us   > 2ms   high < 5us  low > 1ms   a pulse of that lane, by its length
//   finding WORDS                        a finding with these words
//   by lock.c:42    by show_lamps        an edge of any line of the bench that this line or function has made
//   TIMER1_COMPA                         an interrupt, by its name or a part of it
//   48 65 6C    "Hel"    Hel             bytes or words on the serial lines, and in what decoder lanes read
//
// Tested by tests/session/lanes/read_lanes_test.cpp.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "session/lanes/read_lanes.h"

namespace bramix::session {

struct TapeQuery {
    std::string words;
    std::string lane;                    // the pin that edges and pulses are of, or empty
    std::vector<std::string> reads;      // decoder lanes that bytes are looked for in
    Time from{};
    bool forward = true;
};

struct TapeHit {
    Time at{};
    std::string what;  // "rises", "4.2 µs high", "uart0: Hello"
    bool more = false; // nothing was found up to here, where the search stopped so as not to take long; it can go on
};

// The nearest place beyond `from`; nothing where there is none. An error says what cannot be understood.
[[nodiscard]] Result<std::optional<TapeHit>> searchTape(Session& session, const TapeQuery& query);

// The instructions of a line ("lock.c:42") or function of any chip's firmware: chip by part of the bench, stretches of byte addresses. Empty: no such code.
struct CodeOfLine {
    std::uint16_t actor = 0;
    std::vector<debug::CodeRange> ranges;
    [[nodiscard]] bool has(std::uint32_t code, std::uint16_t by) const;
};
[[nodiscard]] std::vector<CodeOfLine> codeOfLine(Session& session, const std::string& place);

// The lines of the bench on which that code has made edges, and how many, as far as `most` edges in all.
struct MadeEdges {
    std::string net;
    std::size_t count = 0;
};
[[nodiscard]] std::vector<MadeEdges> edgesMadeBy(const Session& session, const std::vector<CodeOfLine>& code, std::size_t most);

}  // namespace bramix::session
