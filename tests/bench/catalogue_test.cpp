// Manifests: what they may say, and how wrong ones are refused. And worlds with more than one chip.
#include <QtTest>

#include <QDir>
#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

class CatalogueTest : public QObject {
    Q_OBJECT

private:
    // A catalogue of one manifest.
    static std::string error(const QByteArray& manifest)
    {
        QTemporaryDir folder;
        if (!QDir(folder.path()).mkpath("bell"))
            return "no folder";
        const QString path = folder.filePath("bell/part.toml");
        QFile file(path);
        if (!file.open(QIODevice::WriteOnly))
            return "no file";
        file.write(manifest);
        file.close();
        const auto catalogue = Catalogue::load(folder.path().toStdString());
        return catalogue ? "no error" : QString::fromStdString(catalogue.error().text()).replace(folder.path() + "/", "").toStdString();
    }

private slots:
    void manifestsAreCheckedWhenTheyAreRead()
    {
        const QByteArray good = "kind = \"bell\"\ntitle = \"Bell\"\nabout = \"rings\"\nbehaviour = \"led\"\nsize = [2, 2]\n";
        QCOMPARE(error(good), "no error");
        QCOMPARE(error("kind = \"bell\"\n"), "bell/part.toml: line 1, column 1: has no \"title\"; expected a text");
        QCOMPARE(error(QByteArray(good).replace("led", "gong")), "bell/part.toml: line 1, column 1: behaviour \"gong\" is not known");
        QCOMPARE(error(good + "weight = 3\n"), "bell/part.toml: line 1, column 1: has an unknown key \"weight\"");
        QCOMPARE(error(good + "[[pin]]\nname = \"A\"\n"), "bell/part.toml: line 6, column 1: has no \"at\"; expected a place [x, y] in whole grid steps");
        QCOMPARE(error(good + "[[pin]]\nname = \"A\"\nat = [0, 0]\ncolour = \"red\"\n"), "bell/part.toml: line 6, column 1: [[pin]] has an unknown key \"colour\"");
        QCOMPARE(error(good + "chip = \"z80\"\n"), "bell/part.toml: line 1, column 1: chip \"z80\" is not known");
        QVERIFY(error("kind = ").starts_with("bell/part.toml: line 1, column "));
        QTemporaryDir empty;
        QVERIFY(Catalogue::load(empty.path().toStdString()).error().text().find("holds no catalogue") != std::string::npos);
    }

    void everyKindInTheCatalogueCanBeBuilt()
    {
        const auto catalogue = Catalogue::loadInstalled();
        QVERIFY2(catalogue, catalogue ? "" : catalogue.error().text().c_str());
        for (const auto& [id, kind] : catalogue->kinds()) {
            Document d;
            PartItem part;
            part.id = "x";
            part.kind = id;
            d.parts.push_back(part);
            QVERIFY(checkDocument(d, *catalogue, id).has_value());
            auto world = World::build(d, *catalogue, {}, nullptr);
            QVERIFY2(world, world ? "" : world.error().text().c_str());
            (*world)->runUntil(Time(5ms));
            QVERIFY((*world)->now() == Time(5ms));
            for (const ControlKind& control : kind.controls) {
                const double other = control.type == "dial" ? control.most : 1 - control.standard;
                QVERIFY2((*world)->setControl("x", control.name, other).has_value(), id.c_str());
                QCOMPARE((*world)->control("x", control.name), other);
            }
        }
    }

    // One board toggles a pin every four cycles, the other counts the edges that it sees: they go in step, to the cycle.
    void twoBoardsGoInCommonTime()
    {
        const auto catalogue = Catalogue::loadInstalled();
        QTemporaryDir folder;
        const auto image = [&](const char* name, std::initializer_list<std::uint16_t> words) {
            QFile file(folder.filePath(name));
            if (file.open(QIODevice::WriteOnly))
                for (const std::uint16_t w : words) {
                    file.putChar(static_cast<char>(w));
                    file.putChar(static_cast<char>(w >> 8));
                }
            return file.fileName().toStdString();
        };
        // sbi DDRB,0 ; sbi PINB,0 ; nop x 28 ; rjmp: a period of 32 cycles an edge
        std::vector<std::uint16_t> toggle{0x9A20, 0x9A18};
        toggle.insert(toggle.end(), 28, 0x0000);
        toggle.push_back(0xCFE2);
        Document d;
        for (const char* id : {"one", "two"}) {
            PartItem part;
            part.id = id;
            part.kind = "briar-328";
            d.parts.push_back(part);
        }
        QFile file(folder.filePath("one.bin"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        for (const std::uint16_t w : toggle) {
            file.putChar(static_cast<char>(w));
            file.putChar(static_cast<char>(w >> 8));
        }
        file.close();
        d.parts[0].firmware = file.fileName().toStdString();
        // Waits for PD2 high: inc r16; waits for low: inc r16; again.
        //   0: sbis PIND,2 / 1: rjmp 0 / 2: inc r16 / 3: sbic PIND,2 / 4: rjmp 3 / 5: inc r16 / 6: rjmp 0
        d.parts[1].firmware = image("two.bin", {0x9B4A, 0xCFFE, 0x9503, 0x994A, 0xCFFE, 0x9503, 0xCFF9});
        WireItem wire;
        wire.from = {"one", "PB0"};
        wire.to = {"two", "PD2"};
        d.wires.push_back(wire);
        auto world = World::build(d, *catalogue, {}, nullptr);
        QVERIFY2(world, world ? "" : world.error().text().c_str());
        (*world)->runUntil(Time(1025us));
        const int before = chip::avr::chipOf(*(*world)->chips()[1].chip).cpu().data[16];
        (*world)->runUntil(Time(1425us));  // 6400 cycles: 200 edges
        const int counted = chip::avr::chipOf(*(*world)->chips()[1].chip).cpu().data[16] - before;
        QVERIFY2(std::abs(counted - 200) <= 1, qPrintable(QString::number(counted)));
        QVERIFY(std::abs(chip::avr::chipOf(*(*world)->chips()[0].chip).cpu().cycle - chip::avr::chipOf(*(*world)->chips()[1].chip).cpu().cycle) <= 4);
    }
};

QTEST_GUILESS_MAIN(CatalogueTest)
#include "catalogue_test.moc"
