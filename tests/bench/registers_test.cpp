// A bench that describes a chip's registers itself: read from its folder, told where it cannot be, and nothing else is the worse for it.
#include <QtTest>

#include <QTemporaryDir>

#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;

class RegistersTest : public QObject {
    Q_OBJECT

    Catalogue catalogue_;
    QTemporaryDir folder_;

    void write(const QString& name, const QByteArray& text)
    {
        QFile file(folder_.filePath(name));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text);
    }
    std::unique_ptr<World> build(const std::string& registers, const std::string& kind = "atmega328p")
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"" + kind + "\"\nregisters = \"" + registers + "\"\n";
        const auto document = parseDocument("own.toml", text);
        if (!document)
            return nullptr;
        WorldOptions options;
        options.folder = folder_.path().toStdString();
        options.confined = true;
        auto world = World::build(*document, catalogue_, options, nullptr);
        return world ? std::move(*world) : nullptr;
    }
    static QString unreadable(const World& world)
    {
        for (const Finding& f : world.findings())
            if (f.rule == "registers-unreadable")
                return QString::fromStdString(f.message);
        return {};
    }

private slots:
    void initTestCase() { catalogue_ = std::move(*Catalogue::loadInstalled()); }

    void whatItSaysIsWhatIsShown()
    {
        write("own.svd", "<device><name>Q</name><size>8</size><peripherals><peripheral><name>QUAY</name><baseAddress>0x20</baseAddress><registers><register><name>LAMPS</name><addressOffset>5</addressOffset></register></registers></peripheral></peripherals></device>");
        const auto world = build("own.svd");
        QVERIFY(world != nullptr && unreadable(*world).isEmpty());
        QCOMPARE(world->chips()[0].registers().peripherals.size(), std::size_t{1});
        QCOMPARE(world->chips()[0].registers().at(0x25).reg->name, std::string("LAMPS"));
    }

    void whatCannotBeReadIsTold_data()
    {
        QTest::addColumn<QString>("file");
        QTest::addColumn<QString>("said");
        QTest::newRow("none") << "nowhere.svd" << "nowhere.svd";
        QTest::newRow("no XML") << "broken.svd" << "broken.svd";
        QTest::newRow("elsewhere") << "../../etc/hostname" << "hostname";
    }
    void whatCannotBeReadIsTold()
    {
        QFETCH(QString, file);
        QFETCH(QString, said);
        write("broken.svd", "<device><peripherals>");
        const auto world = build(file.toStdString());
        QVERIFY(world != nullptr);
        QVERIFY2(unreadable(*world).contains(said), qPrintable(unreadable(*world)));
        QVERIFY(world->chips()[0].registers().peripherals.size() > 5);
    }

    void itIsWrittenAndCheckedAsAnyOther()
    {
        const auto document = parseDocument("own.toml", "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"atmega328p\"\nregisters = \"a/own.svd\"\n");
        QVERIFY(document.has_value() && document->parts[0].registers == "a/own.svd");
        QVERIFY(QString::fromStdString(writeDocument(*document)).contains("registers = \"a/own.svd\""));
        QVERIFY(filesNamed(*document).contains("a/own.svd"));
        const auto wrong = parseDocument("own.toml", "bramix = 1\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nregisters = \"own.svd\"\n");
        const auto ok = checkDocument(*wrong, catalogue_, "own.toml");
        QVERIFY(!ok.has_value() && QString::fromStdString(ok.error().text()).contains("registers"));
    }
};

QTEST_GUILESS_MAIN(RegistersTest)
#include "registers_test.moc"
