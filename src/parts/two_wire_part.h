// A logic part on a two-wire bus: inputs SCL and SDA, address pins where it has some.
#pragma once

#include <array>

#include "parts/bus.h"
#include "parts/logic.h"

namespace bramix::parts {

class TwoWirePart : public LogicPart, protected TwoWire::Device {
public:
    [[nodiscard]] std::vector<std::uint8_t> busAddresses() const override { return on() ? std::vector<std::uint8_t>{address()} : std::vector<std::uint8_t>{}; }

protected:
    // `pins`: A0 upwards, where the address has pins.
    TwoWirePart(PartContext& context, const LogicFamily& family, std::uint8_t base, std::initializer_list<const char*> pins = {})
        : LogicPart(context, family), base_(base), wire_(*this, [this](bool low) { low ? drive(0, false) : release(0); })
    {
        addInput(context, "SCL");
        addInput(context, "SDA");
        addOutput(context, "SDA");
        for (const char* pin : pins) {
            addInput(context, pin);
            ++addressPins_;
        }
    }
    // Inputs from here on are the part's own.
    [[nodiscard]] std::size_t firstOwnInput() const { return 2 + addressPins_; }
    [[nodiscard]] std::uint8_t address() const
    {
        std::uint8_t out = base_;
        for (std::size_t i = 0; i < addressPins_; ++i)
            out = static_cast<std::uint8_t>(out | (level(2 + i) ? 1U << i : 0U));
        return out;
    }
    bool addressed(std::uint8_t address, bool reads) override { return address == this->address() && answers(reads); }
    // Whether it acknowledges just now.
    virtual bool answers(bool /*reads*/) { return true; }
    // LogicPart::whyOutput() of outputs other than SDA.
    [[nodiscard]] virtual std::string whyOwnOutput(std::size_t /*output*/) const { return {}; }
    [[nodiscard]] std::string whyOutput(std::size_t output) const final { return output == 0 ? wire_.why() : whyOwnOutput(output); }
    virtual void ownInputChanged(std::size_t /*input*/, bool /*level*/, kernel::Time /*at*/) {}
    void inputChanged(std::size_t input, bool level, kernel::Time at) final
    {
        if (input == 0)
            wire_.clock(level);
        else if (input == 1)
            wire_.data(level);
        else if (input >= firstOwnInput())
            ownInputChanged(input, level, at);
    }

    template <class Archive>
    void wireState(Archive& ar)
    {
        logicState(ar);
        ar(wire_);
    }
    void resetWire() { wire_.reset(); }

private:
    std::uint8_t base_;
    std::size_t addressPins_ = 0;
    TwoWire wire_;
};

}  // namespace bramix::parts
