// A live world, built from a document: circuit, parts and chips in simulated time.
//
// Invariant: everything that happens in it follows from the document, the firmware, the seed, and the calls made to it at definite
// instants. It reads no clock, no file (but firmware when told to) and no unordered container's order.
// Tested by tests/bench/ and tests/session/session_test.cpp.
#pragma once

#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "bench/document.h"
#include "bench/finding.h"
#include "chip/mcu.h"
#include "circuit/circuit.h"
#include "kernel/files.h"
#include "parts/part.h"
#include "parts/serial_line.h"

namespace bramix::bench {

using circuit::Cause;
using circuit::NetId;
using circuit::NetState;
using circuit::PinId;
using kernel::Duration;
using kernel::Time;

// Told of what happens while the world runs.
class WorldObserver {
public:
    virtual ~WorldObserver() = default;
    virtual void edge(NetId net, NetState state, Time at, Cause cause) = 0;
    // A byte on a UART's line; `fromChip` tells the direction.
    virtual void serialByte(std::size_t uart, std::uint8_t byte, bool good, bool fromChip, Time at) = 0;
    virtual void finding(const Finding& finding) = 0;
    // A chip has entered an exception, or with number 0 has come to the end of one.
    virtual void interrupt(std::size_t chip, std::uint8_t exception, Time at) = 0;
    virtual void reset(std::size_t /*chip*/, unsigned /*cause*/, Time /*at*/) {}
};

struct WorldOptions {
    std::uint64_t seed = 1;
    std::string folder{};  // firmware paths are relative to it
    bool confined = false;             // nothing outside the folder is read or written,
    std::vector<std::string> allowed{};  // but these files, which a person has chosen
    Time from{};         // begins at this instant: of a bench that is edited while it runs
    bool keepGoing = false;  // firmware that cannot be loaded is a finding, and its chip stands still
    bool steady = false; // an operating point: capacitors charged, no firmware; chips' pins hold what hold() gives them. Wires are not checked.
};

class World final : private circuit::CircuitObserver {
public:
    struct ChipUnit {
        std::string id;
        const chip::Device* device = nullptr;
        std::unique_ptr<chip::Mcu> chip;
        chip::Firmware firmware;
        std::string firmwareFile;  // as found on disk; empty where none is loaded
        bool ideal = false;        // a chip on nothing
        bool unreadable = false;   // its firmware could not be loaded: it keeps what it had before, if anything
        std::shared_ptr<const chip::RegisterMap> ownRegisters{};  // as the bench has them described; null: as the chip's family knows them
        [[nodiscard]] const chip::RegisterMap& registers() const { return ownRegisters != nullptr ? *ownRegisters : device->registers(); }
    };

    struct Uart {
        std::string name;  // "mcu.uart0"
        std::size_t chip = 0;
        std::size_t index = 0;
        std::unique_ptr<parts::SerialLine> line;
    };

    // Something that shines: a part, or a lamp on a board.
    struct Light {
        std::string part;
        std::string inner;  // id inside a board, or which one of a part that has several; or empty
        std::string color;
        circuit::ElementId element{};
        double fullAmps = 0;
    };

    // The document must have passed checkDocument. Firmware that cannot be loaded is an error; a chip without firmware
    // stands still and is a finding. `observer` may be null.
    [[nodiscard]] static Result<std::unique_ptr<World>> build(const Document& document, const Catalogue& catalogue, const WorldOptions& options, WorldObserver* observer);
    ~World() override;

    // Running. Each stops at the first instruction boundary at or after the goal, at a fault, or where requestStop() says.
    void runUntil(Time goal);
    // One instruction of a chip, or one interrupt entered; the others follow. A chip that sleeps sleeps on to the next event. Time stands at `until` at the latest, as it
    // would after runUntil(), so that what is done from outside then comes at that instant.
    void stepInstruction(std::size_t chip = 0, Time until = kernel::kNever);
    // Ends runUntil() at the present instant; to be called from observers.
    void requestStop();
    // While the flag is set runUntil() and stepInstruction() come back as they are, wherever they stand. Null: nobody interrupts.
    void interruptBy(const std::atomic<bool>* flag);
    // Told whenever a register of a chip may have changed otherwise than by counting, and when; empty: nobody is. The listener may look at everything, and change nothing.
    void setChangeListener(const std::function<void(Time)>& changed);
    // Where a chip has stopped for a debugger: the chip's index. The run ends there; resume() lets it go on.
    [[nodiscard]] std::optional<std::size_t> debugStop() const;
    // Forgets the stops, and lets those chips that have stopped (or all of them) pass a breakpoint at their present place.
    void resume(bool all);
    void stopWhenHalted(bool stop);
    [[nodiscard]] bool halted() const;   // the first chip can never run again
    [[nodiscard]] bool faulted() const;
    [[nodiscard]] Time now() const { return queue_.now(); }
    // How far the slowest chip has run; the present where there is none.
    [[nodiscard]] Time progress() const;

    // Inputs from outside, at the present instant.
    [[nodiscard]] Result<void> setControl(std::string_view part, std::string_view control, double value);
    // Whether there is such a control; the error says which there are.
    [[nodiscard]] Result<void> knowsControl(std::string_view part, std::string_view control) const;
    // Whoever wants to see a pin's voltage as it runs; null: nobody any more.
    void probe(PinId pin, circuit::ProbeListener* listener) { circuit_.probe(circuit_.netOf(pin), listener); }
    void probe(circuit::ElementId element, circuit::CurrentProbe* listener) { circuit_.probe(element, listener); }
    void flushProbes() { circuit_.flushProbes(); }
    // A new part of the same kind in place of one that has burnt through.
    [[nodiscard]] Result<void> replacePart(std::string_view part);
    // The part of this id, or null; boards and chips have none of their own.
    [[nodiscard]] const parts::Part* part(std::string_view id) const;
    // Why the part, or the serial line of a board, has just moved what is on this pin, as parts::Part::why() says it.
    [[nodiscard]] std::string why(const PinRef& pin) const;
    [[nodiscard]] double control(std::string_view part, std::string_view control) const;
    void send(std::size_t uart, std::string_view bytes);
    // Whether the firmware has switched a UART's receiver on.
    [[nodiscard]] bool receives(std::size_t uart) const { return lineFormat(uarts_[uart], true).active; }
    void connectLine(std::size_t uart) { uarts_[uart].line->connect(); }
    [[nodiscard]] Result<void> loadFirmware(std::size_t chip, const std::string& file);
    // Of a steady world: pins of chips drive this.
    void hold(const std::map<PinRef, circuit::Drive>& drives);

    // The file that keeps a chip's EEPROM between runs, beside the bench; empty for a bench without a folder and for a chip on nothing.
    [[nodiscard]] std::string eepromFile(std::size_t chip) const;

    // Writes what parts keep without power into their files, where it has changed.
    [[nodiscard]] Result<void> keepContents();

    // Looking.
    [[nodiscard]] const circuit::Circuit& circuit() const { return circuit_; }
    // See Circuit::recordInto().
    void recordInto(kernel::EdgeCursor* cursors, const std::uint32_t* channelOfNet) { circuit_.recordInto(cursors, channelOfNet); }
    [[nodiscard]] std::vector<ChipUnit>& chips() { return chips_; }
    [[nodiscard]] const std::vector<ChipUnit>& chips() const { return chips_; }
    [[nodiscard]] const std::vector<Uart>& uarts() const { return uarts_; }
    [[nodiscard]] const std::vector<Light>& lights() const { return lights_; }
    [[nodiscard]] std::optional<PinId> pin(const PinRef& ref) const;
    [[nodiscard]] const std::map<PinRef, PinId>& pins() const { return pins_; }
    [[nodiscard]] std::optional<std::size_t> uartByName(std::string_view name) const;
    // Overloads that go on are told with their length up to now.
    [[nodiscard]] std::vector<Finding> findings() const;
    // What flows into a part, board or chip by one of its leads, in amperes; negative: out of it. Leads of one part on one net are told together. Nothing for the
    // ground of a chip, for grounds, and where two supplies share a net.
    [[nodiscard]] std::optional<double> leadAmps(const PinRef& lead) const;
    // What a chip takes from its supply just now, its pins' currents included, in amperes; and what it has taken for itself since power-up, in coulombs.
    [[nodiscard]] double chipAmps(std::size_t chip) const;
    // What a conversion of a chip's pin would give just now; nothing for any other pin.
    [[nodiscard]] std::optional<chip::AnalogReading> analogReading(const PinRef& pin) const;

    // What this world shares with one built from an edited document goes on: chips, parts, lines, the time. A part with other settings is another part: it begins
    // anew, with its controls as the document has them.
    void adopt(World& old);

    // The world at one instant: everything that runs, and what has been noticed so far.
    struct Moment;
    [[nodiscard]] std::shared_ptr<const Moment> remember();
    // Only into a world built from the same document, with the same firmware.
    void recall(const Moment& moment);
    // Puts an image into a chip as it is, without a reset: before recall().
    void installFirmware(std::size_t chip, const chip::Firmware& firmware, const std::string& file);

    // Everything that runs, both ways.
    template <class Archive>
    void state(Archive& ar)
    {
        ar(queue_, circuit_);
        const auto both = [&ar](auto& what) {
            if constexpr (Archive::kLoading)
                what->load(ar);
            else
                what->save(ar);
        };
        for (ChipUnit& unit : chips_)
            both(unit.chip);
        for (auto& [id, part] : parts_)
            both(part);
        for (Uart& uart : uarts_)
            ar(*uart.line);
        for (auto& [control, follower] : followers_)
            ar(*follower);
        stateOfSupplies(ar);
        ar(resetControls_);
        ar(circuit_);  // again: restoring chips and parts drives their pins, and what the circuit remembers must win
        ar(queue_);
    }

private:
    class ResetPin;
    class SupplyPins;
    class BoardSupply;
    class ChipListener;
    struct Builder;

    explicit World(WorldObserver* observer);
    void stateOfSupplies(kernel::SaveArchive& ar);
    void stateOfSupplies(kernel::LoadArchive& ar);

    void stopNow();
    void report(Finding finding);
    void partRemark(const std::string& part, const parts::Remark& remark);
    [[nodiscard]] std::string partsAround(NetId net) const;
    void blame(Finding& finding, Cause cause) const;
    void runChips(Time until);
    [[nodiscard]] bool standing() const;
    [[nodiscard]] static bool runs(const ChipUnit& unit) { return !unit.firmwareFile.empty() && !unit.chip->inReset() && !unit.chip->faulted(); }
    [[nodiscard]] Time slowestChip() const;  // kNever where no chip runs
    [[nodiscard]] std::string pinName(PinId pin) const;
    [[nodiscard]] parts::LineFormat lineFormat(const Uart& uart, bool towardsChip) const;

    void netChanged(NetId net, NetState state, Time at, Cause cause) override;
    void trouble(circuit::Trouble what, NetId net, PinId pin, PinId other, double amps, Time at, Cause cause) override;
    void overloadEnded(PinId pin, Time at) override;
    struct Overload;
    [[nodiscard]] std::string overloadText(PinId pin, const Overload& overload) const;
    [[nodiscard]] std::string chipOf(PinId pin) const;  // empty where it is no chip's
    void remark(std::size_t chip, chip::Weight weight, const char* rule, const std::string& text, std::uint32_t code, Time at);
    void uncertainRead(std::size_t chip, PinId pin, bool floats, circuit::Thresholds thresholds);
    void reportUnpowered();

    WorldObserver* observer_;
    kernel::EventQueue queue_;
    circuit::Circuit circuit_;
    std::vector<std::unique_ptr<ChipListener>> listeners_;  // outlive the chips that tell them
    std::vector<std::string> chipIds_;            // known before the chips are made
    std::vector<ChipUnit> chips_;
    std::vector<std::pair<std::string, std::unique_ptr<parts::Part>>> parts_;  // inner parts as "board/inner"
    std::map<std::string, std::string> kindOf_;
    std::map<std::string, std::map<std::string, std::string>> settingsOf_;
    std::map<std::string, std::vector<std::string>> controlsOf_;
    std::map<std::pair<std::string, std::string>, std::unique_ptr<Follower>> followers_;  // by part and control
    std::vector<Uart> uarts_;
    std::vector<Light> lights_;
    std::vector<std::unique_ptr<BoardSupply>> boardSupplies_;
    std::vector<std::unique_ptr<SupplyPins>> supplyPins_;  // one a chip; null on a board, which feeds its chip itself
    // What was added to the circuit with each part, beyond the pins that the bench knows: from, to.
    struct Added {
        std::size_t fromElement = 0, toElement = 0, fromPin = 0, toPin = 0;
    };
    std::vector<std::pair<std::string, Added>> added_;
    std::vector<std::unique_ptr<ResetPin>> resetPins_;  // one a chip; null where a fuse has made the pin a port pin
    std::vector<std::uint8_t> resetControls_;  // live control RESET of each chip: 1 released, 0 held
    std::map<PinRef, PinId> pins_;
    std::map<PinRef, PinRef> aliases_;  // of pins that a bench may call by another name
    std::set<NetId> wired_;  // nets that join two pins of the bench or more; instruments do not count
    std::vector<Finding> findings_;
    // A pin beyond its limit.
    struct Overload {
        Time since{};
        Duration before{};  // how long it was so in earlier times
        bool on = false;
        double worst = 0;   // amperes
    };
    std::map<PinId, Overload> overloads_;
    std::map<std::pair<std::string, std::string>, std::string> mutes_;  // part, rule: the reason
    std::set<std::pair<std::string, std::string>> told_;  // rule, where
    kernel::Alarm stopAlarm_;
    bool stop_ = false;
    const std::atomic<bool>* interrupt_ = nullptr;
    std::size_t running_ = 0;  // the chip that executes just now
    kernel::FileAccess files_;
};

struct World::Moment {
    Time at{};                 // the queue's present
    std::vector<Time> chips;   // how far each chip has come
    kernel::Snapshot state;
    std::vector<Finding> findings;
    std::map<PinId, Overload> overloads;
    std::set<std::pair<std::string, std::string>> told;
    [[nodiscard]] std::size_t bytes() const { return state.heldBytes() + findings.size() * 400 + 200; }
};

}  // namespace bramix::bench
