// Every kind by hand: out of the drawer onto the bench, wired to a board by the mouse, run, turned, and away again; nothing goes wrong on the way.
#include <QListWidget>
#include <QToolButton>
#include <QtTest>

#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class KindsTest : public QObject {
    Q_OBJECT

private slots:
    void initTestCase() { catalogue_ = std::make_unique<bench::Catalogue>(*bench::Catalogue::loadInstalled()); }

    void eachGoesOntoTheBenchAndRuns_data()
    {
        QTest::addColumn<QString>("id");
        for (const auto& [id, kind] : catalogue_->kinds())
            if (kind.listed && kind.chip == nullptr)
                QTest::newRow(id.c_str()) << QString::fromStdString(id);
    }

    void eachGoesOntoTheBenchAndRuns()
    {
        QFETCH(QString, id);
        const bench::PartKind& kind = *catalogue_->find(id.toStdString());
        MainWindow window(*catalogue_);
        window.neverAsk();
        window.show();
        QStringList errors;
        connect(&window.editor(), &Editor::message, this, [&](const QString& text, bool error) {
            if (error)
                errors << text;
        });
        window.editor().change("board", [&](bench::Document& d) { bench::addPart(d, *catalogue_->find("briar-328"), {4, 24}); });
        BenchView& view = window.benchView();

        // Found in the drawer, chosen by a click.
        auto* list = window.findChild<QListWidget*>("drawerParts");
        QVERIFY(list != nullptr);
        for (QToolButton* rail : window.findChildren<QToolButton*>())
            if (rail->toolTip() == "Parts")
                QTest::mouseClick(rail, Qt::LeftButton);
        QTRY_VERIFY(list->isVisible());
        QListWidgetItem* item = nullptr;
        for (int i = 0; i < list->count(); ++i)
            if (list->item(i)->data(Qt::UserRole).toString() == id)
                item = list->item(i);
        QVERIFY(item != nullptr && !item->icon().isNull());
        list->scrollToItem(item);
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(item).center());
        QTRY_COMPARE(window.editor().document().parts.size(), std::size_t{2});
        const std::string part = window.editor().document().parts[1].id;
        view.fitAll();
        QTest::qWait(10);

        // Wires by dragging: supplies where they belong, another lead to a port pin.
        const auto drag = [&](const std::string& pin, const char* to) {
            const auto a = view.pinInWidget({part, pin}), b = view.pinInWidget({window.editor().document().parts[0].id, to});
            QVERIFY2(a && b, pin.c_str());
            QTest::mousePress(&view, Qt::LeftButton, {}, a->toPoint());
            QTest::mouseMove(&view, ((*a + *b) / 2).toPoint());
            QTest::mouseMove(&view, b->toPoint());
            QTest::mouseRelease(&view, Qt::LeftButton, {}, b->toPoint());
        };
        std::size_t wires = 0;
        bool port = false;
        for (const bench::PinKind& pin : kind.pins) {
            if (kind.plugs && wires > 0)
                break;
            const bool plus = pin.name == "VCC" || pin.name == "VDD" || pin.name == "VS" || pin.name == "V+";
            const bool minus = pin.name == "GND" || pin.name == "V-" || pin.ground;
            if (!plus && !minus && (port || pin.supplyVolts))
                continue;
            drag(pin.name, plus ? "5V" : minus ? "GND" : "PB1");
            port = port || (!plus && !minus);
            ++wires;
        }
        QCOMPARE(window.editor().document().wires.size(), wires);
        window.editor().session().settle();
        window.editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(window.editor().picture().now > kernel::Time(std::chrono::milliseconds(20)), 20'000);
        window.editor().select({{part}, {}});
        for (const bench::ControlKind& control : kind.controls)
            window.editor().setControl(part, control.name, control.type == "dial" ? (control.least + control.most) / 2 : 1);
        QTest::qWait(20);
        const QImage shown = window.grab().toImage();
        QVERIFY(!shown.isNull());
        window.editor().session().settle();
        QVERIFY(window.editor().picture().stopped.empty());

        // Turned and away again; the file keeps it.
        view.setFocus();
        QTest::keyClick(&view, Qt::Key_R);
        QCOMPARE(window.editor().document().part(part)->turn, 1);
        const std::string file = bench::writeDocument(window.editor().document());
        QVERIFY(*bench::parseDocument("t", file) == window.editor().document());
        QTest::keyClick(&view, Qt::Key_Delete);
        QVERIFY(window.editor().document().part(part) == nullptr && window.editor().document().wires.empty());
        QTest::keyClick(&view, Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(window.editor().document().wires.size(), wires);
        window.editor().session().settle();
        QVERIFY2(errors.isEmpty(), qPrintable(errors.join('\n')));
    }

private:
    std::unique_ptr<bench::Catalogue> catalogue_;
};

QTEST_MAIN(KindsTest)
#include "kinds_test.moc"
