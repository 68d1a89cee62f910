// The head of a driver source (tests/parts/drivers/*.c) as what it says, and its compiled firmware.
#pragma once

#include <QtTest>

#include <QDir>
#include <QFile>
#include <QProcess>
#include <QString>
#include <QStringList>
#include <QTemporaryDir>

namespace bramix::test {

struct DriverSource {
    // Something that is done, or looked at, at an instant: "set bell.pressed@300=1".
    struct Moment {
        double ms;
        QString line;
    };
    struct Placed {
        QString id, kind, rest;
    };

    QStringList head;
    bool low = false;  // a bare chip at 3.3 V in place of the board
    std::vector<Placed> parts;
    std::vector<std::pair<QString, QString>> wires;  // "part.pin"
    std::vector<Moment> moments;                     // in the order of time
    QStringList files;
    double runMs = 1000;
    QString trouble;   // why it could not be read or built

    // As a bench file: the board with this firmware, the parts in a row below it.
    [[nodiscard]] QString bench(const QString& elf) const
    {
        QString text = "bramix = 1\ntitle = \"driver\"\n[[part]]\nid = \"mcu\"\nkind = \"" + QString(low ? "atmega328p" : "briar-328") + "\"\nat = [0, 0]\nfirmware = \"" + elf + "\"\n" +
                       (low ? "set = { CKDIV8 = \"1\" }\n[[part]]\nid = \"v3\"\nkind = \"supply-3v3\"\nat = [0, -9]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [0, 40]\n" : "set = { usb-limit = \"2A\", usb-resistance = \"0\" }\n");
        int x = 0;
        for (const Placed& part : parts)
            text += QString("[[part]]\nid = \"%1\"\nkind = \"%2\"\nat = [%3, 60]\n%4\n").arg(part.id, part.kind).arg(x += 30).arg(part.rest);
        if (low)
            text += "[[wire]]\nends = [\"v3.V\", \"mcu.VCC\"]\n[[wire]]\nends = [\"g.V\", \"mcu.GND\"]\n";
        for (const auto& [from, to] : wires)
            text += QString("[[wire]]\nends = [\"%1\", \"%2\"]\n").arg(from, to);
        return text;
    }

    static QStringList all() { return QDir(QString(BRAMIX_TEST_SOURCES) + "/parts/drivers").entryList({"*.c"}); }

    // Builds it into `elf` too.
    DriverSource(const QString& name, const QString& elf)
    {
        const QString source = QString(BRAMIX_TEST_SOURCES) + "/parts/drivers/" + name;
        QFile file(source);
        if (!file.open(QIODevice::ReadOnly)) {
            trouble = source + " cannot be read";
            return;
        }
        head = QString::fromUtf8(file.readAll()).section("/*", 1).section("*/", 0, 0).split('\n', Qt::SkipEmptyParts);
        low = head.contains("mcu atmega328p at 3v3");
        for (const QString& line : head) {
            const QStringList words = line.split(' ', Qt::SkipEmptyParts);
            if (words[0] == "part")
                parts.push_back({words[1], words[2], words.size() > 3 ? line.section(' ', 3) : QString()});
            else if (words[0] == "wire")
                for (qsizetype i = 2; i < words.size(); ++i)
                    wires.emplace_back(words[1], words[i]);
            else if (words[0] == "file")
                files << words[1];
            else if (words[0] == "run")
                runMs = words[1].toDouble();
            else if (const qsizetype at = line.indexOf('@'); at > 0 && words[0] != "expect" && words[0] != "look")
                moments.push_back({line.mid(at + 1).section(QRegularExpression("[= ]"), 0, 0).toDouble(), line});
        }
        std::stable_sort(moments.begin(), moments.end(), [](const Moment& a, const Moment& b) { return a.ms < b.ms; });
        QProcess gcc;
        gcc.setProcessChannelMode(QProcess::MergedChannels);
        gcc.start("avr-gcc", {"-mmcu=atmega328p", "-Os", "-std=gnu11", "-Wno-unused", low ? "-DF_CPU=8000000UL" : "-DF_CPU=16000000UL", "-o", elf, source});
        if (!gcc.waitForFinished(60'000) || gcc.exitCode() != 0)
            trouble = QString::fromUtf8(gcc.readAll());
    }
};

// A driver, built in a folder of its own.
struct DriverBench {
    QTemporaryDir folder;
    const QString elf = folder.filePath("driver.elf");
    const DriverSource driver;

    explicit DriverBench(const QString& source) : driver(source, elf) { blankFiles(); }
    // The files that it asks for, empty.
    void blankFiles() const
    {
        for (const QString& name : driver.files)
            (void)QFile(folder.filePath(name)).open(QIODevice::WriteOnly | QIODevice::Truncate);
    }
    // A row of a test for each that there is.
    static void rows()
    {
        QTest::addColumn<QString>("source");
        for (const QString& name : DriverSource::all())
            QTest::newRow(qPrintable(name)) << name;
    }
};

}  // namespace bramix::test
