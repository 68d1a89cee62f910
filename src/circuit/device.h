// Non-linear devices of a network: currents into their terminals as functions of the terminals' voltages, with slopes.
//
// Each model is smooth, grows no faster than its series resistance allows, and is defined for every voltage, so that Newton's method has
// something to hold wherever it wanders.
// Tested by tests/circuit/device_test.cpp.
#pragma once

#include <array>
#include <cstddef>
#include <memory>

#include "circuit/diode.h"

namespace bramix::circuit {

inline constexpr std::size_t kMostTerminals = 6;

// Current into each terminal, and its slope with the voltage of each terminal. Entries beyond the device's terminals stay 0.
struct DevicePoint {
    std::array<double, kMostTerminals> amps{};
    std::array<std::array<double, kMostTerminals>, kMostTerminals> siemens{};
};

class Device {
public:
    virtual ~Device() = default;
    [[nodiscard]] virtual std::size_t terminals() const = 0;
    virtual void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const = 0;
    // The current that stands for the device in read-outs: anode to cathode, collector to emitter, out of the output.
    [[nodiscard]] virtual double mainAmps(const DevicePoint& p) const { return p.amps[0]; }
    // Whether an unheld net is held by a path from one terminal to the other while this current flows.
    [[nodiscard]] virtual bool joins(std::size_t a, std::size_t b) const { return a != b; }
};

// Terminals: anode, cathode.
class DiodeDevice final : public Device {
public:
    explicit DiodeDevice(const DiodeModel& model) : model_(model) {}
    [[nodiscard]] std::size_t terminals() const override { return 2; }
    void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const override;

private:
    DiodeModel model_;
};

// A junction transistor by the transport form of the Ebers-Moll equations, with the Early effect left out and a resistance of the base
// outside (the caller adds it). Terminals: collector, base, emitter.
struct BipolarModel {
    double saturationAmps = 1e-14;
    double forwardGain = 200;
    double reverseGain = 4;
    bool pnp = false;
};

class BipolarDevice final : public Device {
public:
    explicit BipolarDevice(const BipolarModel& model) : model_(model) {}
    [[nodiscard]] std::size_t terminals() const override { return 3; }
    void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const override;

private:
    BipolarModel model_;
};

// A MOSFET by the square law (Shichman and Hodges, 1968), with a resistance in the channel and the body diode from source to drain.
// Terminals: drain, gate, source. The gate takes no direct current.
struct MosfetModel {
    double thresholdVolts = 2.0;
    double gain = 0.5;         // A/V²: saturation current is gain/2 · (vgs - vth)²
    double bodyAmps = 1e-12;   // saturation current of the body diode
    bool pChannel = false;

    // The model with this resistance drain to source, at this gate voltage.
    static MosfetModel with(Volts threshold, Ohms on, Volts atGate, bool pChannel);
};

class MosfetDevice final : public Device {
public:
    explicit MosfetDevice(const MosfetModel& model) : model_(model) {}
    [[nodiscard]] std::size_t terminals() const override { return 3; }
    void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const override;
    [[nodiscard]] bool joins(std::size_t a, std::size_t b) const override { return a != b && a != 1 && b != 1; }

private:
    MosfetModel model_;
};

// An operational amplifier with one pole: the difference of the inputs steers a current into an inner node, whose capacitor (which the caller adds,
// kInnerFarads from it to ground) makes the bandwidth and whose greatest current makes the slew rate; the inner node stays between the supplies and is
// copied to the output behind a resistance. The output's current comes out of the supply pins.
// Terminals: plus, minus, output, positive supply, negative supply, inner node.
struct OpAmpModel {
    static constexpr double kInnerFarads = 1e-9;
    double bandwidthHz = 1e6;
    double voltsPerSecond = 0.5e6;
    double gain = 1e5;
    double outputOhms = 50;
    double headroomVolts = 0.02;  // how near to each supply the output gets without load
    double bleedOhms = 10e6;      // between the inputs
    double supplyOhms = 50e3;     // between the supply pins: what it takes for itself
};

class OpAmpDevice final : public Device {
public:
    explicit OpAmpDevice(const OpAmpModel& model) : model_(model) {}
    [[nodiscard]] std::size_t terminals() const override { return 6; }
    void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const override;
    [[nodiscard]] double mainAmps(const DevicePoint& p) const override { return -p.amps[2]; }
    [[nodiscard]] bool joins(std::size_t a, std::size_t b) const override { return a != b && a >= 2 && b >= 2 && a < 5 && b < 5; }

private:
    OpAmpModel model_;
};

// The protection diodes of a pin, to two fixed voltages: 0.6 V at 1 mA, 20 Ω. Terminal: the pin.
class ClampDevice final : public Device {
public:
    static constexpr double kMarginVolts = 0.25;  // beyond this much outside, they may pass something worth counting
    [[nodiscard]] std::size_t terminals() const override { return 1; }
    void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const override;
    // Out of the pin's net, and its slope.
    static DiodeModel::Point through(double volts, double low, double high);
    double low = 0, high = 5;
};

// A supply that holds its voltage behind a resistance up to a current, and beyond it the current. It gives current and takes none back beyond
// the same limit. Terminals: positive, negative.
struct LimitedSourceModel {
    double volts = 5;
    double ohms = 0.05;
    double limitAmps = 1;
};

class LimitedSourceDevice final : public Device {
public:
    explicit LimitedSourceDevice(const LimitedSourceModel& model) : model_(model) {}
    [[nodiscard]] std::size_t terminals() const override { return 2; }
    void at(const std::array<double, kMostTerminals>& volts, DevicePoint& out) const override;
    [[nodiscard]] double mainAmps(const DevicePoint& p) const override { return -p.amps[0]; }
    void set(double volts, double limitAmps)
    {
        model_.volts = volts;
        model_.limitAmps = limitAmps;
    }
    [[nodiscard]] const LimitedSourceModel& model() const { return model_; }

private:
    LimitedSourceModel model_;
};

}  // namespace bramix::circuit
