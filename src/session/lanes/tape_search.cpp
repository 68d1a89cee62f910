#include "session/lanes/tape_search.h"

#include <algorithm>
#include <cctype>
#include <deque>
#include <sstream>

#include <fmt/format.h>

#include "kernel/units.h"
#include "session/lanes/lane_logs.h"

namespace bramix::session {

using kernel::fail;

namespace {

using Found = std::optional<TapeHit>;

std::string lower(std::string text)
{
    std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return text;
}

bool nearer(const Found& best, Time at, const TapeQuery& q) { return (q.forward ? at > q.from : at < q.from) && (!best || (q.forward ? at < best->at : at > best->at)); }

Result<tape::ChannelId> laneOf(const Session& session, const TapeQuery& query)
{
    const auto pin = bench::parsePinRef(query.lane);
    const tape::ChannelId channel = pin ? session.channelOf(*pin) : UINT32_MAX;
    if (channel == UINT32_MAX)
        return fail(query.words, "is looked for in one lane; choose it by a click on its name");
    return channel;
}

Found findEdge(const Session& session, tape::ChannelId channel, const TapeQuery& query, int state)
{
    const tape::Tape& tape = session.tape();
    const auto told = [](const tape::Edge& e) { return TapeHit{e.at, e.state == 1 ? "rises" : e.state == 0 ? "falls" : "changes"}; };
    if (query.forward) {
        for (std::size_t i = tape.after(channel, query.from); i < tape.count(channel); ++i)
            if (const tape::Edge e = tape.edge(channel, i); state < 0 || e.state == state)
                return told(e);
        return std::nullopt;
    }
    for (std::size_t i = tape.after(channel, query.from - tape::Duration(1)); i > 0; --i)
        if (const tape::Edge e = tape.edge(channel, i - 1); state < 0 || e.state == state)
            return told(e);
    return std::nullopt;
}

// A pulse is where it begins.
Found findPulse(const Session& session, tape::ChannelId channel, const TapeQuery& query, int level, tape::Duration least, tape::Duration most)
{
    const tape::Tape& tape = session.tape();
    Found best;
    const auto hit = [&](std::size_t ends) {
        const tape::Edge end = tape.edge(channel, ends), begin = tape.edge(channel, ends - 1);
        return TapeHit{begin.at, fmt::format("{} {}", kernel::formatQuantity(kernel::seconds(end.at - begin.at), kernel::Unit::second, 4), begin.state == 1 ? "high" : "low")};
    };
    for (const tape::State l : {tape::State{0}, tape::State{1}}) {
        if (level >= 0 && level != l)
            continue;
        if (query.forward) {
            std::size_t end = tape.findPulse(channel, query.from, l, least, most);
            while (end < tape.count(channel) && (end == 0 || tape.edge(channel, end - 1).at <= query.from))
                end = tape.findPulse(channel, tape.edge(channel, end).at, l, least, most);
            if (end > 0 && end < tape.count(channel) && nearer(best, tape.edge(channel, end - 1).at, query))
                best = hit(end);
            continue;
        }
        if (const std::size_t end = tape.findPulseBefore(channel, query.from, l, least, most); end < tape.count(channel) && nearer(best, tape.edge(channel, end - 1).at, query))
            best = hit(end);
    }
    return best;
}

// "48 65 6C" as bytes; empty where it is no such row.
std::string hexBytes(const std::string& words)
{
    std::string out;
    std::istringstream in(words);
    for (std::string word; in >> word;) {
        if (word.starts_with("0x") || word.starts_with("0X"))
            word.erase(0, 2);
        if (word.size() != 2 || std::isxdigit(static_cast<unsigned char>(word[0])) == 0 || std::isxdigit(static_cast<unsigned char>(word[1])) == 0)
            return {};
        out += static_cast<char>(std::stoi(word, nullptr, 16));
    }
    return out;
}

// The bytes of each serial line, one direction after the other, as a row in which to look.
void findSerial(const Session& session, const TapeQuery& query, const std::string& wanted, bool exact, Found& best)
{
    const SerialLog& log = session.serialLog();
    const std::size_t lines = session.world().uarts().size() * 2;
    std::vector<std::string> lately(lines);
    std::vector<std::vector<Time>> times(lines);
    for (std::uint64_t i = log.first(); i < log.end(); ++i) {
        const SerialByte& b = log[i];
        const std::size_t line = b.uart * 2U + (b.fromChip ? 0 : 1);
        if (line >= lines)
            continue;
        std::string& row = lately[line];
        row += exact ? static_cast<char>(b.byte) : static_cast<char>(std::tolower(b.byte));
        times[line].push_back(b.at);
        if (row.ends_with(wanted)) {
            const Time at = times[line][times[line].size() - wanted.size()];
            if (nearer(best, at, query)) {
                best = TapeHit{at, fmt::format("{}{}", session.world().uarts()[b.uart].name, b.fromChip ? "" : ", sent")};
                if (query.forward)
                    return;
            }
        }
        constexpr std::size_t kKept = 4096;
        if (row.size() > 2 * kKept && row.size() > 2 * wanted.size()) {
            const std::size_t cut = row.size() - std::max(kKept, wanted.size());
            row.erase(0, cut);
            times[line].erase(times[line].begin(), times[line].begin() + static_cast<std::ptrdiff_t>(cut));
        }
    }
}

// Interrupts by a part of their names.
bool findInterrupt(const Session& session, const TapeQuery& query, const std::string& words, Found& best)
{
    bool known = false;
    for (std::size_t chip = 0; chip < session.world().chips().size(); ++chip) {
        const auto& vectors = session.world().chips()[chip].chip->device().exceptions;
        std::vector<bool> wanted(256, false);
        bool any = false;
        for (std::size_t v = 1; v < vectors.size() && v < 255; ++v)
            if (wanted[v] = lower(vectors[v].name).find(words) != std::string::npos; wanted[v])
                any = true;
        constexpr std::size_t kShortest = 3;
        if (!any || words.size() < kShortest)
            continue;
        known = true;
        const tape::Tape& tape = session.tape();
        const tape::ChannelId channel = session.interruptsOf(chip);
        const auto which = [&](std::uint32_t, std::uint16_t, tape::State state) { return wanted[state]; };
        const std::size_t i = query.forward ? tape.nextWhere(channel, tape.after(channel, query.from), which) : tape.lastWhere(channel, tape.after(channel, query.from - tape::Duration(1)), which);
        if (i < tape.count(channel))
            if (const tape::Edge e = tape.edge(channel, i); nearer(best, e.at, query))
                best = TapeHit{e.at, fmt::format("{} of {}", vectors[e.state].name, session.world().chips()[chip].id)};
    }
    return known;
}

// What a decoder lane reads: words in an item's text, or bytes one after the other with no others but marks between them.
class ReadSearch {
public:
    ReadSearch(const Session& session, const TapeQuery& query, const std::string& lane, const std::string& words, const std::string& bytes)
        : session_(session), query_(query), lane_(lane), words_(words), bytes_(bytes)
    {
        if (auto spec = parseLane(lane); spec && spec->kind == LaneSpec::Kind::decoded)
            spec_ = std::move(*spec);
    }

    // `reached` is drawn nearer to where it had to stop.
    void find(Found& best, Time& reached)
    {
        if (spec_.kind != LaneSpec::Kind::decoded)
            return;
        const LaneLog* log = session_.laneLog(lane_);
        if (log != nullptr && log->at() <= log->knownFrom())
            log = nullptr;
        if (query_.forward) {
            // First what a log has forgotten, then the log, then what is not in it yet.
            Time from = query_.from;
            if (log != nullptr && log->knownFrom() != Time{} && from <= log->knownFrom()) {
                // As far as a row can reach that begins in what is forgotten.
                const tape::ReadLog& items = log->items();
                const std::uint64_t few = items.first() + bytes_.size() + 100;
                const Time handedOver = few < items.end() ? std::max(items.item(few).to, log->knownFrom()) : log->at();
                if (decodeOn(from, handedOver, best, reached) || reached < handedOver)
                    return;
                from = log->knownFrom();
            }
            if (log != nullptr && from < log->at()) {
                if (const auto hit = inLog(*log, from))
                    return take(*log, *hit, best);
                // A row may begin in the log and end after it.
                from = std::max(from, beforeRows(*log));
            }
            (void)decodeOn(from, session_.latest(), best, reached);
            return;
        }
        if (log == nullptr) {
            decodeBack(query_.from, best, reached);
            return;
        }
        if (query_.from > log->at()) {
            const Time known = std::min(log->at(), beforeRows(*log));
            Found nearest;
            decodeAll(known, query_.from, nearest);
            if (nearest) {
                if (nearer(best, nearest->at, query_))
                    best = nearest;
                return;
            }
        }
        if (const auto hit = inLog(*log, query_.from))
            return take(*log, *hit, best);
        if (log->knownFrom() > session_.tape().knownFrom())
            decodeBack(std::min(query_.from, log->knownFrom()), best, reached);
    }

private:
    // A twentieth of a second, so that whoever shares the thread does not wait; the search goes on from there.
    static constexpr std::size_t kMostEdges = 1'000'000;
    static constexpr std::size_t kFirstStretch = 20'000;

    [[nodiscard]] int codeOf(std::string_view what, std::uint64_t value, std::string_view text, bool meaning) const
    {
        if (bytes_.empty())
            return lower(std::string(text)).find(words_) != std::string::npos ? 1 : -1;
        const auto& carriers = tape::decoderKind(spec_.decoder.kind)->carriers;
        return meaning || std::find(carriers.begin(), carriers.end(), what) == carriers.end() ? -1 : static_cast<int>(value & 0xFF);
    }
    [[nodiscard]] std::vector<int> row() const
    {
        if (bytes_.empty())
            return {1};
        std::vector<int> out;
        for (const char c : bytes_)
            out.push_back(static_cast<unsigned char>(c));
        return out;
    }
    [[nodiscard]] std::optional<tape::ReadLog::Hit> inLog(const LaneLog& log, Time from) const
    {
        return log.items().find(from, query_.forward, row(), [this](const tape::ReadLog::Word& w) { return codeOf(w.what, w.value, w.text, w.meaning); });
    }
    // Before the last item with which a row could begin in the log that is not whole there.
    [[nodiscard]] Time beforeRows(const LaneLog& log) const
    {
        const tape::ReadLog& items = log.items();
        std::size_t carriers = 0;
        Time from = log.at();
        for (std::uint64_t i = items.end(); i > items.first() && carriers < row().size(); --i) {
            const tape::Decoded item = items.item(i - 1);
            carriers += codeOf(item.what, item.value, item.text, item.meaning) >= 0 ? 1 : 0;
            from = std::min(from, item.from);
            constexpr std::uint64_t kFarEnough = 1000;
            if (items.end() - i > kFarEnough + bytes_.size())
                break;
        }
        return from - tape::Duration(1);
    }
    void take(const LaneLog& log, const tape::ReadLog::Hit& hit, Found& best) const
    {
        if (nearer(best, hit.at, query_))
            best = told(log.items().item(hit.number));
    }
    [[nodiscard]] TapeHit told(const tape::Decoded& item) const { return TapeHit{item.from, spec_.decoder.kind + ": " + item.text, false}; }

    // The row's first item, when its last one comes.
    std::optional<tape::Decoded> matches(const tape::Decoded& item)
    {
        const int code = codeOf(item.what, item.value, item.text, item.meaning);
        if (bytes_.empty())
            return code == 1 ? std::optional(item) : std::nullopt;
        if (code < 0)
            return std::nullopt;
        row_.push_back(item);
        if (row_.size() > bytes_.size())
            row_.pop_front();
        for (std::size_t i = 0; i < bytes_.size(); ++i)
            if (row_.size() < bytes_.size() || (row_[i].value & 0xFF) != static_cast<std::uint8_t>(bytes_[i]))
                return std::nullopt;
        return row_.front();
    }
    // Forward through edges; true when there it is.
    bool decodeOn(Time from, Time to, Found& best, Time& reached)
    {
        bool hit = false;
        row_.clear();
        const auto come = decodeLane(session_, lane_, from, to, kMostEdges, [&](const tape::Decoded& item) {
            const auto found = matches(item);
            if (!found || found->from <= query_.from)
                return true;
            if (nearer(best, found->from, query_))
                best = told(*found);
            hit = true;
            return false;
        });
        if (come && !hit)
            reached = std::min(reached, *come);
        return hit;
    }
    // The last one in a stretch, before the query's instant.
    void decodeAll(Time begin, Time end, Found& last)
    {
        row_.clear();
        (void)decodeLane(session_, lane_, begin, end, SIZE_MAX, [&](const tape::Decoded& item) {
            if (item.from >= query_.from)
                return false;
            if (const auto found = matches(item); found && found->from < query_.from && found->from >= begin && (!last || found->from >= last->at))
                last = told(*found);
            return true;
        });
    }
    // Backwards in stretches, each twice as long as the one after it.
    void decodeBack(Time end, Found& best, Time& reached)
    {
        const tape::Tape& tape = session_.tape();
        const auto stretchBegin = [&](Time before, std::size_t edges) {
            Time begin = tape.knownFrom();
            for (const bench::PinRef& pin : spec_.pins)
                if (const tape::ChannelId c = pin.part.empty() ? UINT32_MAX : session_.channelOf(pin); c != UINT32_MAX)
                    if (const std::size_t at = tape.after(c, before); at > edges)
                        begin = std::max(begin, tape.edge(c, at - edges).at);
            return begin;
        };
        const Time last = end;
        for (std::size_t edges = kFirstStretch, all = 0; all < kMostEdges; all += edges, edges *= 2) {
            const Time begin = stretchBegin(end, edges);
            Found nearest;
            decodeAll(begin, last, nearest);
            if (nearest) {
                if (nearer(best, nearest->at, query_))
                    best = nearest;
                return;
            }
            if (begin <= tape.knownFrom())
                return;
            end = begin;
        }
        reached = std::max(reached, end);
    }

    const Session& session_;
    const TapeQuery& query_;
    const std::string& lane_;
    const std::string &words_, &bytes_;
    LaneSpec spec_;
    std::deque<tape::Decoded> row_;  // as many of those that count as there are bytes
};

}  // namespace

Result<std::optional<TapeHit>> searchTape(Session& session, const TapeQuery& query)
{
    std::istringstream in(query.words);
    std::vector<std::string> words;
    for (std::string word; in >> word;)
        words.push_back(word);
    const auto nothing = fail("search", "nothing is looked for; expected an edge, a pulse such as \"< 5us\", bytes, words, an interrupt or a finding");
    if (words.empty())
        return nothing;
    const std::string first = lower(words[0]);
    if (words.size() == 1 && (first == "rise" || first == "fall" || first == "edge")) {
        const auto lane = laneOf(session, query);
        if (!lane)
            return tl::unexpected(lane.error());
        return findEdge(session, *lane, query, first == "rise" ? 1 : first == "fall" ? 0 : -1);
    }
    const bool named = first == "high" || first == "low";
    std::string rest;
    for (std::size_t i = named ? 1 : 0; i < words.size(); ++i)
        rest += words[i];
    if (!rest.empty() && (rest[0] == '<' || rest[0] == '>')) {
        const auto length = kernel::parseQuantity(rest.substr(1), kernel::Unit::second);
        if (!length || !(*length > 0) || *length > 1e6)
            return fail(query.words, "expected a length such as \"< 5us\" or \"high > 2ms\"");
        const auto lane = laneOf(session, query);
        if (!lane)
            return tl::unexpected(lane.error());
        const tape::Duration bound(static_cast<std::int64_t>(*length * 1e12));
        return findPulse(session, *lane, query, first == "high" ? 1 : first == "low" ? 0 : -1, rest[0] == '<' ? bound : tape::Duration::min(), rest[0] == '<' ? tape::Duration::max() : bound);
    }
    Found best;
    if (first == "by" && words.size() > 1) {
        const auto code = codeOfLine(session, query.words.substr(query.words.find(words[1])));
        if (code.empty())
            return fail(words[1], "is no line with code, and no function; expected one such as lock.c:42");
        const tape::Tape& tape = session.tape();
        const auto which = [&](std::uint32_t at, std::uint16_t actor, tape::State) { return std::any_of(code.begin(), code.end(), [&](const CodeOfLine& c) { return c.has(at, actor); }); };
        for (tape::ChannelId c = 0; c < tape.channelCount(); ++c)
            if (const std::size_t i = query.forward ? tape.nextWhere(c, tape.after(c, query.from), which) : tape.lastWhere(c, tape.after(c, query.from - tape::Duration(1)), which); i < tape.count(c))
                if (const tape::Edge e = tape.edge(c, i); nearer(best, e.at, query))
                    best = TapeHit{e.at, fmt::format("{} {}", tape.name(c), e.state == 1 ? "rises" : e.state == 0 ? "falls" : "changes")};
        return best;
    }
    if (first == "finding") {
        const std::string wanted = lower(query.words.substr(std::min(query.words.find_first_not_of(' ', query.words.find(words[0]) + words[0].size()), query.words.size())));
        for (const bench::Finding& f : session.findings())
            if (lower(f.rule + " " + f.where + " " + f.message).find(wanted) != std::string::npos && nearer(best, f.time, query))
                best = TapeHit{f.time, f.rule + ", " + f.where};
        return best;
    }
    const std::string bytes = hexBytes(query.words);
    std::string text = query.words;
    if (text.size() > 1 && text.front() == '"' && text.back() == '"')
        text = text.substr(1, text.size() - 2);
    if (text.empty())
        return nothing;
    if (bytes.empty() && findInterrupt(session, query, lower(text), best) && best)
        return best;
    findSerial(session, query, bytes.empty() ? lower(text) : bytes, !bytes.empty(), best);
    const std::string wanted = lower(text);
    Time reached = query.forward ? session.latest() : session.tape().knownFrom();
    for (const std::string& lane : query.reads)
        ReadSearch(session, query, lane, wanted, bytes).find(best, reached);
    // Beyond where a lane has been looked through there may be something nearer.
    if (best && (query.forward ? best->at <= reached : best->at >= reached))
        return best;
    if (query.forward ? reached < session.latest() : reached > session.tape().knownFrom())
        return TapeHit{reached, "nothing up to here; once more goes on", true};
    return best;
}

bool CodeOfLine::has(std::uint32_t code, std::uint16_t by) const
{
    return by == actor && std::any_of(ranges.begin(), ranges.end(), [&](const debug::CodeRange& r) { return r.has(code); });
}

std::vector<CodeOfLine> codeOfLine(Session& session, const std::string& place)
{
    std::vector<CodeOfLine> out;
    const auto& parts = session.document().parts;
    const std::size_t colon = place.rfind(':');
    const std::string file = place.substr(0, colon);
    const int line = colon == std::string::npos ? 0 : std::atoi(place.c_str() + colon + 1);
    for (std::size_t p = 0; p < parts.size(); ++p) {
        if (std::none_of(session.world().chips().begin(), session.world().chips().end(), [&](const auto& u) { return u.id == parts[p].id; }))
            continue;
        const debug::Symbols& symbols = session.program(parts[p].id).symbols;
        CodeOfLine code{static_cast<std::uint16_t>(p), {}};
        if (line > 0) {
            const auto& rows = symbols.rows();
            for (std::size_t i = 0; i + 1 < rows.size(); ++i) {
                if (rows[i].file == debug::Symbols::kEnd || rows[i].line != line || rows[i + 1].address <= rows[i].address)
                    continue;
                const std::string& of = symbols.files()[rows[i].file];
                if (of == file || (of.size() > file.size() && of.ends_with("/" + file)))
                    code.ranges.push_back({rows[i].address, rows[i + 1].address});
            }
        } else if (const int f = symbols.functionByName(place); f >= 0) {
            code.ranges = symbols.functions()[static_cast<std::size_t>(f)].ranges;
        }
        if (!code.ranges.empty())
            out.push_back(std::move(code));
    }
    return out;
}

std::vector<MadeEdges> edgesMadeBy(const Session& session, const std::vector<CodeOfLine>& code, std::size_t most)
{
    std::vector<MadeEdges> out;
    const tape::Tape& tape = session.tape();
    const auto which = [&](std::uint32_t at, std::uint16_t actor, tape::State) { return std::any_of(code.begin(), code.end(), [&](const CodeOfLine& c) { return c.has(at, actor); }); };
    for (tape::ChannelId c = 0; c < tape.channelCount(); ++c) {
        MadeEdges made{tape.name(c), 0};
        for (std::size_t i = tape.nextWhere(c, 0, which); i < tape.count(c) && most > 0; i = tape.nextWhere(c, i + 1, which), --most)
            ++made.count;
        if (made.count > 0)
            out.push_back(std::move(made));
    }
    return out;
}

}  // namespace bramix::session
