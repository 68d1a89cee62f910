// What a part is, and what it is given.
//
// A part is made when a world is built: it adds its elements to the circuit, or drives and listens to its pins, and keeps alarms
// in the event queue. Its manifest (catalogue/<kind>/part.toml) names the pins, settings and live controls that the context here resolves.
// Invariant: everything that a part does follows from its settings, its controls, its pins, simulated time and its random stream.
// Tested by tests/parts/.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "circuit/circuit.h"
#include "kernel/archive.h"
#include "kernel/event_queue.h"
#include "kernel/files.h"
#include "kernel/random.h"
#include "kernel/result.h"
#include "kernel/units.h"

namespace bramix::parts {

// What a part has to tell: a stable rule, what happened and what to do.
struct Remark {
    bool error = false;
    std::string_view rule;
    std::string message;
    circuit::Cause cause;  // who brought it about
};

// The world as one part sees it while it is made. References stay valid as long as the part.
struct PartContext {
    std::string id;
    kernel::EventQueue& queue;
    circuit::Circuit& circuit;
    circuit::Cause cause;       // this part, for what it drives
    std::uint64_t seed = 1;
    std::function<circuit::PinId(std::string_view)> pin;             // by name in the manifest
    std::function<std::string(std::string_view)> setting;            // as written, or the manifest's default
    std::function<void(const Remark&)> remark;                       // told once for each rule
    kernel::FileAccess files;                                        // of the bench: what settings may name

    // Where the file lies that a setting names; empty where it names none.
    [[nodiscard]] kernel::Result<std::string> file(std::string_view setting) const;
    // What is in it, of at most so many bytes; nothing where the setting names none.
    [[nodiscard]] kernel::Result<std::string> contents(std::string_view setting, std::size_t most) const;

    [[nodiscard]] circuit::NetId net(std::string_view name) const { return circuit.netOf(pin(name)); }
    // A setting as a number between two bounds; an error names part and setting.
    [[nodiscard]] kernel::Result<double> quantity(std::string_view name, kernel::Unit unit, double least, double most) const;
    // A setting as a bus address, such as 0x27.
    [[nodiscard]] kernel::Result<std::uint8_t> address(std::string_view name, unsigned least, unsigned most) const;
    // The same, or nothing where the setting is the word "typical".
    [[nodiscard]] kernel::Result<std::optional<double>> typicalOr(std::string_view name, kernel::Unit unit, double least, double most) const;
};

class Part {
public:
    virtual ~Part() = default;
    // Everything is built and every voltage stands: at the beginning, and after the bench has been changed.
    virtual void wired() {}
    // Moves a live control; the world has checked name and range against the manifest.
    virtual void setControl(std::string_view /*name*/, double /*value*/) {}
    [[nodiscard]] virtual double control(std::string_view /*name*/) const { return 0; }
    // An element whose mean current is how brightly something shines.
    struct Light {
        circuit::ElementId element{};
        double fullAmps = 0;  // shines fully at this current
        std::string name;     // of a part that has several: "a", "red"
        std::string color;
    };
    [[nodiscard]] virtual std::vector<Light> lights() const { return {}; }
    // Dots that the part shows by its own logic, row by row from the top left, 0xRRGGBB.
    struct Dots {
        int columns = 0, rows = 0;
        std::vector<std::uint32_t> colors;
        bool operator==(const Dots&) const = default;
    };
    [[nodiscard]] virtual Dots dots() const { return {}; }
    // How far what turns has turned, in degrees clockwise; none for most.
    [[nodiscard]] virtual std::optional<double> angle() const { return std::nullopt; }
    // Burnt out: dead until it is replaced.
    [[nodiscard]] virtual bool dead() const { return false; }
    // Its curve, of an LED; null for others.
    [[nodiscard]] virtual const circuit::DiodeModel* diode() const { return nullptr; }
    // A new one of the same kind in its place.
    virtual void replace() {}
    // The same in numbers, for who reads by program: name and value in SI units, such as "volts", 2.34.
    [[nodiscard]] virtual std::vector<std::pair<std::string, double>> figures() const { return {}; }
    // What the part shows on its own face, such as a meter's reading; empty for most.
    [[nodiscard]] virtual std::string face() const { return {}; }
    // The addresses that it answers to on a two-wire bus, as its address pins stand; empty for all others.
    [[nodiscard]] virtual std::vector<std::uint8_t> busAddresses() const { return {}; }
    // Why the part has just moved what is on this pin, such as "it acknowledges its address 0x68"; empty where no more is to be said. Holds right after an edge
    // that the part made.
    [[nodiscard]] virtual std::string why(std::string_view /*pin*/) const { return {}; }
    // The element that stands for the part in read-outs of current and power, or none.
    [[nodiscard]] virtual std::optional<circuit::ElementId> mainElement() const { return std::nullopt; }
    // What the part keeps without power and its file does not hold yet; nothing where no file is set. Whoever has written it says so.
    struct Contents {
        std::string file;
        std::string bytes;
    };
    [[nodiscard]] virtual std::optional<Contents> unsaved() const { return std::nullopt; }
    virtual void saved() {}
    virtual void save(kernel::SaveArchive&) {}
    virtual void load(kernel::LoadArchive&) {}
};

template <class Self>
class StatefulPart : public Part {
public:
    void save(kernel::SaveArchive& ar) override { static_cast<Self&>(*this).state(ar); }
    void load(kernel::LoadArchive& ar) override { static_cast<Self&>(*this).state(ar); }
};

// Makes the part of a behaviour name ("led", "resistor", ...); a wrong setting is an error that names part and setting.
[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makePart(std::string_view behaviour, PartContext& context);

// Whether makePart knows a behaviour.
[[nodiscard]] bool knowsBehaviour(std::string_view behaviour);

}  // namespace bramix::parts
