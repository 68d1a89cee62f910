// The buses of real benches, each with a driver that speaks to its parts: all are found, read, and break no protocol but where a driver is made to.
#include <QtTest>

#include <QRegularExpression>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "parts/driver_source.h"
#include "session/lanes/read_lanes.h"

using namespace bramix;
using namespace bramix::session;
using namespace std::chrono_literals;
using kernel::Time;

class UsualLanesTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;

    std::unique_ptr<Session> open(const QString& text, const QString& folder)
    {
        const auto document = bench::parseDocument("driver", text.toStdString());
        if (!document) {
            qWarning("%s", document.error().text().c_str());
            return nullptr;
        }
        SessionOptions options;
        options.folder = folder.toStdString();
        options.historyBytes = 32U << 20U;
        auto s = Session::open(*document, catalogue_, options);
        if (!s)
            qWarning("%s", s.error().text().c_str());
        return s ? std::move(*s) : nullptr;
    }
    static QStringList errors(const Session& session)
    {
        QStringList out;
        for (const bench::Finding& f : session.findings())
            if (f.rule == "line-error")
                out << QString::fromStdString(f.where + ": " + f.message);
        return out;
    }

private slots:
    void initTestCase() { catalogue_ = std::move(*bench::Catalogue::loadInstalled()); }

    void everyManifestSaysItRightly()
    {
        int kinds = 0;
        for (const auto& [id, kind] : catalogue_.kinds())
            if (!kind.reads.empty()) {
                const auto spec = tape::parseDecoderSpec(kind.reads);
                QVERIFY2(spec.has_value(), spec ? "" : spec.error().text().c_str());
                for (const std::string& line : spec->lines)
                    QVERIFY2(line.empty() || kind.pin(line) != nullptr, (id + "." + line).c_str());
                ++kinds;
            } else {
                QVERIFY2(kind.language.form == bench::Language::Form::none, (id + " has a language and no bus").c_str());
            }
        QVERIFY(kinds > 20);
    }

    void busesAreReadAndBreakNothing_data() { test::DriverBench::rows(); }

    void busesAreReadAndBreakNothing()
    {
        QFETCH(QString, source);
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        const test::DriverBench built(source);
        const auto& [folder, elf, driver] = built;
        QVERIFY2(driver.trouble.isEmpty(), qPrintable(driver.trouble));
        const auto session = open(driver.bench(elf), folder.path());
        QVERIFY(session != nullptr);
        const auto time = [](double ms) { return Time(kernel::Duration(static_cast<std::int64_t>(ms * 1e9))); };
        for (const auto& m : driver.moments)
            if (m.line.startsWith("set")) {
                session->advance(time(m.ms));
                const QString name = m.line.section(' ', 1).section('@', 0, 0);
                QVERIFY(session->setControl(name.section('.', 0, 0).toStdString(), name.section('.', 1).toStdString(), m.line.section('=', 1).toDouble()).has_value());
            }
        session->advance(time(driver.runMs));
        // One lane for each wire or bundle of wires that a part with a bus stands on, and it says something.
        const std::vector<std::string> usual = usualReadLanes(*session);
        for (const auto& part : driver.parts) {
            const bench::PartKind* kind = catalogue_.find(part.kind.toStdString());
            if (kind->reads.empty())
                continue;
            const std::string bus = kind->reads.substr(0, kind->reads.find(':') + 1);
            const auto lane = std::find_if(session->buses().begin(), session->buses().end(), [&](const BusLane& l) { return l.text.starts_with(bus); });
            QVERIFY2(lane != session->buses().end(), qPrintable(part.id));
            const bool pulses = bus == "servo:" || bus == "quadrature:";
            QVERIFY2((std::find(usual.begin(), usual.end(), lane->text) != usual.end()) != pulses, lane->text.c_str());
            const auto read = readAll(*session, lane->text, Time{}, session->world().now(), 100);
            QVERIFY2(read && (read->size() > 3 || source.startsWith("misuse")), lane->text.c_str());
        }
        const QStringList wrong = errors(*session);
        QVERIFY2(wrong.isEmpty() || source.startsWith("misuse"), qPrintable(wrong.join("\n")));
    }

    // Nobody looks: a clock is let go in the middle of a byte, and a rise of SDA ends it there, which UM10204, 3.1.1, knows only between bytes.
    void aBrokenTransferIsNoticed()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        QFile source(folder.filePath("broken.c"));
        QVERIFY(source.open(QIODevice::WriteOnly));
        // SDA is PC4, SCL PC5, both pulled up outside.
        source.write("#include <avr/io.h>\n#include <util/delay.h>\nstatic void sda(int low) { if (low) DDRC |= 16; else DDRC &= ~16; _delay_us(5); }\nstatic void scl(int low) { if (low) DDRC |= 32; else DDRC &= ~32; _delay_us(5); }\n"
                     "int main(void) { _delay_ms(5); sda(1); scl(1); for (int i = 0; i < 4; ++i) { scl(0); scl(1); } scl(0); sda(0); for (;;) { } }\n");
        source.close();
        QCOMPARE(QProcess::execute("avr-gcc", {"-mmcu=atmega328p", "-Os", "-DF_CPU=16000000UL", "-o", folder.filePath("broken.elf"), source.fileName()}), 0);
        const QString wires[][2] = {{"mcu.PC4", "clock.SDA"}, {"mcu.PC5", "clock.SCL"}, {"mcu.5V", "clock.VCC"}, {"mcu.GND", "clock.GND"}, {"mcu.PC4", "up1.1"}, {"mcu.5V", "up1.2"}, {"mcu.PC5", "up2.1"}, {"mcu.5V", "up2.2"}};
        QString text = "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nat = [0, 0]\nfirmware = \"" + folder.filePath("broken.elf") + "\"\n[[part]]\nid = \"clock\"\nkind = \"ds3231\"\nat = [30, 60]\n";
        for (const char* id : {"up1", "up2"})
            text += QString("[[part]]\nid = \"%1\"\nkind = \"resistor\"\nset = { resistance = \"4.7k\" }\nat = [60, 60]\n").arg(id);
        for (const auto& [from, to] : wires)
            text += QString("[[wire]]\nends = [\"%1\", \"%2\"]\n").arg(from, to);
        const auto session = open(text, folder.path());
        QVERIFY(session != nullptr);
        session->alsoWatch({"i2c:SDA=mcu.PC4,SCL=mcu.PC5"});  // the same by another name: told once all the same
        int heard = 0;
        session->onFinding = [&](const bench::Finding& f) { heard += f.rule == "line-error" ? 1 : 0; };
        session->advance(Time(5ms));
        QVERIFY(errors(*session).isEmpty());
        session->advance(Time(8ms));
        session->advance(Time(12ms));
        QVERIFY2(errors(*session).size() == 1 && errors(*session)[0].startsWith("clock.SDA: i2c on clock.SDA reads"), qPrintable(errors(*session).join("\n")));
        QCOMPARE(heard, 1);
        // In the past it has not come yet; of another course that goes on from there it comes again.
        QVERIFY(session->goTo(Time(3ms)).has_value());
        QVERIFY(errors(*session).isEmpty());
        session->poke(0, debug::Space::data, 0x800, 1);
        session->advance(Time(4ms));
        QVERIFY(errors(*session).isEmpty());
        session->advance(Time(9ms));
        QCOMPARE(errors(*session).size(), 1);
        QCOMPARE(heard, 2);
    }
};

QTEST_GUILESS_MAIN(UsualLanesTest)
#include "usual_lanes_test.moc"
