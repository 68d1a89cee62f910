// The GDB remote serial protocol ("Debugging with GDB", appendix E), bytes in, bytes out: a chip of a session as a debugger's target.
//
// Which registers there are, where each memory lies and what the architecture is called is what the chip's Device says. Software and hardware breakpoints are the same, and cost nothing; watchpoints for writing, reading and both. Reverse step and
// continue go back through the session's past. `monitor help` tells what else there is.
// Tested by tests/cli/gdb_test.cpp with a real avr-gdb.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "session/debugger/debugger.h"

namespace bramix::session {

class GdbServer {
public:
    GdbServer(Session& session, Debugger& debugger) : session_(session), debugger_(debugger) {}

    // A debugger has come: the chip stands, and nothing is known of what an earlier one wanted.
    void begin();
    // It has gone without a word; stops of its own go with it.
    void end();
    // What has come in; what is to go out.
    [[nodiscard]] std::string take(const std::string& bytes);
    // What the debugger wants: to wait, to have the bench run, or to leave it.
    enum class Wants : std::uint8_t { stand, run, detach, kill };
    [[nodiscard]] Wants wants() const { return wants_; }
    // The motion that was wanted has ended (Debugger::advance was true); what is to go out.
    [[nodiscard]] std::string stopped();
    // The run has come to its end.
    [[nodiscard]] std::string finished(int code);

private:
    struct Point {
        int kind = 0;  // 0, 1 code; 2 write, 3 read, 4 both
        std::uint32_t address = 0;
        std::uint32_t length = 1;
        auto operator<=>(const Point&) const = default;
    };

    [[nodiscard]] std::string packet(const std::string& text);
    [[nodiscard]] std::string answer(const std::string& body);
    [[nodiscard]] std::string handle(const std::string& body);
    [[nodiscard]] std::string query(const std::string& body);
    [[nodiscard]] std::string transfer(const std::string& what, const std::string& body);
    [[nodiscard]] std::string monitor(const std::string& command);
    [[nodiscard]] std::string registers() const;
    [[nodiscard]] std::string registerText(std::size_t index) const;
    bool setRegister(std::size_t index, const std::string& hex);
    [[nodiscard]] std::string memoryMap() const;
    [[nodiscard]] std::string readMemory(std::uint32_t address, std::uint32_t length) const;
    [[nodiscard]] std::string writeMemory(std::uint32_t address, const std::string& bytes);
    [[nodiscard]] std::string resume(bool step);
    [[nodiscard]] std::string back(bool step);
    [[nodiscard]] std::string flash(const std::string& body);
    [[nodiscard]] std::string why() const;
    void sendStops();
    [[nodiscard]] const chip::DebugPort& port() const { return *session_.world().chips()[debugger_.chosen()].chip; }
    [[nodiscard]] const chip::Device& device() const { return port().device(); }

    Session& session_;
    Debugger& debugger_;
    std::string in_;
    std::string last_;        // sent last, for a debugger that did not understand it
    bool acknowledges_ = true;
    Wants wants_ = Wants::stand;
    std::string reason_ = "T05";
    std::vector<Point> points_;
    std::vector<std::uint8_t> newFlash_;
};

}  // namespace bramix::session
