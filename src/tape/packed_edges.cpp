#include "tape/packed_edges.h"

#include <algorithm>
#include <cstring>
#include <numeric>
#include <utility>
#include <vector>

namespace bramix::tape {

namespace {

constexpr std::size_t kMostKinds = 256;

std::size_t hashOf(std::int64_t since, std::uint32_t code, std::uint16_t actor, State state)
{
    std::uint64_t h = static_cast<std::uint64_t>(since) * 0x9E3779B97F4A7C15ULL;
    h ^= (static_cast<std::uint64_t>(code) << 24 ^ static_cast<std::uint64_t>(actor) << 8 ^ state) * 0xC2B2AE3D27D4EB4FULL;
    return static_cast<std::size_t>(h >> 52);
}

// Kinds by their content; a number, or none where there is no room for another.
template <class Kind, std::size_t kMost>
class Dictionary {
public:
    // The number of a kind; kMost where it is one too many.
    std::size_t number(const Kind& kind)
    {
        for (std::size_t slot = hashOf(kind.since, kind.code, kind.actor, kind.state);; ++slot) {
            std::uint16_t& entry = slots_[slot & (kSlots - 1)];
            if (entry == 0) {
                if (size_ == kMost)
                    return kMost;
                kinds_[size_++] = kind;
                entry = static_cast<std::uint16_t>(size_);
                return size_ - 1;
            }
            if (kinds_[entry - 1U] == kind)
                return entry - 1U;
        }
    }
    [[nodiscard]] std::span<const Kind> kinds() const { return {kinds_.data(), size_}; }
    // One more than there can be, for a kind that nothing is like.
    [[nodiscard]] Kind& none() { return kinds_[kMost]; }
    [[nodiscard]] const Kind& operator[](std::size_t number) const { return kinds_[number]; }

private:
    static constexpr std::size_t kSlots = std::max<std::size_t>(2 * kMost, 1024);
    std::array<std::uint16_t, kSlots> slots_{};
    std::size_t size_ = 0;
    std::array<Kind, kMost + 1> kinds_;  // the first `size_` of them
};

std::uint8_t bitsFor(std::size_t kinds) { return kinds <= 2 ? 1 : kinds <= 4 ? 2 : kinds <= 16 ? 4 : kinds <= 256 ? 8 : 16; }

void putNumber(std::uint8_t* at, std::size_t index, unsigned bits, std::uint16_t number)
{
    if (bits == 16) {
        std::memcpy(at + index * 2, &number, 2);
        return;
    }
    const std::size_t bit = index * bits;
    at[bit / 8] = static_cast<std::uint8_t>(at[bit / 8] | (number << (bit % 8)));
}

std::uint16_t numberAt(const std::uint8_t* at, std::size_t index, unsigned bits)
{
    if (bits == 16) {
        std::uint16_t number = 0;
        std::memcpy(&number, at + index * 2, 2);
        return number;
    }
    const std::size_t bit = index * bits;
    return static_cast<std::uint16_t>(at[bit / 8] >> (bit % 8) & ((1U << bits) - 1));
}

}  // namespace

PackedEdges::PackedEdges(std::span<const Edge> edges, Time beforeAt, State before) : lastAt_(edges.back().at), last_(edges.back().state)
{
    for (std::size_t b = 0; b < marks_.size(); ++b)
        marks_[b] = edges[b * kBlock].at;
    widths_.add(before, edges[0].at - beforeAt);
    Dictionary<Kind, kMostKinds> dictionary;
    dictionary.none().since = -1;
    // As a rule what came after one like the last comes again, or what came the time before: then it need not be looked for, and its width has been counted.
    struct Followers {
        std::uint16_t last = kMostKinds, before = kMostKinds;
    };
    std::array<Followers, kMostKinds> followers{};
    std::array<std::uint8_t, kEdges> numbers;  // NOLINT: written before it is read
    // The first of all has its time from its mark.
    std::size_t number = dictionary.number({0, edges[0].code, edges[0].actor, edges[0].state});
    numbers[0] = static_cast<std::uint8_t>(number);
    std::size_t i = 1;
    for (; i < kEdges; ++i) {
        const Edge& e = edges[i];
        const std::int64_t since = (e.at - edges[i - 1].at).count();
        const auto is = [&](const Kind& k) { return k.since == since && k.code == e.code && k.actor == e.actor && k.state == e.state; };
        Followers& next = followers[number];
        if (!is(dictionary[next.last])) {
            std::swap(next.last, next.before);
            if (!is(dictionary[next.last])) {
                widths_.add(edges[i - 1].state, Duration(since));
                const std::size_t found = dictionary.number({since, e.code, e.actor, e.state});
                if (found == kMostKinds)
                    break;
                next.last = static_cast<std::uint16_t>(found);
            }
        }
        number = next.last;
        numbers[i] = static_cast<std::uint8_t>(number);
    }
    if (i == kEdges) {
        packKinds(numbers, dictionary.kinds());
        return;
    }
    for (; i < kEdges; ++i)
        widths_.add(edges[i - 1].state, edges[i].at - edges[i - 1].at);
    packApart(edges);
}

// Several have room in one byte.
template <unsigned kBits>
void PackedEdges::together(std::span<const std::uint8_t> numbers, std::uint8_t* at)
{
    constexpr std::size_t kTogether = 8 / kBits;
    for (std::size_t i = 0; i < kEdges; i += kTogether) {
        unsigned byte = 0;
        for (unsigned k = 0; k < kTogether; ++k)
            byte |= static_cast<unsigned>(numbers[i + k]) << (k * kBits);
        *at++ = static_cast<std::uint8_t>(byte);
    }
}

void PackedEdges::packKinds(std::span<const std::uint8_t> numbers, std::span<const Kind> kinds)
{
    bits_ = bitsFor(kinds.size());
    kindCount_ = static_cast<std::uint16_t>(kinds.size());
    size_ = static_cast<std::uint32_t>(kinds.size_bytes() + kEdges * bits_ / 8);
    data_ = std::make_unique_for_overwrite<std::uint8_t[]>(size_);
    std::memcpy(data_.get(), kinds.data(), kinds.size_bytes());
    std::uint8_t* const at = data_.get() + kinds.size_bytes();
    switch (bits_) {
    case 1: return together<1>(numbers, at);
    case 2: return together<2>(numbers, at);
    case 4: return together<4>(numbers, at);
    default: std::memcpy(at, numbers.data(), kEdges);
    }
}

void PackedEdges::packApart(std::span<const Edge> edges)
{
    Dictionary<Kind, kEdges> doers;
    std::array<std::uint16_t, kEdges> numbers;  // NOLINT: written before it is read
    std::int64_t unit = 0;
    for (std::size_t i = 0; i < kEdges; ++i) {
        numbers[i] = static_cast<std::uint16_t>(doers.number({0, edges[i].code, edges[i].actor, edges[i].state}));
        if (i > 0)
            unit = std::gcd(unit, (edges[i].at - edges[i - 1].at).count());
    }
    unit_ = std::max<std::int64_t>(unit, 1);
    const std::span<const Kind> kinds(doers.kinds());
    bits_ = bitsFor(kinds.size());
    kindCount_ = static_cast<std::uint16_t>(kinds.size());
    std::vector<std::uint8_t> times;
    times.reserve(kEdges * 3);
    for (std::size_t i = 0; i < kEdges; ++i) {
        if (i % kBlock == 0) {  // its time is its block's
            places_[i / kBlock] = static_cast<std::uint32_t>(times.size());
            continue;
        }
        std::uint64_t units = static_cast<std::uint64_t>((edges[i].at - edges[i - 1].at).count() / unit_);
        for (; units >= 0x80; units >>= 7)
            times.push_back(static_cast<std::uint8_t>(units | 0x80));
        times.push_back(static_cast<std::uint8_t>(units));
    }
    const std::size_t numbersSize = kEdges * bits_ / 8;
    size_ = static_cast<std::uint32_t>(kinds.size_bytes() + numbersSize + times.size());
    data_ = std::make_unique<std::uint8_t[]>(size_);
    std::memcpy(data_.get(), kinds.data(), kinds.size_bytes());
    for (std::size_t i = 0; i < kEdges; ++i)
        putNumber(data_.get() + kinds.size_bytes(), i, bits_, numbers[i]);
    std::memcpy(data_.get() + kinds.size_bytes() + numbersSize, times.data(), times.size());
}

// The common form, with a loop for each width of number: what a decoder goes through when it reads a whole tape.
template <unsigned kBits>
void PackedEdges::unpack(std::size_t block, std::span<Edge, kBlock> out) const
{
    const Kind* const all = kinds();
    const std::uint8_t* const numbers = data_.get() + kindCount_ * sizeof(Kind) + block * kBlock * kBits / 8;
    Time at = marks_[block];
    for (std::size_t i = 0; i < kBlock; ++i) {
        const Kind& kind = all[numbers[i * kBits / 8] >> (i * kBits % 8) & ((1U << kBits) - 1)];
        at += Duration(kind.since);
        out[i] = {at, kind.code, kind.actor, kind.state};
        if (i == 0)  // its mark tells when it is
            out[0].at = at = marks_[block];
    }
}

void PackedEdges::block(std::size_t block, std::span<Edge, kBlock> out) const
{
    if (unit_ == 0)
        switch (bits_) {
        case 1: return unpack<1>(block, out);
        case 2: return unpack<2>(block, out);
        case 4: return unpack<4>(block, out);
        default: return unpack<8>(block, out);
        }
    const Kind* const all = kinds();
    const std::uint8_t* const numbers = data_.get() + kindCount_ * sizeof(Kind);
    const std::uint8_t* time = numbers + kEdges * bits_ / 8 + places_[block];
    Time at = marks_[block];
    for (std::size_t i = 0; i < kBlock; ++i) {
        const Kind& kind = all[numberAt(numbers, block * kBlock + i, bits_)];
        if (i > 0) {
            std::uint64_t units = 0;
            for (unsigned shift = 0;; shift += 7) {
                const std::uint8_t byte = *time++;
                units |= static_cast<std::uint64_t>(byte & 0x7F) << shift;
                if ((byte & 0x80) == 0)
                    break;
            }
            at += Duration(static_cast<std::int64_t>(units) * unit_);
        }
        out[i] = {at, kind.code, kind.actor, kind.state};
    }
}

std::size_t PackedEdges::blockOf(Time t) const
{
    const auto next = std::upper_bound(marks_.begin(), marks_.end(), t);
    return next == marks_.begin() ? 0 : static_cast<std::size_t>(next - marks_.begin()) - 1;
}

}  // namespace bramix::tape
