// Where the source files of a firmware lie on this machine: as the compiler wrote their names, or beside the bench, or where a person has said once.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QHash>
#include <QString>
#include <QStringList>

namespace bramix::app {

class Sources {
public:
    // Folders in which names are looked for: the bench's and the firmware's.
    void setFolders(const QStringList& folders);
    // The file of a name in the debug information, or empty.
    [[nodiscard]] QString find(const QString& name) const;
    // A person has said that this file is that one: its folder is remembered for the others, and for the next time.
    void remember(const QString& name, const QString& file);

private:
    QStringList folders_;
    mutable QHash<QString, QString> found_;
};

}  // namespace bramix::app
