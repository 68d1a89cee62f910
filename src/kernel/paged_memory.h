// A large memory whose snapshots share what has not changed: pages of 4 KiB, each copied when it is written first after a snapshot has it.
//
// A snapshot of 64 MB costs its pages' pointers and what has been written since the last one, not 64 MB; so going back works on such a board as on any other.
// Invariant: a page that a snapshot has never changes. Whoever writes takes writablePage() anew after each save and load: pointers to pages hold no longer.
// Not thread-safe, but snapshots may be read and dropped by any thread.
// Tested by tests/kernel/paged_memory_test.cpp.
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace bramix::kernel {

class PagedMemory {
public:
    static constexpr std::size_t kPageBytes = 4096;
    using Page = std::array<std::uint8_t, kPageBytes>;

    // Filled with one value. The size is rounded up to whole pages.
    explicit PagedMemory(std::size_t bytes = 0, std::uint8_t value = 0) : pages_((bytes + kPageBytes - 1) / kPageBytes) { fill(value); }

    [[nodiscard]] std::size_t size() const { return pages_.size() * kPageBytes; }
    [[nodiscard]] std::size_t pageCount() const { return pages_.size(); }
    [[nodiscard]] const std::uint8_t* page(std::size_t index) const { return pages_[index]->data(); }
    // The same to be written; a copy is made of one that a snapshot has.
    [[nodiscard]] std::uint8_t* writablePage(std::size_t index)
    {
        if (kept_[index]) {
            pages_[index] = std::make_shared<Page>(*pages_[index]);
            kept_[index] = false;
        }
        return pages_[index]->data();
    }

    // Within size().
    [[nodiscard]] std::uint8_t operator[](std::size_t at) const { return (*pages_[at / kPageBytes])[at % kPageBytes]; }
    void write(std::size_t at, std::uint8_t value) { writablePage(at / kPageBytes)[at % kPageBytes] = value; }
    void read(std::size_t at, std::span<std::uint8_t> out) const
    {
        for (std::size_t done = 0; done < out.size();) {
            const std::size_t within = (at + done) % kPageBytes, count = std::min(out.size() - done, kPageBytes - within);
            std::copy_n(page((at + done) / kPageBytes) + within, count, out.begin() + static_cast<std::ptrdiff_t>(done));
            done += count;
        }
    }
    void write(std::size_t at, std::span<const std::uint8_t> in)
    {
        for (std::size_t done = 0; done < in.size();) {
            const std::size_t within = (at + done) % kPageBytes, count = std::min(in.size() - done, kPageBytes - within);
            std::copy_n(in.begin() + static_cast<std::ptrdiff_t>(done), count, writablePage((at + done) / kPageBytes) + within);
            done += count;
        }
    }
    // All pages are one until they are written.
    void fill(std::uint8_t value)
    {
        auto all = std::make_shared<Page>();
        all->fill(value);
        std::fill(pages_.begin(), pages_.end(), all);
        kept_.assign(pages_.size(), true);
    }

    // For snapshots: every page, and how many of them no earlier snapshot has. From now on they are kept.
    std::size_t share(std::vector<std::shared_ptr<const Page>>& into)
    {
        into.insert(into.end(), pages_.begin(), pages_.end());
        const auto fresh = static_cast<std::size_t>(std::count(kept_.begin(), kept_.end(), false));
        kept_.assign(pages_.size(), true);
        return fresh;
    }
    void restore(std::span<const std::shared_ptr<const Page>> from)
    {
        // They are not written: kept_ says so.
        for (std::size_t i = 0; i < pages_.size(); ++i)
            pages_[i] = std::const_pointer_cast<Page>(from[i]);
        kept_.assign(pages_.size(), true);
    }

private:
    std::vector<std::shared_ptr<Page>> pages_;
    std::vector<bool> kept_;  // by a snapshot, or several times here: to be copied before it is written
};

}  // namespace bramix::kernel
