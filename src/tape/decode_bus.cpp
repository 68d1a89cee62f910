// Buses with a clock, and the one wire that is its own.
#include <algorithm>
#include <optional>
#include <string_view>

#include <fmt/format.h>

#include "tape/decode_kinds.h"

namespace bramix::tape {

namespace {

// Bytes are many.
std::string hex(std::uint64_t byte)
{
    static constexpr std::string_view kDigits = "0123456789abcdef";
    return {'0', 'x', kDigits[byte >> 4U & 15U], kDigits[byte & 15U]};
}

// NXP UM10204: data hold while SCL is high; a change of SDA then is a start (falling) or a stop (rising).
class TwoWireDecoder final : public CopiedDecoder<TwoWireDecoder> {
public:
    void edge(std::size_t role, bool level, Time at) override
    {
        if (role == 0) {
            sda_ = level;
            if (scl_)
                condition(at);
            return;
        }
        if (level != scl_ && open_)
            clockLow(level, at);
        scl_ = level;
        if (level && open_)
            bit(at);
    }

private:
    // Between two bits of a byte the clock is low for as long as its speed says. Longer: somebody holds it, who is not ready yet.
    void clockLow(bool ends, Time at)
    {
        if (!ends) {
            fell_ = at;
            return;
        }
        const Duration low = at - fell_;
        if (lows_ > 2 && low > 4 * shortestLow_)
            put(fell_, at, "stretch", static_cast<std::uint64_t>(low.count() / 1000), fmt::format("clock held low for {:.3g} us", kernel::seconds(low) * 1e6));
        shortestLow_ = lows_ == 0 ? low : std::min(shortestLow_, low);
        ++lows_;
    }

    void condition(Time at)
    {
        // The clock's rise before a start or stop has been taken for a bit: that one is none.
        if (open_ && bits_ > 1)
            put(first_, at, "incomplete", byte_, fmt::format("{} of 9 bits", bits_ - 1), false);
        if (!sda_) {
            put(at, at, open_ ? "restart" : "start", 0, open_ ? "restart" : "start");
            open_ = true;
            address_ = true;
            lows_ = 0;
        } else {
            if (open_)
                put(at, at, "stop", 0, "stop");
            open_ = false;
        }
        bits_ = 0;
        byte_ = 0;
    }

    void bit(Time at)
    {
        if (bits_ == 0)
            first_ = at;
        if (bits_ < 8) {
            byte_ = byte_ << 1U | (sda_ ? 1U : 0U);
            ++bits_;
            return;
        }
        // UM10204, 3.1.6: who reads does not acknowledge the last byte that it wants.
        const char* const answer = !sda_ ? ", ack" : !address_ && reading_ ? ", last" : ", nack";
        if (address_)
            reading_ = (byte_ & 1U) != 0;
        if (address_)
            put(first_, at, "address", byte_ >> 1U, hex(byte_ >> 1U) + ((byte_ & 1U) != 0 ? " read" : " write") + answer);
        else
            put(first_, at, "byte", byte_, hex(byte_) + answer);
        address_ = false;
        bits_ = 0;
        byte_ = 0;
    }

    Time fell_{};
    Duration shortestLow_{};  // of this transfer
    unsigned lows_ = 0;
    bool sda_ = true, scl_ = true;
    bool open_ = false;
    bool address_ = false, reading_ = false;
    unsigned bits_ = 0;
    unsigned byte_ = 0;
    Time first_{};
};

class SpiDecoder final : public CopiedDecoder<SpiDecoder> {
public:
    SpiDecoder(unsigned mode, bool lsbFirst) : idleHigh_((mode & 2U) != 0), samplesOnRise_(mode == 0 || mode == 3), lsbFirst_(lsbFirst), sck_(idleHigh_) {}

    void edge(std::size_t role, bool level, Time at) override
    {
        switch (role) {
        case 1: mosi_ = level; return;
        case 2: miso_ = level; return;
        case 3:
            if (bits_ != 0)
                put(first_, at, "incomplete", out_, fmt::format("{} of 8 bits", bits_), false);
            bits_ = 0;
            if (hasSelect_ && selected_ != !level)
                put(at, at, level ? "release" : "select", 0, level ? "release" : "select");
            hasSelect_ = true;
            selected_ = !level;
            return;
        default: break;
        }
        const bool rises = level && !sck_;
        const bool changes = level != sck_;
        sck_ = level;
        if (!changes || rises != samplesOnRise_ || (hasSelect_ && !selected_))
            return;
        if (bits_ == 0) {
            first_ = at;
            out_ = in_ = 0;
        }
        const auto shift = [this](unsigned byte, bool bit) { return lsbFirst_ ? byte >> 1U | (bit ? 0x80U : 0U) : (byte << 1U | (bit ? 1U : 0U)) & 0xFFU; };
        out_ = shift(out_, mosi_);
        in_ = shift(in_, miso_);
        if (++bits_ == 8) {
            put(first_, at, "byte", out_, hex(out_) + " out, " + hex(in_) + " in");
            bits_ = 0;
        }
    }

private:
    const bool idleHigh_, samplesOnRise_, lsbFirst_;
    bool sck_;
    bool mosi_ = false, miso_ = true;
    bool hasSelect_ = false, selected_ = false;
    unsigned bits_ = 0;
    unsigned out_ = 0, in_ = 0;
    Time first_{};
};

// Maxim's application note 126: reset at least 480 us low, presence 60 to 240 us low, slots sampled 15 us after they begin, lowest bit first.
class OneWireDecoder final : public CopiedDecoder<OneWireDecoder> {
public:
    void edge(std::size_t, bool level, Time at) override
    {
        using namespace std::chrono_literals;
        if (!level) {
            fell_ = at;
            return;
        }
        if (!fell_)
            return;
        const Duration low = at - *fell_;
        if (low >= 400us) {
            // No error: a reset ends whatever goes on, single slots that ask whether a part is ready too (DS18B20 datasheet, "Initialization", "Convert T").
            if (bits_ != 0)
                put(first_, *fell_, "incomplete", byte_, fmt::format("{} of 8 bits", bits_));
            bits_ = 0;
            put(*fell_, at, "reset", 0, "reset", low >= 480us);
            reset_ = at;
        } else if (reset_ && low >= 50us && *fell_ - *reset_ <= 100us) {
            put(*fell_, at, "presence", 0, "present");
            reset_.reset();
        } else if (low > 120us) {
            put(*fell_, at, "slot", 0, "held too long", false);
        } else {
            reset_.reset();
            if (bits_ == 0) {
                first_ = *fell_;
                byte_ = 0;
            }
            byte_ |= (low < 15us ? 1U : 0U) << bits_;
            if (++bits_ == 8) {
                put(first_, at, "byte", byte_, hex(byte_));
                bits_ = 0;
            }
        }
    }

private:
    std::optional<Time> fell_;
    std::optional<Time> reset_;  // when it was let go; whoever is there answers soon after
    unsigned bits_ = 0;
    unsigned byte_ = 0;
    Time first_{};
};

// A frame of 32 bits a light, 111 and five bits of brightness first, then blue, green, red; 32 zeros begin anew.
class ClockedPixelDecoder final : public CopiedDecoder<ClockedPixelDecoder> {
public:
    void edge(std::size_t role, bool level, Time at) override
    {
        if (role == 1) {
            data_ = level;
            return;
        }
        if (!level)
            return;
        if (bits_ == 0)
            first_ = at;
        word_ = word_ << 1U | (data_ ? 1U : 0U);
        zeros_ = data_ ? 0 : zeros_ + 1;
        if (zeros_ == 32) {
            put(first_, at, "begin", 0, "begin");
            bits_ = 0;
            begun_ = true;
            return;
        }
        if (++bits_ < 32)
            return;
        bits_ = 0;
        const auto word = static_cast<std::uint32_t>(word_);
        if (begun_ && word >> 29U == 7)
            put(first_, at, "pixel", word & 0xFFFFFFU, fmt::format("#{:02x}{:02x}{:02x} at {} of 31", word & 0xFFU, word >> 8U & 0xFFU, word >> 16U & 0xFFU, word >> 24U & 31U));
        else
            begun_ = false;  // the end, or something else
    }

private:
    bool data_ = false;
    bool begun_ = false;
    unsigned bits_ = 0, zeros_ = 0;
    std::uint64_t word_ = 0;
    Time first_{};
};

}  // namespace

MadeDecoder makeTwoWireDecoder(const Options&) { return std::make_unique<TwoWireDecoder>(); }

MadeDecoder makeSpiDecoder(const Options& o)
{
    const std::string &mode = o.at("mode"), &order = o.at("order");
    if (mode.size() != 1 || mode[0] < '0' || mode[0] > '3')
        return kernel::fail("spi", fmt::format("mode \"{}\"; expected 0 to 3", mode));
    if (order != "msb" && order != "lsb")
        return kernel::fail("spi", fmt::format("order \"{}\"; expected msb or lsb", order));
    return std::make_unique<SpiDecoder>(static_cast<unsigned>(mode[0] - '0'), order == "lsb");
}

MadeDecoder makeOneWireDecoder(const Options&) { return std::make_unique<OneWireDecoder>(); }

MadeDecoder makeClockedPixelDecoder(const Options&) { return std::make_unique<ClockedPixelDecoder>(); }

}  // namespace bramix::tape
