// Looking for something on the tape, forward or back from an instant.
//
//   rise    fall    edge                 of the lane that is chosen
//   < 5us   > 2ms   high < 5us  low > 1ms   a pulse of that lane, by its length
//   finding WORDS                        a finding with these words
//   TIMER1_COMPA                         an interrupt, by its name or a part of it
//   48 65 6C    "Hel"    Hel             bytes or words on the serial lines, and in what decoder lanes read
//
// Tested by tests/session/read_lanes_test.cpp.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "session/read_lanes.h"

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
};

// The nearest place beyond `from`; nothing where there is none. An error says what cannot be understood.
[[nodiscard]] Result<std::optional<TapeHit>> searchTape(const Session& session, const TapeQuery& query);

}  // namespace bramix::session
