// GPIO, IO MUX and the matrix between pads and peripherals (ESP32-C3 TRM chapter 5).
//
// A pad is what its IO MUX register says: its own function (MCU_SEL 0; the UART's two pads and the flash's), or the matrix (1). In the matrix each pad chooses an output signal, 128 for
// GPIO_OUT, and each peripheral's input chooses a pad.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>
#include <functional>

#include "chip/base/pin_bank.h"
#include "chip/mcu.h"
#include "chip/riscv/peripherals/soc.h"

namespace bramix::chip::riscv {

// Output signals of the matrix (TRM table 5-2); inputs of UARTs have the numbers of their outputs.
inline constexpr unsigned kUart0Signal = 6, kUart1Signal = 9, kLedcSignal = 45, kRmtSignal = 51, kPlainSignal = 128;
inline constexpr unsigned kGpioSource = 16;

class Gpio {
public:
    static constexpr unsigned kPads = 22;

    Gpio(Soc& soc, circuit::Circuit& circuit, PinElectrics electrics, std::function<circuit::Cause()> cause);

    PinBank pins;
    // What a peripheral's output shows, by its signal; `name` while it is on, null: it is off.
    void setSignal(unsigned signal, bool level, const char* name, std::uint32_t setBy = UINT32_MAX);
    // The level at a peripheral's input.
    [[nodiscard]] bool input(unsigned signal) const;
    std::function<void(unsigned signal, bool level)> inputChanged;
    // Pads at which a signal comes out; the first of them.
    [[nodiscard]] std::optional<unsigned> padOf(unsigned signal) const;
    [[nodiscard]] std::optional<unsigned> padInto(unsigned signal) const;
    [[nodiscard]] PinStatus statusOf(unsigned pad) const;
    std::function<void(unsigned pad)> doubtfulRead;

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const;
    std::uint32_t read(std::uint32_t offset);
    void write(std::uint32_t offset, std::uint32_t value);
    [[nodiscard]] std::uint32_t peekMux(std::uint32_t offset) const;
    void writeMux(std::uint32_t offset, std::uint32_t value);
    void reset();

    template <class Archive>
    void state(Archive& ar)
    {
        ar(pins, out_, enable_, status_, mux_, pin_, outSelect_, inSelect_, chosen_);
        for (Signal& s : signals_)
            ar(s.level, s.on, s.setBy);
    }

private:
    struct Signal {
        bool level = false, on = false;
        const char* name = "";
        std::uint32_t setBy = UINT32_MAX;
    };
    // The signal that a pad shows.
    [[nodiscard]] unsigned signalOf(unsigned pad) const;
    [[nodiscard]] bool seen(unsigned pad) const { return (mux_[pad] & 0x200U) != 0 && pins.level(pad); }
    [[nodiscard]] std::uint32_t inputs() const;
    void show(unsigned pad);
    void showAll();
    void padChanged(unsigned pad, bool level);
    void updateInterrupt();

    Soc& soc_;
    std::uint32_t out_ = 0, enable_ = 0, status_ = 0;
    std::array<std::uint32_t, kPads> mux_{}, pin_{}, outSelect_{};
    std::array<std::uint32_t, 128> inSelect_{};
    std::array<std::uint8_t, kPads> chosen_{};  // firmware has set up its IO MUX: only then an open input is worth telling
    std::array<Signal, 129> signals_{};
};

}  // namespace bramix::chip::riscv
