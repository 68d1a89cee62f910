#include "session/serial/serial_text.h"

#include <algorithm>
#include <charconv>
#include <cstring>

namespace bramix::session {

namespace {

constexpr char kEsc = 0x1B;
constexpr std::size_t kMostParameters = 64;

std::vector<int> numbersOf(const std::string& text)
{
    std::vector<int> out;
    for (std::size_t at = 0; at <= text.size();) {
        const std::size_t end = std::min(text.find(';', at), text.size());
        int value = -1;
        std::from_chars(text.data() + at, text.data() + end, value);
        out.push_back(value);
        at = end + 1;
    }
    return out;
}

}  // namespace

void SerialText::add(const SerialByte& byte)
{
    recent_.push_back(byte);
    ++bytes_;
    if (recent_.size() > kExact)
        recent_.pop_front();
    write(byte);
}

// Where the cursor stands there is a line.
SerialText::PageLine& SerialText::current(const SerialByte& byte)
{
    while (page_.size() <= row_) {
        PageLine fresh;
        fresh.at = byte.at;
        fresh.firstByte = bytes_ - 1;
        fresh.code = byte.code;
        fresh.sent = !byte.fromChip;
        fresh.row = static_cast<std::uint8_t>(page_.size());
        fresh.plain = page_.size() == row_ && column_ == 0 && ink_ == 0 && !bold_ && state_ == State::text;
        page_.push_back(std::move(fresh));
    }
    return page_[row_];
}

void SerialText::write(const SerialByte& byte)
{
    // The other side speaks: a line of its own.
    if (byte.fromChip == lastSent_ && row_ < page_.size() && page_[row_].begun) {
        row_ = page_.size() - 1;
        ++row_;
        column_ = 0;
        scroll();
    }
    lastSent_ = !byte.fromChip;
    const auto c = static_cast<char>(byte.byte);
    switch (state_) {
    case State::escape: escape(byte); return;
    case State::sequence:
        if (c >= 0x40 && c < 0x7F) {
            state_ = State::text;
            sequence(c);
        } else if (parameters_.size() < kMostParameters) {
            parameters_ += c;
        } else {
            state_ = State::text;
        }
        return;
    case State::string:  // an operating system command and the like, up to BEL or ESC
        if (c == 0x07)
            state_ = State::text;
        else if (c == kEsc)
            state_ = State::escape;
        return;
    case State::text: break;
    }
    if (!byte.good)
        return print(byte, c);
    switch (c) {
    case kEsc: state_ = State::escape; break;
    case '\n': newLine(byte); break;
    case '\r': column_ = 0; break;
    case '\b': column_ -= column_ > 0 ? 1 : 0; break;
    case '\t': moveTo(row_, (column_ / 8 + 1) * 8); break;
    case 0x07: break;
    default: print(byte, c);
    }
}

void SerialText::print(const SerialByte& byte, char c)
{
    PageLine* line = &current(byte);
    if (column_ >= kLongest) {
        newLine(byte);
        line = &current(byte);
    }
    if (!line->begun) {
        line->begun = true;
        line->at = byte.at;
        line->code = byte.code;
        line->sent = !byte.fromChip;
    }
    const Ink ink = !byte.good ? kBroken : static_cast<Ink>(ink_ | (bold_ ? kBold : 0));
    if (line->text.size() <= column_)
        line->text.resize(column_ + 1, ' ');
    line->text[column_] = c;
    if (ink != 0 || !line->inks.empty()) {
        line->inks.resize(line->text.size(), 0);
        line->inks[column_] = static_cast<char>(ink);
    }
    ++column_;
}

void SerialText::newLine(const SerialByte& byte)
{
    PageLine& line = current(byte);
    line.complete = true;
    line.begun = true;
    ++row_;
    column_ = 0;
    scroll();
}

void SerialText::escape(const SerialByte& byte)
{
    state_ = byte.byte == '[' ? State::sequence : byte.byte == ']' || byte.byte == 'P' || byte.byte == '_' || byte.byte == '^' ? State::string : State::text;
    parameters_.clear();
    if (byte.byte == 'c') {
        ink_ = 0;
        bold_ = false;
    }
}

void SerialText::moveTo(std::size_t row, std::size_t column)
{
    row_ = std::min(row, kPageLines - 1);
    column_ = std::min(column, kLongest - 1);
}

// A control sequence has come to its last byte.
void SerialText::sequence(char last)
{
    const std::vector<int> numbers = numbersOf(parameters_);
    const auto number = [&](std::size_t i, int standard) { return i < numbers.size() && numbers[i] > 0 ? numbers[i] : standard; };
    const auto n = static_cast<std::size_t>(number(0, 1));
    const auto blank = [this](std::size_t row, std::size_t from, std::size_t to) {
        if (row >= page_.size())
            return;
        PageLine& line = page_[row];
        if (to >= line.text.size()) {
            line.text.resize(std::min(from, line.text.size()));
            line.inks.resize(std::min(line.inks.size(), line.text.size()));
        } else {
            std::fill(line.text.begin() + static_cast<std::ptrdiff_t>(from), line.text.begin() + static_cast<std::ptrdiff_t>(to), ' ');
        }
    };
    switch (last) {
    case 'A': row_ -= std::min(n, row_); break;
    case 'B': moveTo(row_ + n, column_); break;
    case 'C': moveTo(row_, column_ + n); break;
    case 'D': column_ -= std::min(n, column_); break;
    case 'E': moveTo(row_ + n, 0); break;
    case 'F': moveTo(row_ - std::min(n, row_), 0); break;
    case 'G': moveTo(row_, n - 1); break;
    case 'd': moveTo(n - 1, column_); break;
    case 'H': case 'f': moveTo(n - 1, static_cast<std::size_t>(number(1, 1)) - 1); break;
    case 'K': {
        const int how = number(0, 0);
        blank(row_, how == 0 ? column_ : 0, how == 1 ? column_ + 1 : SIZE_MAX);
        break;
    }
    case 'J': {
        const int how = number(0, 0);
        if (how >= 2) {  // a new page; what stood stays readable above it
            for (const PageLine& line : page_)
                pack(line);
            page_.clear();
            row_ = column_ = 0;
        } else if (how == 0) {
            blank(row_, column_, SIZE_MAX);
            while (page_.size() > row_ + 1)
                page_.pop_back();
        } else {
            for (std::size_t r = 0; r < row_; ++r)
                blank(r, 0, SIZE_MAX);
            blank(row_, 0, column_ + 1);
        }
        break;
    }
    case 'm':
        for (std::size_t i = 0; i < numbers.size(); ++i) {
            const int v = std::max(numbers[i], 0);
            if (v == 0) {
                ink_ = 0;
                bold_ = false;
            } else if (v == 1) {
                bold_ = true;
            } else if (v == 22) {
                bold_ = false;
            } else if (v >= 30 && v <= 37) {
                ink_ = static_cast<Ink>(v - 30 + 1);
            } else if (v >= 90 && v <= 97) {
                ink_ = static_cast<Ink>(v - 90 + 9);
            } else if (v == 39) {
                ink_ = 0;
            } else if (v == 38 || v == 48) {  // colours by number: the first sixteen are the same as above
                if (v == 38 && i + 2 < numbers.size() && numbers[i + 1] == 5 && numbers[i + 2] >= 0 && numbers[i + 2] < 16)
                    ink_ = static_cast<Ink>(numbers[i + 2] + 1);
                i += i + 1 < numbers.size() && numbers[i + 1] == 2 ? 4 : 2;
            }
        }
        break;
    default: break;
    }
}

// The page holds no more than its lines; what leaves it at the top is packed.
void SerialText::scroll()
{
    while (row_ >= kPageLines || page_.size() > kPageLines) {
        pack(page_.front());
        page_.pop_front();
        row_ -= row_ > 0 ? 1 : 0;
    }
}

void SerialText::pack(const PageLine& line)
{
    Packed packed{line.at, line.firstByte, nullptr, line.code, static_cast<std::uint16_t>(line.text.size()), 0, line.sent, line.complete, line.plain, line.row};
    std::vector<InkRun> runs;
    for (std::size_t i = 0; i < line.inks.size(); ++i)
        if (const auto ink = static_cast<Ink>(line.inks[i]); runs.empty() ? ink != 0 : runs.back().ink != ink)
            runs.push_back({static_cast<std::uint16_t>(i), ink});
    packed.runs = static_cast<std::uint16_t>(runs.size());
    const std::size_t padded = (line.text.size() + 1) & ~std::size_t{1};
    const std::size_t size = padded + runs.size() * sizeof(InkRun);
    if (blocks_.empty() || blocks_.back().used + size > kBlock)
        blocks_.push_back({std::make_unique<char[]>(std::max(kBlock, size)), 0, 0});
    Block& block = blocks_.back();
    char* const at = block.bytes.get() + block.used;
    std::memcpy(at, line.text.data(), line.text.size());
    if (!runs.empty())
        std::memcpy(at + padded, runs.data(), runs.size() * sizeof(InkRun));
    block.used += (size + 1) & ~std::size_t{1};
    packed.text = at;
    lines_.push_back(packed);
    block.lastLine = forgotten_ + lines_.size() - 1;
    if (memory() > most_)
        forgetOldest();
}

void SerialText::forgetOldest()
{
    if (blocks_.size() < 2)
        return;
    while (!lines_.empty() && forgotten_ <= blocks_.front().lastLine) {
        lines_.pop_front();
        ++forgotten_;
    }
    blocks_.pop_front();
}

std::size_t SerialText::memory() const { return blocks_.size() * kBlock + lines_.size() * sizeof(Packed) + recent_.size() * sizeof(SerialByte); }

SerialLine SerialText::line(std::uint64_t number) const
{
    SerialLine out;
    const auto index = static_cast<std::size_t>(number - forgotten_);
    if (index < lines_.size()) {
        const Packed& p = lines_[index];
        out = {p.at, p.code, p.sent, p.complete, std::string(p.text, p.length), {}};
        out.inks.resize(p.runs);
        if (p.runs > 0)
            std::memcpy(out.inks.data(), p.text + ((p.length + 1) & ~1), p.runs * sizeof(InkRun));
        return out;
    }
    const PageLine& line = page_[index - lines_.size()];
    out = {line.at, line.code, line.sent, line.complete, line.text, {}};
    for (std::size_t i = 0; i < line.inks.size(); ++i)
        if (const auto ink = static_cast<Ink>(line.inks[i]); out.inks.empty() ? ink != 0 : out.inks.back().ink != ink)
            out.inks.push_back({static_cast<std::uint16_t>(i), ink});
    return out;
}

std::string_view SerialText::text(std::uint64_t number) const
{
    const auto index = static_cast<std::size_t>(number - forgotten_);
    return index < lines_.size() ? std::string_view(lines_[index].text, lines_[index].length) : std::string_view(page_[index - lines_.size()].text);
}

Time SerialText::at(std::uint64_t number) const
{
    const auto index = static_cast<std::size_t>(number - forgotten_);
    return index < lines_.size() ? lines_[index].at : page_[index - lines_.size()].at;
}

bool SerialText::sent(std::uint64_t number) const
{
    const auto index = static_cast<std::size_t>(number - forgotten_);
    return index < lines_.size() ? lines_[index].sent : page_[index - lines_.size()].sent;
}

void SerialText::resetCursor()
{
    row_ = page_.size();
    column_ = 0;
    ink_ = 0;
    bold_ = false;
    state_ = State::text;
    lastSent_ = false;
}

void SerialText::clear()
{
    forgotten_ = end();
    lines_.clear();
    blocks_.clear();
    page_.clear();
    recent_.clear();
    resetCursor();
    ++generation_;
}

// Lines from this number on go.
void SerialText::truncate(std::uint64_t line)
{
    ++generation_;
    const auto index = static_cast<std::size_t>(line - forgotten_);
    if (index >= lines_.size()) {
        page_.resize(std::min(page_.size(), index - lines_.size()));
        return;
    }
    page_.clear();
    const char* const cut = lines_[index].text;
    lines_.resize(index);
    while (!blocks_.empty() && !(cut >= blocks_.back().bytes.get() && cut <= blocks_.back().bytes.get() + blocks_.back().used))
        blocks_.pop_back();
    if (!blocks_.empty()) {
        blocks_.back().used = static_cast<std::size_t>(cut - blocks_.back().bytes.get());
        blocks_.back().lastLine = line == 0 ? 0 : line - 1;
    }
}

// The last packed line stands at the head of the page again.
void SerialText::reopen()
{
    const Packed p = lines_.back();
    const SerialLine line = this->line(forgotten_ + lines_.size() - 1);
    PageLine page{p.at, p.firstByte, p.code, true, p.sent, p.complete, p.plain, p.row, line.text, {}};
    if (!line.inks.empty()) {
        page.inks.assign(line.text.size(), 0);
        for (const InkRun& run : line.inks)
            std::fill(page.inks.begin() + run.from, page.inks.end(), static_cast<char>(run.ink));
    }
    page_.push_front(std::move(page));
    lines_.pop_back();
    if (!blocks_.empty() && p.text >= blocks_.back().bytes.get() && p.text <= blocks_.back().bytes.get() + blocks_.back().used) {
        blocks_.back().used = static_cast<std::size_t>(p.text - blocks_.back().bytes.get());
        blocks_.back().lastLine = forgotten_ + lines_.size() - (lines_.empty() ? 0 : 1);
        if (blocks_.back().used == 0 && blocks_.size() > 1)
            blocks_.pop_back();
    }
}

void SerialText::rewind(Time t)
{
    // The first byte that has not happened, and a line before it from which the text can be worked out again, the page above it as it was.
    std::uint64_t cut = bytes_;
    while (cut > firstByte() && byte(cut - 1).at > t)
        --cut;
    if (cut == bytes_)
        return;
    std::uint64_t line = end();
    const auto firstOf = [this](std::uint64_t number) {
        const auto index = static_cast<std::size_t>(number - forgotten_);
        return index < lines_.size() ? std::pair(lines_[index].firstByte, lines_[index].plain) : std::pair(page_[index - lines_.size()].firstByte, page_[index - lines_.size()].plain);
    };
    const auto rowOf = [this](std::uint64_t number) {
        const auto index = static_cast<std::size_t>(number - forgotten_);
        return index < lines_.size() ? lines_[index].row : page_[index - lines_.size()].row;
    };
    std::size_t passed = 0;
    while (line > first()) {
        --line;
        const auto [from, plain] = firstOf(line);
        // A page of lines more, as the cursor may have gone back to them.
        if (from <= cut && ++passed > kPageLines && plain)
            break;
    }
    const std::uint64_t from = line < end() ? std::max(firstOf(line).first, firstByte()) : cut;
    const bool exact = line < end() && firstOf(line).first >= firstByte();
    if (!exact)
        for (line = end(); line > first() && at(line - 1) > t;)
            --line;
    const std::size_t row = exact ? rowOf(line) : 0;
    truncate(line);
    while (page_.size() < row && !lines_.empty())
        reopen();
    const std::vector<SerialByte> again(recent_.begin() + static_cast<std::ptrdiff_t>(from - firstByte()), recent_.begin() + static_cast<std::ptrdiff_t>(cut - firstByte()));
    recent_.erase(recent_.begin() + static_cast<std::ptrdiff_t>((exact ? from : cut) - firstByte()), recent_.end());
    bytes_ = exact ? from : cut;
    resetCursor();
    if (exact)
        for (const SerialByte& b : again)
            add(b);
}

}  // namespace bramix::session
