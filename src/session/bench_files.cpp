#include "session/bench_files.h"

#include <algorithm>
#include <filesystem>
#include <optional>

namespace bramix::session {

namespace {

constexpr std::size_t kMostFile = 32U << 20U;  // a larger one is left out

}  // namespace

std::vector<BenchFile> benchFiles(const bench::Document& document, const kernel::FileAccess& access)
{
    std::vector<BenchFile> out;
    const auto take = [&](const std::string& name) {
        if (name.empty() || std::any_of(out.begin(), out.end(), [&](const BenchFile& f) { return f.name == name; }))
            return;
        const auto path = access.path(name);
        std::error_code none;
        if (!path || !std::filesystem::is_regular_file(*path, none))
            return;
        if (auto bytes = kernel::readFile(*path, kMostFile))
            out.push_back({name, std::move(*bytes)});
    };
    for (const bench::PartItem& part : document.parts) {
        take(part.firmware);
        if (!access.folder.empty())
            take(part.id + ".eeprom.hex");
        for (const auto& [setting, value] : part.set)
            take(value);
        for (const auto& [control, follow] : part.follow)
            take(follow.csv);
    }
    return out;
}

}  // namespace bramix::session
