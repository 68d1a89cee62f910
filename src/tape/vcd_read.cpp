#include "tape/vcd_read.h"

#include <charconv>
#include <unordered_map>

#include <fmt/format.h>

#include "kernel/files.h"

namespace bramix::tape {

using kernel::fail;

namespace {

constexpr std::size_t kMostSignals = 4096;
constexpr unsigned kWidest = 64;

State stateOf(char c) { return c == '0' ? 0 : c == '1' ? 1 : c == 'z' || c == 'Z' ? 2 : 3; }

// Words, with the line that each stands on.
class Words {
public:
    explicit Words(std::string_view text) : text_(text) {}

    // Empty at the end.
    std::string_view next()
    {
        while (at_ < text_.size() && isSpace(text_[at_])) {
            line_ += text_[at_] == '\n' ? 1U : 0U;
            ++at_;
        }
        const std::size_t from = at_;
        while (at_ < text_.size() && !isSpace(text_[at_]))
            ++at_;
        return text_.substr(from, at_ - from);
    }
    // What stands before "$end".
    std::vector<std::string_view> toEnd()
    {
        std::vector<std::string_view> out;
        for (std::string_view word = next(); !word.empty() && word != "$end"; word = next())
            out.push_back(word);
        return out;
    }
    [[nodiscard]] std::size_t line() const { return line_; }
    [[nodiscard]] double share() const { return static_cast<double>(at_) / static_cast<double>(text_.size()); }

private:
    static bool isSpace(char c) { return c == ' ' || c == '\n' || c == '\r' || c == '\t'; }

    std::string_view text_;
    std::size_t at_ = 0;
    std::size_t line_ = 1;
};

struct Signal {
    std::vector<ChannelId> bits;  // the highest first; empty for what is passed over
};

class Reader {
public:
    Reader(std::string name, std::string_view text, kernel::Progress* progress) : name_(std::move(name)), words_(text), progress_(progress) {}

    kernel::Result<std::shared_ptr<const Capture>> read()
    {
        constexpr std::uint64_t kLookEvery = 65536;
        std::uint64_t count = 0;
        for (std::string_view word = words_.next(); !word.empty(); word = words_.next()) {
            if (progress_ != nullptr && ++count % kLookEvery == 0) {
                if (progress_->stopped())
                    return fail(name_, "was not read: it was stopped");
                progress_->at(words_.share());
            }
            auto ok = word[0] == '$' ? keyword(word) : word[0] == '#' ? time(word) : value(word);
            if (!ok)
                return tl::unexpected(ok.error());
        }
        if (capture_->names.empty())
            return fail(name_, "has no signals; expected a value change dump with $var and its changes");
        return std::shared_ptr<const Capture>(std::move(capture_));
    }

private:
    [[nodiscard]] kernel::Result<void> wrong(const std::string& what) const { return fail(fmt::format("{}:{}", name_, words_.line()), what); }

    kernel::Result<void> keyword(std::string_view word)
    {
        if (word == "$dumpvars" || word == "$dumpall" || word == "$dumpon" || word == "$dumpoff" || word == "$end")
            return {};  // what stands in them are values like all others
        const std::vector<std::string_view> words = words_.toEnd();
        if (word == "$timescale")
            return timescale(words);
        if (word == "$scope" && words.size() == 2)
            scopes_.emplace_back(words[1]);
        else if (word == "$upscope" && !scopes_.empty())
            scopes_.pop_back();
        else if (word == "$var")
            return variable(words);
        return {};
    }

    kernel::Result<void> timescale(const std::vector<std::string_view>& words)
    {
        std::string all;
        for (const std::string_view w : words)
            all += w;
        std::size_t digits = 0;
        while (digits < all.size() && all[digits] >= '0' && all[digits] <= '9')
            ++digits;
        const std::string unit = all.substr(digits);
        static const std::map<std::string, double> kUnits{{"s", 1e12}, {"ms", 1e9}, {"us", 1e6}, {"ns", 1e3}, {"ps", 1}, {"fs", 1e-3}};
        const auto found = kUnits.find(unit);
        if (digits == 0 || digits > 3 || found == kUnits.end())
            return wrong(fmt::format("timescale \"{}\"; expected one such as 1 ns", all));
        picos_ = found->second * std::stod(all.substr(0, digits));
        return {};
    }

    kernel::Result<void> variable(const std::vector<std::string_view>& words)
    {
        unsigned width = 0;
        if (words.size() < 4 || std::from_chars(words[1].data(), words[1].data() + words[1].size(), width).ec != std::errc{} || width == 0)
            return wrong("$var; expected kind, width, code and name");
        std::string name;
        for (const std::string& scope : scopes_)
            name += scope + ".";
        name += words[3];
        Signal& signal = signals_[std::string(words[2])];
        if (!signal.bits.empty() || words[0] == "real" || words[0] == "string" || width > kWidest)
            return {};  // one more name of the same, or what is no level
        for (unsigned bit = width; bit > 0; --bit) {
            if (capture_->names.size() >= kMostSignals)
                return wrong(fmt::format("more than {} signals", kMostSignals));
            const std::string own = width == 1 ? name : fmt::format("{}[{}]", name, bit - 1);
            const ChannelId id = capture_->tape.channel(own);
            if (id == capture_->names.size())
                capture_->names.push_back(own);
            signal.bits.push_back(id);
            last_.resize(std::max<std::size_t>(last_.size(), id + 1), 2);
        }
        return {};
    }

    kernel::Result<void> time(std::string_view word)
    {
        std::int64_t t = 0;
        const auto done = std::from_chars(word.data() + 1, word.data() + word.size(), t);
        if (done.ec != std::errc{} || done.ptr != word.data() + word.size() || t < 0 || static_cast<double>(t) * picos_ > 9e18)
            return wrong(fmt::format("\"{}\"; expected a time such as #1200", word));
        const Time at(Duration(picos_ >= 1 ? t * static_cast<std::int64_t>(picos_) : static_cast<std::int64_t>(static_cast<double>(t) * picos_)));
        if (at < now_)
            return wrong(fmt::format("time {} lies before the one above it", word));
        now_ = capture_->end = at;
        return {};
    }

    void change(ChannelId id, State state)
    {
        if (last_[id] == state)
            return;
        last_[id] = state;
        capture_->tape.record(id, {now_, UINT32_MAX, UINT16_MAX, state});
    }

    kernel::Result<void> value(std::string_view word)
    {
        const char first = word[0];
        const bool vector = first == 'b' || first == 'B', other = first == 'r' || first == 'R' || first == 's' || first == 'S';
        const std::string code(vector || other ? words_.next() : word.substr(1));
        const auto found = signals_.find(code);
        if (found == signals_.end())
            return wrong(fmt::format("\"{}\" is no change of a signal that was declared; expected a level and its code", word));
        if (other)
            return {};
        const Signal& signal = found->second;
        if (!vector) {
            if (std::string_view("01xXzZ").find(first) == std::string_view::npos)
                return wrong(fmt::format("level '{}'; expected 0, 1, x or z", first));
            if (!signal.bits.empty())
                change(signal.bits.back(), stateOf(first));
            return {};
        }
        // Shorter than its width: filled up with zeros, or with what stands first where that is no number.
        const std::string_view bits = word.substr(1);
        for (std::size_t i = 0; i < signal.bits.size(); ++i) {
            const std::size_t fromRight = signal.bits.size() - 1 - i;
            const char bit = fromRight < bits.size() ? bits[bits.size() - 1 - fromRight] : !bits.empty() && bits[0] != '1' && bits[0] != '0' ? bits[0] : '0';
            change(signal.bits[i], stateOf(bit));
        }
        return {};
    }

    std::string name_;
    Words words_;
    kernel::Progress* progress_;
    std::shared_ptr<Capture> capture_ = std::make_shared<Capture>();
    std::unordered_map<std::string, Signal> signals_;
    std::vector<std::string> scopes_;
    std::vector<State> last_;
    double picos_ = 1000;  // of a step, where nothing is said
    Time now_{};
};

}  // namespace

kernel::Result<std::shared_ptr<const Capture>> parseVcd(const std::string& name, std::string_view text, kernel::Progress* progress) { return Reader(name, text, progress).read(); }

kernel::Result<std::shared_ptr<const Capture>> readVcd(const std::string& file, kernel::Progress* progress)
{
    constexpr std::size_t kMostBytes = std::size_t{1} << 30U;
    const auto text = kernel::readFile(file, kMostBytes);
    if (!text)
        return tl::unexpected(text.error());
    return parseVcd(file, *text, progress);
}

}  // namespace bramix::tape
