#include "cli/energy_meter.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace bramix::cli {

namespace {

constexpr double kGolden = 0.6180339887498949;
constexpr int kLooks = 5000;  // some ten milliseconds of work, however long the run
constexpr kernel::Duration kUsual = std::chrono::milliseconds(1), kShortest = std::chrono::nanoseconds(100);
constexpr double kUsbVolts = 5.0;
constexpr int kBoardEvery = 10;  // all that hangs on a board takes ten times as long to add up: at every tenth look, for ten
constexpr std::array kSources{"supply", "battery", "bench-supply", "voltage-source", "current-source", "generator"};

kernel::Duration shareOf(kernel::Duration stretch, double share) { return kernel::Duration(static_cast<std::int64_t>(static_cast<double>(stretch.count()) * share)); }

}  // namespace

EnergyMeter::EnergyMeter(const bench::Document& document, const bench::Catalogue& catalogue, kernel::Duration length)
    : stretch_(length > kernel::Duration(0) ? std::max(length / kLooks, kShortest) : kUsual)
{
    for (const bench::PartItem& item : document.parts) {
        const bench::PartKind& kind = *catalogue.find(item.kind);
        if (std::find(kSources.begin(), kSources.end(), kind.behaviour) != kSources.end() && !kind.pins.empty() && !kind.pins.front().ground)
            supplies_.push_back({item.id, {item.id, kind.pins[0].name}, kind.pins.size() > 1 ? bench::PinRef{item.id, kind.pins[1].name} : bench::PinRef{}, {}, false, 0, 0});
        const auto set = item.set.find("supply");
        if (kind.setting("usb-limit") != nullptr && (set == item.set.end() || set->second == "USB"))
            supplies_.push_back({item.id, {item.id, "5V"}, {}, kind.pin("3V3") == nullptr ? bench::PinRef{} : bench::PinRef{item.id, "3V3"}, true, 0, 0});
    }
    if (std::all_of(supplies_.begin(), supplies_.end(), [](const Supply& s) { return s.usb; }))
        stretch_ *= kBoardEvery;
    else
        boardEvery_ = kBoardEvery;
    phase_ = kGolden;
    next_ = kernel::Time(shareOf(stretch_, phase_));
}

void EnergyMeter::look(const bench::World& world)
{
    const auto volts = [&](const bench::PinRef& pin) {
        const auto id = pin.part.empty() ? std::nullopt : world.pin(pin);
        return id ? world.circuit().voltage(world.circuit().netOf(*id)).value : 0.0;
    };
    for (Supply& s : supplies_) {
        if (s.usb && looks_ % boardEvery_ != 0)
            continue;
        const auto into = world.leadAmps(s.plus);
        if (!into)
            continue;
        const double seconds = kernel::seconds(stretch_) * static_cast<double>(s.usb ? boardEvery_ : 1);
        const double amps = *into + (s.second.part.empty() ? 0 : world.leadAmps(s.second).value_or(0));
        s.coulombs -= amps * seconds;
        s.joules -= amps * seconds * (s.usb ? kUsbVolts : volts(s.plus) - volts(s.minus));
    }
    ++looks_;
    phase_ = std::fmod(phase_ + kGolden, 1.0);
    next_ = kernel::Time(stretch_ * static_cast<std::int64_t>(looks_) + shareOf(stretch_, phase_));
}

}  // namespace bramix::cli
