// Memory of megabytes of which little has been written: pages that differ from what it began with.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <map>
#include <vector>

namespace bramix::parts {

class SparseMemory {
public:
    static constexpr std::size_t kPage = 256;

    // Beyond `base` everything is `blank`.
    SparseMemory(std::vector<std::uint8_t> base, std::uint8_t blank) : base_(std::move(base)), blank_(blank) {}

    [[nodiscard]] std::uint8_t at(std::uint32_t address) const
    {
        const auto page = pages_.find(address / kPage);
        return page != pages_.end() ? page->second[address % kPage] : before(address);
    }
    void put(std::uint32_t address, std::uint8_t byte)
    {
        const std::uint32_t number = address / kPage;
        auto page = pages_.find(number);
        if (page == pages_.end()) {
            page = pages_.emplace(number, std::array<std::uint8_t, kPage>{}).first;
            for (std::uint32_t i = 0; i < kPage; ++i)
                page->second[i] = before(number * kPage + i);
        }
        page->second[address % kPage] = byte;
    }
    void fill(std::uint32_t from, std::uint32_t size, std::uint8_t byte)
    {
        for (std::uint32_t a = from; a < from + size; a += kPage)
            pages_[a / kPage].fill(byte);
    }

    template <class Archive>
    void state(Archive& ar)
    {
        auto count = static_cast<std::uint32_t>(pages_.size());
        ar(count);
        if constexpr (Archive::kLoading) {
            pages_.clear();
            for (std::uint32_t i = 0; i < count; ++i) {
                std::uint32_t number = 0;
                ar(number);
                ar(pages_[number]);
            }
        } else {
            for (auto& [number, bytes] : pages_) {
                std::uint32_t n = number;
                ar(n, bytes);
            }
        }
    }

private:
    [[nodiscard]] std::uint8_t before(std::uint32_t address) const { return address < base_.size() ? base_[address] : blank_; }

    std::vector<std::uint8_t> base_;
    std::uint8_t blank_;
    std::map<std::uint32_t, std::array<std::uint8_t, kPage>> pages_;
};

}  // namespace bramix::parts
