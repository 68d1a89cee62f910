// The port pins of a chip in the circuit, by number: what the chip does with each, and what level its digital input sees.
// A family decides what a pin does; this puts it into the circuit, with the figures of its data sheet.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

#include "circuit/circuit.h"

namespace bramix::chip {

struct PinElectrics {
    double outputOhms = 40;
    double pullUpOhms = 45e3, pullDownOhms = 45e3;
    double limitAmps = 0.025, togetherAmps = 0.15;
    double low = 0.3, high = 0.7;  // thresholds of an input, parts of the supply
};

class PinBank final : private circuit::PinListener {
public:
    enum class Drives : std::uint8_t { nothing, low, high, pullUp, pullDown };

    PinBank(circuit::Circuit& circuit, std::size_t count, PinElectrics electrics, std::function<circuit::Cause()> cause) : circuit_(circuit), electrics_(electrics), cause_(std::move(cause)), lines_(count) {}

    [[nodiscard]] std::size_t size() const { return lines_.size(); }
    void attach(unsigned pin, circuit::PinId id);
    [[nodiscard]] circuit::PinId idOf(unsigned pin) const { return pin < lines_.size() ? lines_[pin].id : circuit::kNoPin; }
    [[nodiscard]] std::optional<unsigned> pinAt(circuit::PinId id) const;
    // The supply has changed, or everything is restored.
    void refresh(double volts);

    void drive(unsigned pin, Drives what);
    [[nodiscard]] Drives drives(unsigned pin) const { return lines_[pin].drives; }
    // Of a pin that is wired to nothing: what it drives itself.
    [[nodiscard]] bool level(unsigned pin) const
    {
        if (pin >= lines_.size())
            return false;
        const Line& l = lines_[pin];
        return l.id != circuit::kNoPin ? l.level : l.drives == Drives::high || l.drives == Drives::pullUp;
    }
    // Of one pin's input, as parts of the supply.
    void setThresholds(unsigned pin, double low, double high)
    {
        lines_[pin].low = low;
        lines_[pin].high = high;
    }
    // Nothing drives it, and nothing pulls it.
    [[nodiscard]] bool floats(unsigned pin) const;
    // Volts at it.
    [[nodiscard]] double volts(unsigned pin) const;
    [[nodiscard]] circuit::Thresholds thresholds(unsigned pin = UINT32_MAX) const;
    [[nodiscard]] const PinElectrics& electrics() const { return electrics_; }

    // Every change of a pin's level.
    std::function<void(unsigned pin, bool level)> changed;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(volts_);
        for (Line& l : lines_)
            ar(l.level, l.drives);
    }

private:
    struct Line {
        circuit::PinId id = circuit::kNoPin;
        bool level = false;
        Drives drives = Drives::nothing;
        double low = 0, high = 0;  // 0: as all the others
    };
    void pinChanged(circuit::PinId id, bool level, kernel::Time at) override;
    void show(const Line& line);

    circuit::Circuit& circuit_;
    PinElectrics electrics_;
    std::function<circuit::Cause()> cause_;
    std::vector<Line> lines_;
    std::vector<std::pair<circuit::PinId, unsigned>> byId_;
    double volts_ = 0;
};

}  // namespace bramix::chip
