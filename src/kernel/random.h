// Seeded randomness: xoshiro256** (Blackman and Vigna, "Scrambled linear pseudorandom number generators", 2021), seeded by
// splitmix64. Each consumer takes a stream of its own from the run's seed and its name, so that adding a part to a
// bench does not change what another part draws.
// Tested by tests/kernel/kernel_test.cpp.
#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <string_view>

namespace bramix::kernel {

class Random {
public:
    // The stream `name` of the run `seed`. Equal arguments give equal streams on every machine.
    explicit Random(std::uint64_t seed, std::string_view name = {})
    {
        std::uint64_t mix = seed;
        for (const char c : name)
            mix = (mix ^ static_cast<unsigned char>(c)) * 0x100000001B3ULL;
        for (std::uint64_t& word : s_)
            word = splitmix(mix);
    }

    std::uint64_t next()
    {
        const std::uint64_t result = std::rotl(s_[1] * 5, 7) * 9;
        const std::uint64_t t = s_[1] << 17;
        s_[2] ^= s_[0];
        s_[3] ^= s_[1];
        s_[1] ^= s_[2];
        s_[0] ^= s_[3];
        s_[2] ^= t;
        s_[3] = std::rotl(s_[3], 45);
        return result;
    }

    // A whole number 0 .. bound-1; bound must not be 0. Multiply-shift, bias below 2^-32 for bounds that occur here.
    std::uint64_t below(std::uint64_t bound)
    {
        return static_cast<std::uint64_t>((static_cast<unsigned __int128>(next()) * bound) >> 64);
    }

    // A real number in [0, 1).
    double uniform() { return static_cast<double>(next() >> 11) * 0x1.0p-53; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(s_);
    }

private:
    static std::uint64_t splitmix(std::uint64_t& x)
    {
        x += 0x9E3779B97F4A7C15ULL;
        std::uint64_t z = x;
        z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9ULL;
        z = (z ^ (z >> 27)) * 0x94D049BB133111EBULL;
        return z ^ (z >> 31);
    }

    std::array<std::uint64_t, 4> s_{};
};

}  // namespace bramix::kernel
