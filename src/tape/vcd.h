// Writes a Value Change Dump (IEEE Std 1364-2005, clause 18), timescale 1 ps, while the run goes on.
// A low net is 0, a high one 1, a floating one z; between thresholds and fighting outputs are x.
// "part.pin" becomes variable `pin` in scope `part`; a name without a point stands in scope `nets`.
// Tested by tests/tape/tape_test.cpp.
#pragma once

#include <cstdio>
#include <memory>
#include <string>
#include <vector>

#include "kernel/result.h"
#include "tape/tape.h"

namespace bramix::tape {

class VcdWriter {
public:
    [[nodiscard]] static kernel::Result<std::unique_ptr<VcdWriter>> create(const std::string& file, const std::vector<std::string>& names, const std::vector<State>& initial);
    ~VcdWriter();
    VcdWriter(const VcdWriter&) = delete;
    VcdWriter& operator=(const VcdWriter&) = delete;

    // A change of a signal, by index; times must not decrease. A state that looks like the last is left out.
    void change(std::size_t signal, Time at, State state);
    // Ends the dump at an instant and closes the file; false where it could not all be written.
    bool finish(Time at);

private:
    explicit VcdWriter(std::FILE* file) : file_(file) {}
    static char symbol(State state);

    std::FILE* file_;
    std::vector<std::string> codes_;
    std::vector<char> last_;
    std::int64_t time_ = 0;
};

}  // namespace bramix::tape
