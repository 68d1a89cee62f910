// A peripheral with registers of 32 bits at offsets from a base. Narrower accesses come as words.
#pragma once

#include <cstdint>

#include "kernel/archive.h"

namespace bramix::chip {

class WordPeripheral {
public:
    virtual ~WordPeripheral() = default;
    // As an instruction reads: it may change something.
    virtual std::uint32_t read(std::uint32_t offset) { return peek(offset); }
    // As a debugger looks.
    [[nodiscard]] virtual std::uint32_t peek(std::uint32_t offset) const = 0;
    virtual void write(std::uint32_t offset, std::uint32_t value) = 0;
    virtual void reset() = 0;
    virtual void clockChanged() {}
    virtual void save(kernel::SaveArchive& ar) = 0;
    virtual void load(kernel::LoadArchive& ar) = 0;
};

template <class Self>
class StatefulWords : public WordPeripheral {
public:
    void save(kernel::SaveArchive& ar) override { static_cast<Self&>(*this).state(ar); }
    void load(kernel::LoadArchive& ar) override { static_cast<Self&>(*this).state(ar); }
};

}  // namespace bramix::chip
