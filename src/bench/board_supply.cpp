#include "bench/board_supply.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "bench/reset_pin.h"

namespace bramix::bench {

namespace {

constexpr double kUsbVolts = 5.0, kFiveVolts = 5.0, kThreeVolts = 3.3;
constexpr double kMostVin = 20, kLeastVin = 7;   // absolute maximum, and what the board is made for
constexpr double kReversed = 0.5;
constexpr double kWorthShowing = 0.015;          // volts: less would forget what was learned of half of the bench for nothing
constexpr double kGrain = 0.01;
constexpr double kIdleSiemens = 1e-9;
constexpr double kLeastShown = 0.05;

std::string amps(double value) { return kernel::formatQuantity(value, kernel::Unit::ampere, 3); }
std::string volts(double value) { return kernel::formatQuantity(value, kernel::Unit::volt, 3); }

}  // namespace

World::BoardSupply::BoardSupply(World& world, std::size_t chip, const std::string& id, PinId five, std::optional<PinId> three, PinId vin, circuit::ElementId load, Cause cause,
                                const BoardSupplySettings& settings)
    : world_(world), chip_(chip), id_(id), five_(five), three_(three), vin_(vin), load_(load), cause_(cause), settings_(settings), look_(world.queue_, [this](Time) {
          world_.circuit_.hearNext();  // of the next change, to look again
          look();
      })
{
}

void World::BoardSupply::tell(const char* rule, std::string message)
{
    world_.report({.severity = Severity::error, .rule = rule, .where = id_, .message = std::move(message), .time = world_.now()});
}

// Out of a supply pin; nothing where another supply is on its net, of which nobody knows who gives how much.
double World::BoardSupply::taken(PinId pin) const
{
    const auto into = world_.leadAmps({id_, world_.circuit_.name(pin).substr(id_.size() + 1)});
    return into ? std::max(0.0, -*into) : 0;
}

void World::BoardSupply::show(PinId pin, double to, double& shown)
{
    const double rounded = std::round(to / kGrain) * kGrain;
    if (std::fabs(rounded - shown) < kWorthShowing && rounded != kFiveVolts && rounded != kThreeVolts)
        return;
    if (rounded == shown)
        return;
    shown = rounded;
    world_.circuit_.setRail(world_.circuit_.netOf(pin), {shown}, cause_);
}

void World::BoardSupply::look()
{
    const double amps3 = three_ ? taken(*three_) : 0;
    const double amps5 = taken(five_) + amps3;
    const double vin = world_.circuit_.voltage(world_.circuit_.netOf(vin_)).value;
    if (vin < -kReversed)
        tell("supply-reversed", fmt::format("{}.VIN has {}: the wrong way round; the board's diode keeps it from harm, and the board has no supply; swap the two wires", id_, volts(vin)));
    else if (vin > kMostVin)
        tell("supply-too-high", fmt::format("{}.VIN has {}, more than its absolute maximum of {}; give it {} to 12 V", id_, volts(vin), volts(kMostVin), volts(kLeastVin)));
    // What hangs on a pin is taken for a resistance: what it will take at another voltage follows from what it takes at the present one.
    const auto siemensOf = [](double amps, double volts) { return volts > kLeastShown ? amps / volts : 0; };
    const double load5 = siemensOf(amps5, shown5_);
    double have = 0, limit = 0;
    if (settings_.fromVin) {
        have = std::clamp(vin - settings_.regulatorDrop, 0.0, kFiveVolts);
        limit = settings_.regulatorLimit;
        if (have > 1 && have < kFiveVolts - 0.3)
            tell("supply-too-low", fmt::format("{}.VIN has {}: {} are left for the 5 V pin; give it {} to 12 V", id_, volts(vin), volts(have), volts(kLeastVin)));
        if (const double watts = (vin - have) * amps5; watts > settings_.regulatorWatts)
            tell("regulator-hot", fmt::format("{}'s regulator dissipates {} ({} at {}), more than its rated {}; give VIN less, or take less from the 5 V pin", id_,
                                              kernel::formatQuantity(watts, kernel::Unit::watt, 3), amps(amps5), volts(vin - have), kernel::formatQuantity(settings_.regulatorWatts, kernel::Unit::watt, 3)));
    } else {
        have = kUsbVolts / (1 + settings_.usbOhms * load5);
        limit = settings_.usbLimit;
    }
    if (have * load5 > limit) {
        tell("supply-overload", fmt::format("{}'s 5 V is asked for {} and {} gives {} at most: its voltage drops; give the loads a supply of their own, with the grounds joined", id_, amps(have * load5),
                                            settings_.fromVin ? "its regulator" : "USB", amps(limit)));
        have = limit / load5;
    }
    double have3 = std::min(kThreeVolts, std::max(0.0, have - 0.2));
    if (const double load3 = siemensOf(amps3, shown3_); have3 * load3 > settings_.limit3) {
        tell("supply-overload", fmt::format("{}'s 3.3 V is asked for {} and its regulator gives {} at most: its voltage drops; give the loads a supply of their own, with the grounds joined", id_, amps(have3 * load3), amps(settings_.limit3)));
        have3 = settings_.limit3 / load3;
    }
    show(five_, have, shown5_);
    if (three_)
        show(*three_, have3, shown3_);
    if (settings_.fromVin && have < 1 && vin > -kReversed && vin < 1.5)
        tell("no-supply", fmt::format("{} takes its supply from VIN, and VIN has {}; wire {} to 12 V to it, or set its supply to USB", id_, volts(vin), volts(kLeastVin)));
    World::ChipUnit& unit = world_.chips_[chip_];
    // A chip for less than 5 V hangs on the smaller regulator.
    const double own = three_ && unit.device->highestVolts < kFiveVolts - 0.5 ? shown3_ : shown5_;
    if (unit.chip->supplyVolts() != own) {
        unit.chip->setSupply(own);
        if (world_.resetPins_[chip_] != nullptr)
            world_.resetPins_[chip_]->refresh();
    }
    for (const Uart& uart : world_.uarts_)
        if (uart.chip == chip_ && own > kLeastShown)
            uart.line->setHigh(own);
    const double siemens = settings_.fromVin && vin > 1 ? std::max(amps5 / vin, kIdleSiemens) : kIdleSiemens;
    if (std::fabs(siemens - siemens_) > 0.02 * siemens_) {
        siemens_ = siemens;
        world_.circuit_.setResistance(load_, {1 / siemens_}, cause_);
        changed();  // VIN may sink under it
    }
}

}  // namespace bramix::bench
