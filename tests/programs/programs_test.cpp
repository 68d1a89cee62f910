// Programs of the compiler's own kind, built with avr-gcc at three levels of optimisation, each checking itself on the
// simulated chip. What they test is their own arithmetic; what is tested here is the chip.
#include <QtTest>

#include <QDir>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "bench/world.h"

using namespace bramix;

class ProgramsTest : public QObject, private bench::WorldObserver {
    Q_OBJECT

private:
    std::string said_;

    void edge(bench::NetId, bench::NetState, bench::Time, bench::Cause) override {}
    void serialByte(std::size_t, std::uint8_t byte, bool, bool fromChip, bench::Time) override
    {
        if (fromChip)
            said_ += static_cast<char>(byte);
    }
    void finding(const bench::Finding&) override {}
    void interrupt(std::size_t, std::uint8_t, bench::Time) override {}

private slots:
    void checksItself_data()
    {
        QTest::addColumn<QString>("source");
        QTest::addColumn<QString>("level");
        const QDir folder(QString(BRAMIX_TEST_SOURCES) + "/programs");
        for (const QString& name : folder.entryList({"*.c"}))
            for (const char* level : {"-O0", "-Os", "-O2"})
                QTest::newRow(qPrintable(name + " " + level)) << folder.filePath(name) << level;
    }
    void checksItself()
    {
        QFETCH(QString, source);
        QFETCH(QString, level);
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        const QString elf = folder.filePath("program.elf");
        QProcess gcc;
        gcc.setProcessChannelMode(QProcess::MergedChannels);
        gcc.start("avr-gcc", {"-mmcu=atmega328p", level, "-std=gnu11", "-Wno-unused", "-o", elf, source, "-lm"});
        QVERIFY(gcc.waitForFinished(60'000));
        QVERIFY2(gcc.exitCode() == 0, gcc.readAll().constData());

        static const auto catalogue = bench::Catalogue::loadInstalled();
        QVERIFY(catalogue.has_value());
        bench::Document document;
        bench::PartItem mcu;
        mcu.id = "mcu";
        mcu.kind = bench::bareKind(*chip::findDevice("atmega328p"));
        mcu.firmware = elf.toStdString();
        document.parts.push_back(mcu);
        said_.clear();
        auto world = bench::World::build(document, *catalogue, {}, this);
        QVERIFY2(world, world ? "" : world.error().text().c_str());
        (*world)->stopWhenHalted(true);
        (*world)->runUntil(bench::Time(std::chrono::seconds(20)));
        QVERIFY2(!(*world)->faulted(), qPrintable(QString("fault at 0x%1").arg(chip::avr::chipOf(*(*world)->chips()[0].chip).cpu().fault.pc * 2, 0, 16)));
        QVERIFY2((*world)->halted(), said_.c_str());
        QVERIFY2(said_.starts_with("ok\n"), said_.c_str());
    }
};

QTEST_GUILESS_MAIN(ProgramsTest)
#include "programs_test.moc"
