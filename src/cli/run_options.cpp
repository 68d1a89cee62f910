#include "cli/run_options.h"

#include <filesystem>

#include <fmt/format.h>

#include "kernel/units.h"

namespace bramix::cli {

using kernel::fail;
using kernel::Result;

Result<TimedInput> parseTimedInput(const std::string& option, const std::string& text)
{
    const std::size_t at = text.find('@');
    const std::size_t equals = at == std::string::npos ? at : text.find('=', at);
    if (equals == std::string::npos || at == 0)
        return fail(option, fmt::format("\"{}\"; expected NAME@TIME=VALUE", text));
    auto time = kernel::parseDuration(text.substr(at + 1, equals - at - 1));
    if (!time) {
        time.error().where = option;
        return tl::unexpected(time.error());
    }
    return TimedInput{text.substr(0, at), *time, text.substr(equals + 1)};
}

Result<std::string> unescape(const std::string& option, std::string_view text)
{
    const auto digit = [](char c) { return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : c >= 'A' && c <= 'F' ? c - 'A' + 10 : -1; };
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] != '\\') {
            out += text[i];
            continue;
        }
        const char kind = i + 1 < text.size() ? text[++i] : '\0';
        switch (kind) {
        case 'n': out += '\n'; break;
        case 'r': out += '\r'; break;
        case 't': out += '\t'; break;
        case '0': out += '\0'; break;
        case '\\': out += '\\'; break;
        case 'x':
            if (i + 2 < text.size() && digit(text[i + 1]) >= 0 && digit(text[i + 2]) >= 0) {
                out += static_cast<char>(digit(text[i + 1]) * 16 + digit(text[i + 2]));
                i += 2;
                break;
            }
            [[fallthrough]];
        default: return fail(option, fmt::format("column {}: expected \\n, \\r, \\t, \\0, \\\\ or \\xHH", i + 1));
        }
    }
    return out;
}

bool matchesWildcard(std::string_view pattern, std::string_view text)
{
    // Back to the last star on a mismatch; linear in practice.
    std::size_t p = 0, t = 0, star = std::string_view::npos, mark = 0;
    while (t < text.size()) {
        if (p < pattern.size() && (pattern[p] == '?' || pattern[p] == text[t]) && pattern[p] != '*') {
            ++p;
            ++t;
        } else if (p < pattern.size() && pattern[p] == '*') {
            star = p++;
            mark = t;
        } else if (star != std::string_view::npos) {
            p = star + 1;
            t = ++mark;
        } else {
            return false;
        }
    }
    while (p < pattern.size() && pattern[p] == '*')
        ++p;
    return p == pattern.size();
}

std::string benchIn(const std::string& given)
{
    std::error_code none;
    if (!std::filesystem::is_directory(given, none))
        return given;
    std::vector<std::string> found;
    for (const auto& entry : std::filesystem::directory_iterator(given, none))
        if (entry.path().extension() == ".toml" && entry.is_regular_file(none))
            found.push_back(entry.path().string());
    return found.size() == 1 ? found.front() : given;
}

Result<kernel::FileAccess> filesOf(const std::string& bench, const std::vector<std::string>& allow)
{
    kernel::FileAccess files;
    files.folder = std::filesystem::path(bench).parent_path().string();
    if (files.folder.empty())
        files.folder = ".";
    files.confined = true;
    for (const std::string& file : allow) {
        std::error_code trouble;
        const auto path = std::filesystem::canonical(file, trouble);
        if (trouble || !std::filesystem::is_regular_file(path, trouble))
            return fail("--allow", fmt::format("\"{}\" is not there, or is no plain file; expected a file that the bench may use", file));
        files.allowed.push_back(path.string());
    }
    return files;
}

}  // namespace bramix::cli
