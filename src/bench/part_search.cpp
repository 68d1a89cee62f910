#include "bench/part_search.h"

#include <algorithm>
#include <cctype>
#include <optional>
#include <tuple>

#include "kernel/units.h"

namespace bramix::bench {

namespace {

using kernel::Unit;

// Lower case, and one spelling where the trade has two.
std::string plain(std::string_view text)
{
    std::string out;
    for (const char c : text)
        out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    for (std::size_t at = 0; (at = out.find("colour", at)) != std::string::npos; at += 5)
        out.replace(at, 6, "color");
    return out;
}

std::vector<std::string> wordsOf(const std::string& text)
{
    std::vector<std::string> out;
    std::string word;
    for (const char c : text + " ")
        if (c != ' ') {
            word += c;
        } else if (!word.empty()) {
            out.push_back(std::move(word));
            word.clear();
        }
    return out;
}

// Settings that a number alone may mean, and how it must look: a bare number is a resistance.
struct ValueKind {
    const char* setting;
    Unit unit;
    std::string_view letters;  // one of them stands in the word; empty: none need
    double least, most;
};

constexpr ValueKind kValues[] = {{"resistance", Unit::ohm, "", 0.1, 1e9},
                                 {"capacitance", Unit::farad, "fnpu\xc2", 1e-13, 10},
                                 {"inductance", Unit::henry, "h", 1e-9, 100},
                                 {"frequency", Unit::hertz, "h", 1e-3, 1e9},
                                 {"voltage", Unit::volt, "v", 1e-3, 1000}};

std::optional<std::pair<std::string, std::string>> valueOf(const PartKind& kind, const std::string& typed)
{
    if (typed.empty() || std::isdigit(static_cast<unsigned char>(typed.front())) == 0)
        return std::nullopt;
    const std::string low = plain(typed);
    for (const ValueKind& v : kValues) {
        const bool has = std::any_of(kind.settings.begin(), kind.settings.end(), [&](const SettingKind& s) { return s.name == v.setting; });
        if (!has || (!v.letters.empty() && low.find_first_of(v.letters) == std::string::npos))
            continue;
        if (const auto value = kernel::parseQuantity(typed, v.unit); value && *value >= v.least && *value <= v.most)
            return std::pair{std::string(v.setting), typed};
    }
    return std::nullopt;
}

int scoreOf(const PartKind& kind, const std::string& word)
{
    const std::string title = plain(kind.title);
    int best = title.starts_with(word) ? 8 : title.find(word) != std::string::npos ? 6 : 0;
    if (plain(kind.id).starts_with(word))
        best = std::max(best, 7);
    for (const std::string& other : kind.words) {
        const std::string known = plain(other);
        if (known == word)
            best = std::max(best, 5);
        else if (known.starts_with(word) || known.find(" " + word) != std::string::npos)
            best = std::max(best, 4);
    }
    if (best == 0 && plain(kind.about).find(word) != std::string::npos)
        best = 2;
    return best;
}

}  // namespace

std::vector<PartHit> searchParts(const std::map<std::string, PartKind, std::less<>>& kinds, std::string_view query)
{
    const std::vector<std::string> typed = wordsOf(std::string(query));
    std::vector<PartHit> out;
    for (const auto& [id, kind] : kinds) {
        if (!kind.listed)
            continue;
        PartHit hit{&kind, {}, 0};
        bool all = true;
        for (const std::string& word : typed) {
            const int score = scoreOf(kind, plain(word));
            if (score == 0) {
                const auto value = valueOf(kind, word);
                if (value)
                    hit.set.insert(*value);
                all = all && value.has_value();
                // A part is that value more than it has it among others.
                hit.score += kind.behaviour == "resistor" || kind.behaviour == "capacitor" || kind.behaviour == "inductor" ? 4 : 2;
            }
            hit.score += score;
        }
        // What is called by all that was typed, in one.
        const std::string whole = plain(std::string(query));
        if (plain(kind.title) == whole || std::any_of(kind.words.begin(), kind.words.end(), [&](const std::string& w) { return plain(w) == whole; }))
            hit.score += 6;
        if (all)
            out.push_back(std::move(hit));
    }
    // Of equals a board before a chip alone, then the shorter name.
    const auto rank = [&](const PartHit& hit) { return std::tuple(-hit.score, hit.kind->bridge.empty() ? 1 : 0, typed.empty() ? 0 : hit.kind->id.size()); };
    std::stable_sort(out.begin(), out.end(), [&](const PartHit& a, const PartHit& b) { return rank(a) < rank(b); });
    return out;
}

}  // namespace bramix::bench
