// A Cortex-M3 microcontroller on nothing but its own pins, running a compiled program.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "chip/cortexm/arm_program.h"
#include "chip/cortexm/stm32f1/chip.h"
#include "chip/families.h"
#include "chip/firmware.h"

namespace bramix::test::arm {

using namespace bramix::chip::cortexm;
using kernel::Time;

class ArmBench : private chip::McuObserver, private circuit::CircuitObserver {
public:
    struct Edge {
        Time at{};
        circuit::NetState state{};
    };

    explicit ArmBench(chip::McuOptions options = {}) : circuit(queue), chip(modelOf(*chip::findDevice("stm32f103c8")), with(options), queue, circuit, *this)
    {
        for (const chip::PackagePin& p : chip.device().package) {
            if (!Stm32f1::pinNamed(p.name).exists())
                continue;
            const circuit::NetId net = circuit.addNet(p.name);
            const circuit::PinId own = circuit.addPin(net, p.name);
            outside_[p.name] = circuit.addPin(net, p.name + " outside");
            chip.attachPin(p.name, own);
        }
        circuit.seal(this);
    }

    bool load(const QString& elf)
    {
        const auto firmware = chip::loadFirmware(elf.toStdString(), chip.device());
        if (!firmware) {
            qWarning("%s", firmware.error().text().c_str());
            return false;
        }
        chip.loadProgram(*firmware);
        chip.powerOn();
        return true;
    }

    void to(Time goal)
    {
        for (;;) {
            chip.run(goal);
            const Time next = std::min({goal, queue.nextDue(), chip.faulted() || chip.inReset() ? kernel::kNever : chip.now()});
            queue.advanceTo(next);
            if (next >= goal && queue.nextDue() > goal && (chip.now() >= goal || chip.faulted() || chip.inReset()))
                return;
        }
    }
    // Until the program has ended, in a loop with interrupts off; false: it never did.
    bool toEnd(std::int64_t cycles = 50'000'000)
    {
        while (!ended() && chip.cycles() < cycles)
            to(chip.now() + std::chrono::microseconds(200));
        return ended();
    }
    [[nodiscard]] bool ended() const { return chip.halted() && chip.readRegister(kPrimaskRegister) == 1; }
    [[nodiscard]] std::uint32_t result(unsigned index) const
    {
        std::uint32_t out = 0;
        for (unsigned b = 0; b < 4; ++b)
            out |= std::uint32_t{chip.readData(kRamBase + 4 * index + b)} << (8 * b);
        return out;
    }
    void drive(const char* pin, bool high) { circuit.drive(outside_[pin], {high ? 3.3 : 0.0, 50}, {}); }
    void driveVolts(const char* pin, double volts) { circuit.drive(outside_[pin], {volts, 50}, {}); }
    std::vector<Edge> edges(const char* pin) { return edges_[pin]; }

    kernel::EventQueue queue;
    circuit::Circuit circuit;
    Stm32f1 chip;
    std::vector<std::pair<std::string, std::string>> notes;         // rule, text
    std::vector<std::pair<unsigned, std::int64_t>> exceptions;      // number, cycle at which the handler begins

private:
    static chip::McuOptions with(chip::McuOptions options)
    {
        options.supplyVolts = 3.3;
        options.clockHz = options.clockHz == 0 ? 8'000'000 : options.clockHz;
        return options;
    }
    void remark(chip::Weight, const char* rule, const std::string& text, std::uint32_t, Time) override { notes.emplace_back(rule, text); }
    void exceptionEntered(unsigned number, Time) override { exceptions.emplace_back(number, chip.cycles()); }
    void exceptionReturned(Time) override {}
    void netChanged(circuit::NetId net, circuit::NetState state, Time at, circuit::Cause) override { edges_[circuit.name(net)].push_back({at, state}); }
    void trouble(circuit::Trouble, circuit::NetId, circuit::PinId, circuit::PinId, double, Time, circuit::Cause) override {}

    std::map<std::string, circuit::PinId> outside_;
    std::map<std::string, std::vector<Edge>> edges_;
};

}  // namespace bramix::test::arm
