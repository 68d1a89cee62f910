// What lines say: bytes, addresses, pulses, read from their edges as they come.
//
// A decoder is fed the edges of its lines in order of time, and gives out one item after another, each as soon as its end is known. It holds no more than
// the item in progress, so that it can listen for hours. Lines have roles, in the order of roles(); those whose name ends with "?" may be left out.
// What does not fit the protocol is an item too, with `good` false.
// Tested by tests/tape/decode_test.cpp against waveforms built from the protocols' own tables.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "kernel/result.h"
#include "kernel/time.h"

namespace bramix::tape {

using kernel::Duration;
using kernel::Time;

struct Decoded {
    Time from{}, to{};
    std::string what;         // "byte", "address", "start", "pixel", "pulse" ...
    std::uint64_t value = 0;
    std::string text;         // for a person: "0x3c write", "#ff8000", "1.5 ms, 90°"
    bool good = true;
    bool meaning = false;     // not what the line says, but what that means to the part that it goes to
    bool operator==(const Decoded&) const = default;
};

// Whether somebody should see it among much else: it breaks the protocol, or nobody has acknowledged it.
[[nodiscard]] inline bool standsOut(bool good, std::string_view text) { return !good || text.ends_with(", nack"); }

class Decoder {
public:
    virtual ~Decoder() = default;

    // The line of a role has another level. Before its first edge a line is taken to stand as idle() says.
    virtual void edge(std::size_t role, bool level, Time at) = 0;
    // Nothing more will come up to this instant: gives out what is complete by then.
    virtual void finish(Time /*at*/) {}
    // One that stands where this one stands, in the midst of whatever comes, and that nobody hears yet.
    [[nodiscard]] virtual std::unique_ptr<Decoder> copy() const = 0;

    std::function<void(const Decoded&)> out;

protected:
    void put(Time from, Time to, std::string what, std::uint64_t value, std::string text, bool good = true) const
    {
        if (out)
            out({from, to, std::move(what), value, std::move(text), good});
    }
};

struct DecoderKind {
    std::string name;                              // "i2c"
    std::vector<std::string> roles;                // "SDA", "SCL"
    std::map<std::string, std::string> options;    // with what they are if not given
    std::size_t clock = SIZE_MAX;                  // the role that tells when the others count; SIZE_MAX: none
    std::vector<std::string> carriers;             // those of its items whose values are what is sent, one after the other
};

// Of one that there is, or null.
[[nodiscard]] const DecoderKind* decoderKind(const std::string& name);

// Those that there are.
[[nodiscard]] const std::vector<DecoderKind>& decoderKinds();

// A decoder by name; options that it does not have, or values that make no sense, are errors that say what was expected.
[[nodiscard]] kernel::Result<std::unique_ptr<Decoder>> makeDecoder(const std::string& name, const std::map<std::string, std::string>& options);

// A specification as a person writes it, and what is meant by it: "uart:mcu.PD1,baud=9600", "i2c:SDA=mcu.PC4,SCL=mcu.PC5". A line without a role takes the next free one.
struct DecoderSpec {
    std::string kind;
    std::vector<std::string> lines;  // by role; empty where one that may be left out is
    std::map<std::string, std::string> options;
};
[[nodiscard]] kernel::Result<DecoderSpec> parseDecoderSpec(const std::string& text);

}  // namespace bramix::tape
