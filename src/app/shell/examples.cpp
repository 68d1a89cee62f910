#include "app/shell/examples.h"

#include <QDir>
#include <QDirIterator>
#include <QFileInfo>
#include <QStandardPaths>

#include "bench/catalogue.h"

namespace bramix::app {

namespace {

QString examplesFolder() { return QFileInfo(QString::fromStdString(bench::shareFolder()) + "/benches").canonicalFilePath(); }

bool copyTree(const QString& from, const QString& to)
{
    bool good = QDir().mkpath(to);
    QDirIterator files(from, QDir::Files | QDir::NoSymLinks, QDirIterator::Subdirectories);
    while (good && files.hasNext()) {
        const QString file = files.next();
        const QString target = to + "/" + QDir(from).relativeFilePath(file);
        good = QDir().mkpath(QFileInfo(target).path()) && QFile::copy(file, target);
        // A copy takes the rights over, and is to be written to.
        good = good && QFile::setPermissions(target, QFile::permissions(target) | QFile::WriteOwner | QFile::ReadOwner);
    }
    return good;
}

}  // namespace

bool isExample(const QString& file)
{
    const QString examples = examplesFolder();
    return !file.isEmpty() && !examples.isEmpty() && QFileInfo(file).canonicalFilePath().startsWith(examples + "/");
}

QString ownCopyOf(const QString& file)
{
    const QFileInfo info(file);
    if (!isExample(file) || QFileInfo(info.canonicalPath()).isWritable())
        return file;
    const QString folder = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/examples/" + QFileInfo(info.canonicalPath()).fileName();
    const QString own = folder + "/" + info.fileName();
    if (!QFileInfo::exists(own)) {
        // Whole or not at all.
        const QString making = folder + ".part";
        QDir(making).removeRecursively();
        QDir(folder).removeRecursively();
        if (!copyTree(info.canonicalPath(), making) || !QDir().rename(making, folder))
            return {};
    }
    return own;
}

}  // namespace bramix::app
