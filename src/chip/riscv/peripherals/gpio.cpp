#include "chip/riscv/peripherals/gpio.h"

#include <fmt/format.h>

namespace bramix::chip::riscv {

namespace {

constexpr unsigned kConstantHigh = 0x1E, kConstantLow = 0x1F, kRxPad = 20, kTxPad = 21;
constexpr std::uint32_t kInputEnable = 0x200, kPullUp = 0x100, kPullDown = 0x80, kAllPads = (1U << Gpio::kPads) - 1;

}  // namespace

Gpio::Gpio(Soc& soc, circuit::Circuit& circuit, PinElectrics electrics, std::function<circuit::Cause()> cause) : pins(circuit, kPads, electrics, std::move(cause)), soc_(soc)
{
    pins.changed = [this](unsigned pad, bool level) { padChanged(pad, level); };
    reset();
}

void Gpio::reset()
{
    out_ = enable_ = status_ = 0;
    pin_.fill(0);
    chosen_.fill(0);
    // IO_MUX: function 1, drive strength 2; inputs of the pads that come up with them (TRM 5.12, table 5-3); JTAG's four and the flash's keep function 0.
    mux_.fill(0x1800);
    for (const unsigned pad : {4U, 5U, 6U, 7U, 12U, 13U, 14U, 15U, 16U, 17U, kRxPad, kTxPad})
        mux_[pad] = 0x0800;
    for (const unsigned pad : {2U, 3U, 4U, 5U, 6U, 7U, 8U, 9U, 10U, kRxPad})
        mux_[pad] |= kInputEnable;
    mux_[9] |= kPullUp;
    mux_[kRxPad] |= kPullUp;
    outSelect_.fill(kPlainSignal);
    inSelect_.fill(0);
    for (Signal& s : signals_)
        s = {};
    signals_[kUart0Signal].level = true;
    showAll();
    updateInterrupt();
}

unsigned Gpio::signalOf(unsigned pad) const
{
    if (((mux_[pad] >> 12) & 7U) == 0)
        return pad == kTxPad ? kUart0Signal : kPlainSignal;
    return outSelect_[pad] & 0xFFU;
}

void Gpio::show(unsigned pad)
{
    using Drives = PinBank::Drives;
    const unsigned signal = signalOf(pad);
    const bool direct = ((mux_[pad] >> 12) & 7U) == 0 && pad == kTxPad;
    const bool plain = signal >= kPlainSignal;
    bool level = plain ? ((out_ >> pad) & 1U) != 0 : signals_[signal].level;
    if (!direct && (outSelect_[pad] & 0x100U) != 0)
        level = !level;
    const bool byRegister = plain || (!direct && (outSelect_[pad] & 0x200U) != 0);
    bool enabled = byRegister ? ((enable_ >> pad) & 1U) != 0 : signals_[signal].on;
    if (!direct && (outSelect_[pad] & 0x400U) != 0)
        enabled = !enabled;
    const bool openDrain = (pin_[pad] & 4U) != 0;
    Drives what = (mux_[pad] & kPullUp) != 0 ? Drives::pullUp : (mux_[pad] & kPullDown) != 0 ? Drives::pullDown : Drives::nothing;
    if (enabled && !(openDrain && level))
        what = level ? Drives::high : Drives::low;
    pins.drive(pad, what);
}

void Gpio::showAll()
{
    for (unsigned pad = 0; pad < kPads; ++pad)
        show(pad);
}

void Gpio::setSignal(unsigned signal, bool level, const char* name, std::uint32_t setBy)
{
    Signal& s = signals_[signal];
    const bool on = name != nullptr;
    s.setBy = setBy;
    if (s.level == level && s.on == on)
        return;
    s.level = level;
    s.on = on;
    s.name = on ? name : "";
    for (unsigned pad = 0; pad < kPads; ++pad)
        if (signalOf(pad) == signal)
            show(pad);
}

std::optional<unsigned> Gpio::padInto(unsigned signal) const
{
    const std::uint32_t select = inSelect_[signal];
    if ((select & 0x40U) != 0)
        return (select & 0x1FU) < kPads ? std::optional(select & 0x1FU) : std::nullopt;
    if (signal == kUart0Signal && ((mux_[kRxPad] >> 12) & 7U) == 0)
        return kRxPad;
    return std::nullopt;
}

bool Gpio::input(unsigned signal) const
{
    const std::uint32_t select = inSelect_[signal];
    bool level = true;
    if (const auto pad = padInto(signal))
        level = seen(*pad);
    else if ((select & 0x40U) != 0)
        level = (select & 0x1FU) == kConstantHigh;
    return (select & 0x60U) == 0x60U ? !level : level;
}

std::optional<unsigned> Gpio::padOf(unsigned signal) const
{
    for (unsigned pad = 0; pad < kPads; ++pad)
        if (signalOf(pad) == signal)
            return pad;
    return std::nullopt;
}

PinStatus Gpio::statusOf(unsigned pad) const
{
    PinStatus out;
    const unsigned signal = signalOf(pad);
    const PinBank::Drives drives = pins.drives(pad);
    out.name = fmt::format("GPIO{}", pad);
    out.output = drives == PinBank::Drives::low || drives == PinBank::Drives::high || (signal >= kPlainSignal && ((enable_ >> pad) & 1U) != 0);
    out.pullUp = drives == PinBank::Drives::pullUp;
    out.latch = ((out_ >> pad) & 1U) != 0;
    out.level = pins.level(pad);
    out.floats = !out.output && pins.floats(pad);
    out.digital = (mux_[pad] & kInputEnable) != 0 || out.output;
    if (signal < kPlainSignal && signals_[signal].on) {
        out.function = signals_[signal].name;
        out.setBy = signals_[signal].setBy;
    }
    return out;
}

std::uint32_t Gpio::inputs() const
{
    std::uint32_t out = 0;
    for (unsigned pad = 0; pad < kPads; ++pad)
        if (seen(pad))
            out |= 1U << pad;
    return out;
}

void Gpio::padChanged(unsigned pad, bool level)
{
    if ((mux_[pad] & kInputEnable) == 0)
        return;
    const std::uint32_t type = (pin_[pad] >> 7) & 7U;
    if (type == 3 || (type == 1 && level) || (type == 2 && !level) || (type == 4 && !level) || (type == 5 && level))
        status_ |= 1U << pad;
    updateInterrupt();
    if (!inputChanged)
        return;
    for (const unsigned signal : {kUart0Signal, kUart1Signal})
        if (const auto from = padInto(signal); from && *from == pad)
            inputChanged(signal, input(signal));
}

void Gpio::updateInterrupt()
{
    std::uint32_t wants = 0;
    for (unsigned pad = 0; pad < kPads; ++pad) {
        const std::uint32_t type = (pin_[pad] >> 7) & 7U;
        // A level goes on asking.
        if ((type == 4 && !seen(pad)) || (type == 5 && seen(pad)))
            status_ |= 1U << pad;
        if (((pin_[pad] >> 13) & 1U) != 0)
            wants |= status_ & (1U << pad);
    }
    soc_.setSource(kGpioSource, wants != 0);
}

std::uint32_t Gpio::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x04: return out_;
    case 0x20: return enable_;
    case 0x38: return 0x8;  // the strapping pins as they stood: started from flash
    case 0x3C: return inputs();
    case 0x44: return status_;
    case 0x5C: {
        std::uint32_t wants = 0;
        for (unsigned pad = 0; pad < kPads; ++pad)
            if (((pin_[pad] >> 13) & 1U) != 0)
                wants |= status_ & (1U << pad);
        return wants;
    }
    default: break;
    }
    if (offset >= 0x74 && offset < 0x74 + 4 * kPads)
        return pin_[(offset - 0x74) / 4];
    if (offset >= 0x154 && offset < 0x354)
        return inSelect_[(offset - 0x154) / 4];
    if (offset >= 0x554 && offset < 0x554 + 4 * kPads)
        return outSelect_[(offset - 0x554) / 4];
    return 0;
}

std::uint32_t Gpio::read(std::uint32_t offset)
{
    // Who reads all pads at once looks at those that are set up as inputs and nothing else.
    if (offset == 0x3C && doubtfulRead)
        for (unsigned pad = 0; pad < kPads; ++pad)
            if ((mux_[pad] & kInputEnable) != 0 && pins.drives(pad) == PinBank::Drives::nothing && ((enable_ >> pad) & 1U) == 0 && (mux_[pad] & 0x7000U) != 0 && chosen_[pad] && pins.floats(pad))
                doubtfulRead(pad);
    return peek(offset);
}

void Gpio::write(std::uint32_t offset, std::uint32_t value)
{
    const std::uint32_t out = out_, enable = enable_;
    switch (offset) {
    case 0x04: out_ = value & kAllPads; break;
    case 0x08: out_ |= value & kAllPads; break;
    case 0x0C: out_ &= ~value; break;
    case 0x20: enable_ = value & kAllPads; break;
    case 0x24: enable_ |= value & kAllPads; break;
    case 0x28: enable_ &= ~value; break;
    case 0x44: status_ = value & kAllPads, updateInterrupt(); return;
    case 0x48: status_ |= value & kAllPads, updateInterrupt(); return;
    case 0x4C: status_ &= ~value, updateInterrupt(); return;
    default:
        if (offset >= 0x74 && offset < 0x74 + 4 * kPads) {
            pin_[(offset - 0x74) / 4] = value & 0x3FF9FU;
            show((offset - 0x74) / 4);
            updateInterrupt();
        } else if (offset >= 0x154 && offset < 0x354) {
            const unsigned signal = (offset - 0x154) / 4;
            inSelect_[signal] = value & 0x7FU;
            if (inputChanged && (signal == kUart0Signal || signal == kUart1Signal))
                inputChanged(signal, input(signal));
        } else if (offset >= 0x554 && offset < 0x554 + 4 * kPads) {
            outSelect_[(offset - 0x554) / 4] = value & 0x7FFU;
            show((offset - 0x554) / 4);
        }
        return;
    }
    const std::uint32_t differs = (out ^ out_) | (enable ^ enable_);
    for (unsigned pad = 0; pad < kPads; ++pad)
        if (((differs >> pad) & 1U) != 0)
            show(pad);
}

std::uint32_t Gpio::peekMux(std::uint32_t offset) const { return offset >= 4 && offset < 4 + 4 * kPads ? mux_[(offset - 4) / 4] : 0; }

void Gpio::writeMux(std::uint32_t offset, std::uint32_t value)
{
    if (offset < 4 || offset >= 4 + 4 * kPads)
        return;
    const unsigned pad = (offset - 4) / 4;
    mux_[pad] = value & 0xFFFFU;
    chosen_[pad] = 1;
    show(pad);
    updateInterrupt();
    if (inputChanged)
        for (const unsigned signal : {kUart0Signal, kUart1Signal})
            inputChanged(signal, input(signal));
}

}  // namespace bramix::chip::riscv
