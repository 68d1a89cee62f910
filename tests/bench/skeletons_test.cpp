// Programs to begin with build without a warning and do what they say, for each board and in each language; a framework's program finds its libraries, and
// names the one that is missing.
#include <QtTest>

#include <QDir>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "bench/new_bench.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;

class SkeletonsTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;
    Catalogue catalogue_;

    static QByteArray make(const QString& folder, int* code)
    {
        QProcess process;
        process.setWorkingDirectory(folder);
        process.setProcessChannelMode(QProcess::MergedChannels);
        process.start("make", {"-j2"});
        if (!process.waitForFinished(120'000))
            return "make did not end";
        *code = process.exitCode();
        return process.readAll();
    }
    // What the first serial line says in this time.
    QString runs(const QString& bench, kernel::Duration span)
    {
        const auto document = loadDocument(bench.toStdString());
        if (!document)
            return QString::fromStdString(document.error().text());
        WorldOptions options;
        options.folder = QFileInfo(bench).absolutePath().toStdString();
        struct Ear : WorldObserver {
            QString text;
            void edge(circuit::NetId, circuit::NetState, kernel::Time, circuit::Cause) override {}
            void serialByte(std::size_t, std::uint8_t byte, bool, bool fromChip, kernel::Time) override
            {
                if (fromChip)
                    text += QChar(byte);
            }
            void finding(const Finding&) override {}
            void interrupt(std::size_t, std::uint8_t, kernel::Time) override {}
        } ear;
        auto world = World::build(*document, catalogue_, options, &ear);
        if (!world)
            return QString::fromStdString(world.error().text());
        (*world)->runUntil(kernel::Time(span));
        return ear.text;
    }

    // How often a lamp goes on.
    int beats(const QString& bench, const std::string& lamp, kernel::Duration span)
    {
        const auto document = loadDocument(bench.toStdString());
        WorldOptions options;
        options.folder = QFileInfo(bench).absolutePath().toStdString();
        auto world = document ? World::build(*document, catalogue_, options, nullptr) : tl::unexpected(document.error());
        if (!world)
            return -1;
        int count = 0;
        bool was = false;
        for (kernel::Time t{}; t < kernel::Time(span); t += std::chrono::milliseconds(5)) {
            (*world)->runUntil(t);
            bool is = false;
            for (const chip::PinStatus& pin : (*world)->chips()[0].chip->pins())
                is = is || (pin.name == lamp && pin.level);
            count += is && !was ? 1 : 0;
            was = is;
        }
        return count;
    }

private slots:
    void initTestCase()
    {
        catalogue_ = *Catalogue::loadInstalled();
        QVERIFY(skeletonBoards(catalogue_).size() >= 6);
    }

    void eachBuildsAndBeats_data()
    {
        QTest::addColumn<int>("language");
        QTest::addColumn<QString>("board");
        // Every board, in all that it says that it can.
        for (const PartKind* board : skeletonBoards(catalogue_))
            for (const SourceLanguage language : languagesOf(*board)) {
                static constexpr const char* kNames[] = {"c", "cpp", "assembler", "framework"};
                QTest::addRow("%s %s", kNames[static_cast<int>(language)], board->id.c_str()) << static_cast<int>(language) << QString::fromStdString(board->id);
            }
    }
    void eachBuildsAndBeats()
    {
        QFETCH(int, language);
        QFETCH(QString, board);
        if (static_cast<SourceLanguage>(language) == SourceLanguage::framework && !isFrameworkInstalled())
            QSKIP("arduino-core-avr is not installed");
        for (const Tool& tool : buildTools(*catalogue_.find(board.toStdString())->chip))
            if (tool.path.empty())
                QSKIP(qPrintable(QString::fromStdString(tool.program + " is not installed")));
        const auto made = makeNewBench({folder_.path().toStdString(), "Quay " + std::string(QTest::currentDataTag()), board.toStdString(), static_cast<SourceLanguage>(language)}, catalogue_);
        QVERIFY2(made, made ? "" : made.error().text().c_str());
        const QString bench = QString::fromStdString(*made);
        int code = -1;
        const QByteArray output = make(QFileInfo(bench).absolutePath() + "/firmware", &code);
        QVERIFY2(code == 0 && (static_cast<SourceLanguage>(language) == SourceLanguage::framework || !output.contains("warning")), output);
        // A board without a serial line beats its lamp alone.
        if (catalogue_.find(board.toStdString())->bridge.empty()) {
            QCOMPARE(beats(bench, "RB3", std::chrono::milliseconds(2'500)), 3);
            return;
        }
        const QString said = runs(bench, std::chrono::milliseconds(1'200));
        QVERIFY2(said.contains(static_cast<SourceLanguage>(language) == SourceLanguage::assembler ? "beat\r\n" : "beat 1\r\n"), qPrintable(said));
    }

    // A program as it lies in somebody's folder: two files, a library beside it, functions used before they are written.
    void aProgramIsBuiltWhereItLies()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        if (!isFrameworkInstalled())
            QSKIP("arduino-core-avr is not installed");
        const QString folder = folder_.filePath("sluice");
        QVERIFY(QDir().mkpath(folder + "/libraries/Gate"));
        const auto write = [](const QString& name, const QByteArray& text) {
            QFile file(name);
            QVERIFY(file.open(QIODevice::WriteOnly) && file.write(text) == text.size());
        };
        write(folder + "/sluice.ino", "#include <Gate.h>\n#include <EEPROM.h>\nGate gate(9);\nvoid setup() { Serial.begin(115200); gate.open(); report(gate.level()); }\nvoid loop() {}\n");
        write(folder + "/words.ino", "void report(int n)\n{\n  Serial.print(\"gate at \");\n  Serial.println(n);\n}\n");
        write(folder + "/libraries/Gate/Gate.h", "#pragma once\nclass Gate { public: Gate(int pin); void open(); int level() const; private: int pin_; int level_ = 0; };\n");
        write(folder + "/libraries/Gate/Gate.cpp", QByteArray("#include \"Gate.h\"\n#include <") + QByteArray::fromStdString(frameworkHeader()) + ">\nGate::Gate(int pin) : pin_(pin) {}\nvoid Gate::open() { pinMode(pin_, OUTPUT); analogWrite(pin_, 42); level_ = 42; }\nint Gate::level() const { return level_; }\n");
        const auto beside = benchBesideProgram((folder + "/sluice.ino").toStdString(), catalogue_);
        QVERIFY2(beside, beside ? "" : beside.error().text().c_str());
        QVERIFY(beside->madeMakefile);
        int code = -1;
        const QByteArray output = make(folder, &code);
        QVERIFY2(code == 0, output);
        QCOMPARE(runs(QString::fromStdString(beside->bench), std::chrono::milliseconds(50)), "gate at 42\r\n");
        // The second time nothing is made anew.
        const auto again = benchBesideProgram((folder + "/sluice.ino").toStdString(), catalogue_);
        QVERIFY(again && !again->madeMakefile);
        // An error stands at its line of the .ino file; a library that is nowhere is named.
        write(folder + "/words.ino", "void report(int n)\n{\n  Serial.print(nothing);\n}\n");
        QVERIFY(make(folder, &code).contains("words.ino:3:"));
        QVERIFY(code != 0);
        write(folder + "/words.ino", "#include <Windlass.h>\nvoid report(int n) {}\n");
        const QByteArray missing = make(folder, &code);
        QVERIFY2(code != 0 && missing.contains("library Windlass is not found"), missing);
    }
};

QTEST_GUILESS_MAIN(SkeletonsTest)
#include "skeletons_test.moc"
