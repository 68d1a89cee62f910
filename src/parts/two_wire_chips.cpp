#include "parts/two_wire_chips.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fstream>
#include <iterator>

#include <fmt/format.h>

#include "parts/two_wire_part.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;
using namespace std::chrono_literals;

constexpr LogicFamily kWide{.leastVolts = 1.8, .mostVolts = 6.25, .lowShare = 0.3, .highShare = 0.7, .ohms = 40};
constexpr LogicFamily kClock1307{.leastVolts = 4.5, .mostVolts = 7.0, .lowShare = 0.16, .highShare = 0.44, .ohms = 60};
constexpr LogicFamily kClock3231{.leastVolts = 2.3, .mostVolts = 6.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 60};

class TwoWireEeprom final : public TwoWirePart {
public:
    TwoWireEeprom(PartContext& context, const std::vector<std::uint8_t>& contents)
        : TwoWirePart(context, kWide, 0x50, {"A0", "A1", "A2"}), file_(context.file("contents").value_or(""))
    {
        addInput(context, "WP");
        cells_.fill(0xFF);
        std::copy_n(contents.begin(), std::min(contents.size(), cells_.size()), cells_.begin());
        saved_ = cells_;
    }
    [[nodiscard]] std::optional<Contents> unsaved() const override { return file_.empty() || cells_ == saved_ ? std::nullopt : std::optional(Contents{file_, std::string(cells_.begin(), cells_.end())}); }
    void saved() override { saved_ = cells_; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr std::size_t kPage = 32;
    static constexpr Duration kWriteTime = 5ms;

    template <class Archive>
    void state(Archive& ar)
    {
        wireState(ar);
        ar(cells_, address_, come_, page_, dirty_, busyUntil_);
    }
    void powered(bool) override
    {
        resetWire();
        address_ = 0;
        come_ = 0;
        dirty_ = 0;
        busyUntil_ = {};
    }
    bool answers(bool reads) override
    {
        if (queue_.now() < busyUntil_)
            return false;
        if (!reads)
            come_ = 0;
        return true;
    }
    bool written(std::uint8_t byte) override
    {
        if (come_ < 2) {
            address_ = static_cast<std::uint16_t>(come_ == 0 ? byte << 8 : address_ | byte) & 0x0FFF;
            ++come_;
            dirty_ = 0;
            return true;
        }
        // Into the page, round and round.
        page_[address_ % kPage] = byte;
        dirty_ |= 1U << (address_ % kPage);
        address_ = static_cast<std::uint16_t>((address_ & ~(kPage - 1)) | ((address_ + 1) % kPage));
        return true;
    }
    std::uint8_t wanted() override
    {
        const std::uint8_t byte = cells_[address_];
        address_ = (address_ + 1) & 0x0FFF;
        return byte;
    }
    void ended() override
    {
        if (dirty_ == 0)
            return;
        if (level(firstOwnInput())) {
            tell(false, "write-protected", id_ + " was written while its WP is high: nothing is kept; hold WP low to write");
        } else {
            for (std::size_t i = 0; i < kPage; ++i)
                if ((dirty_ >> i & 1) != 0)
                    cells_[(address_ & ~(kPage - 1)) + i] = page_[i];
            busyUntil_ = queue_.now() + kWriteTime;
        }
        dirty_ = 0;
    }

    std::array<std::uint8_t, 4096> cells_{}, saved_{};
    std::string file_;
    std::uint16_t address_ = 0;
    std::uint8_t come_ = 0;  // bytes of the address
    std::array<std::uint8_t, kPage> page_{};
    std::uint32_t dirty_ = 0;
    Time busyUntil_{};
};

constexpr std::uint8_t bcd(int value) { return static_cast<std::uint8_t>(value / 10 << 4 | value % 10); }
constexpr int unbcd(std::uint8_t value) { return (value >> 4) * 10 + (value & 15); }

// The time registers are counters, each as it was written (DS1307 data sheet, "Clock and Calendar"; DS3231, table 1): the day of the week is whatever was
// written and goes on by one at midnight, and a date that the month does not have stands until then. What they have come to is worked out when somebody looks.
class Clock final : public TwoWirePart {
public:
    Clock(PartContext& context, bool exact, std::int64_t start, bool running)
        : TwoWirePart(context, exact ? kClock3231 : kClock1307, 0x68), exact_(exact), set_(fields(start)), tick_(context.queue, [this](Time due) { tick(due); })
    {
        addOutput(context, "SQW");
        regs_.fill(0);
        if (exact_)
            regs_[0x0E] = 0x1C, regs_[0x0F] = 0x88;  // no square wave; the oscillator has stopped once
        halted_ = !running;
        if (exact_ && running)
            regs_[0x0F] = 0x08;
        regs_[7] = exact_ ? 0 : 0x03;
    }
    void setControl(std::string_view, double value) override { warmth_ = value; }
    [[nodiscard]] double control(std::string_view) const override { return warmth_; }
    [[nodiscard]] std::string face() const override
    {
        const Fields f = fieldsAt(queue_.now());
        return fmt::format("{:02}:{:02}:{:02}", f.hour, f.minute, f.second);
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    struct Fields {
        int second, minute, hour, weekday, day, month, year;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(second, minute, hour, weekday, day, month, year);
        }
    };

    template <class Archive>
    void state(Archive& ar)
    {
        wireState(ar);
        ar(regs_, pointer_, first_, halted_, alive_, twelve_, set_, baseAt_, latch_, warmth_, high_, tick_);
    }
    // What the counters have come to since baseAt_.
    [[nodiscard]] Fields fieldsAt(Time now) const
    {
        using namespace std::chrono;
        Fields f = set_;
        const std::int64_t total = f.hour * 3600LL + f.minute * 60LL + f.second + (halted_ ? 0 : (now - baseAt_) / 1s);
        auto midnights = total / 86400;
        const auto rest = static_cast<int>(total % 86400);
        f.hour = rest / 3600;
        f.minute = rest / 60 % 60;
        f.second = rest % 60;
        if (midnights == 0)
            return f;
        f.weekday = static_cast<int>((f.weekday + 6 + midnights) % 7) + 1;
        const auto date = [&] { return year_month_day{year{2000 + f.year}, month{static_cast<unsigned>(f.month)}, day{static_cast<unsigned>(f.day)}}; };
        if (!date().ok()) {  // a 31st of June ends at midnight as a 30th does
            f.day = 1;
            f.month = f.month % 12 + 1;
            f.year += f.month == 1 ? 1 : 0;
            --midnights;
        }
        const year_month_day later{sys_days{date()} + std::chrono::days{midnights}};
        f.day = static_cast<int>(static_cast<unsigned>(later.day()));
        f.month = static_cast<int>(static_cast<unsigned>(later.month()));
        f.year = (static_cast<int>(later.year()) - 2000) % 100;
        return f;
    }
    [[nodiscard]] static Fields fields(std::int64_t s)
    {
        using namespace std::chrono;
        const auto days = floor<std::chrono::days>(std::chrono::seconds(s));
        const year_month_day date{sys_days{2000y / January / 1} + days};
        const auto rest = static_cast<int>(s - days.count() * 86400);
        return {rest % 60, rest / 60 % 60, rest / 3600, static_cast<int>(weekday{sys_days{date}}.iso_encoding()), static_cast<int>(static_cast<unsigned>(date.day())), static_cast<int>(static_cast<unsigned>(date.month())),
                static_cast<int>(date.year()) - 2000};
    }
    // The seven time registers as they stand; they are taken together at each start, so that a carry cannot fall between two of them.
    void latch()
    {
        const Fields f = fieldsAt(queue_.now());
        latch_ = {static_cast<std::uint8_t>(bcd(f.second) | (!exact_ && halted_ ? 0x80 : 0)), bcd(f.minute), hours(f.hour), static_cast<std::uint8_t>(f.weekday), bcd(f.day), bcd(f.month), bcd(f.year % 100)};
    }
    [[nodiscard]] std::uint8_t hours(int hour) const
    {
        if (!twelve_)
            return bcd(hour);
        return static_cast<std::uint8_t>(0x40 | (hour >= 12 ? 0x20 : 0) | bcd(hour % 12 == 0 ? 12 : hour % 12));
    }
    void powered(bool on) override
    {
        resetWire();
        if (on && !alive_) {
            alive_ = true;
            baseAt_ = queue_.now();
        }
        if (on)
            arm();
    }
    bool answers(bool reads) override
    {
        latch();
        if (!reads)
            first_ = true;
        return true;
    }
    [[nodiscard]] std::uint8_t size() const { return exact_ ? 0x13 : 0x40; }
    bool written(std::uint8_t byte) override
    {
        if (first_) {
            first_ = false;
            pointer_ = byte % size();
            return true;
        }
        if (pointer_ < 7)
            writeTime(pointer_, byte);
        else if (exact_ && pointer_ == 0x0F)
            regs_[0x0F] = static_cast<std::uint8_t>((regs_[0x0F] & byte & 0x83) | (byte & 0x08));
        else if (!exact_ || pointer_ < 0x11)
            regs_[pointer_] = byte;
        pointer_ = static_cast<std::uint8_t>((pointer_ + 1) % size());
        arm();
        return true;
    }
    std::uint8_t wanted() override
    {
        std::uint8_t byte = pointer_ < 7 ? latch_[pointer_] : regs_[pointer_];
        const auto quarter = static_cast<int>(std::lround(warmth_ * 4));
        if (exact_ && pointer_ == 0x11)
            byte = static_cast<std::uint8_t>(quarter >> 2);
        else if (exact_ && pointer_ == 0x12)
            byte = static_cast<std::uint8_t>((quarter & 3) << 6);
        pointer_ = static_cast<std::uint8_t>((pointer_ + 1) % size());
        if (pointer_ == 0)
            latch();
        return byte;
    }
    void ended() override {}

    void writeTime(std::uint8_t reg, std::uint8_t byte)
    {
        const Time now = queue_.now();
        Fields f = fieldsAt(now);
        const bool stood = halted_;
        switch (reg) {
        case 0:
            f.second = std::min(unbcd(byte & 0x7F), 59);
            if (!exact_)
                halted_ = (byte & 0x80) != 0;
            break;
        case 1: f.minute = std::min(unbcd(byte & 0x7F), 59); break;
        case 2:
            twelve_ = (byte & 0x40) != 0;
            f.hour = twelve_ ? unbcd(byte & 0x1F) % 12 + ((byte & 0x20) != 0 ? 12 : 0) : std::min(unbcd(byte & 0x3F), 23);
            break;
        case 3: f.weekday = byte & 7; break;
        case 4: f.day = std::clamp(unbcd(byte & 0x3F), 1, 31); break;
        case 5: f.month = std::clamp(unbcd(byte & 0x1F), 1, 12); break;
        default: f.year = unbcd(byte); break;
        }
        set_ = f;
        // Writing the seconds begins a second anew; anything else leaves its fraction.
        baseAt_ = reg == 0 || stood ? now : now - (now - baseAt_) % 1s;
        if (exact_)
            regs_[0x0F] &= 0x7F;
        latch();
    }

    // The square wave, and the alarms of the exact one.
    [[nodiscard]] Duration half() const
    {
        constexpr std::array<std::int64_t, 4> k1307{1, 4096, 8192, 32768}, k3231{1, 1024, 4096, 8192};
        const std::uint8_t c = exact_ ? regs_[0x0E] : regs_[7];
        const std::int64_t hertz = exact_ ? k3231[c >> 3 & 3] : k1307[c & 3];
        return Duration(1'000'000'000'000 / (2 * hertz));
    }
    [[nodiscard]] bool waves() const { return !halted_ && (exact_ ? (regs_[0x0E] & 0x04) == 0 : (regs_[7] & 0x10) != 0); }
    void arm()
    {
        if (!on())
            return;
        if (waves()) {
            if (!tick_.armed())
                tick_.arm(queue_.now() + half());
            return;
        }
        // Open drain: the DS1307 holds what OUT says, the DS3231 its alarms.
        const bool low = exact_ ? (regs_[0x0F] & regs_[0x0E] & 3) != 0 : (regs_[7] & 0x80) == 0;
        low ? drive(1, false) : release(1);
        if (exact_ && (regs_[0x0E] & 3) != 0 && !tick_.armed())
            tick_.arm(queue_.now() + (1s - (queue_.now() - baseAt_) % 1s));
    }
    [[nodiscard]] std::string whyOwnOutput(std::size_t) const override
    {
        if (waves())
            return fmt::format("its square wave of {}", kernel::formatQuantity(0.5 / kernel::seconds(half()), kernel::Unit::hertz));
        if (!exact_)
            return (regs_[7] & 0x80) != 0 ? "OUT is 1 in its control register" : "OUT is 0 in its control register";
        const unsigned alarms = regs_[0x0F] & regs_[0x0E] & 3U;
        return alarms == 0 ? "no alarm is left" : fmt::format("alarm {} has come", alarms == 3 ? "1 and 2" : alarms == 1 ? "1" : "2");
    }
    void tick(Time due)
    {
        if (!on())
            return;
        if (waves()) {
            high_ = !high_;
            high_ ? release(1) : drive(1, false);
            tick_.arm(due + half());
            return;
        }
        const Fields f = fieldsAt(due);
        const auto matches = [&](std::size_t reg, int value) { return (regs_[reg] & 0x80) != 0 || unbcd(regs_[reg] & 0x3F) == value; };
        const auto dayMatches = [&](std::size_t reg) {
            return (regs_[reg] & 0x80) != 0 || ((regs_[reg] & 0x40) != 0 ? (regs_[reg] & 0x0F) == f.weekday : unbcd(regs_[reg] & 0x3F) == f.day);
        };
        if (matches(7, f.second) && matches(8, f.minute) && matches(9, f.hour) && dayMatches(10))
            regs_[0x0F] |= 1;
        if (f.second == 0 && matches(11, f.minute) && matches(12, f.hour) && dayMatches(13))
            regs_[0x0F] |= 2;
        arm();
    }

    bool exact_;
    Fields set_;  // at baseAt_
    kernel::Alarm tick_;
    std::array<std::uint8_t, 0x40> regs_{};
    std::uint8_t pointer_ = 0;
    bool first_ = false;
    bool halted_ = false;
    bool alive_ = false;
    bool twelve_ = false;
    bool high_ = true;
    Time baseAt_{};
    std::array<std::uint8_t, 7> latch_{};
    double warmth_ = 25;
};

class PortExpander final : public TwoWirePart {
public:
    explicit PortExpander(PartContext& context) : TwoWirePart(context, kWide, 0x20, {"A0", "A1", "A2"})
    {
        addInput(context, "RESET");
        for (const char port : {'A', 'B'})
            for (int bit = 0; bit < 8; ++bit) {
                const std::string pin = fmt::format("GP{}{}", port, bit);
                addInput(context, pin);
                const auto out = addOutput(context, pin);
                circuit_.setLimit(outputPin(out), {0.025}, circuit::Circuit::kNoGroup);
            }
        addOutput(context, "INTA");
        addOutput(context, "INTB");
        reset();
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    // Registers as with IOCON.BANK = 0, in pairs: A, B.
    enum Reg : std::uint8_t { iodir, ipol, gpinten, defval, intcon, iocon, gppu, intf, intcap, gpio, olat };
    static constexpr double kPullUpOhms = 100'000;
    static constexpr std::size_t kReset = 5, kPins = 6, kIntA = 17;

    template <class Archive>
    void state(Archive& ar)
    {
        wireState(ar);
        ar(regs_, pointer_, first_);
    }
    std::uint8_t& at(Reg reg, std::size_t port) { return regs_[reg * 2U + port]; }
    void reset()
    {
        regs_.fill(0);
        regs_[0] = regs_[1] = 0xFF;
        pointer_ = 0;
    }
    void powered(bool on) override
    {
        resetWire();
        reset();
        if (on)
            show();
    }
    [[nodiscard]] std::uint8_t pins(std::size_t port) const
    {
        std::uint8_t out = 0;
        for (std::size_t bit = 0; bit < 8; ++bit)
            out = static_cast<std::uint8_t>(out | (level(kPins + port * 8 + bit) ? 1U << bit : 0U));
        return out;
    }
    void ownInputChanged(std::size_t input, bool high, Time) override
    {
        if (input == kReset) {
            if (!high) {
                reset();
                show();
            }
            return;
        }
        const std::size_t port = (input - kPins) / 8;
        const auto bit = static_cast<std::uint8_t>(1U << (input - kPins) % 8);
        if ((at(gpinten, port) & at(iodir, port) & bit) != 0)
            look(port, bit, high);
    }
    // An interrupt on change, or while a pin is not what DEFVAL says.
    void look(std::size_t port, std::uint8_t bit, bool high)
    {
        const bool compares = (at(intcon, port) & bit) != 0;
        if (compares && high == ((at(defval, port) & bit) != 0))
            return;
        if (at(intf, port) == 0)
            at(intcap, port) = value(port);
        at(intf, port) |= bit;
        showInterrupts();
    }
    [[nodiscard]] std::uint8_t value(std::size_t port) { return static_cast<std::uint8_t>((pins(port) & at(iodir, port)) ^ (at(ipol, port) & at(iodir, port))) | (at(olat, port) & ~at(iodir, port)); }
    void clearInterrupt(std::size_t port)
    {
        at(intf, port) = 0;
        // What still differs from DEFVAL asks again.
        const std::uint8_t differs = static_cast<std::uint8_t>((pins(port) ^ at(defval, port)) & at(intcon, port) & at(gpinten, port) & at(iodir, port));
        for (std::size_t bit = 0; bit < 8; ++bit)
            if ((differs >> bit & 1) != 0)
                look(port, static_cast<std::uint8_t>(1U << bit), level(kPins + port * 8 + bit));
        showInterrupts();
    }
    void show()
    {
        const circuit::Circuit::Batch together(circuit_);
        for (std::size_t port = 0; port < 2; ++port)
            for (std::size_t bit = 0; bit < 8; ++bit) {
                const std::size_t out = 1 + port * 8 + bit;
                if ((at(iodir, port) >> bit & 1) == 0)
                    drive(out, (at(olat, port) >> bit & 1) != 0);
                else if ((at(gppu, port) >> bit & 1) != 0)
                    pullUp(out, kPullUpOhms);
                else
                    release(out);
            }
        showInterrupts();
    }
    [[nodiscard]] std::string whyOwnOutput(std::size_t output) const override
    {
        if (output >= kIntA) {
            const auto& flags = &regs_[intf * 2U];
            return fmt::format("its interrupt flags: INTFA 0x{:02X}, INTFB 0x{:02X}", flags[0], flags[1]);
        }
        const std::size_t port = (output - 1) / 8, bit = (output - 1) % 8;
        const char name = port == 0 ? 'A' : 'B';
        if ((regs_[iodir * 2U + port] >> bit & 1) == 0)
            return fmt::format("bit {} of OLAT{} is {}, and IODIR{} makes it an output", bit, name, regs_[olat * 2U + port] >> bit & 1, name);
        return fmt::format("IODIR{} makes it an input{}", name, (regs_[gppu * 2U + port] >> bit & 1) != 0 ? fmt::format(", and GPPU{} pulls it up", name) : std::string());
    }
    void showInterrupts()
    {
        const std::uint8_t config = regs_[iocon * 2];
        const bool mirror = (config & 0x40) != 0;
        for (std::size_t port = 0; port < 2; ++port) {
            const bool active = at(intf, port) != 0 || (mirror && at(intf, 1 - port) != 0);
            if ((config & 0x04) != 0)
                active ? drive(kIntA + port, false) : release(kIntA + port);
            else
                drive(kIntA + port, active == ((config & 0x02) != 0));
        }
    }
    // With BANK = 1 the ports' registers stand apart.
    [[nodiscard]] std::size_t index() const
    {
        const bool bank = (regs_[iocon * 2] & 0x80) != 0;
        if (!bank)
            return pointer_ < 22 ? pointer_ : 99;
        const std::size_t reg = pointer_ & 0x0F;
        return reg < 11 && pointer_ < 0x1B ? reg * 2 + (pointer_ >> 4 & 1) : 99;
    }
    void next()
    {
        const bool bank = (regs_[iocon * 2] & 0x80) != 0;
        if ((regs_[iocon * 2] & 0x20) == 0)
            pointer_ = static_cast<std::uint8_t>(!bank ? (pointer_ + 1) % 22 : pointer_ + 1);
        else if (!bank)
            pointer_ ^= 1;  // byte mode: to and fro within the pair
    }
    bool answers(bool reads) override
    {
        if (!level(kReset))
            return false;
        if (!reads)
            first_ = true;
        return true;
    }
    bool written(std::uint8_t byte) override
    {
        if (first_) {
            first_ = false;
            pointer_ = byte;
            return true;
        }
        const std::size_t i = index();
        next();
        if (i == 99)
            return true;
        const auto reg = static_cast<Reg>(i / 2);
        if (reg == iocon)
            regs_[iocon * 2] = regs_[iocon * 2 + 1] = byte & 0xFE;
        else if (reg == gpio)
            at(olat, i % 2) = byte;
        else if (reg != intf && reg != intcap)
            regs_[i] = byte;
        if (reg == gpinten || reg == defval || reg == intcon)
            clearInterrupt(i % 2);
        show();
        return true;
    }
    std::uint8_t wanted() override
    {
        const std::size_t i = index();
        next();
        if (i == 99)
            return 0;
        const auto reg = static_cast<Reg>(i / 2);
        const std::uint8_t byte = reg == gpio ? value(i % 2) : regs_[i];
        if (reg == gpio || reg == intcap)
            clearInterrupt(i % 2);
        return byte;
    }
    void ended() override {}

    std::array<std::uint8_t, 22> regs_{};
    std::uint8_t pointer_ = 0;
    bool first_ = false;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeTwoWireEeprom(PartContext& context)
{
    const auto bytes = context.contents("contents", 4096);
    if (!bytes)
        return tl::unexpected(bytes.error());
    return std::make_unique<TwoWireEeprom>(context, std::vector<std::uint8_t>(bytes->begin(), bytes->end()));
}

kernel::Result<std::unique_ptr<Part>> makeClock(PartContext& context)
{
    const std::string model = context.setting("model");
    if (model != "DS1307" && model != "DS3231")
        return kernel::fail(context.id + ".model", "\"" + model + "\"; expected DS1307 or DS3231");
    const std::string text = context.setting("start");
    int y = 0, m = 0, d = 0, hh = 0, mm = 0, ss = 0;
    if (std::sscanf(text.c_str(), "%d-%d-%d %d:%d:%d", &y, &m, &d, &hh, &mm, &ss) != 6 || y < 2000 || y > 2099 || hh < 0 || hh > 23 || mm < 0 || mm > 59 || ss < 0 || ss > 59)
        return kernel::fail(context.id + ".start", "\"" + text + "\"; expected a time such as 2026-03-01 06:00:00, from 2000 to 2099");
    using namespace std::chrono;
    const year_month_day date{year{y}, month{static_cast<unsigned>(m)}, day{static_cast<unsigned>(d)}};
    if (!date.ok())
        return kernel::fail(context.id + ".start", "\"" + text + "\" is no day of the calendar");
    const std::int64_t start = (sys_days{date} - sys_days{2000y / January / 1}).count() * 86400LL + hh * 3600 + mm * 60 + ss;
    return std::make_unique<Clock>(context, model == "DS3231", start, context.setting("running") != "no");
}

kernel::Result<std::unique_ptr<Part>> makePortExpander(PartContext& context) { return std::make_unique<PortExpander>(context); }

}  // namespace bramix::parts
