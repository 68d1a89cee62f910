// Every part that firmware talks to, by hand: out of the drawer, wired by the mouse, firmware loaded, run, its controls turned; what its driver prints and
// what its face shows must be what the head of the driver says (tests/parts/drivers).
#include <QListWidget>
#include <QStandardPaths>
#include <QToolButton>
#include <QtTest>

#include "app/application.h"
#include "app/shell/main_window.h"
#include "parts/driver_source.h"

using namespace bramix;
using namespace bramix::app;

class DrivenByHandTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void aPersonWiresAndRunsIt_data() { test::DriverBench::rows(); }

    void aPersonWiresAndRunsIt()
    {
        QFETCH(QString, source);
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        const test::DriverBench built(source);
        const auto& [folder, elf, driver] = built;
        QVERIFY2(driver.trouble.isEmpty(), qPrintable(driver.trouble));

        MainWindow window(catalogue_);
        window.neverAsk();
        window.resize(1280, 800);
        window.show();
        Editor& editor = window.editor();
        QString said;
        connect(&editor, &Editor::serialReceived, this, [&](const std::vector<session::SerialByte>& bytes) {
            for (const session::SerialByte& b : bytes)
                if (b.fromChip)
                    said += QChar(b.byte);
        });
        editor.session().setFullSpeed(true);
        BenchView& view = window.benchView();
        auto* list = window.findChild<QListWidget*>("drawerParts");
        QVERIFY(list != nullptr);
        for (QToolButton* rail : window.findChildren<QToolButton*>())
            if (rail->toolTip() == "Parts")
                QTest::mouseClick(rail, Qt::LeftButton);
        QTRY_VERIFY(list->isVisible());

        std::map<QString, std::string> idOf;
        const auto take = [&](const QString& id, const QString& kind) {
            const std::size_t before = editor.document().parts.size();
            for (int i = 0; i < list->count(); ++i)
                if (list->item(i)->data(Qt::UserRole).toString() == kind) {
                    list->scrollToItem(list->item(i));
                    QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(list->item(i)).center());
                }
            QCOMPARE(editor.document().parts.size(), before + 1);
            idOf[id] = editor.document().parts.back().id;
            view.fitAll();
        };
        take("mcu", driver.low ? "atmega328p" : "briar-328");
        if (driver.low) {
            take("v3", "supply-3v3");
            take("g", "ground");
        }
        for (const auto& part : driver.parts)
            take(part.id, part.kind);
        // Settings, as the inspector makes them; files are named in full.
        editor.change("settings", [&](bench::Document& d) {
            for (const auto& part : driver.parts) {
                if (part.rest.isEmpty())
                    continue;
                const QString text = QString("bramix = 1\n[[part]]\nid = \"x\"\nkind = \"%1\"\nat = [0, 0]\n%2\n").arg(part.kind, part.rest);
                const bench::PartItem given = bench::parseDocument("t", text.toStdString())->parts[0];
                bench::PartItem& placed = *d.part(idOf.at(part.id));
                placed.set = given.set;
                for (auto& [name, value] : placed.set)
                    if (driver.files.contains(QString::fromStdString(value)))
                        value = folder.filePath(QString::fromStdString(value)).toStdString();
                placed.order = given.order;
            }
            if (driver.low)
                d.part(idOf.at("mcu"))->set["CKDIV8"] = std::string("1");
        });
        view.fitAll();
        QTest::qWait(5);
        const auto ref = [&](const QString& pin) { return bench::PinRef{idOf.at(pin.section('.', 0, 0)), pin.section('.', 1).toStdString()}; };
        auto wires = driver.wires;
        if (driver.low)
            wires.insert(wires.begin(), {{"v3.V", "mcu.VCC"}, {"g.V", "mcu.GND"}});
        for (const auto& [from, to] : wires) {
            const auto a = view.pinInWidget(ref(from)), b = view.pinInWidget(ref(to));
            QVERIFY2(a && b, qPrintable(from + " " + to));
            const std::size_t before = editor.document().wires.size();
            QTest::mousePress(&view, Qt::LeftButton, {}, a->toPoint());
            QTest::mouseMove(&view, ((*a + *b) / 2).toPoint());
            QTest::mouseMove(&view, b->toPoint());
            QTest::mouseRelease(&view, Qt::LeftButton, {}, b->toPoint());
            QVERIFY2(editor.document().wires.size() == before + 1, qPrintable(from + " " + to + " could not be drawn"));
        }
        editor.loadFirmware(idOf.at("mcu"), elf);
        editor.session().settle();

        const auto runTo = [&](double ms) {
            const kernel::Time goal{kernel::Duration(static_cast<std::int64_t>(ms * 1e9))};
            if (editor.picture().now >= goal)
                return;
            bench::StopItem once;
            once.at = QString("time %1us").arg(std::llround(ms * 1000)).toStdString();
            editor.session().runTo(once);
            editor.session().settle();
            QTRY_VERIFY_WITH_TIMEOUT(editor.picture().now >= goal && !editor.picture().running, 60'000);
        };
        for (const auto& m : driver.moments) {
            const QString what = m.line.section(QRegularExpression("[ @]"), 0, 0);
            if (what != "set")
                continue;  // how long something shines is looked at without a window
            runTo(m.ms);
            const QString name = m.line.section(' ', 1).section('@', 0, 0);
            editor.setControl(idOf.at(name.section('.', 0, 0)), name.section('.', 1).toStdString(), m.line.section('=', 1).toDouble());
        }
        runTo(driver.runMs);
        QTest::qWait(40);
        QVERIFY2(editor.picture().stopped.empty(), editor.picture().stopped.c_str());
        qsizetype from = 0;
        for (const QString& line : driver.head) {
            const QStringList words = line.split(' ', Qt::SkipEmptyParts);
            const auto part = words.size() > 1 && idOf.contains(words[1]) ? editor.picture().parts.find(idOf.at(words[1])) : editor.picture().parts.end();
            if (words[0] == "expect") {
                const QString wanted = line.section(' ', 1);
                const qsizetype at = said.indexOf(wanted, from);
                QVERIFY2(at >= 0, qPrintable("expected \"" + wanted + "\" in:\n" + said));
                from = at + wanted.size();
            } else if (words[0] == "look") {
                QVERIFY(part != editor.picture().parts.end());
                QCOMPARE(QString::fromStdString(part->second.face).replace('\n', '|'), line.section('"', 1, 1));
            } else if (words[0] == "angle") {
                QVERIFY(part != editor.picture().parts.end() && part->second.angle);
                QVERIFY(std::fabs(*part->second.angle - words[3].toDouble()) < 0.1);
            }
        }
    }
};

QTEST_MAIN(DrivenByHandTest)
#include "driven_by_hand_test.moc"
