// What buses say to parts, checked against the data sheets' own tables: transfers made up from them, and real firmware on benches.
#include <QtTest>

#include "bench/catalogue.h"
#include "session/lanes/part_language.h"
#include "session/lanes/read_lanes.h"

using namespace bramix;
using namespace bramix::session;
using namespace std::chrono_literals;
using kernel::Time;
using tape::Decoded;

class PartLanguageTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;

    // A transfer on a two-wire bus: "S a0 ..." as hex bytes, first the address byte; "R" restarts, "P" ends.
    static QStringList twoWire(PartLanguage& language, const QString& words)
    {
        QStringList out;
        language.out = [&](const Decoded& item) { out << QString::fromStdString(item.what + ": " + item.text); };
        Time at{};
        bool address = false;
        for (const QString& word : words.split(' ')) {
            at += 100us;
            if (word == "S" || word == "R" || word == "P") {
                const std::string what = word == "S" ? "start" : word == "R" ? "restart" : "stop";
                language.take({at, at, what, 0, what, true});
                address = word != "P";
                continue;
            }
            const bool nack = word.endsWith('!');
            const unsigned byte = word.left(2).toUInt(nullptr, 16);
            const char* const answer = nack ? ", nack" : ", ack";
            if (address)
                language.take({at, at + 90us, "address", byte >> 1U, (QString("0x%1 %2").arg(byte >> 1U, 2, 16, QChar('0')).arg((byte & 1) != 0 ? "read" : "write") + answer).toStdString(), true});
            else
                language.take({at, at + 90us, "byte", byte, ("0x" + word.left(2) + answer).toStdString(), true});
            address = false;
        }
        return out;
    }
    [[nodiscard]] const bench::Language* of(const char* kind) const { return &catalogue_.find(kind)->language; }

private slots:
    void initTestCase() { catalogue_ = std::move(*bench::Catalogue::loadInstalled()); }

    // DS1307 data sheet, figure 4 and table 2: 0x68; writing sets the pointer, then registers in turn; reading goes on there; after 0x3F comes 0x00.
    void registersGoByTheirNames()
    {
        PartLanguage clock({{"clock", of("ds1307"), 0x68}});
        QCOMPARE(twoWire(clock, "S d0 00 30 59 P"), (QStringList{"part: clock written", "register: to SECONDS", "register: SECONDS = 0x30", "register: MINUTES = 0x59"}));
        QCOMPARE(twoWire(clock, "S d0 07 R d1 03 a5 P"), (QStringList{"part: clock written", "register: to CONTROL", "part: clock read", "register: CONTROL is 0x03", "register: RAM 0 is 0xA5"}));
        QCOMPARE(twoWire(clock, "S d0 3f R d1 01 02! P").mid(3), (QStringList{"register: RAM 55 is 0x01", "register: SECONDS is 0x02"}));
        QVERIFY(twoWire(clock, "S a0 00 30 P").isEmpty());        // somebody else
        QVERIFY(twoWire(clock, "S d0! 00 30 P").isEmpty());       // it does not answer
    }

    // 24C32: two bytes of address.
    void aMemoryHasCells()
    {
        PartLanguage both({{"mem", of("24c32"), 0x50}, {"exp", of("mcp23017"), 0x21}});
        QCOMPARE(twoWire(both, "S a0 01 23 41 42 P").mid(1), (QStringList{"register: to 0x0123", "register: 0x0123: 0x41 'A'", "register: 0x0124: 0x42 'B'"}));
        // MCP23017, table 3-3 (BANK = 0): 0x12 is GPIOA, 0x14 OLATA.
        QCOMPARE(twoWire(both, "S 42 12 ff P").mid(1), (QStringList{"register: to GPIOA", "register: GPIOA = 0xFF"}));
    }

    // HD44780 figure 24 behind an expander: 'S' is 0x53, each half with E high and low, RS and backlight on.
    void aDisplayBehindAnExpanderShowsText()
    {
        PartLanguage lcd({{"lcd", of("character-display-i2c"), 0x27}});
        // Function set to four lines, then a clear and two characters.
        const QStringList said = twoWire(lcd, "S 4e 08 2c 28 P S 4e 0c 08 1c 18 P S 4e 5d 59 3d 39 P S 4e 6d 69 1d 19 P");
        QVERIFY2(said.contains("data: 'S'") && said.contains("data: 'a'") && said.contains("instruction: clear"), qPrintable(said.join("; ")));
    }

    // SSD1306 data sheet, 8.1.5.2 and table 9.
    void aGraphicDisplayTakesCommandsAndPicture()
    {
        PartLanguage oled({{"oled", of("ssd1306-i2c"), 0x3C}});
        QCOMPARE(twoWire(oled, "S 78 00 ae 81 7f 8d 14 21 00 7f b3 P").mid(1),
                 (QStringList{"command: display off", "command: contrast 0x7F", "command: charge pump 0x14", "command: columns 0x007F", "command: page 3"}));
        QCOMPARE(twoWire(oled, "S 78 40 01 02 03 P").mid(1), QStringList{"data: 3 bytes of picture"});
        QCOMPARE(twoWire(oled, "S 78 80 af 80 a7 40 ff P").mid(1), (QStringList{"command: display on", "command: inverted", "data: 1 byte of picture"}));
    }

    // W25Q32JV, 8.1.2; SD Physical Layer, 7.3.1.
    void selectedPartsTakeCommands()
    {
        const auto spi = [&](const char* kind, std::initializer_list<int> bytes) {
            PartLanguage language({{"part", of(kind), std::nullopt}});
            QStringList out;
            language.out = [&](const Decoded& item) { out << QString::fromStdString(item.text); };
            Time at(1us);
            language.take({at, at, "select", 0, "select", true});
            for (const int b : bytes) {
                if (b < 0) {
                    language.take({at, at, "release", 0, "release", true});
                    language.take({at, at, "select", 0, "select", true});
                } else {
                    language.take({at, at + 8us, "byte", static_cast<std::uint64_t>(b), "", true});
                }
                at += 10us;
            }
            language.take({at, at, "release", 0, "release", true});
            return out;
        };
        QCOMPARE(spi("w25q32", {0x06, -1, 0x02, 0x01, 0x20, 0x00, 0xAA, 0xBB, -1, 0x05, 0xFF}), (QStringList{"WRITE ENABLE", "PAGE PROGRAM 0x012000, 2 bytes", "READ STATUS 1, 1 byte"}));
        QCOMPARE(spi("sd-card", {0xFF, 0x40, 0, 0, 0, 0, 0x95, 0xFF, 0x01, 0xFF, 0x51, 0, 0, 0x12, 0x34, 0xFF}), (QStringList{"CMD0 GO_IDLE_STATE 0x00000000", "CMD17 READ_SINGLE_BLOCK 0x00001234"}));
    }

    // The tide clock's own firmware: what it writes to its display is what the display shows.
    void theDisplaysTextComesOffTheBus()
    {
        const std::string folder = bench::shareFolder() + "/benches/tide-clock";
        const auto document = bench::loadDocument(folder + "/bench.toml");
        QVERIFY(document.has_value());
        SessionOptions options;
        options.folder = folder;
        auto opened = Session::open(*document, catalogue_, options);
        QVERIFY(opened.has_value());
        Session& s = **opened;
        s.advance(Time(110ms));
        const auto items = readAll(s, "i2c:SDA=mcu.PC4,SCL=mcu.PC5", Time{}, Time(110ms), SIZE_MAX);
        QVERIFY(items.has_value());
        QString text;
        int clock = 0;
        for (const Decoded& item : *items) {
            if (item.what == "data" && item.text.size() == 3 && item.text[0] == '\'')
                text += item.text[1];
            clock += item.what == "register" && item.text.starts_with("SECONDS is 0x00") ? 1 : 0;
        }
        QVERIFY2(text.contains("Saltmarsh") && text.contains("01.03.2026") && text.contains("high water at"), qPrintable(text));
        QVERIFY(clock >= 1);
    }
};

QTEST_GUILESS_MAIN(PartLanguageTest)
#include "part_language_test.moc"
