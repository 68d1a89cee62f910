// The kinds of part: what catalogue/<kind>/part.toml says. A kind has pins, settings and live controls, and is one of:
//   - simple: one behaviour (a class in src/parts);
//   - a chip: a microcontroller by its table, every package pin a pin;
//   - a board: a chip and some inner parts, joined by the manifest.
// docs/adding-a-part.md describes the manifest. Tested by tests/bench/catalogue_test.cpp.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "bench/language.h"
#include "chip/families.h"
#include "kernel/result.h"

namespace bramix::bench {

using kernel::Result;

// In steps of the 2.54 mm grid.
struct GridPoint {
    int x = 0;
    int y = 0;
    constexpr bool operator==(const GridPoint&) const = default;
};

struct PinKind {
    std::string name;
    GridPoint at;             // from the part's corner, before turning
    std::string about;        // "anode", "OC1A PCINT1"
    std::string chipPin;      // pin of the chip inside, or empty
    std::vector<std::string> aliases;  // other names that a bench file may use, e.g. framework pin numbers
    std::optional<double> supplyVolts;  // the part holds this pin at a voltage
    bool ground = false;      // or at 0 V
    bool output = false;      // the part drives it, high or low, as long as it has its supply
    std::string must;         // why it may not be left open while the part is wired, and what to do; empty where it may
};

struct SettingKind {
    std::string name;
    std::string label;
    std::string type;         // "ohm", "volt", "second", "hertz", "choice", "text", "baud", "bounce", "fuse"
    std::string about;        // a few words more, or empty
    std::string standard;     // default, as written
    std::vector<std::string> choices;
};

struct ControlKind {
    std::string name;
    std::string label;
    std::string type;         // "hold" (pressed while held), "toggle", "dial" (any value between least and most), "choice" (0, 1, 2 ...)
    std::string low = "off";  // words for 0 and 1
    std::string high = "on";
    std::string unit;         // of a dial: "volt", "ohm" ...
    double least = 0;
    double most = 1;
    double standard = 0;
    bool logarithmic = false;          // a dial over decades
    std::vector<std::string> choices;  // words for 0, 1, 2 ...
    std::optional<std::pair<GridPoint, GridPoint>> box;  // where it is worked on the drawing: corner and size, in its units
};

struct InnerPart {
    std::string id;
    std::string kind;
    std::map<std::string, std::string> set;
};

struct PartKind {
    std::string id;
    std::string title;
    std::string about;
    std::vector<std::string> words;    // further search words
    std::string notes;                 // how it behaves, for its page
    std::string behaviour;             // of a simple kind
    std::string folder;                // where body.svg lies; empty for kinds that are not drawn
    std::string idStem;                // new parts are called this and a number
    GridPoint size{2, 2};
    std::vector<PinKind> pins;
    std::vector<SettingKind> settings;
    std::vector<ControlKind> controls;
    const chip::Device* chip = nullptr;
    std::uint64_t clockHz = 0;   // of the crystal on the board; 0: what is wired to the crystal pins
    chip::OptionBytes options;     // as the board comes; each field is a setting too
    std::string bridge;            // the UART that goes to the host, "uart0"; empty: none
    // On the drawing of a board, in its units: the lamp, and corner and size of the reset button. Absent on a chip alone.
    std::optional<GridPoint> lamp;
    std::optional<std::pair<GridPoint, GridPoint>> resetButton;
    // Where the drawing shows what the part shows: corner and size. What turns: centre, and radius with the shape (0 a knob, 1 a horn, 2 a shaft).
    std::optional<std::pair<GridPoint, GridPoint>> screen, shaft;
    bool ideal = false;            // supply, clock and reset are ideal: a chip on nothing
    std::vector<InnerPart> inner;
    // An inner net: own pins by name, inner pins as "id.pin"; where `when` names a setting and its value, only with that.
    struct Join {
        std::vector<std::string> pins;
        std::string when;  // "rails=whole"
    };
    std::vector<Join> joins;
    Language language;             // what it makes of the bytes of a bus
    std::string reads;             // how its lines are read, as tape/decode.h writes it, with its own pins: "i2c:SDA=SDA,SCL=SCL"; empty: nothing is to be read
    bool listed = true;
    bool plugs = false;            // a breadboard: leads of other parts that stand on its pins are plugged in

    // By name or alias, or null.
    [[nodiscard]] const PinKind* pin(std::string_view name) const;
    [[nodiscard]] const SettingKind* setting(std::string_view name) const;
    [[nodiscard]] const ControlKind* control(std::string_view name) const;
};

class Catalogue {
public:
    // Reads every folder of a catalogue. One unreadable manifest is an error.
    [[nodiscard]] static Result<Catalogue> load(const std::string& folder);
    // From beside the program: <exe>/../share/bramix/catalogue, or $BRAMIX_SHARE/catalogue.
    [[nodiscard]] static Result<Catalogue> loadInstalled();

    [[nodiscard]] const PartKind* find(std::string_view id) const;
    [[nodiscard]] const std::map<std::string, PartKind, std::less<>>& kinds() const { return kinds_; }

    // Kinds that match every word of a query, best first: title, then words, then description.
    [[nodiscard]] std::vector<const PartKind*> search(std::string_view query) const;

private:
    void addBareChips();
    std::map<std::string, PartKind, std::less<>> kinds_;
};

// The folder that holds catalogue/ and benches/.
[[nodiscard]] std::string shareFolder();

// The kind id of a chip standing alone, e.g. "bare-atmega328p".
[[nodiscard]] std::string bareKind(const chip::Device& chip);

}  // namespace bramix::bench
