// The host's ends of a UART: files, pseudo-terminals, and what is refused.
#include <QtTest>

#include <QTemporaryDir>
#include <fcntl.h>
#include <termios.h>
#include <unistd.h>

#include "link/endpoint.h"

using bramix::link::openEndpoint;

class EndpointTest : public QObject {
    Q_OBJECT

private slots:
    void aFileTakesWhatIsWritten()
    {
        QTemporaryDir folder;
        const QString path = folder.filePath("log.txt");
        {
            auto file = openEndpoint(path.toStdString());
            QVERIFY(file.has_value());
            (*file)->write("boats stop\r\n");
            (*file)->write(std::string_view("\0\xFF", 2));
            (*file)->flush();
            QVERIFY((*file)->read().empty());
            QCOMPARE((*file)->descriptor(), -1);
        }
        QFile in(path);
        QVERIFY(in.open(QIODevice::ReadOnly));
        QCOMPARE(in.readAll(), QByteArray("boats stop\r\n\0\xFF", 14));
    }

    void aPseudoTerminalIsRawAndNeverBlocks()
    {
        auto pty = openEndpoint("pty");
        QVERIFY(pty.has_value());
        const std::string path = (*pty)->name();
        QVERIFY(path.starts_with("/dev/pts/"));
        // Nobody reads: a megabyte is written all the same, and at once.
        (*pty)->write(std::string(1 << 20, 'x'));
        for (int user = 0; user < 3; ++user) {
            const int fd = open(path.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK);
            QVERIFY(fd >= 0);
            termios settings{};
            QCOMPARE(tcgetattr(fd, &settings), 0);
            QCOMPARE(settings.c_lflag & (ICANON | ECHO | ISIG), 0U);
            QCOMPARE(settings.c_oflag & OPOST, 0U);
            char buffer[4096];
            while (read(fd, buffer, sizeof buffer) > 0) {
            }
            // Every byte passes unchanged, both ways, control characters too.
            const std::string bytes("\x03\x04\r\n\x11\x13\xFF", 7);
            (*pty)->write(bytes);
            QCOMPARE(std::string(buffer, static_cast<std::size_t>(std::max<ssize_t>(0, read(fd, buffer, sizeof buffer)))), bytes);
            QCOMPARE(write(fd, bytes.data(), bytes.size()), static_cast<ssize_t>(bytes.size()));
            QCOMPARE((*pty)->read(), bytes);
            close(fd);
            QVERIFY((*pty)->read().empty());
        }
    }

    void nowhereAndWhatCannotBeOpened()
    {
        auto none = openEndpoint("none");
        QVERIFY(none.has_value());
        (*none)->write("gone");
        QVERIFY((*none)->read().empty());
        QCOMPARE(openEndpoint("/proc/none/log").error().text(), "/proc/none/log: cannot be written: No such file or directory");
        QCOMPARE(openEndpoint("tcp:4000").error().text(), "tcp:4000: TCP is not available yet; expected -, pty, none or a file");
    }
};

QTEST_APPLESS_MAIN(EndpointTest)
#include "endpoint_test.moc"
