#include "parts/pixels.h"

#include <cmath>

#include <fmt/format.h>

#include "parts/logic.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;
using namespace std::chrono_literals;

constexpr LogicFamily kOneWire{.leastVolts = 3.5, .mostVolts = 6.5, .lowShare = 0.3, .highShare = 0.7, .ohms = 60};
constexpr LogicFamily kClocked{.leastVolts = 3.0, .mostVolts = 6.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 60};

// What the eye makes of a level that is a duty.
std::uint32_t seen(std::uint8_t red, std::uint8_t green, std::uint8_t blue, double share = 1)
{
    std::uint32_t out = 0;
    for (const std::uint8_t v : {red, green, blue})
        out = out << 8 | static_cast<std::uint32_t>(std::lround(255 * std::cbrt(v / 255.0 * share)));
    return out;
}

std::string listed(const std::vector<std::uint32_t>& levels)
{
    std::string out;
    for (std::size_t i = 0; i < levels.size() && i < 8; ++i)
        out += fmt::format("{}{:06X}", i == 0 ? "" : " ", levels[i]);
    return levels.size() > 8 ? out + " …" : out;
}

// A strip in one row, a matrix in a square, a ring as one row that the drawing bends.
Part::Dots arranged(const std::vector<std::uint32_t>& colors, const std::string& shape)
{
    const auto count = static_cast<int>(colors.size());
    const int columns = shape == "matrix" ? static_cast<int>(std::lround(std::sqrt(count))) : count;
    Part::Dots out{columns, (count + columns - 1) / columns, colors};
    out.colors.resize(static_cast<std::size_t>(out.columns * out.rows), 0);
    return out;
}

constexpr double kFullAmps = 0.02;    // of one colour of one pixel at its brightest
constexpr double kDarkAmps = 0.0007;  // of its controller

class OneWirePixels final : public LogicPart {
public:
    OneWirePixels(PartContext& context, std::size_t count)
        : LogicPart(context, kOneWire), shape_(context.setting("shape")), levels_(count, 0), coming_(count, 0), latch_(context.queue, [this](Time) { latch(); })
    {
        addInput(context, "DIN");
        addOutput(context, "DOUT");
    }
    [[nodiscard]] Dots dots() const override
    {
        std::vector<std::uint32_t> colors;
        for (const std::uint32_t v : levels_)
            colors.push_back(on() ? seen(static_cast<std::uint8_t>(v >> 16), static_cast<std::uint8_t>(v >> 8), static_cast<std::uint8_t>(v)) : 0);
        return arranged(colors, shape_);
    }
    [[nodiscard]] std::string face() const override { return on() ? listed(levels_) : std::string(); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr Duration kMiddle = 600ns;                       // shorter is a 0, longer a 1
    static constexpr Duration kShortest = 200ns, kLongest = 5500ns;  // what the parts take in practice
    static constexpr Duration kReset = 50us;

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        const std::size_t count = levels_.size();
        ar(levels_, coming_, bits_, roseAt_, latch_);
        levels_.resize(count);
        coming_.resize(count);
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override { return bits_ == 0 ? "its data line has rested: a new run begins with its own" : fmt::format("it passes on what comes after its own {} bits", levels_.size() * 24); }
    void powered(bool) override
    {
        std::fill(levels_.begin(), levels_.end(), 0);
        bits_ = 0;
        latch_.disarm();
        takeMore(dark());
    }
    void inputChanged(std::size_t, bool high, Time at) override
    {
        const std::size_t mine = levels_.size() * 24;
        if (bits_ >= mine)
            drive(0, high);  // what is not ours goes on
        if (high) {
            roseAt_ = at;
            latch_.disarm();
            return;
        }
        latch_.arm(at + kReset);
        if (bits_ >= mine) {
            ++bits_;
            return;
        }
        const Duration width = at - roseAt_;
        if (width < kShortest || width > kLongest)
            tell(false, "pixel-timing", fmt::format("{} got a pulse of {}; a 0 is 0.4 µs and a 1 is 0.8 µs long, each ±0.15 µs", id_, kernel::formatQuantity(kernel::seconds(width), kernel::Unit::second, 3)));
        // Green comes first, then red, then blue.
        std::uint32_t& word = coming_[bits_ / 24];
        word = (bits_ % 24 == 0 ? 0 : word << 1) | (width > kMiddle ? 1U : 0U);
        if (++bits_ % 24 == 0)
            word = (word >> 8 & 0xFF) << 16 | (word >> 16 & 0xFF) << 8 | (word & 0xFF);
    }
    [[nodiscard]] double dark() const { return kDarkAmps * static_cast<double>(levels_.size()); }
    void latch()
    {
        const std::size_t whole = std::min(bits_ / 24, levels_.size());
        std::copy_n(coming_.begin(), whole, levels_.begin());
        bits_ = 0;
        drive(0, false);
        double amps = dark();
        for (const std::uint32_t level : levels_)
            amps += kFullAmps / 255 * ((level >> 16 & 0xFF) + (level >> 8 & 0xFF) + (level & 0xFF));
        takeMore(amps);
    }

    std::string shape_;
    std::vector<std::uint32_t> levels_, coming_;
    std::size_t bits_ = 0;
    Time roseAt_{};
    kernel::Alarm latch_;
};

class ClockedPixels final : public LogicPart {
public:
    ClockedPixels(PartContext& context, std::size_t count) : LogicPart(context, kClocked), shape_(context.setting("shape")), frames_(count, 0)
    {
        for (const char* pin : {"CI", "DI"})
            addInput(context, pin);
        for (const char* pin : {"CO", "DO"})
            addOutput(context, pin);
    }
    [[nodiscard]] Dots dots() const override
    {
        std::vector<std::uint32_t> colors;
        for (const std::uint32_t f : frames_)
            colors.push_back(on() && f != 0 ? seen(static_cast<std::uint8_t>(f), static_cast<std::uint8_t>(f >> 8), static_cast<std::uint8_t>(f >> 16), (f >> 24 & 31) / 31.0) : 0);
        return arranged(colors, shape_);
    }
    [[nodiscard]] std::string face() const override
    {
        std::vector<std::uint32_t> levels;
        for (const std::uint32_t f : frames_)
            levels.push_back((f & 0xFF) << 16 | (f & 0xFF00) | (f >> 16 & 0xFF));
        return on() ? listed(levels) : std::string();
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        const std::size_t count = frames_.size();
        ar(frames_, shift_, zeros_, started_, passes_, bits_, taken_, edges_, waitingFrames_, waitingAt_, waitingEdges_);
        frames_.resize(count);
    }
    [[nodiscard]] std::string whyOutput(std::size_t output) const override
    {
        const char* const what = output == 0 ? "the clock" : "the bit";
        return passes_ ? fmt::format("it passes {} on: not its own", what) : fmt::format("it keeps {} back: frame {} of its own {}", what, std::min(taken_ + 1, frames_.size()), frames_.size());
    }
    void powered(bool) override
    {
        std::fill(frames_.begin(), frames_.end(), 0);
        waitingFrames_.clear();
        waitingAt_.clear();
        waitingEdges_.clear();
        zeros_ = bits_ = 0;
        taken_ = 0;
        started_ = false;
        takeMore(dark());
    }
    // Each pixel hands its data on half a clock later, so that the n-th shows its frame n half clocks after the bits have come: a run needs clocks at its end.
    void showDue()
    {
        std::size_t shown = 0;
        for (; shown < waitingFrames_.size() && waitingEdges_[shown] <= edges_; ++shown)
            frames_[waitingAt_[shown]] = waitingFrames_[shown];
        if (shown == 0)
            return;
        const auto drop = [shown](auto& list) { list.erase(list.begin(), list.begin() + static_cast<std::ptrdiff_t>(shown)); };
        drop(waitingFrames_);
        drop(waitingAt_);
        drop(waitingEdges_);
        double amps = dark();
        for (const std::uint32_t f : frames_)
            amps += kFullAmps / 255 / 31 * (f >> 24 & 31) * ((f >> 16 & 0xFF) + (f >> 8 & 0xFF) + (f & 0xFF));
        takeMore(amps);
    }
    void inputChanged(std::size_t input, bool high, Time) override
    {
        if (input != 0)
            return;
        ++edges_;
        if (!waitingFrames_.empty())
            showDue();
        if (!high) {
            drive(0, false);
            drive(1, passes_ && (shift_ & 1) != 0);  // as it stood when the clock rose
            return;
        }
        // A frame begins with its first one. It is this part's own as long as one of its LEDs has none yet; all else goes on, the run's beginning too.
        const bool bit = level(1);
        passes_ = !started_ || taken_ >= frames_.size() || (bits_ == 0 && !bit);
        drive(0, passes_);
        shift_ = shift_ << 1 | (bit ? 1U : 0U);
        zeros_ = bit ? 0 : zeros_ + 1;
        if (passes_) {
            // 32 zeros begin a new run, wherever they come between frames.
            if (zeros_ >= 32) {
                started_ = true;
                taken_ = 0;
            }
            return;
        }
        ++bits_;
        if (bits_ == 3 && (shift_ & 7) != 7) {
            tell(false, "pixel-frame", fmt::format("{} got a frame that begins with {:03b}; expected three ones, then its brightness", id_, shift_ & 7));
            bits_ = 0;
            return;
        }
        if (bits_ < 32)
            return;
        bits_ = 0;
        waitingFrames_.push_back(shift_);
        waitingAt_.push_back(static_cast<std::uint32_t>(taken_));
        waitingEdges_.push_back(edges_ + taken_);
        ++taken_;
        showDue();
    }
    [[nodiscard]] double dark() const { return kDarkAmps * static_cast<double>(frames_.size()); }

    std::string shape_;
    std::vector<std::uint32_t> frames_;
    std::uint32_t shift_ = 0;
    std::uint32_t zeros_ = 0, bits_ = 0;
    std::size_t taken_ = 0;
    bool started_ = false;
    bool passes_ = false;  // the last bit went on to the next part
    std::uint64_t edges_ = 0;  // of the clock
    std::vector<std::uint32_t> waitingFrames_, waitingAt_;
    std::vector<std::uint64_t> waitingEdges_;
};

kernel::Result<std::size_t> countOf(const PartContext& context)
{
    const auto count = context.quantity("count", kernel::Unit::none, 1, 1024);
    if (!count)
        return tl::unexpected(count.error());
    return static_cast<std::size_t>(*count);
}

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeOneWirePixels(PartContext& context)
{
    const auto count = countOf(context);
    if (!count)
        return tl::unexpected(count.error());
    return std::make_unique<OneWirePixels>(context, *count);
}

kernel::Result<std::unique_ptr<Part>> makeClockedPixels(PartContext& context)
{
    const auto count = countOf(context);
    if (!count)
        return tl::unexpected(count.error());
    return std::make_unique<ClockedPixels>(context, *count);
}

}  // namespace bramix::parts
