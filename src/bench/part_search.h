// Finding a kind of part by what people type: a name, a purpose, another word of the trade, a value ("resistor 160", "100n", "16x2", "color").
// Tested by tests/bench/part_search_test.cpp.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "bench/catalogue.h"

namespace bramix::bench {

struct PartHit {
    const PartKind* kind = nullptr;
    std::map<std::string, std::string> set;  // the value that was typed, as the setting that it is: resistance = "160"
    int score = 0;
};

// All listed kinds that have every word in title, words, purpose or value; best first. All of them for an empty query.
[[nodiscard]] std::vector<PartHit> searchParts(const std::map<std::string, PartKind, std::less<>>& kinds, std::string_view query);

}  // namespace bramix::bench
