// What a stop may wait for on lines besides a single edge: a pulse by its length, several pins at once, edges in a row, and what a decoder reads.
//
//   pulse mcu.PB3 high < 5us          a whole high (or low; without either word both) shorter than that, or with > longer; told when it ends
//   pattern mcu.PD4=1 mcu.PD5=0       all of them so at once; told when it comes to be
//   sequence rise mcu.PB0, fall mcu.PB1, rise mcu.PB2 within 2ms     in this order, others between them not minded; the time is from the first to the last
//   reads i2c:SDA=mcu.PC4,SCL=mcu.PC5 "0x27 write, nack"             a decoder lane says this, or something with this in it
//
// Tested by tests/session/debugger/edge_triggers_test.cpp.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "bench/world.h"

namespace bramix::session {

class EdgeTrigger {
public:
    virtual ~EdgeTrigger() = default;

    [[nodiscard]] const std::vector<bench::PinRef>& pins() const { return pins_; }
    // From here on, as the pins stand now.
    virtual void begin(const std::vector<bench::NetState>& states, kernel::Time now) = 0;
    // One of the pins has changed: what has come about with it, or nothing.
    [[nodiscard]] virtual std::optional<std::string> edge(std::size_t pin, bench::NetState state, kernel::Time at) = 0;

protected:
    explicit EdgeTrigger(std::vector<bench::PinRef> pins) : pins_(std::move(pins)) {}

private:
    std::vector<bench::PinRef> pins_;
};

// Null where the words are no trigger of these. `pinOf` knows the pins of the bench.
[[nodiscard]] kernel::Result<std::shared_ptr<EdgeTrigger>> parseTrigger(const std::string& text, const std::function<kernel::Result<bench::PinRef>(const std::string&)>& pinOf);

}  // namespace bramix::session
