// Asynchronous characters: a start bit, data with the lowest bit first, a parity bit, stop bits.
#include <array>
#include <bit>
#include <cmath>
#include <optional>
#include <utility>
#include <vector>

#include <fmt/format.h>

#include "kernel/units.h"
#include "tape/decode_kinds.h"

namespace bramix::tape {

namespace {

constexpr std::array kUsualBauds{300.0, 600.0, 1200.0, 2400.0, 4800.0, 9600.0, 14400.0, 19200.0, 28800.0, 31250.0, 38400.0, 57600.0, 76800.0, 115200.0, 230400.0, 250000.0, 460800.0, 500000.0, 921600.0, 1e6, 2e6};
constexpr double kUsualWithin = 0.04;
constexpr std::size_t kEdgesForBaud = 40;  // some characters' worth
constexpr Duration kShortestBit = std::chrono::nanoseconds(10);

class UartDecoder final : public CopiedDecoder<UartDecoder> {
public:
    UartDecoder(std::optional<Duration> bit, unsigned bits, char parity, unsigned stops, bool inverted) : bit_(bit), bits_(bits), parity_(parity), stops_(stops), inverted_(inverted) {}

    void edge(std::size_t, bool level, Time at) override
    {
        level = level != inverted_;
        if (!bit_) {
            early_.emplace_back(level, at);
            if (early_.size() >= kEdgesForBaud)
                guess();
            return;
        }
        take(level, at);
    }

    void finish(Time at) override
    {
        if (!bit_ && early_.size() > 2)
            guess();
        if (bit_)
            sampleUpTo(at);
    }

private:
    // The shortest time between two edges is one bit, where anything was sent in which single bits stand; near a usual rate, that rate is meant.
    void guess()
    {
        Duration shortest = Duration::max();
        for (std::size_t i = early_[0].first ? 2 : 1; i < early_.size(); ++i)  // a line that has just gone high is not in the midst of a character
            shortest = std::min(shortest, early_[i].second - early_[i - 1].second);
        shortest = std::max(shortest, kShortestBit);  // two edges at one instant are no bit
        double baud = 1e12 / static_cast<double>(shortest.count());
        for (const double usual : kUsualBauds)
            if (std::abs(baud / usual - 1) < kUsualWithin)
                baud = usual;
        bit_ = Duration(static_cast<std::int64_t>(std::llround(1e12 / baud)));
        put(early_.front().second, early_.front().second, "baud", static_cast<std::uint64_t>(std::llround(baud)), fmt::format("{:.0f} baud", baud));
        for (const auto& [level, at] : std::exchange(early_, {}))
            take(level, at);
    }

    void take(bool level, Time at)
    {
        sampleUpTo(at);
        level_ = level;
        if (!inside_ && !level) {
            inside_ = true;
            start_ = at;
            count_ = 0;
            word_ = 0;
        }
    }

    [[nodiscard]] unsigned length() const { return 1 + bits_ + (parity_ == 'n' ? 0 : 1) + stops_; }

    void sampleUpTo(Time until)
    {
        while (inside_ && start_ + *bit_ * count_ + *bit_ / 2 < until) {
            if (count_ == 0 && level_) {
                inside_ = false;  // too short to be a start bit
                put(start_, until, "glitch", 0, "shorter than half a bit", false);
                return;
            }
            word_ |= (level_ ? 1U : 0U) << count_;
            if (++count_ == length())
                give();
        }
    }

    void give()
    {
        inside_ = false;
        const std::uint32_t data = (word_ >> 1U) & ((1U << bits_) - 1);
        const Time end = start_ + *bit_ * length();
        std::string wrong;
        if (parity_ != 'n') {
            const bool odd = (std::popcount(data) + ((word_ >> (1 + bits_)) & 1)) % 2 != 0;
            if (odd != (parity_ == 'o'))
                wrong = "parity";
        }
        const std::uint32_t stops = word_ >> (length() - stops_);
        if (stops != (1U << stops_) - 1)
            wrong = word_ == 0 ? "break" : "no stop bit";
        put(start_, end, "byte", data, wrong.empty() ? data >= 32 && data < 127 ? std::string(1, static_cast<char>(data)) : fmt::format("0x{:02x}", data) : wrong, wrong.empty());
    }

    std::optional<Duration> bit_;
    const unsigned bits_;
    const char parity_;
    const unsigned stops_;
    const bool inverted_;
    std::vector<std::pair<bool, Time>> early_;
    bool level_ = true;
    bool inside_ = false;
    Time start_{};
    unsigned count_ = 0;
    std::uint32_t word_ = 0;
};

}  // namespace

MadeDecoder makeUartDecoder(const Options& o)
{
    std::optional<Duration> bit;
    if (o.at("baud") != "auto") {
        const auto baud = kernel::parseQuantity(o.at("baud"), kernel::Unit::none);
        if (!baud || *baud < 1 || *baud > 1e8)
            return kernel::fail("uart", fmt::format("baud \"{}\"; expected auto or a rate", o.at("baud")));
        bit = Duration(static_cast<std::int64_t>(std::llround(1e12 / *baud)));
    }
    const std::string &bits = o.at("bits"), &parity = o.at("parity"), &stop = o.at("stop"), &invert = o.at("invert");
    if (bits.size() != 1 || bits[0] < '5' || bits[0] > '9')
        return kernel::fail("uart", fmt::format("bits \"{}\"; expected 5 to 9", bits));
    if (parity != "none" && parity != "even" && parity != "odd")
        return kernel::fail("uart", fmt::format("parity \"{}\"; expected none, even or odd", parity));
    if (stop != "1" && stop != "2")
        return kernel::fail("uart", fmt::format("stop \"{}\"; expected 1 or 2", stop));
    if (invert != "yes" && invert != "no")
        return kernel::fail("uart", fmt::format("invert \"{}\"; expected yes or no", invert));
    return std::make_unique<UartDecoder>(bit, static_cast<unsigned>(bits[0] - '0'), parity[0], static_cast<unsigned>(stop[0] - '0'), invert == "yes");
}

}  // namespace bramix::tape
