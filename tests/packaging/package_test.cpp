// What is installed stands on its own: the package is built, laid out in a clean root that nobody may write to, and the demo runs from there.
#include <QtTest>

#include <QDir>
#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

class PackageTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;
    QString root_;

    struct Outcome {
        int code = -1;
        QByteArray out, err;
    };
    Outcome run(const QString& program, const QStringList& arguments, int seconds = 280)
    {
        QProcess process;
        // Nothing of this build leads the programs anywhere, and a person's files lie elsewhere.
        QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
        environment.remove("BRAMIX_SHARE");
        environment.insert("QT_QPA_PLATFORM", "offscreen");
        environment.insert("HOME", folder_.filePath("home"));
        environment.insert("XDG_DATA_HOME", folder_.filePath("home/data"));
        process.setProcessEnvironment(environment);
        process.setWorkingDirectory(folder_.path());
        process.start(program, arguments);
        if (!process.waitForFinished(seconds * 1000))
            return {};
        return {process.exitStatus() == QProcess::NormalExit ? process.exitCode() : -1, process.readAllStandardOutput(), process.readAllStandardError()};
    }

private slots:
    void initTestCase()
    {
        for (const char* program : {"dpkg-deb", "dpkg-shlibdeps"})
            if (QStandardPaths::findExecutable(program).isEmpty())
                QSKIP("the tools that build a package are not installed");
        QVERIFY(QDir().mkpath(folder_.filePath("home")));
        const Outcome built = run(QString(BRAMIX_TEST_SOURCES "/../tools/build-package"), {folder_.filePath("out"), QString(BRAMIX_TEST_BINARIES)});
        QVERIFY2(built.code == 0, built.err + built.out);
        const QString package = QString::fromLocal8Bit(built.out).trimmed().section('\n', -1);
        QVERIFY2(QFile::exists(package), qPrintable(package));
        root_ = folder_.filePath("root");
        const Outcome laid = run("dpkg-deb", {"-x", package, root_});
        QVERIFY2(laid.code == 0, laid.err);
        const Outcome fields = run("dpkg-deb", {"-f", package, "Depends"});
        QVERIFY2(fields.out.contains("libqt6widgets6") && fields.out.contains("fonts-inter"), fields.out);
        QCOMPARE(run("chmod", {"-R", "a-w", root_}).code, 0);
    }
    void cleanupTestCase() { run("chmod", {"-R", "u+w", root_}); }

    void everythingIsWhereADesktopLooksForIt()
    {
        for (const char* file : {"bin/bramix", "bin/bramix-cli", "share/applications/bramix.desktop", "share/icons/hicolor/scalable/apps/bramix.svg", "share/mime/packages/bramix.xml", "share/metainfo/io.bramix.Bramix.metainfo.xml",
                                 "share/man/man1/bramix.1.gz", "share/man/man1/bramix-cli.1.gz", "share/doc/bramix/copyright", "share/doc/bramix/changelog.gz", "share/bramix/catalogue/led/part.toml",
                                 "share/bramix/benches/withy-lock/bench.toml", "share/bramix/docs/user-guide.md"})
            QVERIFY2(QFile::exists(root_ + "/usr/" + file), file);
        if (QStandardPaths::findExecutable("appstreamcli").isEmpty())
            QSKIP("appstreamcli is not installed");
        const Outcome valid = run("appstreamcli", {"validate", "--no-net", root_ + "/usr/share/metainfo/io.bramix.Bramix.metainfo.xml"});
        QVERIFY2(!valid.out.contains("E: "), valid.out);
    }

    void theDemoRunsFromThere()
    {
        const Outcome ran = run(root_ + "/usr/bin/bramix-cli", {"run", root_ + "/usr/share/bramix/benches/withy-lock/bench.toml", "--for", "300ms", "--report", "-", "--serial", "mcu.uart0=none"});
        QVERIFY2(ran.code == 0, ran.err);
        const QJsonObject report = QJsonDocument::fromJson(ran.out).object();
        QCOMPARE(report["stop"].toString(), "goal");
        const Outcome drawn = run(root_ + "/usr/bin/bramix", {root_ + "/usr/share/bramix/benches/withy-lock/bench.toml", "--picture", folder_.filePath("window.png"), "--for", "300ms"});
        QVERIFY2(drawn.code == 0, drawn.err);
        QVERIFY(QFile(folder_.filePath("window.png")).size() > 20'000);
    }
};

QTEST_GUILESS_MAIN(PackageTest)
#include "package_test.moc"
