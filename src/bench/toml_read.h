// Reading TOML with errors that name the place: the one file that meets toml++ exceptions is toml_read.cpp.
#pragma once

#include <string>
#include <vector>

#include <toml++/toml.h>

#include "kernel/result.h"

namespace bramix::bench {

[[nodiscard]] kernel::Result<toml::table> parseToml(const std::string& name, std::string_view text);
[[nodiscard]] kernel::Result<std::string> readTextFile(const std::string& file);

// "gate.toml: line 12, column 5".
[[nodiscard]] std::string placeOf(const std::string& name, const toml::node& node);

// Takes typed values out of a table and remembers the first that is wrong; what has not been taken is unknown.
class TableReader {
public:
    TableReader(std::string name, const toml::table& table) : name_(std::move(name)), table_(table) {}

    std::string text(std::string_view key, std::string standard = {}, bool required = false);
    // A string, or a number or boolean as it is written.
    std::string anyText(std::string_view key, std::string standard = {});
    std::int64_t integer(std::string_view key, std::int64_t standard, std::int64_t low, std::int64_t high, bool required = false);
    double number(std::string_view key, double standard);
    bool flag(std::string_view key, bool standard);
    std::vector<std::string> texts(std::string_view key, bool required = false);
    // [x, y]; coordinates within one kilometre of grid.
    std::pair<int, int> point(std::string_view key, bool required = false);
    std::vector<std::pair<int, int>> points(std::string_view key);
    // [[x, y], ...] of any numbers.
    std::vector<std::pair<double, double>> pairs(std::string_view key);
    const toml::table* subtable(std::string_view key);
    const toml::array* tables(std::string_view key);

    void wrong(const toml::node& node, std::string what);
    // Takes over the error of a reader of one of this table's parts.
    void adopt(const TableReader& inner)
    {
        if (ok())
            error_ = inner.error_;
    }
    [[nodiscard]] bool ok() const { return error_.what.empty(); }
    [[nodiscard]] const kernel::Error& error() const { return error_; }
    [[nodiscard]] toml::table unknown() const;
    [[nodiscard]] const toml::table& table() const { return table_; }
    [[nodiscard]] const std::string& name() const { return name_; }

private:
    const toml::node* take(std::string_view key, bool required, std::string_view expected);
    bool readPoint(const toml::node& node, std::pair<int, int>& out);

    std::string name_;
    const toml::table& table_;
    std::vector<std::string> taken_;
    kernel::Error error_;
};

}  // namespace bramix::bench
