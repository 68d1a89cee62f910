// The files that a bench reads when it is powered up.
#pragma once

#include <string>
#include <vector>

#include "bench/document.h"
#include "kernel/files.h"

namespace bramix::session {

// A file of a bench as it was when the run began.
struct BenchFile {
    std::string name;  // as the bench calls it: "firmware/lock.elf", "mcu.eeprom.hex"
    std::string bytes;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(name, bytes);
    }
};

// The files that a bench reads when it is powered up, as they are now.
[[nodiscard]] std::vector<BenchFile> benchFiles(const bench::Document& document, const kernel::FileAccess& access);

}  // namespace bramix::session
