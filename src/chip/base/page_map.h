// Plain memory of a 32-bit address space by pages of 4 KiB: where an address can be read or written without asking anybody.
//
// A page without a pointer is asked for slowly: registers of peripherals, memory that is not there, flash that is written, a page that a snapshot has or that a watchpoint lies in.
// Tested by tests/chip/base/page_map_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <functional>
#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "kernel/paged_memory.h"

namespace bramix::chip {

class PageMap {
public:
    static constexpr std::uint32_t kPageBytes = 4096;

    PageMap() { top_.fill(&none_); }
    PageMap(const PageMap&) = delete;
    PageMap& operator=(const PageMap&) = delete;

    // The byte at an address, with the rest of its page behind it; null: to be asked for slowly.
    [[nodiscard]] const std::uint8_t* readable(std::uint32_t a) const
    {
        const std::uint8_t* page = top_[a >> 22U]->read[(a >> 12U) & 1023U];
        return page == nullptr ? nullptr : page + (a & (kPageBytes - 1));
    }
    [[nodiscard]] std::uint8_t* writable(std::uint32_t a) const
    {
        std::uint8_t* page = top_[a >> 22U]->write[(a >> 12U) & 1023U];
        return page == nullptr ? nullptr : page + (a & (kPageBytes - 1));
    }
    // Whether so many bytes from there on lie in one page.
    [[nodiscard]] static bool within(std::uint32_t a, unsigned size) { return (a & (kPageBytes - 1)) + size <= kPageBytes; }

    // Of the page that an address lies in.
    void set(std::uint32_t a, const std::uint8_t* read, std::uint8_t* write)
    {
        Leaf*& leaf = top_[a >> 22U];
        if (leaf == &none_) {
            if (read == nullptr && write == nullptr)
                return;
            leaves_.push_back(std::make_unique<Leaf>());
            leaf = leaves_.back().get();
        }
        leaf->read[(a >> 12U) & 1023U] = read;
        leaf->write[(a >> 12U) & 1023U] = write;
    }

private:
    struct Leaf {
        std::array<const std::uint8_t*, 1024> read{};
        std::array<std::uint8_t*, 1024> write{};
    };
    Leaf none_;
    std::array<Leaf*, 1024> top_{};
    std::vector<std::unique_ptr<Leaf>> leaves_;
};

// RAM in a page map, at one or several places; its snapshots share pages.
class MappedRam {
public:
    MappedRam(PageMap& map, std::size_t bytes) : map_(map), memory_(bytes) {}

    [[nodiscard]] std::size_t size() const { return memory_.size(); }
    void place(std::uint32_t base)
    {
        bases_.push_back(base);
        remap();
    }
    // Where an address lies in it; SIZE_MAX: it does not.
    [[nodiscard]] std::size_t offsetOf(std::uint32_t a) const
    {
        for (const std::uint32_t base : bases_)
            if (a - base < memory_.size())
                return a - base;
        return SIZE_MAX;
    }
    [[nodiscard]] std::uint8_t operator[](std::size_t at) const { return memory_[at]; }
    // A page that somebody has decoded: it is not written quickly, and `codeWritten` hears when it is, at each of its places. A page that is written again and again is not held any
    // more: it is read slowly too, so that nobody decodes it.
    void holdCode(std::size_t page)
    {
        held_.resize(memory_.pageCount());
        Held& h = held_[page];
        h.holds = h.times < kMostTimes;
        show(page, nullptr);
    }
    std::function<void(std::uint32_t address)> codeWritten;
    // Pages in which every access is to be seen: none goes quickly.
    void watch(std::vector<bool> pages)
    {
        watched_ = std::move(pages);
        remap();
    }
    // As an instruction or a debugger writes; within a page.
    void write(std::size_t at, std::span<const std::uint8_t> bytes)
    {
        const std::size_t page = at / PageMap::kPageBytes;
        std::uint8_t* to = memory_.writablePage(page);
        std::copy(bytes.begin(), bytes.end(), to + at % PageMap::kPageBytes);
        if (page < held_.size() && held_[page].holds) {
            held_[page].holds = false;
            ++held_[page].times;
            for (const std::uint32_t base : bases_)
                codeWritten(base + static_cast<std::uint32_t>(page) * PageMap::kPageBytes);
        }
        show(page, to);
    }
    void read(std::size_t at, std::span<std::uint8_t> out) const { memory_.read(at, out); }
    // All of it, with one value.
    void fill(std::uint8_t value)
    {
        memory_.fill(value);
        remap();
    }
    void fill(const std::vector<std::uint8_t>& with)
    {
        memory_.write(0, with);
        remap();
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(memory_);
        remap();
    }

private:
    void show(std::size_t page, std::uint8_t* write)
    {
        const bool mixed = page < held_.size() && held_[page].times >= kMostTimes;
        const bool watched = (page < watched_.size() && watched_[page]) || mixed;
        if (page < held_.size() && held_[page].holds)
            write = nullptr;
        for (const std::uint32_t base : bases_)
            map_.set(base + static_cast<std::uint32_t>(page) * PageMap::kPageBytes, watched ? nullptr : memory_.page(page), watched ? nullptr : write);
    }
    // Nothing can be written quickly until it is written once; nothing is decoded any more.
    void remap()
    {
        for (std::size_t page = 0; page < held_.size(); ++page)
            if (std::exchange(held_[page].holds, false))
                for (const std::uint32_t base : bases_)
                    codeWritten(base + static_cast<std::uint32_t>(page) * PageMap::kPageBytes);
        for (std::size_t page = 0; page < memory_.pageCount(); ++page)
            show(page, nullptr);
    }

    PageMap& map_;
    kernel::PagedMemory memory_;
    std::vector<std::uint32_t> bases_;
    std::vector<bool> watched_;
    // Whether somebody has decoded a page, and how often that was in vain.
    struct Held {
        bool holds = false;
        std::uint8_t times = 0;
    };
    static constexpr std::uint8_t kMostTimes = 16;
    std::vector<Held> held_;
};

}  // namespace bramix::chip
