// The host's ends of a UART: files, pseudo-terminals, and what is refused.
#include <QtTest>

#include <QTemporaryDir>
#include <arpa/inet.h>
#include <fcntl.h>
#include <sys/socket.h>
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

    void aTcpPortCarriesBothWaysAndOutlivesItsUsers()
    {
        auto tcp = openEndpoint("tcp:0");
        QVERIFY2(tcp.has_value(), tcp ? "" : tcp.error().text().c_str());
        const QString name = QString::fromStdString((*tcp)->name());
        QVERIFY(name.startsWith("127.0.0.1:"));
        (*tcp)->write("to nobody");
        const auto port = static_cast<std::uint16_t>(name.section(':', 1).toUInt());
        for (int user = 0; user < 3; ++user) {
            const int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
            sockaddr_in to{};
            to.sin_family = AF_INET;
            to.sin_port = htons(port);
            to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
            QCOMPARE(::connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to), 0);
            const std::string bytes("\x03\x04\r\n\x11\x13\xFF\0!", 9);
            QCOMPARE(::send(fd, bytes.data(), bytes.size(), 0), static_cast<ssize_t>(bytes.size()));
            std::string heard;
            QTRY_VERIFY((heard += (*tcp)->read()).size() >= bytes.size());
            QCOMPARE(heard, bytes);
            (*tcp)->write(bytes);
            char buffer[64];
            QCOMPARE(std::string(buffer, static_cast<std::size_t>(std::max<ssize_t>(0, ::recv(fd, buffer, sizeof buffer, 0)))), bytes);
            // Who does not read holds nobody up.
            for (int i = 0; i < 64; ++i)
                (*tcp)->write(std::string(1 << 20, 'x'));
            ::close(fd);
            (void)(*tcp)->read();
        }
        // The port is taken while it is listened to.
        const auto second = openEndpoint("tcp:" + name.section(':', 1).toStdString());
        QVERIFY(!second);
    }

    // Who sends without end is taken in pieces.
    void aFloodComesInPieces()
    {
        auto tcp = openEndpoint("tcp:0");
        QVERIFY(tcp.has_value());
        const auto port = static_cast<std::uint16_t>(QString::fromStdString((*tcp)->name()).section(':', 1).toUInt());
        const int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
        sockaddr_in to{};
        to.sin_family = AF_INET;
        to.sin_port = htons(port);
        to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        (void)::connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to);
        std::string sent, heard;
        const std::string block(1 << 20, 'y');
        for (int i = 0; i < 200 && heard.size() < 1U << 20U; ++i) {
            if (const ssize_t n = ::send(fd, block.data(), block.size(), MSG_NOSIGNAL); n > 0)
                sent.append(block, 0, static_cast<std::size_t>(n));
            const std::string piece = (*tcp)->read();
            QVERIFY2(piece.size() < bramix::link::Endpoint::kMostAtOnce + 4096, qPrintable(QString::number(piece.size())));
            heard += piece;
        }
        ::close(fd);
        QVERIFY(heard.size() >= 1U << 20U);
        QCOMPARE(heard, sent.substr(0, heard.size()));
    }

    void nowhereAndWhatCannotBeOpened()
    {
        auto none = openEndpoint("none");
        QVERIFY(none.has_value());
        (*none)->write("gone");
        QVERIFY((*none)->read().empty());
        QCOMPARE(openEndpoint("/proc/none/log").error().text(), "/proc/none/log: cannot be written: No such file or directory");
        for (const char* const wrong : {"tcp:", "tcp:http", "tcp:70000", "tcp:4000x", "tcp:-1"})
            QCOMPARE(openEndpoint(wrong).error().text(), std::string(wrong) + ": is not a port; expected tcp: and a number from 0 to 65535");
    }
};

QTEST_GUILESS_MAIN(EndpointTest)
#include "endpoint_test.moc"
