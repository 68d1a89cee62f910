// Sensors with a protocol or a voltage of their own.
// Sources: DHT11 and DHT22/AM2302 (Aosong), DS18B20 (Maxim 19-7487), HC-SR04 (module's sheet: 10 µs trigger, 38 ms without an echo), TMP36 (Analog Devices, rev. H),
// HX711 (Avia, data input/output timing), HC-SR501 (module's sheet).
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins VCC DATA GND; setting "model" ("DHT11", "DHT22"); controls "temperature", "humidity".
kernel::Result<std::unique_ptr<Part>> makeHumiditySensor(PartContext& context);
// Pins GND DQ VDD; control "temperature".
kernel::Result<std::unique_ptr<Part>> makeOneWireThermometer(PartContext& context);
// Pins VCC TRIG ECHO GND; controls "distance" (metres), "temperature" of the air, "echo" (0: nothing comes back).
kernel::Result<std::unique_ptr<Part>> makeEchoRanger(PartContext& context);
// Pins VS OUT GND; control "temperature": 500 mV at 0 °C, 10 mV a degree.
kernel::Result<std::unique_ptr<Part>> makeAnalogThermometer(PartContext& context);
// Pins VCC OUT GND; control "motion"; settings "hold", "settle".
kernel::Result<std::unique_ptr<Part>> makeMotionSensor(PartContext& context);
// Pins VCC OUT GND; control "level" (0 to 1): a voltage in proportion to the wetted length, as the module with a transistor gives it.
kernel::Result<std::unique_ptr<Part>> makeWaterLevel(PartContext& context);
// Pins VCC DOUT SCK GND; control "load" (0 to 1 of the rated load); settings "rated" (grams), "rate" ("10", "80").
kernel::Result<std::unique_ptr<Part>> makeLoadCell(PartContext& context);

}  // namespace bramix::parts
