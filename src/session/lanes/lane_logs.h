// What the decoder lanes of a session have said, kept while the run goes on: shown at any zoom, searched like edges, listed without reading the lines again; and noticed at
// once where it breaks a protocol, wherever the tape's window stands.
//
// Each lane is followed by a decoder of its own, a little at a time, and by the language of the parts that it goes to (part_language.h). Now and then both are copied as they stand, so
// that when the run takes another course they go on from before it as if nothing had been.
// Invariant: what a log holds is what a decoder says that hears the tape's edges from their beginning, however the run came there.
// Tested by tests/session/lanes/lane_logs_test.cpp and, through everything that a person may do to a run, tests/session/random_hands_test.cpp.
#pragma once

#include <bitset>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "session/lanes/part_language.h"
#include "session/lanes/read_lanes.h"
#include "tape/read_log.h"

namespace bramix::session {

// Calls on a two-wire bus that nobody answers, however its master works: the third in a row to one address that has never answered. A memory that is writing
// has answered before, and a search calls each address once.
class BusCalls {
public:
    // Whether this item is such a third call.
    [[nodiscard]] bool take(const tape::Decoded& item);

private:
    static constexpr unsigned kInARow = 3;
    std::bitset<128> answered_;
    std::uint64_t address_ = UINT64_MAX;
    unsigned times_ = 0;
};

class LaneLog {
public:
    using Take = std::function<void(const tape::Decoded&)>;

    LaneLog(const Session& session, LaneSpec spec);

    // Goes on with what the tape holds, by at most so many edges. `wrong` hears what does not fit the protocol, once the decoder has found its feet, and calls that nobody answers. False: there was nothing left.
    bool follow(const tape::Tape& tape, Time to, std::size_t mostEdges, const Take& wrong);
    // What came after this is no more.
    void dropAfter(Time t);
    [[nodiscard]] const tape::ReadLog& items() const { return log_; }
    void forgetOldest();

    // Whether this is one of the same lines, read in the same way, whatever pins they are named by.
    [[nodiscard]] bool reads(const LaneLog& other) const { return spec_.kind == other.spec_.kind && spec_.options == other.spec_.options && channels_ == other.channels_; }
    // Whether its parts' language is in it too.
    [[nodiscard]] bool speaks() const { return language_ != nullptr; }
    // All that begins after this and was known up to at() is among the items.
    [[nodiscard]] Time knownFrom() const { return std::max(begin_, log_.forgottenTo()); }
    [[nodiscard]] Time at() const { return at_; }
    // Edges of its lines between there and an instant.
    [[nodiscard]] std::size_t edgesTo(const tape::Tape& tape, Time to) const;
    // What the lines say from there on, up to an instant; what is under way then is read as far as it has come.
    void tail(const tape::Tape& tape, Time to, const Take& take) const;
    [[nodiscard]] std::size_t bytes() const { return log_.bytes() + marks_.size() * kMarkBytes; }

private:
    // Decoder and language as they stood when everything up to an instant had been heard.
    struct Mark {
        Time at{};
        std::uint64_t number = 0;  // of the next item
        std::unique_ptr<tape::Decoder> decoder;
        std::unique_ptr<PartLanguage> language;
        BusCalls calls;
    };
    static constexpr std::size_t kMarkBytes = 512;  // about

    void begin(const tape::Tape& tape);
    void findNext(const tape::Tape& tape);
    void mark();
    static void connect(tape::Decoder& decoder, PartLanguage* language, const Take& take);

    tape::DecoderSpec spec_;
    std::vector<tape::ChannelId> channels_;
    std::vector<PartLanguage::Device> devices_;
    std::size_t clock_ = SIZE_MAX;  // the line that tells when the others count
    std::unique_ptr<tape::Decoder> decoder_;  // null before the first edge is heard
    std::unique_ptr<PartLanguage> language_;  // null where no part speaks
    BusCalls calls_;
    tape::ReadLog log_;
    Time begin_{}, at_{};
    std::size_t heard_ = 0, heardAtMark_ = 0;  // edges
    // By line: the index of its first edge after at_, while the tape's edges have the indices that they had.
    std::vector<std::size_t> next_;
    std::uint64_t generation_ = 0;
    std::vector<Mark> marks_;
    std::vector<tape::Decoded> wrong_;
};

class LaneLogs {
public:
    // Goes on with these lanes up to just before what the session knows last, by at most so many edges of all together; those that are no decoders are passed over, and
    // others are forgotten. False: there was nothing left to look at.
    bool follow(const Session& session, const std::vector<std::string>& lanes, std::size_t mostEdges, const std::function<void(const std::string& lane, const tape::Decoded& item)>& wrong);
    void dropAfter(Time t);
    // What a lane has said; null of one that is not followed.
    [[nodiscard]] const LaneLog* find(const std::string& lane) const;
    // The oldest is forgotten where all together are more.
    void setBound(std::size_t bytes) { bound_ = bytes; }
    [[nodiscard]] std::size_t bytes() const;
    // Other wiring.
    void clear() { lanes_.clear(); }

private:
    std::map<std::string, std::shared_ptr<LaneLog>> lanes_;  // null: no decoder; lanes that read the same have the same
    std::size_t bound_ = SIZE_MAX;
};

}  // namespace bramix::session
