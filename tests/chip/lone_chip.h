// A microcontroller of any family on nothing but its own pins, running a compiled program.
#pragma once

#include <QtTest>

#include <map>
#include <string>
#include <vector>

#include "chip/families.h"
#include "chip/firmware.h"

namespace bramix::test {

using kernel::Time;

class LoneChip : private chip::McuObserver, private circuit::CircuitObserver {
public:
    struct Edge {
        Time at{};
        circuit::NetState state{};
    };

    explicit LoneChip(const char* device, double volts = 3.3, chip::McuOptions options = {}) : circuit(queue), volts_(volts)
    {
        const chip::Device& d = *chip::findDevice(device);
        options.supplyVolts = volts;
        chip = chip::makeMcu(d, options, queue, circuit, *this);
        for (const chip::PackagePin& p : d.package) {
            if (!chip::isPortPin(d, p.name))
                continue;
            const circuit::NetId net = circuit.addNet(p.name);
            const circuit::PinId own = circuit.addPin(net, p.name);
            own_[p.name] = own;
            outside_[p.name] = circuit.addPin(net, p.name + " outside");
            chip->attachPin(p.name, own);
        }
        circuit.seal(this);
        chip->refreshPins();
    }

    bool load(const QString& file)
    {
        const auto firmware = chip::loadFirmware(file.toStdString(), chip->device());
        if (!firmware) {
            qWarning("%s", firmware.error().text().c_str());
            return false;
        }
        chip->loadProgram(*firmware);
        if (firmware->eepromGiven)
            chip->programNonVolatile(firmware->eeprom);
        chip->powerOn();
        edges_.clear();
        return true;
    }

    void to(Time goal)
    {
        for (;;) {
            chip->run(goal);
            const Time next = std::min({goal, queue.nextDue(), chip->faulted() || chip->inReset() ? kernel::kNever : chip->now()});
            queue.advanceTo(next);
            if (next >= goal && queue.nextDue() > goal && (chip->now() >= goal || chip->faulted() || chip->inReset()))
                return;
        }
    }
    void forward(kernel::Duration by) { to(chip->now() + by); }
    // Until the program can never run again; false: it went on for so many cycles.
    bool toEnd(std::int64_t cycles = 50'000'000)
    {
        while (!chip->halted() && !chip->faulted() && chip->cycles() < cycles)
            forward(std::chrono::microseconds(200));
        return chip->halted();
    }
    [[nodiscard]] std::uint32_t word(std::uint32_t address) const
    {
        std::uint32_t out = 0;
        for (unsigned b = 0; b < 4; ++b)
            out |= std::uint32_t{chip->readData(address + b)} << (8 * b);
        return out;
    }
    void drive(const char* pin, bool high) { circuit.drive(outside_[pin], {high ? volts_ : 0.0, 50}, {}); }
    void driveVolts(const char* pin, double volts) { circuit.drive(outside_[pin], {volts, 50}, {}); }
    void release(const char* pin) { circuit.drive(outside_[pin], circuit::kFloating, {}); }
    [[nodiscard]] circuit::PinId own(const char* pin) { return own_[pin]; }
    [[nodiscard]] circuit::NetState state(const char* pin) { return circuit.stateOf(circuit.netOf(outside_[pin])); }
    std::vector<Edge> edges(const char* pin) { return edges_[pin]; }
    [[nodiscard]] bool noted(const char* rule) const
    {
        return std::any_of(notes.begin(), notes.end(), [rule](const auto& n) { return n.first == rule; });
    }

    kernel::EventQueue queue;
    circuit::Circuit circuit;
    std::unique_ptr<chip::Mcu> chip;
    std::vector<std::pair<std::string, std::string>> notes;     // rule, text
    std::vector<std::pair<unsigned, std::int64_t>> exceptions;  // number, cycle at which the handler begins
    std::vector<unsigned> resets;

private:
    void remark(chip::Weight, const char* rule, const std::string& text, std::uint32_t, Time) override { notes.emplace_back(rule, text); }
    void exceptionEntered(unsigned number, Time) override { exceptions.emplace_back(number, chip->cycles()); }
    void exceptionReturned(Time) override {}
    void resetTaken(unsigned cause, Time) override { resets.push_back(cause); }
    void netChanged(circuit::NetId net, circuit::NetState state, Time at, circuit::Cause) override { edges_[circuit.name(net)].push_back({at, state}); }
    void trouble(circuit::Trouble, circuit::NetId, circuit::PinId, circuit::PinId, double, Time, circuit::Cause) override {}

    double volts_;
    std::map<std::string, circuit::PinId> outside_, own_;
    std::map<std::string, std::vector<Edge>> edges_;
};

}  // namespace bramix::test
