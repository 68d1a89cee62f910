// Two chips in one circuit, their pins joined as a test says, each on a jump to itself: the test is the firmware of both.
#pragma once

#include "chip/avr/chip_bench.h"

namespace bramix::test {

class TwoChips : private chip::McuObserver, private circuit::CircuitObserver {
public:
    using Joint = std::pair<const char*, const char*>;

    TwoChips(const ChipTable& first, const ChipTable& second, std::initializer_list<Joint> joints, std::uint64_t hz = 16'000'000)
        : circuit(queue), a(first, {.clockHz = hz}, queue, circuit, *this), b(second, {.clockHz = hz}, queue, circuit, *this)
    {
        for (const auto& [mine, yours] : joints) {
            const circuit::NetId net = circuit.addNet(mine);
            const circuit::PinId pinA = circuit.addPin(net, std::string("a.") + mine);
            const circuit::PinId pinB = circuit.addPin(net, std::string("b.") + yours);
            pulls[mine] = circuit.addPin(net, std::string("pull ") + mine);
            a.attachPin(mine, pinA);
            b.attachPin(yours, pinB);
        }
        circuit.seal(this);
        for (Chip* chip : {&a, &b}) {
            chip->loadFlash({0xCFFF}, false);
            chip->powerOn();
        }
    }

    void pullUp(const char* net, double ohms = 4'700) { circuit.drive(pulls[net], {5.0, ohms}, {}); }

    // Both run to a time; the pins of each move in order because each runs only to the next alarm.
    void to(Time goal)
    {
        for (;;) {
            const Time next = std::min(goal, queue.nextDue());
            a.run(next);
            b.run(next);
            queue.advanceTo(std::min(next, queue.nextDue()));
            if (queue.now() >= goal && queue.nextDue() > goal)
                return;
        }
    }
    void wait(Duration span) { to(queue.now() + span); }
    // Until a bit is set in a register; false after `limit`.
    bool waitFor(Chip& chip, const char* name, std::uint8_t mask, Duration limit = std::chrono::milliseconds(2))
    {
        const Time end = queue.now() + limit;
        while (queue.now() < end) {
            if ((chip.peek(chip.names().reg(name)) & mask) != 0)
                return true;
            wait(std::chrono::microseconds(1));
        }
        return false;
    }

    static void write(Chip& chip, const char* name, std::uint8_t value) { chip.ioWrite(chip.names().reg(name), value, chip.cpu().cycle); }
    static std::uint8_t read(Chip& chip, const char* name) { return chip.ioRead(chip.names().reg(name), chip.cpu().cycle); }

    kernel::EventQueue queue;
    circuit::Circuit circuit;
    Chip a, b;
    std::map<std::string, circuit::PinId> pulls;
    std::vector<std::string> notes;
    std::vector<std::pair<std::string, Time>> rises;

private:
    void remark(chip::Weight, const char* rule, const std::string&, std::uint32_t, Time) override { notes.emplace_back(rule); }
    void exceptionEntered(unsigned, Time) override {}
    void exceptionReturned(Time) override {}
    void netChanged(circuit::NetId net, circuit::NetState state, Time at, circuit::Cause) override
    {
        if (state == circuit::NetState::high)
            rises.emplace_back(circuit.name(net), at);
    }
    void trouble(circuit::Trouble, circuit::NetId, circuit::PinId, circuit::PinId, double, Time, circuit::Cause) override {}
};

}  // namespace bramix::test
