// Examples stay as they are; where they may not be written to, a copy of one's own is opened.
#include "application.h"

#include <QDir>
#include <QFile>
#include <QTemporaryDir>

#include "app/shell/examples.h"

#include <unistd.h>

using namespace bramix;
using namespace bramix::app;

namespace {

// A superuser may write to everything: for as long as this lives the program runs as a user without rights, who owns `folder`.
struct WithoutRights {
    explicit WithoutRights(const QString& folder) : wasRoot_(geteuid() == 0)
    {
        constexpr uid_t kNobody = 65534;
        if (wasRoot_ && (chown(qPrintable(folder), kNobody, kNobody) != 0 || setresuid(kNobody, kNobody, 0) != 0))
            qFatal("the test cannot give up its rights");
    }
    ~WithoutRights()
    {
        if (wasRoot_ && setresuid(0, 0, 0) != 0)
            qFatal("the test cannot have its rights back");
    }

private:
    bool wasRoot_;
};

}  // namespace

class ExamplesTest : public QObject {
    Q_OBJECT

private slots:
    void anExampleThatMayNotBeWrittenToIsCopied()
    {
        QTemporaryDir share;
        const WithoutRights user(share.path());
        qputenv("XDG_DATA_HOME", share.filePath("data").toUtf8());
        QVERIFY(QDir().mkpath(share.filePath("data")));
        const QString folder = share.filePath("benches/mill");
        QVERIFY(QDir().mkpath(folder + "/firmware"));
        for (const char* name : {"bench.toml", "firmware/main.c"}) {
            QFile file(folder + "/" + name);
            QVERIFY(file.open(QIODevice::WriteOnly) && file.write("bramix = 1\n") > 0);
        }
        qputenv("BRAMIX_SHARE", share.path().toUtf8());
        QFile(folder).setPermissions(QFile::ReadOwner | QFile::ExeOwner);
        const QString own = ownCopyOf(folder + "/bench.toml");
        QFile(folder).setPermissions(QFile::ReadOwner | QFile::ExeOwner | QFile::WriteOwner);
        QVERIFY(own != folder + "/bench.toml");
        QVERIFY(QFile::exists(own) && QFile::exists(QFileInfo(own).path() + "/firmware/main.c"));
        QVERIFY(QFileInfo(own).isWritable());
    }

    void whatIsOnesOwnIsOpenedAsItIs()
    {
        QTemporaryDir folder;
        QFile file(folder.filePath("bench.toml"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        QCOMPARE(ownCopyOf(folder.filePath("bench.toml")), folder.filePath("bench.toml"));
        QVERIFY(!isExample(folder.filePath("bench.toml")));
        QVERIFY(isExample(QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml") || qEnvironmentVariableIsSet("BRAMIX_SHARE"));
    }
};

QTEST_MAIN(ExamplesTest)
#include "examples_test.moc"
