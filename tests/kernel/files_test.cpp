// What a bench may name, what is read, and what is left when writing fails; against the file system itself.
#include <QtTest>

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "kernel/file_writer.h"
#include "kernel/files.h"

using namespace bramix::kernel;

namespace {

struct Folders {
    QTemporaryDir top;
    std::string bench = top.filePath("bench").toStdString(), outside = top.filePath("outside").toStdString();
    Folders()
    {
        QDir(top.path()).mkpath("bench/firmware");
        QDir(top.path()).mkpath("outside");
        put(outside + "/secret", "secret");
        put(bench + "/firmware/own.hex", "own");
    }
    static void put(const std::string& file, const std::string& text)
    {
        QFile out(QString::fromStdString(file));
        QVERIFY(out.open(QIODevice::WriteOnly));
        out.write(text.data(), static_cast<qint64>(text.size()));
    }
    static std::string get(const std::string& file)
    {
        QFile in(QString::fromStdString(file));
        return in.open(QIODevice::ReadOnly) ? in.readAll().toStdString() : "nothing";
    }
    [[nodiscard]] FileAccess access(std::vector<std::string> allowed = {}) const { return {bench, true, std::move(allowed)}; }
};

unsigned rights(const std::string& file)
{
    struct stat s{};
    return ::stat(file.c_str(), &s) == 0 ? s.st_mode & 07777 : 0;
}

}  // namespace

class FilesTest : public QObject {
    Q_OBJECT

private slots:
    void aBenchNamesWhatLiesBesideIt()
    {
        const Folders f;
        for (const char* name : {"firmware/own.hex", "./firmware/own.hex", "firmware/../firmware/own.hex", "not/there/yet.bin"})
            QCOMPARE(f.access().path(name).value_or("refused"), f.bench + "/" + name);
        QCOMPARE(f.access().path(f.bench + "/firmware/own.hex").value_or("refused"), f.bench + "/firmware/own.hex");
    }

    void aBenchNamesNothingElse()
    {
        const Folders f;
        QVERIFY(::symlink((f.outside + "/secret").c_str(), (f.bench + "/link").c_str()) == 0);
        QVERIFY(::symlink(f.outside.c_str(), (f.bench + "/door").c_str()) == 0);
        for (const std::string& name : {std::string("../outside/secret"), f.outside + "/secret", std::string("link"), std::string("door/secret"), std::string("door/new"), std::string("firmware/../../outside/secret"), std::string("/etc/passwd"),
                                        f.bench + "-beside/x"}) {
            const auto path = f.access().path(name);
            QVERIFY2(!path, name.c_str());
            QCOMPARE(path.error().text(), name + ": lies outside the folder of the bench, which nobody has allowed; choose the file yourself, or put it beside the bench");
        }
        // What a person has chosen, by any name of it, and nothing beside it.
        QVERIFY(f.access({f.outside + "/secret"}).path("link"));
        QVERIFY(f.access({f.outside + "/secret"}).path("../outside/secret"));
        QVERIFY(!f.access({f.outside + "/secret"}).path("../outside/other"));
        // A document that lies nowhere has no folder to stay in.
        QVERIFY((FileAccess{"", true, {}}.path("/etc/passwd")));
    }

    void onlyPlainFilesAreRead()
    {
        const Folders f;
        QCOMPARE(readFile(f.outside + "/secret", 6).value_or("refused"), std::string("secret"));
        QCOMPARE(readFile(f.outside + "/secret", 5).error().text(), f.outside + "/secret: is larger than 5 bytes; expected less");
        QCOMPARE(readFile(f.outside + "/none", 5).error().text(), f.outside + "/none: no such file");
        QCOMPARE(readFile(f.outside, 5).error().text(), f.outside + ": is a folder; expected a file");
        QCOMPARE(readFile("/dev/zero", 5).error().text(), std::string("/dev/zero: is a device; expected a file"));
        // Nobody writes to it: opening it to read would wait for ever.
        const std::string pipe = f.outside + "/pipe";
        QVERIFY(::mkfifo(pipe.c_str(), 0600) == 0);
        QCOMPARE(readFile(pipe, 5).error().text(), pipe + ": is a pipe; expected a file");
        // Says that it has no bytes, and has many.
        const auto strange = readFile("/proc/self/smaps", 100);
        QVERIFY(!strange);
    }

    void whatIsWrittenKeepsItsRightsAndItsLinks()
    {
        const Folders f;
        const std::string file = f.outside + "/secret", link = f.bench + "/link";
        QVERIFY(::chmod(file.c_str(), 0640) == 0);
        QVERIFY(::symlink(file.c_str(), link.c_str()) == 0);
        QVERIFY(writeFile(link, "new"));
        QCOMPARE(f.get(file), std::string("new"));
        QCOMPARE(rights(file), 0640U);
        QVERIFY(QFileInfo(QString::fromStdString(link)).isSymLink());
        QCOMPARE(QDir(QString::fromStdString(f.outside)).entryList(QDir::Files).size(), qsizetype{1});
    }

    void aPipeIsWrittenToAndNotReplaced()
    {
        const Folders f;
        const std::string pipe = f.outside + "/pipe";
        QVERIFY(::mkfifo(pipe.c_str(), 0600) == 0);
        const int reader = ::open(pipe.c_str(), O_RDONLY | O_NONBLOCK);
        QVERIFY(writeFile(pipe, "through"));
        char got[16] = {};
        QCOMPARE(::read(reader, got, sizeof got), ssize_t{7});
        QCOMPARE(std::string(got), std::string("through"));
        ::close(reader);
        struct stat s{};
        QVERIFY(::stat(pipe.c_str(), &s) == 0 && S_ISFIFO(s.st_mode));
    }

    void whatCannotBeWrittenLeavesWhatWasThere()
    {
        const Folders f;
        QVERIFY(!writeFile(f.outside, "x"));
        const auto full = writeFile("/dev/full", "x");
        QVERIFY(!full);
        QCOMPARE(full.error().text(), std::string("/dev/full: cannot be written: No space left on device"));
        QVERIFY(!writeFile(f.outside + "/none/file", "x"));
    }

    // Larger than what is kept back, in odd pieces; until it is finished the old file stands.
    void pieceByPiece()
    {
        Folders f;
        const std::string file = f.bench + "/long.txt";
        Folders::put(file, "before");
        ::chmod(file.c_str(), 0640);
        std::string whole;
        auto out = FileWriter::create(file);
        QVERIFY(out);
        for (int i = 0; i < 90'000; ++i) {
            const std::string piece = std::to_string(i) + "\n";
            (*out)->put(piece);
            whole += piece;
        }
        const std::string large(1U << 20U, 'x');
        (*out)->put(large);
        whole += large;
        QCOMPARE(Folders::get(file), std::string("before"));
        QVERIFY((*out)->finish());
        QVERIFY(Folders::get(file) == whole);
        QCOMPARE(rights(file), 0640U);
        QCOMPARE(QDir(QString::fromStdString(f.bench)).entryList(QDir::Files), QStringList{"long.txt"});
    }

    void whatIsNotFinishedIsDropped()
    {
        Folders f;
        const std::string file = f.bench + "/kept.txt";
        Folders::put(file, "before");
        {
            auto out = FileWriter::create(file);
            QVERIFY(out);
            (*out)->put(std::string(1U << 20U, 'y'));
        }
        QCOMPARE(Folders::get(file), std::string("before"));
        QCOMPARE(QDir(QString::fromStdString(f.bench)).entryList(QDir::Files), QStringList{"kept.txt"});
    }

    void aFullDeviceIsTold()
    {
        auto out = FileWriter::create("/dev/full");
        QVERIFY(out);
        (*out)->put("some");
        const auto done = (*out)->finish();
        QVERIFY(!done);
        QVERIFY2(done.error().text().find("No space left") != std::string::npos, done.error().text().c_str());
    }
};

QTEST_GUILESS_MAIN(FilesTest)
#include "files_test.moc"
