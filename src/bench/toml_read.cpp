#include "bench/toml_read.h"

#include <cmath>
#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

#include "kernel/files.h"

namespace bramix::bench {

using kernel::fail;
using kernel::Result;

namespace {

constexpr std::uintmax_t kLargestText = 16U << 20U;
constexpr int kFarthest = 400'000;

}  // namespace

Result<std::string> readTextFile(const std::string& file) { return kernel::readFile(file, kLargestText); }

Result<toml::table> parseToml(const std::string& name, std::string_view text)
{
    // toml++ recurses into nested values; a file nested deeper than any bench is refused before it.
    int depth = 0;
    for (const char c : text) {
        depth += c == '[' || c == '{' ? 1 : c == ']' || c == '}' ? -1 : 0;
        if (c == '\n' && depth < 0)
            depth = 0;
        if (depth > 200)
            return fail(name, "is nested more than 200 deep; expected a bench");
    }
    try {
        return toml::parse(text, name);
    } catch (const toml::parse_error& error) {
        const auto at = error.source().begin;
        std::string what(error.description());
        std::replace(what.begin(), what.end(), '\n', ' ');
        return fail(fmt::format("{}: line {}, column {}", name, at.line, at.column), what);
    }
}

std::string placeOf(const std::string& name, const toml::node& node)
{
    const auto at = node.source().begin;
    return at.line == 0 ? name : fmt::format("{}: line {}, column {}", name, at.line, at.column);
}

void TableReader::wrong(const toml::node& node, std::string what)
{
    if (ok())
        error_ = {placeOf(name_, node), std::move(what), ""};
}

const toml::node* TableReader::take(std::string_view key, bool required, std::string_view expected)
{
    taken_.emplace_back(key);
    const toml::node* node = table_.get(key);
    if (node == nullptr && required)
        wrong(table_, fmt::format("has no \"{}\"; expected {}", key, expected));
    return node;
}

std::string TableReader::text(std::string_view key, std::string standard, bool required)
{
    const toml::node* node = take(key, required, "a text");
    if (node == nullptr)
        return standard;
    if (const auto value = node->value_exact<std::string>())
        return *value;
    wrong(*node, fmt::format("\"{}\" is not a text; expected {} = \"...\"", key, key));
    return standard;
}

std::string TableReader::anyText(std::string_view key, std::string standard)
{
    const toml::node* node = take(key, false, "a value");
    if (node == nullptr)
        return standard;
    if (const auto value = node->value_exact<std::string>())
        return *value;
    if (const auto value = node->value_exact<std::int64_t>())
        return fmt::format("{}", *value);
    if (const auto value = node->value_exact<double>())
        return fmt::format("{}", *value);
    if (const auto value = node->value_exact<bool>())
        return *value ? "on" : "off";
    wrong(*node, fmt::format("\"{}\" is not a text or number", key));
    return standard;
}

std::int64_t TableReader::integer(std::string_view key, std::int64_t standard, std::int64_t low, std::int64_t high, bool required)
{
    const std::string expected = fmt::format("a whole number from {} to {}", low, high);
    const toml::node* node = take(key, required, expected);
    if (node == nullptr)
        return standard;
    const auto value = node->value_exact<std::int64_t>();
    if (value && *value >= low && *value <= high)
        return *value;
    wrong(*node, fmt::format("\"{}\" is out of range; expected {}", key, expected));
    return standard;
}

double TableReader::number(std::string_view key, double standard)
{
    const toml::node* node = take(key, false, "a number");
    if (node == nullptr)
        return standard;
    if (const auto value = node->value<double>(); value && std::isfinite(*value))
        return *value;
    wrong(*node, fmt::format("\"{}\" is not a number", key));
    return standard;
}

bool TableReader::flag(std::string_view key, bool standard)
{
    const toml::node* node = take(key, false, "true or false");
    if (node == nullptr)
        return standard;
    if (const auto value = node->value_exact<bool>())
        return *value;
    wrong(*node, fmt::format("\"{}\" is not a truth value; expected true or false", key));
    return standard;
}

std::vector<std::string> TableReader::texts(std::string_view key, bool required)
{
    std::vector<std::string> out;
    const toml::node* node = take(key, required, "a list of texts");
    if (node == nullptr)
        return out;
    const toml::array* array = node->as_array();
    if (array == nullptr) {
        wrong(*node, fmt::format("\"{}\" is not a list; expected {} = [\"...\"]", key, key));
        return out;
    }
    for (const toml::node& item : *array) {
        if (const auto value = item.value_exact<std::string>())
            out.push_back(*value);
        else
            wrong(item, fmt::format("\"{}\" holds something that is not a text", key));
    }
    return out;
}

bool TableReader::readPoint(const toml::node& node, std::pair<int, int>& out)
{
    const toml::array* array = node.as_array();
    if (array == nullptr || array->size() != 2)
        return false;
    int values[2];
    for (std::size_t i = 0; i < 2; ++i) {
        const auto value = array->get(i)->value_exact<std::int64_t>();
        if (!value || *value < -kFarthest || *value > kFarthest)
            return false;
        values[i] = static_cast<int>(*value);
    }
    out = {values[0], values[1]};
    return true;
}

std::pair<int, int> TableReader::point(std::string_view key, bool required)
{
    std::pair<int, int> out{0, 0};
    const toml::node* node = take(key, required, "a place [x, y] in whole grid steps");
    if (node != nullptr && !readPoint(*node, out))
        wrong(*node, fmt::format("\"{}\" is not a place; expected [x, y] in whole grid steps", key));
    return out;
}

std::vector<std::pair<int, int>> TableReader::points(std::string_view key)
{
    std::vector<std::pair<int, int>> out;
    const toml::node* node = take(key, false, "a list of places");
    if (node == nullptr)
        return out;
    if (const toml::array* array = node->as_array()) {
        for (const toml::node& item : *array) {
            std::pair<int, int> p{0, 0};
            if (!readPoint(item, p))
                wrong(item, fmt::format("\"{}\" holds something that is not a place; expected [x, y] in whole grid steps", key));
            out.push_back(p);
        }
    } else {
        wrong(*node, fmt::format("\"{}\" is not a list of places [x, y]", key));
    }
    return out;
}

std::vector<std::pair<double, double>> TableReader::pairs(std::string_view key)
{
    std::vector<std::pair<double, double>> out;
    const toml::node* node = take(key, false, "a list of pairs");
    if (node == nullptr)
        return out;
    const toml::array* array = node->as_array();
    if (array == nullptr) {
        wrong(*node, fmt::format("\"{}\" is not a list of pairs [x, y]", key));
        return out;
    }
    for (const toml::node& item : *array) {
        const toml::array* pair = item.as_array();
        const auto x = pair != nullptr && pair->size() == 2 ? pair->get(0)->value<double>() : std::nullopt;
        const auto y = x ? pair->get(1)->value<double>() : std::nullopt;
        if (!y || !std::isfinite(*x) || !std::isfinite(*y))
            wrong(item, fmt::format("\"{}\" holds something that is not a pair of numbers [x, y]", key));
        else
            out.emplace_back(*x, *y);
    }
    return out;
}

const toml::table* TableReader::subtable(std::string_view key)
{
    const toml::node* node = take(key, false, "a table");
    if (node != nullptr && node->as_table() == nullptr)
        wrong(*node, fmt::format("\"{}\" is not a table; expected {} = {{ ... }}", key, key));
    return node == nullptr ? nullptr : node->as_table();
}

const toml::array* TableReader::tables(std::string_view key)
{
    const toml::node* node = take(key, false, "tables");
    if (node == nullptr)
        return nullptr;
    const toml::array* array = node->as_array();
    bool good = array != nullptr;
    if (good)
        for (const toml::node& item : *array)
            good = good && item.is_table();
    if (!good)
        wrong(*node, fmt::format("\"{}\" is not a list of tables; expected [[{}]]", key, key));
    return good ? array : nullptr;
}

toml::table TableReader::unknown() const
{
    toml::table rest;
    for (const auto& [key, value] : table_)
        if (std::find(taken_.begin(), taken_.end(), key.str()) == taken_.end())
            rest.insert(key.str(), value);
    return rest;
}

}  // namespace bramix::bench
