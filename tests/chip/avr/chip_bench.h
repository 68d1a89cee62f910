// A chip on nothing but its own pins, driven by its registers: the firmware is a jump to itself, and the test reads and writes
// registers at the cycles that it chooses.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "chip/avr/chip.h"

namespace bramix::test {

using namespace bramix::chip::avr;
using kernel::Duration;
using kernel::Time;

struct RecordedEdge {
    std::int64_t cycle;
    circuit::NetState state;
};

class ChipBench : private chip::McuObserver, private circuit::CircuitObserver {
public:
    explicit ChipBench(std::uint64_t hz = 16'000'000, const ChipTable& table = atmega328p(), ChipOptions options = {}) : circuit(queue), chip(table, with(options, hz), queue, circuit, *this)
    {
        for (const PortRow& port : table.ports)
            for (char bit = '0'; bit < '8'; ++bit) {
                const std::string name{'P', port.letter, bit};
                if (!Chip::portPin(table, name).exists())
                    continue;
                const circuit::NetId net = circuit.addNet(name);
                pins[name] = circuit.addPin(net, name);
                outside[name] = circuit.addPin(net, name + " outside");
                chip.attachPin(name, pins[name]);
            }
        circuit.seal(this);
        program({0xCFFF});  // rjmp .-2
    }

    void program(std::vector<std::uint16_t> words)
    {
        chip.loadFlash(std::move(words), false);
        chip.powerOn();
    }

    // Runs to a cycle.
    void to(std::int64_t cycle)
    {
        const Time goal = chip.clock().timeOf({cycle});
        for (;;) {
            chip.run(goal);
            const Time next = std::min({goal, queue.nextDue(), chip.faulted() || chip.inReset() ? kernel::kNever : chip.now()});
            queue.advanceTo(next);
            if (next >= goal && queue.nextDue() > goal && (chip.now() >= goal || chip.faulted() || chip.inReset()))
                return;
        }
    }
    // Writes a register as an instruction would whose last cycle ends at `cycle`.
    void write(const char* name, std::uint8_t value, std::int64_t cycle) { chip.ioWrite(address(name), value, cycle); }
    void write(const char* name, std::uint8_t value) { chip.ioWrite(address(name), value, chip.cpu().cycle); }
    void write16(const char* name, std::uint16_t value)
    {
        write((std::string(name) + "H").c_str(), static_cast<std::uint8_t>(value >> 8));
        write((std::string(name) + "L").c_str(), static_cast<std::uint8_t>(value));
    }
    std::uint8_t read(const char* name, std::int64_t cycle) { return chip.ioRead(address(name), cycle); }
    std::uint8_t read(const char* name) { return chip.ioRead(address(name), chip.cpu().cycle); }

    // At an exact cycle, which the core's own instruction, two cycles long, might run past.
    std::uint8_t readAt(const char* name, std::int64_t cycle)
    {
        to(cycle - 2);
        return read(name, cycle);
    }

    std::uint16_t address(const std::string& name)
    {
        for (const RegisterRow& row : chip.table().registers)
            if (row.name == name)
                return row.address;
        kernel::check(false, "a test names a register that is not there");
        return 0;
    }

    // From outside: a strong level, or let go.
    void drive(const char* pin, bool high) { circuit.drive(outside[pin], {high ? 5.0 : 0.0, 50}, {}); }
    void drive(const char* pin, double volts, double ohms = 50) { circuit.drive(outside[pin], {volts, ohms}, {}); }
    void release(const char* pin) { circuit.drive(outside[pin], circuit::kFloating, {}); }

    // The edges of a pin so far, by cycle.
    std::vector<RecordedEdge> edges(const char* pin) { return edges_[pin]; }
    void forgetEdges() { edges_.clear(); }

    kernel::EventQueue queue;
    circuit::Circuit circuit;
    Chip chip;
    std::map<std::string, circuit::PinId> pins, outside;
    std::vector<std::string> notes;
    std::vector<std::pair<int, std::int64_t>> interrupts;  // vector, cycle at which the handler begins
    std::vector<std::int64_t> returns;                     // cycle at which a RETI ends

private:
    static ChipOptions with(ChipOptions options, std::uint64_t hz)
    {
        options.clockHz = hz;
        return options;
    }
    void remark(chip::Weight, const char* rule, const std::string&, std::uint32_t, Time) override { notes.emplace_back(rule); }
    void exceptionEntered(unsigned number, Time) override { interrupts.emplace_back(static_cast<int>(number), chip.cpu().cycle); }
    void exceptionReturned(Time) override { returns.push_back(chip.cpu().cycle); }
    void netChanged(circuit::NetId net, circuit::NetState state, Time at, circuit::Cause) override
    {
        edges_[circuit.name(net)].push_back({chip.clock().firstCycleAtOrAfter(at).n, state});
    }
    void trouble(circuit::Trouble, circuit::NetId, circuit::PinId, circuit::PinId, double, Time, circuit::Cause) override {}

    std::map<std::string, std::vector<RecordedEdge>> edges_;
};

}  // namespace bramix::test
