// The state of every part of a bench for the report: what it shows, carries and has come to.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "bench/world.h"
#include "cli/energy_meter.h"

namespace bramix::cli {

// One object a part that has something to show: id, kind, and state with values in SI units and words as on the screen. `energy`: what the supplies have given, if that was measured.
[[nodiscard]] nlohmann::ordered_json partReport(const bench::Document& document, const bench::Catalogue& catalogue, const bench::World& world, const EnergyMeter* energy);

}  // namespace bramix::cli
