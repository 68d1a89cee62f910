#include "tape/read_log.h"

#include <algorithm>
#include <cstring>
#include <memory>
#include <numeric>

namespace bramix::tape {

namespace {

constexpr std::size_t kMostPairs = 256;

void putVarint(std::vector<std::uint8_t>& out, std::uint64_t value)
{
    for (; value >= 0x80; value >>= 7)
        out.push_back(static_cast<std::uint8_t>(value | 0x80));
    out.push_back(static_cast<std::uint8_t>(value));
}

std::uint64_t varint(const std::uint8_t*& at)
{
    std::uint64_t value = 0;
    for (unsigned shift = 0;; shift += 7) {
        const std::uint8_t byte = *at++;
        value |= static_cast<std::uint64_t>(byte & 0x7F) << shift;
        if ((byte & 0x80) == 0)
            return value;
    }
}

// Signed numbers near zero become small ones.
std::uint64_t folded(std::int64_t n) { return static_cast<std::uint64_t>(n) << 1U ^ static_cast<std::uint64_t>(n >> 63); }
std::int64_t unfolded(std::uint64_t n) { return static_cast<std::int64_t>(n >> 1U) ^ -static_cast<std::int64_t>(n & 1U); }

void putText(std::vector<std::uint8_t>& out, std::string_view text)
{
    putVarint(out, text.size());
    out.insert(out.end(), text.begin(), text.end());
}

std::string_view textAt(const std::uint8_t*& at)
{
    const auto size = static_cast<std::size_t>(varint(at));
    const std::string_view text(reinterpret_cast<const char*>(at), size);
    at += size;
    return text;
}

// Of what tells most items apart: their value, and where a text begins and ends.
std::size_t hashOf(const Decoded& item)
{
    std::uint64_t head = 0, tail = 0;
    const std::size_t size = item.text.size(), some = std::min(size, sizeof head);
    std::memcpy(&head, item.text.data(), some);
    std::memcpy(&tail, item.text.data() + size - some, some);
    std::uint64_t h = (item.value + item.what.size()) * 0xC2B2AE3D27D4EB4FULL ^ head * 0x9E3779B97F4A7C15ULL ^ tail * 0x165667B19E3779F9ULL;
    h ^= h >> 29U;
    return static_cast<std::size_t>(h * 2 + size + (item.good ? 1 : 0));
}

// Since when after the item before, and for how long.
struct Pair {
    std::int64_t since = 0, length = 0;
    bool operator==(const Pair&) const = default;
};

}  // namespace

void ReadLog::Bounds::add(const Decoded& item)
{
    earliestFrom = std::min(earliestFrom, item.from);
    latestFrom = std::max(latestFrom, item.from);
    latestTo = std::max(latestTo, item.to);
    outstanding = outstanding || standsOut(item.good, item.text);
}

void ReadLog::Open::clear()
{
    *static_cast<Bounds*>(this) = {};
    items.clear();
    words.clear();
    byHash.clear();
    followers.clear();
}

void ReadLog::add(const Decoded& item)
{
    if (open_.items.size() == kChunkItems)
        pack();
    const auto same = [&](std::uint32_t number) {
        const Decoded& w = open_.words[number];
        return w.value == item.value && w.good == item.good && w.meaning == item.meaning && w.text == item.text && w.what == item.what;
    };
    // As a rule what came after one like the last comes again.
    const auto next = static_cast<std::uint32_t>(open_.words.size());
    std::uint32_t first = 0;
    std::uint32_t& follower = open_.items.empty() ? first : open_.followers[open_.items.back().word];
    if (follower >= next || !same(follower))
        follower = open_.byHash.find(hashOf(item), next, same);
    const std::uint32_t word = follower;
    if (word == next) {
        open_.words.push_back(item);
        open_.followers.push_back(0);
    }
    open_.items.push_back({item.from, item.to - item.from, word});
    open_.Bounds::add(item);
}

void ReadLog::pack()
{
    Packed chunk{open_, {}, 0, 0, 0, open_.items[0].from, static_cast<std::uint16_t>(open_.words.size()), 0, open_.words.size() > 256};
    std::vector<std::uint8_t>& data = chunk.data;
    // What items are is one of very few.
    std::vector<std::string_view> kinds;
    std::vector<std::size_t> kindOf;
    for (const Decoded& w : open_.words) {
        const auto kind = std::find(kinds.begin(), kinds.end(), w.what);
        kindOf.push_back(static_cast<std::size_t>(kind - kinds.begin()));
        if (kind == kinds.end())
            kinds.push_back(w.what);
    }
    putVarint(data, kinds.size());
    for (const std::string_view what : kinds)
        putText(data, what);
    for (std::size_t n = 0; n < open_.words.size(); ++n) {
        const Decoded& w = open_.words[n];
        putVarint(data, kindOf[n]);
        putText(data, w.text);
        putVarint(data, w.value);
        data.push_back(static_cast<std::uint8_t>((w.good ? 1 : 0) | (w.meaning ? 2 : 0)));
    }
    chunk.numbers = static_cast<std::uint32_t>(data.size());
    for (const Item& i : open_.items) {
        data.push_back(static_cast<std::uint8_t>(i.word));
        if (chunk.wide)
            data.push_back(static_cast<std::uint8_t>(i.word >> 8U));
    }
    chunk.times = static_cast<std::uint32_t>(data.size());
    std::vector<Pair> pairs;
    std::vector<std::uint8_t> numbers;
    NumberIndex known(kMostPairs);
    numbers.reserve(open_.items.size());
    data.reserve(data.size() + open_.items.size() + 1024);
    std::int64_t unit = 0;
    Time before = chunk.begin;
    for (const Item& i : open_.items) {
        const Pair pair{(i.from - std::exchange(before, i.from)).count(), i.length.count()};
        unit = std::gcd(std::gcd(unit, pair.since), pair.length);
        if (numbers.size() < static_cast<std::size_t>(&i - open_.items.data()))
            continue;  // too many already
        if (!numbers.empty() && pairs[numbers.back()] == pair) {
            numbers.push_back(numbers.back());
            continue;
        }
        const std::uint64_t key = static_cast<std::uint64_t>(pair.since) * 0x9E3779B97F4A7C15ULL ^ static_cast<std::uint64_t>(pair.length) * 0xC2B2AE3D27D4EB4FULL;
        const auto next = static_cast<std::uint32_t>(pairs.size());
        const std::uint32_t number = known.find(key ^ key >> 31U, next, [&](std::uint32_t n) { return n < pairs.size() && pairs[n] == pair; });
        if (number == kMostPairs)
            continue;  // one too many: they stand apart
        if (number == next)
            pairs.push_back(pair);
        numbers.push_back(static_cast<std::uint8_t>(number));
    }
    if (numbers.size() == open_.items.size()) {
        chunk.pairs = static_cast<std::uint16_t>(pairs.size());
        const auto* const raw = reinterpret_cast<const std::uint8_t*>(pairs.data());
        data.insert(data.end(), raw, raw + pairs.size() * sizeof(Pair));
        data.insert(data.end(), numbers.begin(), numbers.end());
    } else {
        chunk.unit = std::max<std::int64_t>(unit, 1);
        before = chunk.begin;
        for (const Item& i : open_.items) {
            putVarint(data, folded((i.from - std::exchange(before, i.from)).count() / chunk.unit));
            putVarint(data, static_cast<std::uint64_t>(i.length.count() / chunk.unit));
        }
    }
    data.shrink_to_fit();
    bytes_ += sizeof(Packed) + sizeof(Range) + data.size();
    ranges_.push_back({latestFromUpTo(packed_.size()), latestToUpTo(packed_.size()), chunk.earliestFrom});
    for (std::size_t i = ranges_.size() - 1; i > 0 && ranges_[i - 1].earliestFrom > chunk.earliestFrom; --i)
        ranges_[i - 1].earliestFrom = chunk.earliestFrom;
    packed_.push_back(std::move(chunk));
    open_.clear();
    ++generation_;
}

Time ReadLog::latestFromUpTo(std::size_t chunk) const
{
    if (chunk < packed_.size())
        return ranges_[chunk].latestFrom;
    return std::max(open_.latestFrom, ranges_.empty() ? Time{} : ranges_.back().latestFrom);
}

Time ReadLog::latestToUpTo(std::size_t chunk) const
{
    if (chunk < packed_.size())
        return ranges_[chunk].latestTo;
    return std::max(open_.latestTo, ranges_.empty() ? Time{} : ranges_.back().latestTo);
}

Time ReadLog::earliestFromOn(std::size_t chunk) const { return chunk < packed_.size() ? std::min(ranges_[chunk].earliestFrom, open_.earliestFrom) : open_.earliestFrom; }

const ReadLog::Unpacked& ReadLog::unpacked(std::size_t chunk, bool times) const
{
    const std::uint64_t number = forgotten_ / kChunkItems + chunk;
    Unpacked& u = unpacked_[number % kUnpacked];
    const bool open = chunk == packed_.size();
    const Packed* const p = open ? nullptr : &packed_[chunk];
    if (u.chunk != number || u.generation != generation_ || (open && u.numbers.size() != open_.items.size())) {
        u.chunk = number;
        u.generation = generation_;
        u.words.clear();
        u.items.clear();
        if (open) {
            for (const Decoded& w : open_.words)
                u.words.push_back({w.what, w.value, w.text, w.good, w.meaning});
            u.numbers.resize(open_.items.size());
            for (std::size_t i = 0; i < u.numbers.size(); ++i)
                u.numbers[i] = open_.items[i].word;
        } else {
            const std::uint8_t* at = p->data.data();
            std::vector<std::string_view> kinds(varint(at));
            for (std::string_view& what : kinds)
                what = textAt(at);
            for (std::size_t i = 0; i < p->words; ++i) {
                Word w;
                w.what = kinds[varint(at)];
                w.text = textAt(at);
                w.value = varint(at);
                w.good = (*at & 1) != 0;
                w.meaning = (*at++ & 2) != 0;
                u.words.push_back(w);
            }
            u.numbers.resize(kChunkItems);
            at = p->data.data() + p->numbers;
            for (std::uint32_t& n : u.numbers) {
                n = *at++;
                if (p->wide)
                    n |= static_cast<std::uint32_t>(*at++) << 8U;
            }
        }
    }
    if (times && u.items.empty()) {
        if (open) {
            u.items = open_.items;
            return u;
        }
        u.items.reserve(kChunkItems);
        const std::uint8_t* at = p->data.data() + p->times;
        Time from = p->begin;
        for (std::size_t i = 0; i < kChunkItems; ++i) {
            Pair pair;
            if (p->unit == 0) {
                std::memcpy(&pair, p->data.data() + p->times + at[p->pairs * sizeof(Pair) + i] * sizeof(Pair), sizeof pair);
            } else {
                pair.since = unfolded(varint(at)) * p->unit;
                pair.length = static_cast<std::int64_t>(varint(at)) * p->unit;
            }
            from += Duration(pair.since);
            u.items.push_back({from, Duration(pair.length), u.numbers[i]});
        }
    }
    return u;
}

Decoded ReadLog::item(std::uint64_t number) const
{
    const Unpacked& u = unpacked((number - forgotten_) / kChunkItems, true);
    const Item& i = u.items[(number - forgotten_) % kChunkItems];
    const Word& w = u.words[i.word];
    return {i.from, i.from + i.length, std::string(w.what), w.value, std::string(w.text), w.good, w.meaning};
}

std::pair<std::uint64_t, std::uint64_t> ReadLog::around(Time from, Time to) const
{
    const std::size_t count = chunkCount();
    // Both bounds never decrease from chunk to chunk.
    const auto firstWhere = [count](auto&& reached) {
        std::size_t low = 0, high = count;
        while (low < high) {
            const std::size_t middle = (low + high) / 2;
            if (reached(middle))
                high = middle;
            else
                low = middle + 1;
        }
        return low;
    };
    const std::size_t begin = firstWhere([&](std::size_t c) { return latestToUpTo(c) >= from; });
    const std::size_t end = firstWhere([&](std::size_t c) { return earliestFromOn(c) > to; });
    const auto numberOf = [this](std::size_t chunk) { return std::min(forgotten_ + chunk * kChunkItems, this->end()); };
    return {numberOf(begin), std::max(numberOf(begin), numberOf(end))};
}

bool ReadLog::visit(Time from, Time to, const std::function<bool(const Decoded&)>& take) const
{
    const auto [begin, end] = around(from, to);
    if (begin == end)
        return true;
    // One that lasts very long draws the chunks in between into the range.
    for (std::size_t c = (begin - forgotten_) / kChunkItems; c <= (end - 1 - forgotten_) / kChunkItems; ++c) {
        if (bounds(c).latestTo < from || bounds(c).earliestFrom > to)
            continue;
        const std::vector<Item>& items = unpacked(c, true).items;
        for (std::size_t i = 0; i < items.size(); ++i)
            if (items[i].from <= to && items[i].from + items[i].length >= from && !take(item(forgotten_ + c * kChunkItems + i)))
                return false;
    }
    return true;
}

// What each item of a chunk stands for in the row that is looked for.
class ReadLog::Rows {
public:
    Rows(const ReadLog& log, const std::vector<int>& row, const Classify& classify) : log_(log), row_(row), classify_(classify) {}

    // Each row that begins in a chunk.
    template <class Found>
    void in(std::size_t chunk, Found&& found)
    {
        const auto codes = of(chunk);
        if (codes == nullptr)
            return;
        for (std::size_t i = 0; i < codes->size(); ++i)
            if ((*codes)[i] == row_[0] && goesOn(chunk, i, *codes))
                found(log_.forgotten_ + chunk * kChunkItems + i, log_.unpacked(chunk, true).items[i].from);
    }

private:
    using Codes = std::shared_ptr<const std::vector<int>>;

    bool goesOn(std::size_t chunk, std::size_t i, const std::vector<int>& codes)
    {
        const std::vector<int>* here = &codes;
        Codes kept;
        for (std::size_t have = 1; have < row_.size();) {
            if (++i == here->size()) {
                if (++chunk >= log_.chunkCount())
                    return false;
                kept = of(chunk, true);
                here = kept.get();
                i = 0;
            }
            const int code = (*here)[i];
            if (code >= 0 && code != row_[have])
                return false;
            have += code >= 0 ? 1 : 0;
        }
        return true;
    }
    // Null where no row can begin, unless asked for all the same.
    Codes of(std::size_t chunk, bool always = false)
    {
        for (const auto& [c, codes] : lately_)
            if (c == chunk && codes != nullptr)
                return codes;
        const Unpacked& u = log_.unpacked(chunk, false);
        std::vector<int> words;
        for (const Word& w : u.words)
            words.push_back(classify_(w));
        if (!always && std::find(words.begin(), words.end(), row_[0]) == words.end())
            return nullptr;
        auto codes = std::make_shared<std::vector<int>>(u.numbers.size());
        std::transform(u.numbers.begin(), u.numbers.end(), codes->begin(), [&](std::uint32_t n) { return words[n]; });
        lately_[next_++ % lately_.size()] = {chunk, codes};
        return codes;
    }

    const ReadLog& log_;
    const std::vector<int>& row_;
    const Classify& classify_;
    std::array<std::pair<std::size_t, Codes>, 3> lately_{};
    std::size_t next_ = 0;
};

std::optional<ReadLog::Hit> ReadLog::find(Time from, bool forward, const std::vector<int>& row, const Classify& classify) const
{
    std::optional<Hit> best;
    Rows rows(*this, row, classify);
    // An item that is known later may begin earlier: what another chunk can still hold decides when to stop.
    if (forward) {
        for (std::size_t c = 0; c < chunkCount() && !(best && earliestFromOn(c) >= best->at); ++c)
            if (bounds(c).latestFrom > from)
                rows.in(c, [&](std::uint64_t number, Time at) {
                    if (at > from && (!best || at < best->at))
                        best = Hit{number, at};
                });
        return best;
    }
    for (std::size_t c = chunkCount(); c > 0 && !(best && latestFromUpTo(c - 1) <= best->at); --c)
        if (bounds(c - 1).earliestFrom < from)
            rows.in(c - 1, [&](std::uint64_t number, Time at) {
                if (at < from && (!best || at > best->at))
                    best = Hit{number, at};
            });
    return best;
}

std::vector<Time> ReadLog::outstanding(Time from, Time to, std::size_t most) const
{
    std::vector<Time> out;
    const auto [begin, end] = around(from, to);
    if (begin == end)
        return out;
    for (std::size_t c = (begin - forgotten_) / kChunkItems; c <= (end - 1 - forgotten_) / kChunkItems; ++c) {
        const Bounds& b = bounds(c);
        if (!b.outstanding || b.latestTo < from || b.earliestFrom > to)
            continue;
        if (out.size() >= most) {
            out.push_back(std::max(b.earliestFrom, from));
            continue;
        }
        const Unpacked& u = unpacked(c, true);
        for (const Item& i : u.items)
            if (i.from <= to && i.from + i.length >= from && standsOut(u.words[i.word].good, u.words[i.word].text))
                out.push_back(i.from);
    }
    return out;
}

void ReadLog::dropFrom(std::uint64_t number)
{
    if (number >= end())
        return;
    ++generation_;
    std::vector<Decoded> kept;
    const std::size_t chunk = number <= forgotten_ ? 0 : (number - forgotten_) / kChunkItems;
    for (std::uint64_t i = forgotten_ + chunk * kChunkItems; i < number; ++i)
        kept.push_back(item(i));
    while (packed_.size() > chunk) {
        bytes_ -= sizeof(Packed) + sizeof(Range) + packed_.back().data.size();
        packed_.pop_back();
        ranges_.pop_back();
    }
    open_.clear();
    ++generation_;
    // What is no more does not reach back.
    for (std::size_t i = ranges_.size(); i > 0; --i)
        ranges_[i - 1].earliestFrom = std::min(packed_[i - 1].earliestFrom, i < ranges_.size() ? ranges_[i].earliestFrom : kernel::kNever);
    for (const Decoded& i : kept)
        add(i);
}

void ReadLog::forgetOldest()
{
    if (packed_.empty())
        return;
    ++generation_;
    forgottenTo_ = std::max(forgottenTo_, packed_.front().latestFrom);
    bytes_ -= sizeof(Packed) + sizeof(Range) + packed_.front().data.size();
    packed_.pop_front();
    ranges_.pop_front();
    forgotten_ += kChunkItems;
}

void ReadLog::clear()
{
    ++generation_;
    packed_.clear();
    ranges_.clear();
    open_.clear();
    forgotten_ = 0;
    forgottenTo_ = {};
    bytes_ = 0;
}

}  // namespace bramix::tape
