// A numbered thing, and how much it had of something: cycles, time.
#pragma once

#include <cstdint>

namespace bramix::kernel {

struct Share {
    std::uint16_t id = 0;
    std::int64_t amount = 0;
    bool operator==(const Share&) const = default;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(id, amount);
    }
};

}  // namespace bramix::kernel
