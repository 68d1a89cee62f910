#include "parts/graphic_display.h"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "parts/two_wire_part.h"

namespace bramix::parts {

namespace {

using kernel::Time;

constexpr LogicFamily kModule{.leastVolts = 2.8, .mostVolts = 6.0, .lowShare = 0.2, .highShare = 0.8 * 3.3 / 5, .ohms = 50};
constexpr int kColumns = 128, kRows = 64, kPages = 8;

// The controller without its bus.
class Ssd1306 {
public:
    std::function<void(std::string_view, const std::string&)> wrong;

    void reset()
    {
        *this = Ssd1306(std::move(wrong), ram_);
    }
    void command(std::uint8_t byte)
    {
        arguments_[count_++] = byte;
        if (count_ <= expected(arguments_[0]))
            return;
        count_ = 0;
        obey();
    }
    void data(std::uint8_t byte)
    {
        ram_[static_cast<std::size_t>(page_ * kColumns + column_)] = byte;
        if (mode_ == 2) {
            column_ = (column_ + 1) % kColumns;
        } else if (mode_ == 0) {
            if (column_ != columnEnd_) {
                column_ = (column_ + 1) % kColumns;
            } else {
                column_ = columnBegin_;
                page_ = page_ == pageEnd_ ? pageBegin_ : (page_ + 1) % kPages;
            }
        } else if (page_ != pageEnd_) {
            page_ = (page_ + 1) % kPages;
        } else {
            page_ = pageBegin_;
            column_ = column_ == columnEnd_ ? columnBegin_ : (column_ + 1) % kColumns;
        }
    }
    [[nodiscard]] bool lit(int x, int y) const
    {
        if (!on_ || !pump_)
            return false;
        if (all_)
            return true;
        if (y >= multiplex_)
            return false;
        if (y >= fixedRows_ && y < fixedRows_ + movingRows_)
            y = fixedRows_ + (y - fixedRows_ + shift_) % movingRows_;
        const int column = remap_ ? kColumns - 1 - x : x;
        const int row = ((down_ ? multiplex_ - 1 - y : y) + startLine_ + offset_) % kRows;
        return ((ram_[static_cast<std::size_t>(row / 8 * kColumns + column)] >> row % 8 & 1) != 0) != inverse_;
    }
    [[nodiscard]] bool scrolls() const { return scrolls_; }
    // Between two steps: so many frames, of 1 / (370 kHz / (1 · 54 · rows)) each (section 8.3, with the clock as it is after a reset).
    [[nodiscard]] kernel::Duration stepTime() const
    {
        constexpr std::array<int, 8> kFrames{5, 64, 128, 256, 3, 4, 25, 2};
        return kernel::Duration(static_cast<std::int64_t>(kFrames[interval_] * 54.0 * multiplex_ / 370e3 * 1e12));
    }
    // One column on within the chosen pages, and where it was asked for some rows up (section 10.2). The memory itself moves sideways.
    void step()
    {
        if (sideways_)
            for (int page = firstPage_; page <= lastPage_; ++page) {
                const auto row = ram_.begin() + page * kColumns;
                leftwards_ ? std::rotate(row, row + 1, row + kColumns) : std::rotate(row, row + kColumns - 1, row + kColumns);
            }
        if (movingRows_ > 0)
            shift_ = (shift_ + rowsAStep_) % movingRows_;
    }
    [[nodiscard]] double brightness() const { return 0.35 + 0.65 * contrast_ / 255.0; }
    [[nodiscard]] bool on() const { return on_ && pump_; }

    Ssd1306() = default;
    template <class Archive>
    void state(Archive& ar)
    {
        ar(ram_, arguments_, count_, mode_, column_, page_, columnBegin_, columnEnd_, pageBegin_, pageEnd_, startLine_, offset_, multiplex_, contrast_, on_, pump_, all_, inverse_, remap_, down_, scrolls_, sideways_, leftwards_, interval_, firstPage_, lastPage_, rowsAStep_, fixedRows_,
           movingRows_, shift_);
    }

private:
    // The memory outlives a reset.
    Ssd1306(std::function<void(std::string_view, const std::string&)> w, const std::array<std::uint8_t, kColumns * kPages>& ram) : wrong(std::move(w)), ram_(ram) {}

    static std::uint8_t expected(std::uint8_t c)
    {
        switch (c) {
        case 0x20: case 0x81: case 0x8D: case 0xA8: case 0xD3: case 0xD5: case 0xD9: case 0xDA: case 0xDB: return 1;
        case 0x21: case 0x22: case 0xA3: return 2;
        case 0x26: case 0x27: return 6;
        case 0x29: case 0x2A: return 5;
        default: return 0;
        }
    }
    void obey()
    {
        const std::uint8_t c = arguments_[0], a = arguments_[1], b = arguments_[2];
        if (c < 0x10) {
            column_ = (column_ & 0x70) | c;
        } else if (c < 0x20) {
            column_ = (column_ & 0x0F) | (c & 7) << 4;
        } else if (c >= 0x40 && c < 0x80) {
            startLine_ = c & 0x3F;
        } else if (c >= 0xB0 && c < 0xB8) {
            page_ = c & 7;
        } else {
            switch (c) {
            case 0x20: mode_ = std::min<std::uint8_t>(a & 3, 2); break;
            case 0x21: column_ = columnBegin_ = a & 0x7F; columnEnd_ = b & 0x7F; break;
            case 0x22: page_ = pageBegin_ = a & 7; pageEnd_ = b & 7; break;
            case 0x81: contrast_ = a; break;
            case 0x8D: pump_ = (a & 4) != 0; break;
            case 0xA0: case 0xA1: remap_ = c & 1; break;
            case 0xA4: case 0xA5: all_ = c & 1; break;
            case 0xA6: case 0xA7: inverse_ = c & 1; break;
            case 0xA8: multiplex_ = std::max((a & 0x3F) + 1, 16); break;
            case 0xAE: case 0xAF:
                on_ = c & 1;
                if (on_ && !pump_ && wrong)
                    wrong("display-unpowered", "was switched on (0xAF) with its charge pump off: nothing shows; send 0x8D 0x14 before");
                break;
            case 0xC0: case 0xC8: down_ = c == 0xC8; break;
            case 0xD3: offset_ = a & 0x3F; break;
            case 0xD5: case 0xD9: case 0xDA: case 0xDB: case 0xE3: break;
            case 0x26: case 0x27: case 0x29: case 0x2A:
                // A dummy byte, first page, frames between steps, last page, and for the slanting ones the rows a step.
                firstPage_ = b & 7;
                interval_ = arguments_[3] & 7;
                lastPage_ = arguments_[4] & 7;
                sideways_ = firstPage_ <= lastPage_;
                leftwards_ = c == 0x27 || c == 0x2A;
                rowsAStep_ = c >= 0x29 ? arguments_[5] & 0x3F : 0;
                break;
            case 0xA3:
                fixedRows_ = a & 0x3F;
                movingRows_ = b & 0x7F;
                if (wrong && fixedRows_ + movingRows_ > multiplex_)
                    wrong("scroll-area", fmt::format("was given a scroll area of {} rows below {} fixed ones (0xA3); it shows {} rows", movingRows_, fixedRows_, multiplex_));
                movingRows_ = std::clamp(movingRows_, 0, kRows - fixedRows_);
                break;
            case 0x2E:
                scrolls_ = false;
                shift_ = 0;
                break;
            case 0x2F: scrolls_ = true; break;
            default:
                if (wrong)
                    wrong("unknown-command", fmt::format("got the command 0x{:02X}, which its data sheet does not name; it was ignored", c));
            }
        }
    }

    std::array<std::uint8_t, kColumns * kPages> ram_{};
    std::array<std::uint8_t, 8> arguments_{};
    std::uint8_t count_ = 0;
    std::uint8_t mode_ = 2;
    int column_ = 0, page_ = 0, columnBegin_ = 0, columnEnd_ = kColumns - 1, pageBegin_ = 0, pageEnd_ = kPages - 1;
    int startLine_ = 0, offset_ = 0, multiplex_ = kRows;
    std::uint8_t contrast_ = 0x7F;
    bool on_ = false, pump_ = false, all_ = false, inverse_ = false, remap_ = false, down_ = false;
    bool scrolls_ = false, sideways_ = false, leftwards_ = false;
    std::uint8_t interval_ = 0;
    int firstPage_ = 0, lastPage_ = 0, rowsAStep_ = 0, fixedRows_ = 0, movingRows_ = kRows, shift_ = 0;
};

// Lets the picture run on by itself while it scrolls.
class Scroller {
public:
    Scroller(kernel::EventQueue& queue, Ssd1306& core)
        : queue_(queue), core_(core), alarm_(queue, [this](Time due) {
              core_.step();
              alarm_.arm(due + core_.stepTime());
          })
    {
    }
    // After every command.
    void follow()
    {
        if (core_.scrolls() == alarm_.armed())
            return;
        core_.scrolls() ? alarm_.arm(queue_.now() + core_.stepTime()) : alarm_.disarm();
    }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(alarm_);
    }

private:
    kernel::EventQueue& queue_;
    Ssd1306& core_;
    kernel::Alarm alarm_;
};

std::uint32_t inkOf(const std::string& color) { return color == "blue" ? 0x6FB7FF : color == "yellow" ? 0xFFD34A : 0xF2F6FF; }

Part::Dots picture(const Ssd1306& core, bool powered, std::uint32_t ink)
{
    Part::Dots out{kColumns, kRows, std::vector<std::uint32_t>(static_cast<std::size_t>(kColumns * kRows), 0x0B0D12)};
    if (!powered)
        return out;
    std::uint32_t bright = 0;
    for (const int shift : {16, 8, 0})
        bright |= static_cast<std::uint32_t>(static_cast<double>(ink >> shift & 0xFF) * core.brightness()) << shift;
    for (int y = 0; y < kRows; ++y)
        for (int x = 0; x < kColumns; ++x)
            if (core.lit(x, y))
                out.colors[static_cast<std::size_t>(y * kColumns + x)] = bright;
    return out;
}

// How many dots are lit, and a sum that tells pictures apart: for read-outs and tests.
std::string summary(const Ssd1306& core, bool powered)
{
    if (!powered || !core.on())
        return "off";
    int count = 0;
    for (int y = 0; y < kRows; ++y)
        for (int x = 0; x < kColumns; ++x)
            count += core.lit(x, y) ? 1 : 0;
    return fmt::format("{} dots lit", count);
}

class TwoWireGraphicDisplay final : public TwoWirePart {
public:
    TwoWireGraphicDisplay(PartContext& context, std::uint8_t address) : TwoWirePart(context, kModule, address), ink_(inkOf(context.setting("color")))
    {
        core_.wrong = [this](std::string_view rule, const std::string& text) { tell(false, rule, id_ + " " + text); };
    }
    [[nodiscard]] Dots dots() const override { return picture(core_, on(), ink_); }
    [[nodiscard]] std::string face() const override { return summary(core_, on()); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    template <class Archive>
    void state(Archive& ar)
    {
        wireState(ar);
        ar(core_, control_, first_, single_, scroller_);
    }
    void powered(bool) override
    {
        resetWire();
        core_.reset();
        scroller_.follow();
    }
    bool answers(bool) override
    {
        first_ = true;
        return true;
    }
    // A control byte before each byte, or one before all (its top bit, Co, cleared); bit 6 says data or command.
    bool written(std::uint8_t byte) override
    {
        if (first_) {
            control_ = byte;
            single_ = (byte & 0x80) != 0;
            first_ = false;
            return true;
        }
        (control_ & 0x40) != 0 ? core_.data(byte) : core_.command(byte);
        scroller_.follow();
        first_ = single_;
        return true;
    }
    std::uint8_t wanted() override { return core_.on() ? 0x00 : 0x40; }
    void ended() override {}

    Ssd1306 core_;
    Scroller scroller_{queue_, core_};
    std::uint32_t ink_;
    std::uint8_t control_ = 0;
    bool first_ = true, single_ = false;
};

class SpiGraphicDisplay final : public LogicPart, private SpiSlave::Device {
public:
    explicit SpiGraphicDisplay(PartContext& context) : LogicPart(context, kModule), spi_(*this, [](bool) {}, [] {}), ink_(inkOf(context.setting("color")))
    {
        for (const char* pin : {"CS", "D0", "D1", "DC", "RES"})
            addInput(context, pin);
        core_.wrong = [this](std::string_view rule, const std::string& text) { tell(false, rule, id_ + " " + text); };
    }
    [[nodiscard]] Dots dots() const override { return picture(core_, on(), ink_); }
    [[nodiscard]] std::string face() const override { return summary(core_, on()); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum Input : std::size_t { kCs, kClock, kData, kDc, kReset };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(core_, spi_, scroller_);
    }
    void powered(bool on) override
    {
        core_.reset();
        scroller_.follow();
        spi_.reset();
        if (on && !level(kCs))
            spi_.select(true);
    }
    void inputChanged(std::size_t input, bool high, Time) override
    {
        if (input == kReset && !high) {
            core_.reset();
            scroller_.follow();
        } else if (input == kCs)
            spi_.select(!high);
        else if (input == kClock && level(kReset))
            spi_.clock(high, level(kData));
    }
    std::uint8_t selected() override { return 0; }
    std::uint8_t exchanged(std::uint8_t in) override
    {
        level(kDc) ? core_.data(in) : core_.command(in);
        scroller_.follow();
        return 0;
    }
    void deselected(bool) override {}

    Ssd1306 core_;
    Scroller scroller_{queue_, core_};
    SpiSlave spi_;
    std::uint32_t ink_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeTwoWireGraphicDisplay(PartContext& context)
{
    const auto address = context.address("address", 0x3C, 0x3D);
    if (!address)
        return tl::unexpected(address.error());
    return std::make_unique<TwoWireGraphicDisplay>(context, *address);
}

kernel::Result<std::unique_ptr<Part>> makeSpiGraphicDisplay(PartContext& context) { return std::make_unique<SpiGraphicDisplay>(context); }

}  // namespace bramix::parts
