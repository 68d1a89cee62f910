// The state archive: every class with simulated state has one `template <class Archive> void state(Archive&)`, used in
// both directions, so that saving and restoring cannot disagree. The form is private to one build of the program:
// snapshots live in memory and are never exchanged.
// Invariant: load(save(x)) == x, and a LoadArchive is read to its last byte.
// Tested by tests/kernel/kernel_test.cpp.
#pragma once

#include <algorithm>
#include <array>
#include <chrono>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <deque>
#include <map>
#include <optional>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "kernel/check.h"
#include "kernel/paged_memory.h"

namespace bramix::kernel {

// What an archive has taken: bytes, and pages that it shares with other snapshots (paged_memory.h).
struct Snapshot {
    std::vector<std::byte> bytes;
    std::vector<std::shared_ptr<const PagedMemory::Page>> pages;
    std::size_t freshPages = 0;  // that no earlier snapshot has

    [[nodiscard]] const std::byte* data() const { return bytes.data(); }
    [[nodiscard]] std::size_t size() const { return bytes.size(); }
    // What it takes to keep it beside earlier ones.
    [[nodiscard]] std::size_t heldBytes() const { return bytes.size() + freshPages * PagedMemory::kPageBytes + pages.size() * sizeof(pages[0]); }
    bool operator==(const Snapshot& other) const
    {
        return bytes == other.bytes && std::equal(pages.begin(), pages.end(), other.pages.begin(), other.pages.end(), [](const auto& a, const auto& b) { return a == b || *a == *b; });
    }
};

template <class T, class Archive>
concept HasState = requires(T& value, Archive& ar) { value.state(ar); };

template <class T>
concept PlainBytes = std::is_arithmetic_v<T> || std::is_enum_v<T>;

// What both directions share: walking composite values. Self supplies bytes(void*, size) and kLoading.
template <class Self>
class ArchiveBase {
public:
    template <class... Ts>
    void operator()(Ts&... values)
    {
        (one(values), ...);
    }

private:
    Self& self() { return static_cast<Self&>(*this); }

    template <class T>
    void one(T& value)
    {
        if constexpr (PlainBytes<T>)
            self().bytes(&value, sizeof value);
        else if constexpr (std::is_same_v<T, PagedMemory>)
            self().memory(value);
        else if constexpr (HasState<T, Self>)
            value.state(self());
        else
            composite(value);
    }

    template <class Rep, class Period>
    void composite(std::chrono::duration<Rep, Period>& d)
    {
        Rep count = d.count();
        one(count);
        d = std::chrono::duration<Rep, Period>(count);
    }

    template <class Clock, class D>
    void composite(std::chrono::time_point<Clock, D>& t)
    {
        D since = t.time_since_epoch();
        one(since);
        t = std::chrono::time_point<Clock, D>(since);
    }

    template <class A, class B>
    void composite(std::pair<A, B>& p)
    {
        one(p.first);
        one(p.second);
    }

    template <class T, std::size_t N>
    void composite(std::array<T, N>& a)
    {
        if constexpr (PlainBytes<T>)
            self().bytes(a.data(), sizeof(T) * N);
        else
            for (T& item : a)
                one(item);
    }

    template <class T>
    void composite(std::optional<T>& o)
    {
        bool present = o.has_value();
        one(present);
        if (Self::kLoading)
            o = present ? std::optional<T>(T{}) : std::nullopt;
        if (present)
            one(*o);
    }

    template <class T>
    void composite(std::vector<T>& v)
    {
        resizeLike(v);
        if constexpr (PlainBytes<T>) {
            if (!v.empty())
                self().bytes(v.data(), sizeof(T) * v.size());
        } else {
            for (T& item : v)
                one(item);
        }
    }

    template <class T>
    void composite(std::deque<T>& v)
    {
        resizeLike(v);
        for (T& item : v)
            one(item);
    }

    void composite(std::string& s)
    {
        resizeLike(s);
        if (!s.empty())
            self().bytes(s.data(), s.size());
    }

    template <class K, class V>
    void composite(std::map<K, V>& m)
    {
        std::uint64_t size = m.size();
        one(size);
        self().room(size);
        if constexpr (Self::kLoading) {
            m.clear();
            for (std::uint64_t i = 0; i < size; ++i) {
                K key{};
                one(key);
                one(m[key]);
            }
        } else {
            for (auto& [key, value] : m) {
                K copy = key;
                one(copy);
                one(value);
            }
        }
    }

    template <class C>
    void resizeLike(C& c)
    {
        std::uint64_t size = c.size();
        one(size);
        self().room(size);
        if (Self::kLoading)
            c.resize(size);
    }
};

class SaveArchive : public ArchiveBase<SaveArchive> {
public:
    static constexpr bool kLoading = false;

    void bytes(const void* data, std::size_t size)
    {
        const auto* from = static_cast<const std::byte*>(data);
        out_.bytes.insert(out_.bytes.end(), from, from + size);
    }
    void memory(PagedMemory& memory) { out_.freshPages += memory.share(out_.pages); }

    void room(std::uint64_t) {}

    [[nodiscard]] Snapshot take() { return std::move(out_); }

private:
    Snapshot out_;
};

class LoadArchive : public ArchiveBase<LoadArchive> {
public:
    static constexpr bool kLoading = true;

    // The snapshot must outlive the archive.
    explicit LoadArchive(const Snapshot& in) : in_(in) {}

    void bytes(void* data, std::size_t size)
    {
        check(size <= in_.size() - at_, "snapshot shorter than the state that reads it");
        std::memcpy(data, in_.data() + at_, size);
        at_ += size;
    }
    void memory(PagedMemory& memory)
    {
        check(memory.pageCount() <= in_.pages.size() - page_, "snapshot with fewer pages than the state that reads it");
        memory.restore(std::span(in_.pages).subspan(page_, memory.pageCount()));
        page_ += memory.pageCount();
    }

    // So many things are said to follow, each of a byte at least: what a damaged file says must not be what is allocated.
    void room(std::uint64_t count) const { check(count <= in_.size() - at_, "more things than there are bytes left"); }

    [[nodiscard]] bool atEnd() const { return at_ == in_.size() && page_ == in_.pages.size(); }

private:
    const Snapshot& in_;
    std::size_t at_ = 0, page_ = 0;
};

template <class T>
Snapshot saveState(T& value)
{
    SaveArchive ar;
    value.state(ar);
    return ar.take();
}

template <class T>
void loadState(T& value, const Snapshot& from)
{
    LoadArchive ar(from);
    value.state(ar);
    check(ar.atEnd(), "snapshot longer than the state that reads it");
}

}  // namespace bramix::kernel
