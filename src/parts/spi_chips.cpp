#include "parts/spi_chips.h"

#include <cmath>
#include <deque>
#include <fstream>
#include <iterator>

#include <fmt/format.h>

#include "parts/bus.h"
#include "parts/logic.h"
#include "parts/sparse_memory.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;
using namespace std::chrono_literals;

constexpr LogicFamily kConverter{.leastVolts = 2.7, .mostVolts = 7.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 60};
constexpr LogicFamily k3Volts{.leastVolts = 2.7, .mostVolts = 4.6, .lowShare = 0.3, .highShare = 0.7, .ohms = 40};

// Bit by bit: a start bit, single or differential, three channel bits; a null bit, ten bits from the top, then the same back to front.
class Converter final : public LogicPart {
public:
    explicit Converter(PartContext& context) : LogicPart(context, kConverter, "VDD"), reference_(context.pin("VREF")), analogGround_(context.pin("AGND"))
    {
        for (const char* pin : {"CS", "CLK", "DIN"})
            addInput(context, pin);
        addOutput(context, "DOUT");
        for (std::size_t i = 0; i < 8; ++i)
            channels_[i] = context.pin(fmt::format("CH{}", i));
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum Input : std::size_t { kCs, kClk, kDin };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(step_, command_, result_);
    }
    void powered(bool) override { step_ = -1; }
    void inputChanged(std::size_t input, bool high, Time) override
    {
        if (input == kCs) {
            step_ = high ? -1 : 0;
            release(0);
            return;
        }
        if (input != kClk || step_ < 0 || level(kCs))
            return;
        if (high) {
            // 0: waits for the start bit; 1 to 4: the command; 5: samples.
            if (step_ == 0 && level(kDin)) {
                step_ = 1;
                command_ = 0;
            } else if (step_ >= 1 && step_ <= 4) {
                command_ = static_cast<std::uint8_t>(command_ << 1 | (level(kDin) ? 1 : 0));
                ++step_;
            } else if (step_ >= 5) {
                ++step_;
            }
            return;
        }
        if (step_ == 6) {
            result_ = convert();
            drive(0, false);  // the null bit
        } else if (step_ >= 7 && step_ <= 16) {
            drive(0, (result_ >> (16 - step_) & 1) != 0);
        } else if (step_ >= 17 && step_ <= 25) {
            drive(0, (result_ >> (step_ - 16) & 1) != 0);
        } else if (step_ > 25) {
            drive(0, false);
        }
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override
    {
        if (step_ < 6)
            return "it is not chosen any more: its output lets go";
        const std::string word = fmt::format("CH{} is 0x{:03X}", command_ & 7, result_);
        return step_ == 6 ? word + ": the null bit before it" : step_ <= 16 ? fmt::format("{}: bit {}", word, 16 - step_) : step_ <= 25 ? fmt::format("{}: bit {}, on the way back", word, step_ - 16) : word + ": all of it is out";
    }
    [[nodiscard]] std::uint16_t convert() const
    {
        const auto at = [&](std::size_t channel) { return volts(channels_[channel]) - volts(analogGround_); };
        const std::size_t channel = command_ & 7U;
        const double v = (command_ & 8) != 0 ? at(channel) : at(channel) - at(channel ^ 1U);
        const double reference = volts(reference_) - volts(analogGround_);
        return reference <= 0 ? 0x3FF : static_cast<std::uint16_t>(std::clamp(std::floor(v * 1024 / reference), 0.0, 1023.0));
    }

    circuit::PinId reference_, analogGround_;
    std::array<circuit::PinId, 8> channels_{};
    int step_ = -1;
    std::uint8_t command_ = 0;
    std::uint16_t result_ = 0;
};

// A part with one SPI port on the inputs CS, CLK, DI and the output DO.
class SpiPart : public LogicPart, protected SpiSlave::Device {
protected:
    SpiPart(PartContext& context, const LogicFamily& family, const char* clock, const char* in, const char* out)
        : LogicPart(context, family), spi_(*this, [this](bool high) { drive(0, high); }, [this] { release(0); })
    {
        addInput(context, "CS");
        addInput(context, clock);
        addInput(context, in);
        addOutput(context, out);
    }
    void inputChanged(std::size_t input, bool high, Time) override
    {
        if (input == 0)
            spi_.select(!high);
        else if (input == 1)
            spi_.clock(high, level(2));
    }
    [[nodiscard]] std::string whyOutput(std::size_t) const override { return spi_.why(); }
    void powered(bool on) override
    {
        spi_.reset();
        if (on && !level(0))
            spi_.select(true);
    }
    SpiSlave spi_;
};

// Cells that outlast the supply; a file holds them where the setting names one.
class SpiMemory : public SpiPart {
public:
    [[nodiscard]] std::optional<Contents> unsaved() const override
    {
        auto bytes = file_.empty() ? std::nullopt : cells_.changed();
        return bytes ? std::optional(Contents{file_, std::move(*bytes)}) : std::nullopt;
    }
    void saved() override
    {
        if (const auto bytes = cells_.changed())
            cells_.rebase(*bytes);
    }

protected:
    SpiMemory(PartContext& context, const char* clock, const char* in, const char* out, const char* setting, std::vector<std::uint8_t> contents, std::uint8_t blank)
        : SpiPart(context, k3Volts, clock, in, out), cells_(std::move(contents), blank), file_(context.file(setting).value_or(""))
    {
    }
    SparseMemory cells_;

private:
    std::string file_;
};

class SerialFlash final : public SpiMemory {
public:
    SerialFlash(PartContext& context, std::vector<std::uint8_t> contents)
        : SpiMemory(context, "CLK", "DI", "DO", "contents", std::move(contents), 0xFF), holdNet_(context.net("HOLD"))
    {
        addInput(context, "WP");
        addInput(context, "HOLD");
    }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr std::uint32_t kBytes = 4U << 20U;
    static constexpr std::size_t kHold = 4;  // input
    // Typical times of table 9.6.
    static constexpr Duration kPage = 700us, kSector = 45ms, kHalfBlock = 120ms, kBlock = 150ms, kChip = 10s, kStatus = 10ms;

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(spi_, cells_, count_, command_, address_, writable_, status1_, status2_, asleep_, busyUntil_, page_, pageCount_);
    }
    void powered(bool on) override
    {
        writable_ = asleep_ = false;
        busyUntil_ = {};
        SpiPart::powered(on);
    }
    [[nodiscard]] bool busy() const { return queue_.now() < busyUntil_; }
    // While HOLD is low the clock does not count and the output is let go; a transfer goes on where it stood.
    void inputChanged(std::size_t input, bool high, Time at) override
    {
        const bool held = circuit_.stateOf(holdNet_) == circuit::NetState::low;
        if (input == kHold && held)
            release(0);
        else if (input == kHold)
            spi_.resume();
        else if (input != 1 || !held)
            SpiPart::inputChanged(input, high, at);
    }
    [[nodiscard]] std::string whyOutput(std::size_t output) const override
    {
        return circuit_.stateOf(holdNet_) == circuit::NetState::low ? "HOLD is low: it lets its output go" : SpiMemory::whyOutput(output);
    }
    std::uint8_t selected() override
    {
        count_ = 0;
        pageCount_ = 0;
        return 0xFF;
    }
    [[nodiscard]] std::uint8_t status() const { return static_cast<std::uint8_t>(status1_ | (writable_ ? 2 : 0) | (busy() ? 1 : 0)); }
    std::uint8_t exchanged(std::uint8_t in) override
    {
        const std::size_t n = count_++;
        if (n == 0) {
            command_ = in;
            address_ = 0;
            if (asleep_ && command_ != 0xAB) {
                command_ = 0;
                tell(false, "flash-asleep", id_ + " is powered down (0xB9) and takes nothing but 0xAB");
            } else if (busy() && command_ != 0x05 && command_ != 0x35) {
                tell(false, "flash-busy", fmt::format("{} was sent 0x{:02X} while it was still writing or erasing: it was ignored; wait for BUSY in status register 1", id_, command_));
                command_ = 0;
            }
        } else if (n <= 3) {
            address_ = (address_ << 8 | in) & (kBytes - 1);
        }
        switch (command_) {
        case 0x05: return status();
        case 0x35: return status2_;
        case 0x9F: return n == 0 ? 0xEF : n == 1 ? 0x40 : n == 2 ? 0x16 : 0xFF;
        case 0x90: return n >= 3 ? (((n - 3) + address_) % 2 == 0 ? 0xEF : 0x15) : 0xFF;
        case 0xAB: return n >= 3 ? 0x15 : 0xFF;
        case 0x4B: return n >= 4 && n < 12 ? static_cast<std::uint8_t>(0xD1 + 37 * (n - 4)) : 0xFF;
        case 0x03: return n >= 3 ? read() : 0xFF;
        case 0x0B: return n >= 4 ? read() : 0xFF;
        case 0x02:
            if (n >= 4)
                page_[(address_ + pageCount_++) & 0xFF] = in;
            if (n == 3)
                page_.fill(0xFF);
            return 0xFF;
        case 0x01:
            if (n == 1 || n == 2)
                page_[n - 1] = in;
            return 0xFF;
        default: return 0xFF;
        }
    }
    std::uint8_t read()
    {
        const std::uint8_t byte = cells_.at(address_);
        address_ = (address_ + 1) & (kBytes - 1);
        return byte;
    }
    // Block protection, table 7.1.13, with CMP = 0 and SEC = 0: a share of the top, or with TB of the bottom.
    [[nodiscard]] bool isProtected(std::uint32_t from, std::uint32_t size) const
    {
        const unsigned bp = status1_ >> 2 & 7U;
        if (bp == 0)
            return false;
        const std::uint32_t guarded = std::min(kBytes, (64U << 10U) << (bp - 1));
        return (status1_ & 0x20) != 0 ? from < guarded : from + size > kBytes - guarded;
    }
    // Writes and erases begin when the chip is let go, at the end of a byte.
    void deselected(bool whole) override
    {
        if (!whole || count_ == 0)
            return;
        const auto begin = [&](Duration time) {
            writable_ = false;
            busyUntil_ = queue_.now() + time;
        };
        switch (command_) {
        case 0x06: writable_ = true; return;
        case 0x04: writable_ = false; return;
        case 0xB9: asleep_ = true; return;
        case 0xAB: asleep_ = false; return;
        case 0x01: case 0x02: case 0x20: case 0x52: case 0xD8: case 0xC7: case 0x60: break;
        default: return;
        }
        if (!writable_) {
            tell(false, "flash-not-enabled", fmt::format("{} was sent 0x{:02X} without a write enable (0x06) before it: it was ignored", id_, command_));
            return;
        }
        const std::uint32_t size = command_ == 0x02 ? 256 : command_ == 0x20 ? 4096 : command_ == 0x52 ? 32768 : command_ == 0xD8 ? 65536 : kBytes;
        const std::uint32_t from = command_ == 0xC7 || command_ == 0x60 ? 0 : address_ & ~(size - 1);
        if (command_ == 0x01) {
            if (level(3) || (status1_ & 0x80) == 0) {
                status1_ = page_[0] & 0xFC;
                if (count_ > 2)
                    status2_ = page_[1] & 0x7B;
            }
            return begin(kStatus);
        }
        if (count_ < 4 && size != kBytes)
            return;
        if (isProtected(from, size)) {
            tell(false, "write-protected", fmt::format("{} was to change 0x{:06X}, which its BP bits protect: nothing was changed", id_, from));
            writable_ = false;
            return;
        }
        if (command_ == 0x02) {
            const std::size_t bytes = std::min<std::size_t>(pageCount_, 256);
            const std::uint32_t last = (address_ + pageCount_ - 1) & 0xFF;
            for (std::size_t i = 0; i < bytes; ++i) {
                const std::uint32_t at = (last - i) & 0xFF;
                cells_.put(from + at, cells_.at(from + at) & page_[at]);  // programming clears bits
            }
            return begin(kPage);
        }
        cells_.fill(from, size, 0xFF);
        begin(size == 4096 ? kSector : size == 32768 ? kHalfBlock : size == 65536 ? kBlock : kChip);
    }

    circuit::NetId holdNet_;
    std::uint32_t count_ = 0;
    std::uint8_t command_ = 0;
    std::uint32_t address_ = 0;
    bool writable_ = false, asleep_ = false;
    std::uint8_t status1_ = 0, status2_ = 0;
    Time busyUntil_{};
    std::array<std::uint8_t, 256> page_{};
    std::uint32_t pageCount_ = 0;
};

// Blocks of 512 bytes, high capacity addressing above 2 GB is not needed here: a card of standard capacity takes byte addresses, one of high capacity blocks.
class SdCard final : public SpiMemory {
public:
    SdCard(PartContext& context, std::vector<std::uint8_t> image, std::uint32_t blocks)
        : SpiMemory(context, "SCK", "MOSI", "MISO", "image", std::move(image), 0), blocks_(blocks)
    {
    }
    [[nodiscard]] std::string face() const override { return fmt::format("{} MB", blocks_ / 2048); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr std::uint32_t kBlock = 512;
    static constexpr Duration kWriteTime = 1ms;
    static constexpr Duration kStartTime = 100ms;  // of ACMD41 until it is ready

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(spi_, cells_, ready_, initSince_, application_, length_, command_, answer_, writing_, many_, reading_, readBlock_, writeBlock_, data_, busyUntil_);
    }
    void powered(bool on) override
    {
        ready_ = false;
        initSince_ = {};
        forget();
        SpiPart::powered(on);
    }
    void forget()
    {
        length_ = 0;
        answer_.clear();
        writing_ = many_ = reading_ = false;
        data_.clear();
    }
    std::uint8_t selected() override { return queue_.now() < busyUntil_ ? 0x00 : 0xFF; }
    void deselected(bool) override
    {
        answer_.clear();
        length_ = 0;
    }
    std::uint8_t exchanged(std::uint8_t in) override
    {
        if (writing_)
            return store(in);
        if (length_ > 0 || (in & 0xC0) == 0x40) {
            command_[length_++] = in;
            if (length_ == 6) {
                length_ = 0;
                obey();
            }
        }
        return next();
    }
    std::uint8_t next()
    {
        if (answer_.empty() && reading_ && many_)
            sendBlock(readBlock_++);
        if (answer_.empty())
            return queue_.now() < busyUntil_ ? 0x00 : 0xFF;
        const std::uint8_t byte = answer_.front();
        answer_.erase(answer_.begin());
        return byte;
    }
    void say(std::initializer_list<std::uint8_t> bytes)
    {
        answer_.push_back(0xFF);  // a byte's time to think
        answer_.insert(answer_.end(), bytes);
    }
    // CRC-7 of a command, x^7 + x^3 + 1.
    static std::uint8_t crc7(const std::uint8_t* bytes, std::size_t count)
    {
        std::uint8_t crc = 0;
        for (std::size_t i = 0; i < count; ++i)
            for (int bit = 7; bit >= 0; --bit) {
                const bool top = ((crc >> 6) ^ (bytes[i] >> bit & 1)) & 1;
                crc = static_cast<std::uint8_t>((crc << 1 & 0x7F) ^ (top ? 0x09 : 0));
            }
        return static_cast<std::uint8_t>(crc << 1 | 1);
    }
    // CRC-16 of data, x^16 + x^12 + x^5 + 1.
    static std::uint16_t crc16(const std::vector<std::uint8_t>& bytes)
    {
        std::uint16_t crc = 0;
        for (const std::uint8_t b : bytes) {
            crc ^= static_cast<std::uint16_t>(b << 8);
            for (int i = 0; i < 8; ++i)
                crc = static_cast<std::uint16_t>((crc & 0x8000) != 0 ? crc << 1 ^ 0x1021 : crc << 1);
        }
        return crc;
    }
    void sendData(const std::vector<std::uint8_t>& bytes)
    {
        answer_.push_back(0xFF);
        answer_.push_back(0xFE);
        answer_.insert(answer_.end(), bytes.begin(), bytes.end());
        const std::uint16_t crc = crc16(bytes);
        answer_.push_back(static_cast<std::uint8_t>(crc >> 8));
        answer_.push_back(static_cast<std::uint8_t>(crc));
    }
    void sendBlock(std::uint32_t block)
    {
        if (block >= blocks_) {
            answer_.push_back(0x08);  // out of range
            reading_ = false;
            return;
        }
        std::vector<std::uint8_t> bytes(kBlock);
        for (std::uint32_t i = 0; i < kBlock; ++i)
            bytes[i] = cells_.at(block * kBlock + i);
        sendData(bytes);
    }
    void obey()
    {
        const std::uint8_t number = command_[0] & 0x3F;
        const std::uint32_t argument = static_cast<std::uint32_t>(command_[1]) << 24 | static_cast<std::uint32_t>(command_[2]) << 16 | static_cast<std::uint32_t>(command_[3]) << 8 | command_[4];
        const auto idle = static_cast<std::uint8_t>(ready_ ? 0 : 1);
        const bool application = std::exchange(application_, false);
        // Without CRC asked for, only the first two commands carry one that counts.
        if ((number == 0 || number == 8) && command_[5] != crc7(command_.data(), 5)) {
            tell(false, "sd-crc", fmt::format("{} got CMD{} with a wrong checksum: expected 0x{:02X}", id_, number, crc7(command_.data(), 5)));
            return say({static_cast<std::uint8_t>(idle | 0x08)});
        }
        if (application && number == 41) {
            if (initSince_ == Time{})
                initSince_ = queue_.now();
            ready_ = queue_.now() - initSince_ >= kStartTime;
            return say({static_cast<std::uint8_t>(ready_ ? 0 : 1)});
        }
        switch (number) {
        case 0:
            forget();
            ready_ = false;
            initSince_ = {};
            return say({0x01});
        case 8: return say({idle, 0x00, 0x00, command_[3], command_[4]});
        case 58: return say({idle, static_cast<std::uint8_t>(ready_ ? 0xC0 : 0x40), 0xFF, 0x80, 0x00});
        case 55: application_ = true; return say({idle});
        default: break;
        }
        if (!ready_)
            return say({0x05});
        switch (number) {
        case 9: case 10: {
            std::vector<std::uint8_t> bytes(16, 0);
            if (number == 9) {
                const std::uint32_t size = blocks_ / 1024 - 1;  // CSD version 2
                bytes = {0x40, 0x0E, 0x00, 0x32, 0x5B, 0x59, 0x00, static_cast<std::uint8_t>(size >> 16 & 0x3F), static_cast<std::uint8_t>(size >> 8), static_cast<std::uint8_t>(size), 0x7F, 0x80, 0x0A, 0x40, 0x00, 0x00};
            } else {
                bytes = {0x00, 'B', 'X', 'H', 'E', 'D', 'G', 'E', 0x10, 0, 0, 0, 1, 0x01, 0xA1, 0};
            }
            bytes[15] = crc7(bytes.data(), 15);
            say({0x00});
            return sendData(bytes);
        }
        case 12:
            reading_ = many_ = false;
            answer_.clear();
            return say({0x00});
        case 13: return say({0x00, 0x00});
        case 16: return say({0x00});
        case 17: case 18:
            if (argument >= blocks_)
                return say({0x20});
            say({0x00});
            reading_ = true;
            many_ = number == 18;
            readBlock_ = argument + 1;
            sendBlock(argument);
            return;
        case 24: case 25:
            if (argument >= blocks_)
                return say({0x20});
            writing_ = true;
            many_ = number == 25;
            writeBlock_ = argument;
            data_.clear();
            return say({0x00});
        default: return say({0x04});
        }
    }
    std::uint8_t store(std::uint8_t in)
    {
        if (!answer_.empty())
            return next();
        if (queue_.now() < busyUntil_)
            return 0x00;
        if (data_.empty() && in != 0xFE && in != 0xFC) {
            if (in == 0xFD) {
                writing_ = many_ = false;
                busyUntil_ = queue_.now() + kWriteTime;
            }
            return 0xFF;
        }
        data_.push_back(in);
        if (data_.size() < 1 + kBlock + 2)
            return 0xFF;
        for (std::uint32_t i = 0; i < kBlock; ++i)
            cells_.put(writeBlock_ * kBlock + i, data_[i + 1]);
        data_.clear();
        ++writeBlock_;
        writing_ = many_ && writeBlock_ < blocks_;
        busyUntil_ = queue_.now() + kWriteTime;
        return 0xE5;  // data accepted
    }

    std::uint32_t blocks_;
    bool ready_ = false;
    Time initSince_{};
    bool application_ = false;
    std::uint8_t length_ = 0;
    std::array<std::uint8_t, 6> command_{};
    std::vector<std::uint8_t> answer_;
    bool writing_ = false, many_ = false, reading_ = false;
    std::uint32_t readBlock_ = 0, writeBlock_ = 0;
    std::vector<std::uint8_t> data_;
    Time busyUntil_{};
};

kernel::Result<std::vector<std::uint8_t>> fileOf(const PartContext& context, const char* setting, std::size_t most)
{
    const auto bytes = context.contents(setting, most);
    if (!bytes)
        return tl::unexpected(bytes.error());
    return std::vector<std::uint8_t>(bytes->begin(), bytes->end());
}

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeConverter(PartContext& context) { return std::make_unique<Converter>(context); }

kernel::Result<std::unique_ptr<Part>> makeSerialFlash(PartContext& context)
{
    auto contents = fileOf(context, "contents", 4U << 20U);
    if (!contents)
        return tl::unexpected(contents.error());
    return std::make_unique<SerialFlash>(context, std::move(*contents));
}

kernel::Result<std::unique_ptr<Part>> makeSdCard(PartContext& context)
{
    constexpr std::uint32_t kMegabyte = 1U << 20U;
    auto image = fileOf(context, "image", 256 * kMegabyte);
    if (!image)
        return tl::unexpected(image.error());
    const auto megabytes = context.quantity("size", kernel::Unit::none, 1, 2048);
    if (!megabytes)
        return tl::unexpected(megabytes.error());
    const auto bytes = std::max<std::uint64_t>(static_cast<std::uint64_t>(*megabytes) * kMegabyte, image->size());
    return std::make_unique<SdCard>(context, std::move(*image), static_cast<std::uint32_t>((bytes + kMegabyte - 1) / kMegabyte * 2048));
}

}  // namespace bramix::parts
