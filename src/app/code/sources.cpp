#include "app/code/sources.h"

#include <QDir>
#include <QDirIterator>
#include <QFileInfo>
#include <QSettings>

namespace bramix::app {

namespace {

constexpr int kMostFiles = 20'000;  // looked through for one name

// The longest tail of `name` that lies under a folder: "/build/lock/src/gate.c" as "src/gate.c" or "gate.c".
QString underFolder(const QString& folder, const QString& name)
{
    const QStringList parts = name.split('/', Qt::SkipEmptyParts);
    for (qsizetype i = 0; i < parts.size(); ++i) {
        const QString candidate = QDir(folder).filePath(parts.mid(i).join('/'));
        if (QFileInfo(candidate).isFile())
            return QFileInfo(candidate).canonicalFilePath();
    }
    return {};
}

}  // namespace

void Sources::setFolders(const QStringList& folders)
{
    if (folders == folders_)
        return;
    folders_ = folders;
    found_.clear();
}

QString Sources::find(const QString& name) const
{
    if (const auto known = found_.constFind(name); known != found_.constEnd())
        return *known;
    QString file;
    QStringList folders = folders_;
    folders << QSettings().value("sourceFolders").toStringList();
    // A name that the firmware's folder resolves goes before an absolute one of some other machine that happens to exist here.
    for (const QString& folder : folders)
        if (file.isEmpty())
            file = underFolder(folder, name);
    if (file.isEmpty() && name.startsWith('/') && QFileInfo(name).isFile())
        file = name;
    for (const QString& folder : folders_) {
        if (!file.isEmpty())
            break;
        QDirIterator walk(folder, {QFileInfo(name).fileName()}, QDir::Files, QDirIterator::Subdirectories);
        for (int i = 0; walk.hasNext() && i < kMostFiles; ++i) {
            file = walk.next();
            break;
        }
    }
    found_[name] = file;
    return file;
}

void Sources::remember(const QString& name, const QString& file)
{
    found_.clear();
    found_[name] = file;
    QSettings settings;
    QStringList folders = settings.value("sourceFolders").toStringList();
    const QString folder = QFileInfo(file).absolutePath();
    folders.removeAll(folder);
    folders.prepend(folder);
    while (folders.size() > 20)
        folders.removeLast();
    settings.setValue("sourceFolders", folders);
}

}  // namespace bramix::app
