// What moves and sounds: hobby servo, DC motor and its H-bridge, stepper with its driver, relay, buzzers.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins VCC GND SIG; settings "least" and "most" pulse, "range" in degrees, "speed" (time for 60 degrees).
kernel::Result<std::unique_ptr<Part>> makeServo(PartContext& context);
// Pins + -; settings "volts", "current" (without load), "stall", "speed" (turns a minute at those volts), "inertia" (time constant); control "load" (0 free, 1 held).
kernel::Result<std::unique_ptr<Part>> makeMotor(PartContext& context);
// Pins VCC VM GND EN IN1 IN2 OUT1 OUT2: one channel of an L293D-class bridge with its diodes.
kernel::Result<std::unique_ptr<Part>> makeBridge(PartContext& context);
// Pins VCC GND IN1 IN2 IN3 IN4: a geared 5 V stepper on its ULN2003-class driver; setting "steps" a turn (half steps).
kernel::Result<std::unique_ptr<Part>> makeStepper(PartContext& context);
// Pins 1 2 (coil) COM NO NC; settings "coil" (volts), "resistance", "inductance", "bounce".
kernel::Result<std::unique_ptr<Part>> makeRelay(PartContext& context);
// Pins + -; setting "kind": "active" sounds by itself, "passive" as it is driven.
kernel::Result<std::unique_ptr<Part>> makeBuzzer(PartContext& context);

}  // namespace bramix::parts
