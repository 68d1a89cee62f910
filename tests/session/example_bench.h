// One of the example benches, opened as many times as a test wants it.
#pragma once

#include <filesystem>

#include "bench/catalogue.h"
#include "session/session.h"

namespace bramix::test {

// Null where there is no such example, or it does not open.
inline std::unique_ptr<session::Session> openExample(const bench::Catalogue& catalogue, const std::string& name, session::SessionOptions options = {})
{
    const std::string file = bench::shareFolder() + "/benches/" + name + "/bench.toml";
    const auto document = bench::loadDocument(file);
    options.folder = std::filesystem::path(file).parent_path().string();
    auto s = document ? session::Session::open(*document, catalogue, options) : tl::unexpected(document.error());
    if (!s)
        qWarning("%s", s.error().text().c_str());
    return s ? std::move(*s) : nullptr;
}

}  // namespace bramix::test
