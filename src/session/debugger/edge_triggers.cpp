#include "session/debugger/edge_triggers.h"

#include <algorithm>
#include <sstream>

#include <fmt/format.h>

#include "kernel/units.h"
#include "session/lanes/read_lanes.h"

namespace bramix::session {

using bench::NetState;
using bench::PinRef;
using kernel::Duration;
using kernel::fail;
using kernel::Result;
using kernel::Time;

namespace {

bool isFirm(NetState s) { return s == NetState::low || s == NetState::high; }
std::string lengthText(Duration d) { return kernel::formatQuantity(kernel::seconds(d), kernel::Unit::second, 5); }

class Pulse final : public EdgeTrigger {
public:
    Pulse(PinRef pin, std::optional<bool> level, bool shorter, Duration bound) : EdgeTrigger({std::move(pin)}), level_(level), shorter_(shorter), bound_(bound) {}

    void begin(const std::vector<NetState>& states, Time) override
    {
        state_ = states[0];
        since_.reset();  // it began before anybody looked
    }
    std::optional<std::string> edge(std::size_t, NetState state, Time at) override
    {
        const NetState was = std::exchange(state_, state);
        const auto since = std::exchange(since_, std::optional(at));
        if (!since || !isFirm(was) || state == was || (level_ && *level_ != (was == NetState::high)))
            return std::nullopt;
        const Duration length = at - *since;
        if (shorter_ ? length >= bound_ : length <= bound_)
            return std::nullopt;
        return fmt::format("{} was {} for {}", pins()[0].text(), was == NetState::high ? "high" : "low", lengthText(length));
    }

private:
    std::optional<bool> level_;
    bool shorter_;
    Duration bound_;
    NetState state_ = NetState::floating;
    std::optional<Time> since_;
};

class Pattern final : public EdgeTrigger {
public:
    Pattern(std::vector<PinRef> pins, std::vector<bool> levels) : EdgeTrigger(std::move(pins)), levels_(std::move(levels)), states_(levels_.size(), NetState::floating) {}

    void begin(const std::vector<NetState>& states, Time) override
    {
        states_ = states;
        there_ = holds();
    }
    std::optional<std::string> edge(std::size_t pin, NetState state, Time) override
    {
        states_[pin] = state;
        const bool was = std::exchange(there_, holds());
        if (was || !there_)
            return std::nullopt;
        std::string out;
        for (std::size_t i = 0; i < levels_.size(); ++i)
            out += fmt::format("{}{}={}", i == 0 ? "" : " ", pins()[i].text(), levels_[i] ? 1 : 0);
        return out + " has come about";
    }

private:
    [[nodiscard]] bool holds() const
    {
        for (std::size_t i = 0; i < levels_.size(); ++i)
            if (states_[i] != (levels_[i] ? NetState::high : NetState::low))
                return false;
        return true;
    }

    std::vector<bool> levels_;
    std::vector<NetState> states_;
    bool there_ = false;
};

class Sequence final : public EdgeTrigger {
public:
    Sequence(std::vector<PinRef> pins, std::vector<NetState> to, std::optional<Duration> within) : EdgeTrigger(std::move(pins)), to_(std::move(to)), within_(within) {}

    void begin(const std::vector<NetState>&, Time) override { next_ = 0; }
    std::optional<std::string> edge(std::size_t pin, NetState state, Time at) override
    {
        // A pin may stand in the row more than once: what counts is which pin it is, not which place it was found at.
        const bool first = pins()[pin] == pins()[0] && state == to_[0];
        if (next_ > 0 && within_ && at - began_ > *within_)
            next_ = 0;
        if (pins()[pin] == pins()[next_] && state == to_[next_]) {
            if (next_ == 0)
                began_ = at;
            if (++next_ == to_.size()) {
                next_ = 0;
                return fmt::format("the row of {} edges has come, in {}", to_.size(), lengthText(at - began_));
            }
        } else if (first) {  // the beginning again
            began_ = at;
            next_ = 1;
        }
        return std::nullopt;
    }

private:
    std::vector<NetState> to_;
    std::optional<Duration> within_;
    std::size_t next_ = 0;
    Time began_{};
};

class Reads final : public EdgeTrigger {
public:
    Reads(LaneSpec spec, std::string words) : EdgeTrigger(usedPins(spec)), spec_(std::move(spec)), words_(std::move(words))
    {
        for (std::size_t role = 0; role < spec_.pins.size(); ++role)
            if (!spec_.pins[role].part.empty())
                roles_.push_back(role);
    }

    void begin(const std::vector<NetState>& states, Time now) override
    {
        auto made = tape::makeDecoder(spec_.decoder.kind, spec_.decoder.options);
        decoder_ = made ? std::move(*made) : nullptr;
        if (decoder_ == nullptr)
            return;
        decoder_->out = [this](const tape::Decoded& item) {
            if (!found_ && item.text.find(words_) != std::string::npos)
                found_ = item.text;
        };
        for (std::size_t i = 0; i < roles_.size(); ++i)
            if (isFirm(states[i]))
                decoder_->edge(roles_[i], states[i] == NetState::high, now);
        found_.reset();
    }
    std::optional<std::string> edge(std::size_t pin, NetState state, Time at) override
    {
        if (decoder_ == nullptr || !isFirm(state))
            return std::nullopt;
        decoder_->edge(roles_[pin], state == NetState::high, at);
        const auto found = std::exchange(found_, std::nullopt);
        return found ? std::optional(fmt::format("{} has read \"{}\"", spec_.decoder.kind, *found)) : std::nullopt;
    }

private:
    static std::vector<PinRef> usedPins(const LaneSpec& spec)
    {
        std::vector<PinRef> out;
        std::copy_if(spec.pins.begin(), spec.pins.end(), std::back_inserter(out), [](const PinRef& p) { return !p.part.empty(); });
        return out;
    }

    LaneSpec spec_;
    std::string words_;
    std::vector<std::size_t> roles_;
    std::unique_ptr<tape::Decoder> decoder_;
    std::optional<std::string> found_;
};

using Made = Result<std::shared_ptr<EdgeTrigger>>;
using PinOf = std::function<Result<PinRef>(const std::string&)>;

std::vector<std::string> wordsOf(const std::string& text)
{
    std::istringstream in(text);
    std::vector<std::string> out;
    for (std::string word; in >> word;)
        out.push_back(word);
    return out;
}

Made parsePulse(const std::string& text, const PinOf& pinOf)
{
    const std::size_t sign = text.find_first_of("<>");
    const std::vector<std::string> words = wordsOf(text.substr(0, sign));
    const bool named = words.size() == 3 && (words[2] == "high" || words[2] == "low");
    if (sign == std::string::npos || !(words.size() == 2 || named))
        return fail(text, "expected a pulse such as \"pulse mcu.PB3 high < 5us\"");
    const std::vector<std::string> length = wordsOf(text.substr(sign + 1));
    const auto bound = length.size() == 1 ? kernel::parseDuration(length[0]) : Result<Duration>(fail("", ""));
    if (!bound)
        return fail(text.substr(sign + 1), "is not a time; expected one such as 5us");
    auto pin = pinOf(words[1]);
    if (!pin)
        return tl::unexpected(pin.error());
    return std::make_shared<Pulse>(*pin, named ? std::optional(words[2] == "high") : std::nullopt, text[sign] == '<', *bound);
}

Made parsePattern(const std::string& text, const PinOf& pinOf)
{
    std::vector<PinRef> pins;
    std::vector<bool> levels;
    const std::vector<std::string> words = wordsOf(text);
    for (std::size_t i = 1; i < words.size(); ++i) {
        const std::size_t equals = words[i].find('=');
        const std::string level = equals == std::string::npos ? "" : words[i].substr(equals + 1);
        if (level != "0" && level != "1")
            return fail(words[i], "expected a pin and its level, such as mcu.PD4=1");
        auto pin = pinOf(words[i].substr(0, equals));
        if (!pin)
            return tl::unexpected(pin.error());
        pins.push_back(*pin);
        levels.push_back(level == "1");
    }
    if (pins.empty())
        return fail(text, "expected pins and their levels, such as \"pattern mcu.PD4=1 mcu.PD5=0\"");
    return std::make_shared<Pattern>(std::move(pins), std::move(levels));
}

Made parseSequence(const std::string& text, const PinOf& pinOf)
{
    std::string row = text.substr(std::string("sequence").size());
    std::optional<Duration> within;
    if (const std::size_t at = row.rfind(" within "); at != std::string::npos) {
        const std::vector<std::string> length = wordsOf(row.substr(at + 8));
        const auto bound = length.size() == 1 ? kernel::parseDuration(length[0]) : Result<Duration>(fail("", ""));
        if (!bound)
            return fail(row.substr(at + 8), "is not a time; expected one such as 2ms");
        within = *bound;
        row.erase(at);
    }
    std::vector<PinRef> pins;
    std::vector<NetState> to;
    for (std::size_t at = 0; at <= row.size();) {
        const std::size_t end = std::min(row.find(',', at), row.size());
        const std::vector<std::string> words = wordsOf(row.substr(at, end - at));
        at = end + 1;
        if (words.size() != 2 || (words[0] != "rise" && words[0] != "fall"))
            return fail(text, "expected edges in a row, such as \"sequence rise mcu.PB0, fall mcu.PB1 within 2ms\"");
        auto pin = pinOf(words[1]);
        if (!pin)
            return tl::unexpected(pin.error());
        pins.push_back(*pin);
        to.push_back(words[0] == "rise" ? NetState::high : NetState::low);
    }
    if (pins.size() < 2)
        return fail(text, "has one edge; expected two or more, with commas between");
    return std::make_shared<Sequence>(std::move(pins), std::move(to), within);
}

Made parseReads(const std::string& text, const PinOf& pinOf)
{
    const std::size_t quote = text.find('"'), end = text.rfind('"');
    const std::vector<std::string> words = wordsOf(text.substr(0, quote));
    if (quote == std::string::npos || end <= quote + 1 || words.size() != 2)
        return fail(text, "expected a decoder lane and its words, such as \"reads i2c:SDA=mcu.PC4,SCL=mcu.PC5 \\\"nack\\\"\"");
    auto spec = parseLane(words[1]);
    if (!spec)
        return tl::unexpected(spec.error());
    if (spec->kind != LaneSpec::Kind::decoded)
        return fail(words[1], "is no decoder lane");
    for (const PinRef& pin : spec->pins)
        if (!pin.part.empty())
            if (auto known = pinOf(pin.text()); !known)
                return tl::unexpected(known.error());
    return std::make_shared<Reads>(std::move(*spec), text.substr(quote + 1, end - quote - 1));
}

}  // namespace

Made parseTrigger(const std::string& text, const PinOf& pinOf)
{
    const std::string first = text.substr(0, text.find(' '));
    return first == "pulse"      ? parsePulse(text, pinOf)
           : first == "pattern"  ? parsePattern(text, pinOf)
           : first == "sequence" ? parseSequence(text, pinOf)
           : first == "reads"    ? parseReads(text, pinOf)
                                 : Made(std::shared_ptr<EdgeTrigger>());
}

}  // namespace bramix::session
