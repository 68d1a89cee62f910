// Notices what breaks a line's protocol, wherever the tape's window stands: follows the tape with a decoder for each lane that reads, a little at a time.
//
// Where a line is so busy that it cannot be followed at so many edges a piece, what lies between is passed over.
// Tested by tests/session/usual_lanes_test.cpp.
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
    // Goes on with these lanes up to the present, by at most so many edges of each; those that are no decoders are passed over. `wrong` hears what does not fit. False: there
    // was nothing left to look at.
    bool follow(const Session& session, const std::vector<std::string>& lanes, std::size_t mostEdges, const std::function<void(const std::string& lane, const tape::Decoded& item)>& wrong);
    // Forgets where it stands: other wiring.
    void clear() { lines_.clear(); }

private:
    struct Line {
        LaneSpec spec;
        std::vector<tape::ChannelId> channels;
        std::unique_ptr<tape::Decoder> decoder;
        Time at{};              // read up to here
        Time sure{};            // the decoder has found its feet from here on
        std::uint64_t course = 0;
        std::vector<tape::Decoded> wrong;
    };
    std::map<std::string, Line> lines_;
};

}  // namespace bramix::session
