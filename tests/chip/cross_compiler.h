// Programs for other machines in tests: sources written into a folder and built by a real compiler.
#pragma once

#include <QtTest>

#include <QDir>
#include <QFile>
#include <QMap>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

namespace bramix::test {

inline bool isInstalled(const char* program) { return !QStandardPaths::findExecutable(program).isEmpty(); }

// Runs a tool in a folder; false with a message in the log where it fails.
inline bool runTool(const QString& folder, const QString& program, const QStringList& arguments, QByteArray* output = nullptr)
{
    QProcess tool;
    tool.setWorkingDirectory(folder);
    tool.start(program, arguments);
    if (!tool.waitForFinished(60'000) || tool.exitCode() != 0) {
        qWarning("%s: %s%s", qPrintable(program), tool.readAllStandardError().constData(), tool.readAllStandardOutput().constData());
        return false;
    }
    if (output != nullptr)
        *output = tool.readAllStandardOutput();
    return true;
}

// A new folder within another, with files of these names and texts.
inline QString folderWith(const QTemporaryDir& parent, const QMap<QString, QString>& files)
{
    static int count = 0;
    const QString place = parent.filePath(QString("build%1").arg(++count));
    QDir().mkpath(place);
    for (auto f = files.begin(); f != files.end(); ++f) {
        QFile file(place + "/" + f.key());
        if (file.open(QIODevice::WriteOnly))
            file.write(f.value().toUtf8());
    }
    return place;
}

// The 256 words that a program `void work(volatile uint32_t *out)` gives on this machine; empty where it cannot be built.
inline std::vector<std::uint32_t> resultsHere(const QTemporaryDir& parent, const QString& work)
{
    const QString place = folderWith(parent, {{"here.c", "#include <stdint.h>\n#include <stdio.h>\n" + work + "int main(void) { static volatile uint32_t out[256]; work(out); for (int i = 0; i < 256; i++) printf(\"%08x\\n\", out[i]); }\n"}});
    QByteArray text;
    std::vector<std::uint32_t> out;
    if (!runTool(place, "gcc", {"-O1", "-fwrapv", "-ffp-contract=off", "-w", "-o", "here", "here.c"}) || !runTool(place, place + "/here", {}, &text))
        return out;
    for (const QByteArray& line : text.split('\n'))
        if (!line.isEmpty())
            out.push_back(line.toUInt(nullptr, 16));
    return out;
}

}  // namespace bramix::test
