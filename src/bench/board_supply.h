// What feeds a board: USB, or VIN through a regulator (settings "supply", "usb-limit", "usb-resistance", "regulator-limit", "regulator-drop", "regulator-power",
// "3v3-limit").
//
// Its 5 V and 3.3 V pins are fixed voltages to the circuit, so that what hangs on them does not hang together. They follow what is taken from them, looked at some
// milliseconds after something has changed, as behind the capacitors of a board: they sink by the resistance of cable and fuse, and beyond a limit as far as the limit
// leaves them. VIN is loaded with what the board takes.
// Tested by tests/bench/board_supply_test.cpp.
#pragma once

#include <optional>

#include "bench/world.h"

namespace bramix::bench {

struct BoardSupplySettings {
    bool fromVin = false;
    double usbLimit = 0.5, usbOhms = 0.2;
    double regulatorLimit = 1.0, regulatorDrop = 1.1, regulatorWatts = 1.5;
    double limit3 = 0.15;
};

class World::BoardSupply {
public:
    // `load`: the element between VIN and ground, a resistor.
    BoardSupply(World& world, std::size_t chip, const std::string& id, PinId five, std::optional<PinId> three, PinId vin, circuit::ElementId load, Cause cause, const BoardSupplySettings& settings);

    // Something may take more or less than before.
    void changed()
    {
        if (!look_.armed())
            look_.arm(world_.queue_.now() + kFollow);
    }
    // At the beginning, and after the bench has been changed.
    void look();

    template <class Archive>
    void state(Archive& ar)
    {
        ar(look_, shown5_, shown3_, siemens_);
    }

private:
    static constexpr Duration kFollow = std::chrono::milliseconds(5);

    void tell(const char* rule, std::string message);
    [[nodiscard]] double taken(PinId pin) const;
    void show(PinId pin, double volts, double& shown);

    World& world_;
    std::size_t chip_;
    std::string id_;
    PinId five_;
    std::optional<PinId> three_;
    PinId vin_;
    circuit::ElementId load_;
    Cause cause_;
    BoardSupplySettings settings_;
    kernel::Alarm look_;
    double shown5_ = 5, shown3_ = 3.3;
    double siemens_ = 0;
};

}  // namespace bramix::bench
