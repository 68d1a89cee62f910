// A bench from a stranger, run under strace: which files it opens, which programs it starts, which sockets it makes.
#include <QtTest>

#include <QDir>
#include <QProcess>
#include <QRegularExpression>
#include <QSet>
#include <QTemporaryDir>

#include "bench/catalogue.h"

using namespace bramix;

namespace {

const QString kCli = QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli";
const QString kWindow = QString(BRAMIX_TEST_BINARIES) + "/bin/bramix";

void put(const QString& file, const QByteArray& bytes)
{
    QDir().mkpath(QFileInfo(file).path());
    QFile out(file);
    if (!out.open(QIODevice::WriteOnly) || out.write(bytes) != bytes.size())
        qFatal("%s cannot be written", qPrintable(file));
}

// What a run asked of the system.
struct Calls {
    int code = -1;
    QString said;           // standard error
    QStringList opened;     // files that were opened or made, or would have been, without those of the system and of Bramix
    QStringList others;     // every call that starts a program, makes a socket, or changes a name
};

Calls traced(const QStringList& arguments, const QString& folder, const QString& program = kCli)
{
    const QString log = folder + "/calls";
    QProcess process;
    process.setWorkingDirectory(folder);
    QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
    for (const char* home : {"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"})
        environment.insert(home, folder + "/home");
    process.setProcessEnvironment(environment);
    process.start("strace", QStringList{"-f", "-qq", "-s", "4096", "-o", log, "-e",
                                        "trace=open,openat,openat2,creat,truncate,execve,execveat,socket,connect,bind,listen,rename,renameat,renameat2,unlink,unlinkat,link,linkat,symlink,symlinkat,mkdir,mkdirat", program}
                                << arguments);
    Calls calls;
    if (!process.waitForFinished(120'000))
        return calls;
    calls.code = process.exitCode();
    calls.said = process.readAllStandardError();
    QFile in(log);
    if (!in.open(QIODevice::ReadOnly))
        return calls;
    const QString share = QFileInfo(QString::fromStdString(bench::shareFolder())).canonicalFilePath();
    static const QRegularExpression call("^\\d+\\s+(\\w+)\\((.*)$"), text("\"([^\"]*)\"");
    bool first = true;
    for (const QString& line : QString(in.readAll()).split('\n')) {
        const auto match = call.match(line);
        if (!match.hasMatch())
            continue;
        const QString name = match.captured(1);
        if (name == "execve" && first) {  // the program itself
            first = false;
            continue;
        }
        if (!name.startsWith("open") && name != "creat" && name != "truncate") {
            calls.others << line;
            continue;
        }
        const QString file = QDir::cleanPath(QDir(folder).absoluteFilePath(text.match(match.captured(2)).captured(1)));
        const bool system = file.startsWith("/lib/") || file.startsWith("/lib64/") || file.startsWith("/usr/lib") || file.startsWith("/usr/local/lib") || file == "/etc/ld.so.cache" || file == "/etc/ld.so.preload" || file.startsWith("/proc/self/")
                            || file.startsWith("/sys/devices/system/cpu");
        if (!system && !file.startsWith(share + "/") && !file.startsWith(QString::fromStdString(bench::shareFolder()) + "/"))
            calls.opened << file;
    }
    calls.opened.removeDuplicates();
    return calls;
}

const char* const kParts = R"toml(
[[part]]
id = "eeprom"
kind = "24c32"
at = [40, 2]
set = { contents = "%1" }

[[part]]
id = "card"
kind = "sd-card"
at = [50, 2]
set = { image = "%2" }

[[part]]
id = "wave"
kind = "generator"
at = [60, 2]
set = { wave = "file", file = "%3" }

[[part]]
id = "light"
kind = "light-sensor"
at = [70, 2]
follow = { light = { csv = "%4" } }
)toml";

}  // namespace

class StrangeBenchTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;

    // Two folders beside each other: the bench's own, and one with what is not the bench's.
    QString make(const QString& name, const QString& firmware, const QStringList& files, const QString& id = "mcu")
    {
        const QString root = rootOf(name);
        for (const char* side : {"/bench/", "/outside/"}) {
            put(root + side + "wave.csv", "0,0\n0.001,5\n");
            put(root + side + "light.csv", "0,10\n1,20\n");
            put(root + side + "eeprom.bin", QByteArray(4096, 'e'));
            put(root + side + "card.img", QByteArray(1 << 20, 'c'));
            QFile::copy(QString::fromStdString(bench::shareFolder()) + "/benches/frost-alarm/firmware/frost.elf", root + side + "frost.elf");
        }
        QString text = "bramix = 1\ntitle = \"Strange\"\nbuild = \"touch " + root + "/outside/built\"\n\n[[part]]\nid = \"" + id + "\"\nkind = \"briar-328\"\nat = [10, 10]\nfirmware = \"" + firmware + "\"\n" + kParts;
        text = text.arg(files[0], files[1], files[2], files[3]);
        put(root + "/bench/bench.toml", text.toUtf8());
        return root;
    }

    [[nodiscard]] QString rootOf(const QString& name) const { return QFileInfo(folder_.path()).canonicalFilePath() + "/" + name; }

    static QStringList foreign(const Calls& calls, const QString& root)
    {
        QStringList out;
        for (const QString& file : calls.opened)
            if (!file.startsWith(root + "/bench/"))
                out << file;
        return out;
    }

private slots:
    void initTestCase()
    {
        QProcess process;
        process.start("strace", {"-qq", "-o", "/dev/null", "true"});
        if (!process.waitForFinished() || process.exitStatus() != QProcess::NormalExit || process.exitCode() != 0)
            QSKIP("strace cannot follow a program here: its own line says why");
    }

    // The measure itself: what lies beside the bench is opened, and seen to be.
    void aBenchOpensWhatLiesBesideIt()
    {
        const QString root = make("own", "frost.elf", {"eeprom.bin", "card.img", "wave.csv", "light.csv"});
        const Calls calls = traced({"run", "bench.toml", "--for", "10ms", "--quiet"}, root + "/bench");
        QVERIFY2(calls.code == 0, qPrintable(calls.said));
        for (const char* file : {"bench.toml", "frost.elf", "eeprom.bin", "card.img", "wave.csv", "light.csv"})
            QVERIFY2(calls.opened.contains(root + "/bench/" + file), qPrintable(QString(file) + " not among " + calls.opened.join(' ')));
        QCOMPARE(foreign(calls, root), QStringList());
    }

    void aBenchOpensNothingElse_data()
    {
        QTest::addColumn<int>("which");  // of firmware and the four files: the one that lies outside
        QTest::addColumn<QString>("how");
        const char* names[] = {"firmware", "24c32", "sd-card", "generator", "follow"};
        for (int i = 0; i < 5; ++i)
            for (const char* how : {"relative", "absolute", "link", "folder link"})
                QTest::addRow("%s, %s", names[i], how) << i << QString(how);
    }

    void aBenchOpensNothingElse()
    {
        QFETCH(int, which);
        QFETCH(QString, how);
        QStringList files = {"frost.elf", "eeprom.bin", "card.img", "wave.csv", "light.csv"};
        const QString name = QString("other-%1-%2").arg(which).arg(QString(how).replace(' ', '-'));
        const QString outside = rootOf(name) + "/outside";
        const QString file = files[which];
        files[which] = how == "relative" ? "../outside/" + file : how == "absolute" ? outside + "/" + file : how == "link" ? "link" : "door/" + file;
        const QString root = make(name, files[0], files.mid(1));
        QVERIFY(QFile::link(outside + "/" + file, root + "/bench/link"));
        QVERIFY(QFile::link(outside, root + "/bench/door"));
        const QList<QStringList> commands{{"run", "bench.toml", "--for", "10ms"}, {"check", "bench.toml"}, {"sweep", "bench.toml", "--vary", "wave.low=0..5", "--points", "3", "--plot", "wave.S"}};
        for (const QStringList& arguments : commands) {
            const Calls calls = traced(arguments, root + "/bench");
            QCOMPARE(foreign(calls, root), QStringList());
            QVERIFY2(!calls.opened.contains(root + "/bench/" + files[which]), qPrintable(files[which]));
            if (arguments[0] != "sweep")  // firmware, curves and contents of memories have no part in it
                QVERIFY2(calls.code != 0 && calls.said.contains("lies outside the folder of the bench"), qPrintable(QString::number(calls.code) + calls.said));
        }
    }

    // No build command, no port, no program; and what is kept of the run lies in the folder.
    void aBenchStartsNothingAndListensNowhere()
    {
        const QString root = make("still", "frost.elf", {"eeprom.bin", "card.img", "wave.csv", "light.csv"});
        const Calls calls = traced({"run", "bench.toml", "--for", "10ms", "--quiet"}, root + "/bench");
        QVERIFY2(calls.code == 0, qPrintable(calls.said));
        for (const QString& line : calls.others) {
            QVERIFY2(!line.contains("socket(") && !line.contains("execve") && !line.contains("connect(") && !line.contains("bind("), qPrintable(line));
            QVERIFY2(line.contains(root + "/bench/") || line.contains("/tmp/"), qPrintable(line));
        }
        QVERIFY(!QFile::exists(root + "/outside/built"));
    }

    void whatAPersonAllowsIsOpenedAndNothingBesideIt()
    {
        const QString root = make("allowed", "frost.elf", {"../outside/eeprom.bin", "card.img", "../outside/wave.csv", "light.csv"});
        const QStringList run{"run", "bench.toml", "--for", "10ms"};
        const Calls one = traced(run + QStringList{"--allow", "../outside/eeprom.bin"}, root + "/bench");
        QVERIFY2(one.code == 2 && one.said.contains("../outside/wave.csv\": lies outside"), qPrintable(one.said));
        QCOMPARE(foreign(one, root), QStringList{root + "/outside/eeprom.bin"});
        const Calls both = traced(run + QStringList{"--allow", "../outside/eeprom.bin", "--allow", "../outside/wave.csv"}, root + "/bench");
        QVERIFY2(both.code == 0, qPrintable(both.said));
        const Calls none = traced(run + QStringList{"--allow", "../outside"}, root + "/bench");
        QVERIFY2(none.code == 2 && none.said.contains("--allow: \"../outside\" is not there, or is no plain file"), qPrintable(none.said));
    }

    void theWindowOpensNothingElseEither()
    {
        const QString root = make("window", "../outside/frost.elf", {"../outside/eeprom.bin", "../outside/card.img", "link", rootOf("window") + "/outside/light.csv"});
        QVERIFY(QFile::link(root + "/outside/wave.csv", root + "/bench/link"));
        const Calls calls = traced({"bench.toml", "--picture", "window.png"}, root + "/bench", kWindow);
        QVERIFY2(QFile::exists(root + "/bench/window.png"), qPrintable(calls.said));
        QVERIFY(calls.opened.contains(root + "/bench/bench.toml"));
        for (const QString& file : calls.opened)
            QVERIFY2(!file.startsWith(root + "/outside") && file != root + "/bench/link", qPrintable(file));
        for (const QString& line : calls.others)
            QVERIFY2(!line.contains("/outside/") && !line.contains("execve") && !line.contains("AF_INET"), qPrintable(line));
    }

    // The name of a part becomes the name of a file: that of its EEPROM.
    void theNameOfAPartLeadsNowhere()
    {
        const QString root = make("named", "frost.elf", {"eeprom.bin", "card.img", "wave.csv", "light.csv"}, "../outside/mcu");
        const Calls calls = traced({"run", "bench.toml", "--for", "10ms"}, root + "/bench");
        QVERIFY2(calls.code == 0 || calls.said.contains("../outside/mcu"), qPrintable(calls.said));
        QCOMPARE(foreign(calls, root), QStringList());
        QVERIFY(QDir(root + "/outside").entryList({"*.eeprom.hex"}).isEmpty());
    }
};

QTEST_GUILESS_MAIN(StrangeBenchTest)
#include "strange_bench_test.moc"
