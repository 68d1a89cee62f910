// A finding: something that Bramix noticed, told once a run.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "kernel/time.h"

namespace bramix::bench {

enum class Severity : std::uint8_t { note, warning, error };

inline const char* severityName(Severity s)
{
    switch (s) {
    case Severity::note: return "note";
    case Severity::warning: return "warning";
    case Severity::error: return "error";
    }
    return "";
}

struct Finding {
    Severity severity = Severity::note;
    std::string rule{};     // stable name, e.g. "outputs-fight"
    std::string where{};    // a part, pin or net
    std::string message{};  // what happened and what to do
    kernel::Time time{};
    std::optional<std::uint32_t> code{};  // byte address of the instruction at fault
    std::string chip{};                   // which chip executed it
    std::optional<std::uint32_t> otherCode{};  // of a fight: the instruction that made the other output drive,
    std::string otherChip{};                   // and its chip
    std::string otherSource{};
    std::string source{};                 // "gate.c:42", filled in by whoever has the symbols
    bool wiring = false;                // seen before the bench ran, from its wires alone
    std::string muted{};                  // the reason that the bench file gives for not minding it, or empty
};

}  // namespace bramix::bench
