// Every part that firmware talks to, with a driver of its own: drivers/*.c, built with avr-gcc, run on a board. The head of each source says what is wired and what must come of it.
//
//   part ID KIND [set = {…}]     wire A B C …   (all on one net)     mcu atmega328p at 3v3   (in place of the board)
//   set PART.CONTROL@MS=VALUE    run MS (1000)  expect TEXT (on the serial line, in this order)
//   look PART = "face", rows joined by |        angle PART = degrees        speed PART = a to b (turns a minute)
//   lit@MS / dark@MS PART.LIGHT …               finding RULE PART           quiet (no warning and no error)
//   file NAME (an empty one beside the bench)   holds NAME OFFSET HEX …     box PART X Y WIDTH HEIGHT (around the dots that are lit)
#include <QtTest>

#include <cmath>

#include <QRegularExpression>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "bench/document.h"
#include "bench/world.h"
#include "parts/driver_source.h"

using namespace bramix;
using kernel::Time;
using namespace std::chrono_literals;

class DriversTest : public QObject, private bench::WorldObserver {
    Q_OBJECT

private:
    QString said_;
    // What parts have moved so far, of the first edges that they made.
    struct Moved {
        bench::NetId net{};
        bench::NetState state{};
        Time at{};
        std::string part;
    };
    static constexpr std::size_t kMostMoved = 3000;
    std::vector<Moved> moved_;
    const bench::Document* document_ = nullptr;

    void edge(bench::NetId net, bench::NetState state, bench::Time at, bench::Cause cause) override
    {
        if (cause.actor < document_->parts.size() && cause.code == bench::Cause::kNoCode && document_->parts[cause.actor].id != "mcu" && at > Time{} && moved_.size() < kMostMoved)
            moved_.push_back({net, state, at, document_->parts[cause.actor].id});
    }
    void serialByte(std::size_t, std::uint8_t byte, bool, bool fromChip, bench::Time) override
    {
        if (fromChip)
            said_ += QChar(byte);
    }
    void finding(const bench::Finding&) override {}
    void interrupt(std::size_t, std::uint8_t, bench::Time) override {}

    // Each edge of a part has a reason; and where that names a bit of a word, the line shows that bit.
    void askWhy(bench::World& world, const test::DriverSource& driver)
    {
        auto moment = driver.moments.begin();
        for (const Moved& m : moved_) {
            for (; moment != driver.moments.end() && Time(kernel::Duration(static_cast<std::int64_t>(moment->ms * 1e9))) < m.at; ++moment) {
                world.runUntil(Time(kernel::Duration(static_cast<std::int64_t>(moment->ms * 1e9))));
                if (const QString name = moment->line.section(' ', 1).section('@', 0, 0); moment->line.startsWith("set"))
                    QVERIFY(world.setControl(name.section('.', 0, 0).toStdString(), name.section('.', 1).toStdString(), moment->line.section('=', 1).toDouble()).has_value());
            }
            if (std::any_of(moved_.begin(), moved_.end(), [&](const Moved& o) { return &o != &m && o.net == m.net && o.at == m.at; }))
                continue;  // a spike of no length
            world.runUntil(m.at);
            std::string words, pin;
            for (const auto& [ref, id] : world.pins())
                if (ref.part == m.part && world.circuit().netOf(id) == m.net && words.empty())
                    words = world.why(ref), pin = ref.text();
            if (pin.empty())
                continue;  // behind something else
            const QString told = QString("%1 became %2 at %3 us: %4").arg(pin.c_str()).arg(static_cast<int>(m.state)).arg(kernel::seconds(m.at - Time{}) * 1e6).arg(words.c_str());
            QVERIFY2(!words.empty(), qPrintable(told));
            static const QRegularExpression word("0x([0-9A-F]+)"), bit("bit (\\d+)");
            const auto w = word.match(words.c_str()), b = bit.match(words.c_str());
            if (w.hasMatch() && b.hasMatch()) {
                QVERIFY2((w.captured(1).toUInt(nullptr, 16) >> b.captured(1).toUInt() & 1U) == (m.state == bench::NetState::high ? 1U : 0U), qPrintable(told));
                ++bitsSeen_;
            }
            ++asked_;
        }
    }
    int asked_ = 0, bitsSeen_ = 0;

    static QString lastWord(const QString& line) { return line.section(' ', 1); }

private slots:
    void drives_data() { test::DriverBench::rows(); }

    void drives()
    {
        QFETCH(QString, source);
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        const test::DriverBench made(source);
        const auto& [folder, elf, driver] = made;
        QVERIFY2(driver.trouble.isEmpty(), qPrintable(driver.trouble));
        const QStringList& head = driver.head;
        static const auto catalogue = bench::Catalogue::loadInstalled();
        QVERIFY2(catalogue.has_value(), catalogue ? "" : catalogue.error().text().c_str());
        const auto document = bench::parseDocument("driver", driver.bench(elf).toStdString());
        QVERIFY2(document.has_value(), document ? "" : document.error().text().c_str());
        const auto good = bench::checkDocument(*document, *catalogue, "driver");
        QVERIFY2(good.has_value(), good ? "" : good.error().text().c_str());
        said_.clear();
        moved_.clear();
        document_ = &*document;
        auto built = bench::World::build(*document, *catalogue, {.folder = folder.path().toStdString()}, this);
        QVERIFY2(built.has_value(), built ? "" : built.error().text().c_str());
        bench::World& world = **built;

        // What shines, by its mean current over two milliseconds or forty, whichever shows a multiplexed one too.
        const auto shines = [&](const QString& name) -> std::optional<bool> {
            for (const auto& light : world.lights())
                if (QString::fromStdString(light.part + "." + light.inner) == name) {
                    const double before = world.circuit().charge(light.element);
                    const Time from = world.now();
                    world.runUntil(from + 8ms);
                    return (world.circuit().charge(light.element) - before) / 0.008 > 0.0008;
                }
            return std::nullopt;
        };
        for (const auto& m : driver.moments) {
            world.runUntil(Time(kernel::Duration(static_cast<std::int64_t>(m.ms * 1e9))));
            const QString what = m.line.section(QRegularExpression("[ @]"), 0, 0);
            if (what == "set") {
                const QString name = m.line.section(' ', 1).section('@', 0, 0);
                const auto ok = world.setControl(name.section('.', 0, 0).toStdString(), name.section('.', 1).toStdString(), m.line.section('=', 1).toDouble());
                QVERIFY2(ok.has_value(), ok ? "" : ok.error().text().c_str());
                continue;
            }
            const QStringList names = m.line.split(' ', Qt::SkipEmptyParts).mid(1);
            QVERIFY(!names.isEmpty());
            for (const QString& name : names) {
                const auto seen = shines(name);
                QVERIFY2(seen, qPrintable("no light " + name));
                QVERIFY2(*seen == (what == "lit"), qPrintable(name + (*seen ? " shines" : " is dark")));
            }
        }
        world.runUntil(Time(kernel::Duration(static_cast<std::int64_t>(driver.runMs * 1e9))));

        QString notes = said_ + "\n";
        for (const auto& f : world.findings())
            notes += QString::fromStdString(f.rule + " " + f.where + ": " + f.message + "\n");
        qsizetype from = 0;
        for (const QString& line : head) {
            const QStringList words = line.split(' ', Qt::SkipEmptyParts);
            const parts::Part* part = words.size() > 1 ? world.part(words[1].toStdString()) : nullptr;
            if (words[0] == "expect") {
                const qsizetype at = said_.indexOf(lastWord(line), from);
                QVERIFY2(at >= 0, qPrintable("expected \"" + lastWord(line) + "\" in:\n" + notes));
                from = at + lastWord(line).size();
            } else if (words[0] == "look") {
                QVERIFY(part != nullptr);
                const QString face = QString::fromStdString(part->face()).replace('\n', '|');
                QVERIFY2(face == line.section('"', 1, 1), qPrintable("shows \"" + face + "\"\n" + notes));
            } else if (words[0] == "angle") {
                QVERIFY(part != nullptr && part->angle());
                QVERIFY2(std::fabs(*part->angle() - words[3].toDouble()) < 0.1, qPrintable(QString::number(*part->angle()) + "\n" + notes));
            } else if (words[0] == "speed") {
                const double speed = QString::fromStdString(part->face()).section(' ', 0, 0).toDouble();
                QVERIFY2(speed >= words[3].toDouble() && speed <= words[5].toDouble(), qPrintable(QString::number(speed) + "\n" + notes));
            } else if (words[0] == "holds") {
                const auto kept = world.keepContents();
                QVERIFY2(kept.has_value(), kept ? "" : kept.error().text().c_str());
                QFile keeps(folder.filePath(words[1]));
                QVERIFY(keeps.open(QIODevice::ReadOnly) && keeps.seek(words[2].toLongLong(nullptr, 0)));
                const QByteArray bytes = keeps.read(words.size() - 3);
                QVERIFY2(bytes == QByteArray::fromHex(words.mid(3).join(' ').toLatin1()), bytes.toHex(' ').constData());
                // And once more there is nothing to write.
                QVERIFY(keeps.remove() && world.keepContents().has_value() && !keeps.exists());
            } else if (words[0] == "box") {
                QVERIFY(part != nullptr);
                const parts::Part::Dots dots = part->dots();
                QRect box;
                for (int i = 0; i < dots.columns * dots.rows; ++i)
                    if (dots.colors[static_cast<std::size_t>(i)] != dots.colors.back())
                        box = box.united(QRect(i % dots.columns, i / dots.columns, 1, 1));
                const QString seen = QString("%1 %2 %3 %4").arg(box.x()).arg(box.y()).arg(box.width()).arg(box.height());
                QVERIFY2(seen == words.mid(2).join(' '), qPrintable(seen));
            } else if (words[0] == "finding") {
                QVERIFY2(notes.contains(words[1] + " " + words[2] + ":"), qPrintable(notes));
            } else if (words[0] == "quiet") {
                for (const auto& f : world.findings())
                    QVERIFY2(f.severity == bench::Severity::note, qPrintable(notes));
            }
        }
        made.blankFiles();
        auto again = bench::World::build(*document, *catalogue, {.folder = folder.path().toStdString()}, nullptr);
        QVERIFY(again.has_value());
        askWhy(**again, driver);
    }

    void theyHadMuchToSay()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        QVERIFY2(asked_ > 5000 && bitsSeen_ > 1500, qPrintable(QString("%1 %2").arg(asked_).arg(bitsSeen_)));
    }

    // What goes on from a snapshot is what went on.
    void theyGoOnFromASnapshot()
    {
        static const auto catalogue = bench::Catalogue::loadInstalled();
        for (const auto& [id, kind] : catalogue->kinds()) {
            if (!kind.listed || kind.chip != nullptr || kind.behaviour.empty())
                continue;
            std::string text = "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\nat = [0, 0]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [0, 9]\n[[part]]\nid = \"p\"\nkind = \"" + id + "\"\nat = [9, 9]\n";
            for (const char* pin : {"VCC", "VDD", "VS", "V+", "+"})
                if (kind.pin(pin) != nullptr)
                    text += "[[wire]]\nends = [\"v.V\", \"p." + std::string(pin) + "\"]\n";
            for (const char* pin : {"GND", "V-", "-"})
                if (kind.pin(pin) != nullptr)
                    text += "[[wire]]\nends = [\"g.V\", \"p." + std::string(pin) + "\"]\n";
            auto made = bench::World::build(*bench::parseDocument("t", text), *catalogue, {}, nullptr);
            QVERIFY2(made.has_value(), made ? "" : made.error().text().c_str());
            bench::World& world = **made;
            world.runUntil(Time(20ms));
            for (const auto& control : kind.controls)
                QVERIFY(world.setControl("p", control.name, control.most == 1 && control.type != "dial" ? 1 : control.logarithmic ? std::sqrt(control.least * control.most) : (control.least + control.most) / 2).has_value());
            world.runUntil(Time(25ms));
            const auto save = [&] {
                kernel::SaveArchive ar;
                ar(world);
                return ar.take();
            };
            const kernel::Snapshot then = save();
            world.runUntil(Time(200ms));
            const kernel::Snapshot later = save();
            kernel::LoadArchive back(then);
            back(world);
            QVERIFY2(back.atEnd(), id.c_str());
            QVERIFY2(save() == then, id.c_str());
            world.runUntil(Time(200ms));
            QVERIFY2(save() == later, id.c_str());
        }
    }
};

QTEST_GUILESS_MAIN(DriversTest)
#include "drivers_test.moc"
