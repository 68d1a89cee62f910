// The form of a recording's file, byte by byte as docs/recording-format.md has it, and what is refused.
#include <QtTest>

#include <zstd.h>

#include "kernel/random.h"
#include "session/recording/section_file.h"

using namespace bramix;
using namespace bramix::session;

namespace {

constexpr std::string_view kLine = "A test file\n";

std::optional<std::string> refuse(std::string_view line) { return line == kLine ? std::nullopt : std::optional<std::string>("is another file"); }

QByteArray little(std::uint64_t value, int bytes)
{
    QByteArray out;
    for (int i = 0; i < bytes; ++i)
        out += static_cast<char>(value >> (8 * i));
    return out;
}

QByteArray head(const QByteArray& name, int version, int flags, std::uint64_t stored, std::uint64_t plain, std::uint32_t sum)
{
    return name + little(static_cast<std::uint64_t>(version), 2) + little(static_cast<std::uint64_t>(flags), 2) + little(stored, 8) + little(plain, 8) + little(sum, 4);
}

const QByteArray kEnd = head("end ", 1, 0, 0, 0, 0);
constexpr std::uint32_t kSumOfDigits = 0xCBF43926;  // of "123456789", the check value of CRC-32

}  // namespace

class SectionFileTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    std::string write(const QByteArray& bytes)
    {
        const QString name = folder_.filePath("file");
        QFile file(name);
        if (!file.open(QIODevice::WriteOnly) || file.write(bytes) != bytes.size())
            qFatal("cannot write");
        return name.toStdString();
    }
    // Names and contents, or what is wrong.
    QString read(const QByteArray& bytes)
    {
        auto reader = SectionReader::open(write(bytes), refuse);
        if (!reader)
            return QString::fromStdString(reader.error().text());
        QString out;
        for (;;) {
            const auto h = reader->next();
            if (!h)
                return QString::fromStdString(h.error().text());
            if (!*h)
                return out;
            const auto content = reader->take();
            if (!content)
                return QString::fromStdString(content.error().text());
            out += QString::fromStdString((*h)->name) + QString::number((*h)->version) + "=" + QString::fromLatin1(reinterpret_cast<const char*>(content->data()), static_cast<qsizetype>(content->size())) + ";";
        }
    }

private slots:
    void aFileByHandIsRead()
    {
        const QByteArray bytes = QByteArray(kLine.data()) + head("abcd", 7, 0, 9, 9, kSumOfDigits) + "123456789" + head("none", 1, 0, 0, 0, 0) + kEnd;
        QCOMPARE(read(bytes), QString("abcd7=123456789;none1=;"));
    }

    void whatIsPackedByTheLibraryIsRead()
    {
        QByteArray plain, packed(4096, '\0');
        for (int i = 0; i < 3000; ++i)
            plain += "123456789"[i % 9];
        packed.resize(static_cast<qsizetype>(ZSTD_compress(packed.data(), static_cast<std::size_t>(packed.size()), plain.data(), static_cast<std::size_t>(plain.size()), 19)));
        kernel::Snapshot none;
        auto out = kernel::FileWriter::create(folder_.filePath("ours").toStdString());
        SectionWriter writer(**out, kLine);
        QVERIFY(writer.put("long", 2, {plain.data(), static_cast<std::size_t>(plain.size())}, nullptr, 0, 1));
        writer.end();
        QVERIFY((*out)->finish().has_value());
        QFile file(folder_.filePath("ours"));
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray ours = file.readAll();
        QVERIFY2(ours.size() < 400, qPrintable(QString::number(ours.size())));
        QCOMPARE(read(ours), "long2=" + plain + ";");
        // What another packer made of it, under the same check sum.
        const QByteArray sum = ours.mid(static_cast<qsizetype>(kLine.size()) + 24, 4);
        QCOMPARE(read(QByteArray(kLine.data()) + "long" + little(2, 2) + little(1, 2) + little(static_cast<std::uint64_t>(packed.size()), 8) + little(3000, 8) + sum + packed + kEnd), "long2=" + plain + ";");
    }

    void ourFileIsAsTheDocumentSays()
    {
        auto out = kernel::FileWriter::create(folder_.filePath("ours").toStdString());
        SectionWriter writer(**out, kLine);
        QVERIFY(writer.put("abcd", 7, "123456789", nullptr, 0, 1));
        writer.end();
        QVERIFY((*out)->finish().has_value());
        QFile file(folder_.filePath("ours"));
        QVERIFY(file.open(QIODevice::ReadOnly));
        QCOMPARE(file.readAll(), QByteArray(kLine.data()) + head("abcd", 7, 0, 9, 9, kSumOfDigits) + "123456789" + kEnd);
    }

    void aLongRowOfZerosIsStillBelieved()
    {
        const std::string zeros(40U << 20U, '\0');
        auto out = kernel::FileWriter::create(folder_.filePath("ours").toStdString());
        SectionWriter writer(**out, kLine);
        QVERIFY(writer.put("zero", 1, zeros, nullptr, 0, 1));
        writer.end();
        QVERIFY((*out)->finish().has_value());
        auto reader = SectionReader::open(folder_.filePath("ours").toStdString(), refuse);
        QVERIFY(reader.has_value() && reader->next().has_value());
        const auto bytes = reader->take();
        QVERIFY(bytes.has_value() && bytes->size() == zeros.size());
    }

    void whatCannotBeIsRefused_data()
    {
        QTest::addColumn<QByteArray>("rest");
        QTest::addColumn<QString>("word");
        const QByteArray digits = "123456789";
        QTest::newRow("another sum") << head("abcd", 1, 0, 9, 9, kSumOfDigits ^ 1) + digits + kEnd << "check sum";
        QTest::newRow("no end") << head("abcd", 1, 0, 9, 9, kSumOfDigits) + digits << "not whole";
        QTest::newRow("behind the end") << head("abcd", 1, 0, 9, 9, kSumOfDigits) + digits + kEnd + "x" << "not whole";
        QTest::newRow("longer than the file") << head("abcd", 1, 0, 9000, 9000, kSumOfDigits) + digits + kEnd << "not whole";
        QTest::newRow("longest of all") << head("abcd", 1, 0, UINT64_MAX, UINT64_MAX, kSumOfDigits) + digits + kEnd << "not whole";
        QTest::newRow("stored, but of another length") << head("abcd", 1, 0, 9, 10, kSumOfDigits) + digits + kEnd << "length";
        QTest::newRow("half a head") << QByteArray("abcd") << "not whole";
        QTest::newRow("another packing") << head("abcd", 1, 2, 9, 9, kSumOfDigits) + digits + kEnd << "does not know";
        QTest::newRow("no packing at all") << head("abcd", 1, 1, 9, 9, kSumOfDigits) + digits + kEnd << "packing";
        QTest::newRow("39 bytes that would be 1.5 GB") << head("abcd", 1, 1, 9, 1500000000, kSumOfDigits) + digits + kEnd << "length";
    }
    void whatCannotBeIsRefused()
    {
        QFETCH(QByteArray, rest);
        QFETCH(QString, word);
        const QString said = read(QByteArray(kLine.data()) + rest);
        QVERIFY2(said.contains(word), qPrintable(said));
        QVERIFY(!said.contains('\n'));
    }

    void noFileAtAll()
    {
        QVERIFY(!SectionReader::open(folder_.filePath("nowhere").toStdString(), refuse).has_value());
        QVERIFY(!SectionReader::open(folder_.path().toStdString(), refuse).has_value());
        QVERIFY(!SectionReader::open("/dev/zero", refuse).has_value());
        QVERIFY(read("something else\n").contains("another file"));
        QVERIFY(read({}).contains("another file"));
    }

    // Damage of any kind ends in a line, and never takes more memory than the file could fill.
    void damageIsTold()
    {
        QByteArray plain;
        kernel::Random random(7, "damage");
        for (int i = 0; i < 5000; ++i)
            plain += static_cast<char>('a' + random.below(4));
        auto out = kernel::FileWriter::create(folder_.filePath("ours").toStdString());
        SectionWriter writer(**out, kLine);
        QVERIFY(writer.put("one ", 1, {plain.data(), 2500}, nullptr, 0, 1));
        QVERIFY(writer.put("two ", 1, {plain.data() + 2500, 2500}, nullptr, 0, 1));
        writer.end();
        QVERIFY((*out)->finish().has_value());
        QFile file(folder_.filePath("ours"));
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray good = file.readAll();
        const QString whole = read(good);
        QVERIFY(whole.startsWith("one 1="));
        for (int i = 0; i < 3000; ++i) {
            QByteArray bad = good;
            for (std::uint64_t n = 1 + random.below(3); n > 0; --n)
                bad[static_cast<qsizetype>(kLine.size() + random.below(static_cast<std::uint64_t>(good.size()) - kLine.size()))] = static_cast<char>(random.below(256));
            if (random.below(4) == 0)
                bad.truncate(static_cast<qsizetype>(random.below(static_cast<std::uint64_t>(bad.size()))));
            const QString said = read(bad);
            QVERIFY(said.size() < 20000);
            // Names and versions have no check sum; contents do.
            if (said.contains('='))
                QVERIFY(said.contains(QString::fromLatin1(plain.left(2500))) || said.contains(QString::fromLatin1(plain.mid(2500))));
        }
    }
};

QTEST_GUILESS_MAIN(SectionFileTest)
#include "section_file_test.moc"
