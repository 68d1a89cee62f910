// Memory of megabytes of which little has been written: pages that differ from what it began with.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
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

    // Everything, where something differs from the base; blank bytes behind the last that is written are left out.
    [[nodiscard]] std::optional<std::string> changed() const
    {
        const auto differs = [this](const auto& page) {
            for (std::uint32_t i = 0; i < kPage; ++i)
                if (page.second[i] != before(page.first * kPage + i))
                    return true;
            return false;
        };
        if (std::none_of(pages_.begin(), pages_.end(), differs))
            return std::nullopt;
        std::string out(base_.begin(), base_.end());
        for (const auto& [number, bytes] : pages_) {
            const bool isBlank = std::all_of(bytes.begin(), bytes.end(), [this](std::uint8_t b) { return b == blank_; });
            if (isBlank && number * kPage >= out.size())
                continue;
            out.resize(std::max(out.size(), (number + 1) * kPage), static_cast<char>(blank_));
            std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(number * kPage));
        }
        return out;
    }
    // The base is now what it holds.
    void rebase(const std::string& bytes) { base_.assign(bytes.begin(), bytes.end()); }

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
