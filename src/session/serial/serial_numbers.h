// Numbers in lines of text, as curves: "level: 3.2 m", "level=3.2 flow=0.5", "12, 34, 56", columns under a header, or words and numbers in turn.
//
// What a line means is decided line by line: names with a number behind them; or numbers only, whose names are those of the last line that had as many words and no number, or
// "1", "2" ... A unit behind a number is passed over, but for its prefix: none is applied, a curve shows the figure as it was printed.
// Tested by tests/session/serial/serial_text_test.cpp.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace bramix::session {

struct NamedNumber {
    std::string name;
    double value = 0;
    bool operator==(const NamedNumber&) const = default;
};

class NumberReader {
public:
    // The numbers of one complete line, in their order; none where it is just talk.
    [[nodiscard]] std::vector<NamedNumber> read(std::string_view line);
    void clear() { header_.clear(); }

private:
    std::vector<std::string> header_;
};

}  // namespace bramix::session
