// Examples stay as they are; where they may not be written to, a copy of one's own is opened.
#include "application.h"

#include <QDir>
#include <QFile>
#include <QTemporaryDir>

#include "app/shell/examples.h"

using namespace bramix;
using namespace bramix::app;

class ExamplesTest : public QObject {
    Q_OBJECT

private slots:
    void anExampleThatMayNotBeWrittenToIsCopied()
    {
        if (geteuid() == 0 && QFile::permissions("/").testFlag(QFile::WriteOwner))
            QSKIP("a superuser may write to everything");
        QTemporaryDir share;
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
