#include "session/bench_files.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <optional>

namespace bramix::session {

namespace {

constexpr std::size_t kMostFile = 32U << 20U;  // a larger one is left out

std::optional<std::string> bytesOf(const std::filesystem::path& file)
{
    std::error_code none;
    if (!std::filesystem::is_regular_file(file, none) || std::filesystem::file_size(file, none) > kMostFile)
        return std::nullopt;
    std::ifstream in(file, std::ios::binary);
    return std::string(std::istreambuf_iterator<char>(in), {});
}

}  // namespace

std::vector<BenchFile> benchFiles(const bench::Document& document, const std::string& folder)
{
    std::vector<BenchFile> out;
    const auto take = [&](const std::string& name) {
        if (name.empty() || std::any_of(out.begin(), out.end(), [&](const BenchFile& f) { return f.name == name; }))
            return;
        if (auto bytes = bytesOf(std::filesystem::path(folder) / name))
            out.push_back({name, std::move(*bytes)});
    };
    for (const bench::PartItem& part : document.parts) {
        take(part.firmware);
        if (!folder.empty())
            take(part.id + ".eeprom.hex");
        for (const auto& [setting, value] : part.set)
            take(value);
        for (const auto& [control, follow] : part.follow)
            take(follow.csv);
    }
    return out;
}

}  // namespace bramix::session
