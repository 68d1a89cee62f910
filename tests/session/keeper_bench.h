// A board that runs the keeper's firmware of debug/compiled.h, in a session that remembers its past.
#pragma once

#include "bench/catalogue.h"
#include "debug/compiled.h"
#include "session/debugger/debugger.h"

namespace bramix::test {

class KeeperBench {
public:
    QTemporaryDir folder;
    bench::Catalogue catalogue;
    QString elf;

    bool build(const QStringList& options, const QString& source = kKeeper, const QString& suffix = "c")
    {
        auto loaded = bench::Catalogue::loadInstalled();
        if (!loaded)
            return false;
        catalogue = std::move(*loaded);
        elf = compile(folder, source, options, suffix);
        return !elf.isEmpty();
    }

    std::unique_ptr<session::Session> open(const std::string& more = {}, std::size_t historyBytes = 256U << 20U)
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"" + elf.toStdString() + "\"\n" + more;
        auto document = bench::parseDocument("test.toml", text);
        session::SessionOptions options;
        options.folder = folder.path().toStdString();
        options.historyBytes = historyBytes;
        if (!document) {
            qWarning("%s", document.error().text().c_str());
            return nullptr;
        }
        if (const auto ok = bench::checkDocument(*document, catalogue, "test.toml"); !ok) {
            qWarning("%s", ok.error().text().c_str());
            return nullptr;
        }
        auto session = session::Session::open(*document, catalogue, options);
        if (!session)
            qWarning("%s", session.error().text().c_str());
        return session ? std::move(*session) : nullptr;
    }
};

inline kernel::Snapshot stateOf(session::Session& s)
{
    kernel::SaveArchive ar;
    ar(s.world());
    return ar.take();
}

// Runs what was begun to its end; false where it has none within a second of the bench.
inline bool finish(session::Session& s, session::Debugger& d)
{
    const kernel::Time limit = s.world().now() + std::chrono::seconds(1);
    return d.advance(limit);
}

}  // namespace bramix::test
