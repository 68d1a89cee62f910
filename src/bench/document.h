// A bench as a person made it: a plain value. Undo keeps copies of it, a world is built from it, the file is its text.
//
// The file (docs/bench-format.md): TOML, one block a part, a wire, a net, in the order in which they were made. What this version does not
// know is kept and written back; comments above a block stay with the block.
// Invariant after load(): part ids are unique and not empty, every end of a wire and every pin of a net has the form "part.pin".
// Tested by tests/bench/document_test.cpp.
#pragma once

#include <map>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "bench/catalogue.h"
#include "bench/follow.h"
#include "kernel/result.h"

namespace bramix::bench {

// A key that this version does not know, with its value as TOML text.
struct UnknownKey {
    std::string key;
    std::string value;
    bool operator==(const UnknownKey&) const = default;
};

struct Remarks {
    std::string comment;  // lines above the block, with their #
    std::vector<UnknownKey> unknown;
    int line = 0;         // in the file it came from; 0 when made by hand. Not compared.
    bool operator==(const Remarks& o) const { return comment == o.comment && unknown == o.unknown; }
};

struct PartItem {
    std::string id;
    std::string kind;
    std::string label;     // shown in place of the id where not empty
    GridPoint at;
    int turn = 0;          // quarter turns clockwise, 0..3
    std::vector<std::string> order;  // its pins as they follow each other on the real part, where that differs from the drawing's; empty: it does not
    std::string firmware;  // relative to the bench file; for kinds with a chip
    std::string registers; // an SVD file that describes its chip's peripherals in place of the chip's own; relative, too
    std::map<std::string, std::string> set;
    std::map<std::string, double> controls;  // where live controls stand, those that do not stand as they come
    std::map<std::string, FollowItem> follow; // live controls that turn by themselves
    std::string key;       // keyboard key that works its first live control, or empty
    std::map<std::string, std::string> mute;  // findings that are not minded: rule, and the reason
    Remarks remarks;
    bool operator==(const PartItem&) const = default;
};

struct PinRef {
    std::string part;
    std::string pin;
    auto operator<=>(const PinRef&) const = default;
    [[nodiscard]] std::string text() const { return part + "." + pin; }
};

struct WireItem {
    PinRef from;
    PinRef to;
    std::string color = "slate";
    std::vector<GridPoint> via;
    std::string ribbon;  // wires of one name are drawn side by side as one; empty for most
    Remarks remarks;
    bool operator==(const WireItem&) const = default;
};

struct NetItem {
    std::string name;
    std::vector<PinRef> pins;
    Remarks remarks;
    bool operator==(const NetItem&) const = default;
};

// Where the firmware is to stop, or only to be told of (session/debugger/debugger.h has the words of `at`).
struct StopItem {
    std::string at;      // "lock.c:41", "change gates[0].cm", "rise mcu.PB3"
    std::string chip;    // which one; empty: the first
    std::string when;    // a condition over the firmware's variables, or empty
    std::string say;     // a line for the log, with {expressions}; it then does not stop
    int count = 1;       // stops at this hit and every one after it
    bool off = false;
    Remarks remarks;
    bool operator==(const StopItem&) const = default;
};

// An expression to be looked at.
struct WatchItem {
    std::string expression;
    std::string chip;
    std::string radix;   // "hex", "binary", "decimal", "character", or empty for the natural one
    Remarks remarks;
    bool operator==(const WatchItem&) const = default;
};

// A button beside a serial line.
struct ButtonItem {
    std::string label;
    std::string bytes;   // with \\n, \\r, \\t, \\xHH
    std::string uart;    // "mcu.uart0"; empty: whichever is shown
    std::string every;   // a time after which it is sent again and again while the button is down, or empty
    std::string key;     // that presses it, "F5" or "Ctrl+1", or empty
    Remarks remarks;
    bool operator==(const ButtonItem&) const = default;
};

// A named instant of the run.
struct BookmarkItem {
    std::string name;
    std::string at;      // "1.250034s"
    Remarks remarks;
    bool operator==(const BookmarkItem&) const = default;
};

struct Document {
    std::string title = "New bench";
    std::string notes;
    std::string build;   // the command that builds the firmware, run in the bench's folder or where a Makefile lies; empty: found by itself
    std::vector<PartItem> parts;
    std::vector<WireItem> wires;
    std::vector<NetItem> nets;
    std::vector<StopItem> stops;
    std::vector<WatchItem> watches;
    std::vector<ButtonItem> buttons;
    std::vector<BookmarkItem> bookmarks;
    std::vector<std::string> lanes;  // of the tape, from the top: "mcu.PB3", "i2c:SDA=…,SCL=…", "volts mcu.PC0" (session/lanes/read_lanes.h); empty: the usual ones
    std::string capture;     // a value change dump of the real board, beside the bench or with its whole path; or empty
    std::string captureAt;   // how much later its time zero lies than the bench's: "0.0051s"; empty: not at all
    Remarks remarks;

    bool operator==(const Document&) const = default;

    [[nodiscard]] const PartItem* part(std::string_view id) const;
    [[nodiscard]] PartItem* part(std::string_view id);
    [[nodiscard]] std::string freshId(std::string_view stem) const;
};

// The colours that a wire may have, in the order of the palette.
[[nodiscard]] const std::vector<std::string>& wireColors();

// Splits "part.pin" at its last point; empty halves are an error text.
[[nodiscard]] Result<PinRef> parsePinRef(std::string_view text);

// Text to document; `name` stands in errors. `warnings` takes what was kept but not understood.
[[nodiscard]] Result<Document> parseDocument(const std::string& name, std::string_view text, std::vector<std::string>* warnings = nullptr);
[[nodiscard]] std::string writeDocument(const Document& document);

// Whole files. Saving is atomic: the old file stays until the new one is complete on disk.
[[nodiscard]] Result<Document> loadDocument(const std::string& file, std::vector<std::string>* warnings = nullptr);
// Whatever in a bench may name a file: firmware, curves, and settings that look like a path.
[[nodiscard]] std::set<std::string> filesNamed(const Document& document);
[[nodiscard]] Result<void> saveText(const std::string& file, const std::string& text);

// Whether an order of pins has each pin of the kind once.
[[nodiscard]] Result<void> checkOrder(const std::vector<std::string>& order, const PartKind& kind);

// Whether kinds, pins, settings and wires make sense together: the first thing that does not, with its place in `name`.
[[nodiscard]] Result<void> checkDocument(const Document& document, const Catalogue& catalogue, const std::string& name);

}  // namespace bramix::bench
