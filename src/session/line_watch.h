// Notices what breaks a line's protocol, wherever the tape's window stands: follows the tape with a decoder for each lane that reads, a little at a time.
//
// Where a line is so busy that it cannot be followed, what lies between is passed over.
// Tested by tests/session/read_lanes_test.cpp.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "session/read_lanes.h"

namespace bramix::session {

class LineWatch {
public:
    // Goes on with these lanes, by at most so many edges of each. `wrong` hears what does not fit.
    void follow(const Session& session, const std::vector<std::string>& lanes, std::size_t mostEdges, const std::function<void(const std::string& lane, const tape::Decoded& item)>& wrong);
    void clear() { lines_.clear(); }

private:
    struct Line {
        std::unique_ptr<tape::Decoder> decoder;
        Time at{};              // read up to here
        Time sure{};            // the decoder has found its feet from here on
        std::uint64_t course = 0;
        std::vector<tape::Decoded> wrong;
    };
    std::map<std::string, Line> lines_;
};

}  // namespace bramix::session
