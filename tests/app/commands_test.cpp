// To be found without a manual: every command stands in the menu and in the search, with its keys; letters act where one is and say what they did; typing in
// code is no command; what lies under the pointer has a menu; the guide and the list of keys.
#include "application.h"

#include <QFileDialog>
#include <QLabel>
#include <QListWidget>
#include <QMenu>
#include <QPushButton>
#include <QSettings>
#include <QSpinBox>
#include <QToolButton>

#include "app/shell/keys_card.h"
#include "app/shell/main_window.h"
#include "app/shell/settings.h"
#include "app/shell/settings_dialog.h"
#include "app/shell/tour.h"

using namespace bramix;
using namespace bramix::app;

namespace {

// All rows of a menu, its submenus too.
std::vector<QAction*> rowsOf(QMenu& menu)
{
    std::vector<QAction*> out;
    for (QAction* row : menu.actions())
        if (row->menu() != nullptr)
            for (QAction* inner : rowsOf(*row->menu()))
                out.push_back(inner);
        else if (!row->isSeparator())
            out.push_back(row);
    return out;
}

QAction* rowNamed(QMenu& menu, const QString& text)
{
    for (QAction* row : rowsOf(menu))
        if (row->text().section('\t', 0, 0) == text)
            return row;
    return nullptr;
}

}  // namespace

class CommandsTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;

    Editor& editor() { return window_->editor(); }
    BenchView& view() { return window_->benchView(); }
    std::string add(const char* kind, bench::GridPoint at)
    {
        std::string id;
        editor().change("add", [&](bench::Document& d) { id = bench::addPart(d, *catalogue_.find(kind), at); });
        view().fitAll();
        return id;
    }
    QString said() { return window_->findChild<QLabel*>("message")->text(); }
    double control(const std::string& name)
    {
        const auto found = editor().picture().controls.find(name);
        return found == editor().picture().controls.end() ? -1 : found->second;
    }
    void openLock()
    {
        QVERIFY(editor().openFile(QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml"));
        view().fitAll();
        editor().session().settle();
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }
    void init()
    {
        QSettings().clear();
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        view().setFocus();
    }
    void cleanup() { window_.reset(); }

    void everyCommandStandsInTheMenuAndInTheSearch()
    {
        QMenu* menu = window_->makeMenu();
        std::set<QString> there;
        for (QAction* row : rowsOf(*menu))
            there.insert(row->objectName());
        QVERIFY(window_->commands().size() > 60);
        for (const Command& c : window_->commands()) {
            QVERIFY2(there.contains(c.id), qPrintable(c.id));
            if (!c.keys.isEmpty())
                QVERIFY2(std::any_of(rowsOf(*menu).begin(), rowsOf(*menu).end(), [](QAction*) { return true; }) && menu->findChild<QAction*>(c.id) != nullptr, qPrintable(c.id));
            window_->openFindAnything();
            window_->pickList().line()->setText(c.name);
            const auto* list = window_->pickList().findChild<QListWidget*>();
            QVERIFY2(list != nullptr && list->count() > 0, qPrintable(c.name));
        }
        for (const Command& c : window_->commands())
            for (QAction* row : rowsOf(*menu))
                if (row->objectName() == c.id && !c.keys.isEmpty())
                    QVERIFY2(row->text().endsWith('\t' + c.shownKey()), qPrintable(row->text()));
        delete menu;
    }

    void noKeyMeansTwoThings()
    {
        std::map<QString, QString> taken;
        for (const Command& c : window_->commands())
            for (const QKeySequence& key : c.keys) {
                const QString name = QString("%1 %2").arg(c.where == Keys::code).arg(key.toString());
                QVERIFY2(!taken.contains(name), qPrintable(key.toString() + ": " + c.id + " and " + taken[name]));
                taken[name] = c.id;
            }
    }

    void wordsOfTheTradeFindCommandsAndParts()
    {
        for (const auto& [typed, found] : {std::pair("main.c", "Code"), std::pair("edit", "Edit the source"), std::pair("rotate", "Rotate"), std::pair("compile", "Build and restart"), std::pair("resistor 160", "Add: Resistor, 160")}) {
            window_->openFindAnything();
            window_->pickList().line()->setText(typed);
            auto* list = window_->pickList().findChild<QListWidget*>();
            QStringList titles;
            for (int i = 0; i < list->count(); ++i)
                titles << list->item(i)->text();
            QVERIFY2(std::any_of(titles.begin(), titles.end(), [found = QString(found)](const QString& t) { return t.startsWith(found); }), qPrintable(QString(typed) + ": " + titles.join(", ")));
        }
    }

    // With the focus on the tape and the pointer elsewhere, R turns nothing; on the bench it does, and says so, and so does undo.
    void lettersActOnTheBenchOnly()
    {
        const std::string id = add("resistor", {10, 10});
        editor().select({{id}, {}});
        window_->tapeView().setFocusPolicy(Qt::StrongFocus);
        window_->tapeView().setFocus();
        QTest::mouseMove(&window_->tapeView(), QPoint(200, 60));
        QTest::keyClick(QApplication::focusWidget(), Qt::Key_R);
        QCOMPARE(editor().document().part(id)->turn, 0);
        view().setFocus();
        QTest::keyClick(&view(), Qt::Key_R);
        QCOMPARE(editor().document().part(id)->turn, 1);
        QVERIFY2(said().contains("turn") && said().contains("Ctrl+Z"), qPrintable(said()));
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(editor().document().part(id)->turn, 0);
        QVERIFY2(said().contains("Undone: turn"), qPrintable(said()));
    }

    // A word typed into code that is being read sets no stop and runs nothing; it is offered to be written there.
    void typingIntoCodeOffersToEdit()
    {
        openLock();
        window_->showCode(true);
        window_->openCode("mcu", "lock.c:40");
        QTRY_VERIFY_WITH_TIMEOUT(window_->code().view() != nullptr && window_->code().view()->lines() > 20, 10'000);
        QTest::qWait(400);  // until the place has been opened
        CodeView& code = *window_->code().view();
        code.setFocus();
        const auto before = editor().document();
        auto* mode = window_->findChild<QLabel*>("codeMode");
        QVERIFY(mode->text().contains("Reading"));
        for (const Qt::Key key : {Qt::Key_B, Qt::Key_I, Qt::Key_G})
            QTest::keyClick(&code, key);
        QTest::qWait(450);
        QVERIFY(editor().document() == before);
        QVERIFY(!editor().picture().running);
        QVERIFY2(mode->text().contains("big"), qPrintable(mode->text()));
        QTest::keyClick(&code, Qt::Key_Escape);
        QVERIFY(mode->text().contains("Reading"));
        // One letter alone is its command.
        QTest::keyClick(&code, Qt::Key_B);
        QTRY_COMPARE_WITH_TIMEOUT(editor().document().stops.size(), before.stops.size() + 1, 2'000);
        // What has been typed is written where one edits.
        for (const Qt::Key key : {Qt::Key_X, Qt::Key_Y})
            QTest::keyClick(&code, key);
        QVERIFY(mode->text().contains("xy"));
        QTest::keyClick(&code, Qt::Key_Return);
        QVERIFY(code.isEditing());
        QVERIFY(mode->text().contains("Editing"));
        QVERIFY(code.text().contains("xy"));
        code.undo();
        code.setModified(false);
    }

    // A net flag stands off its pin: a double click on it asks for its name, the right button opens its pin's menu.
    void aNetFlagIsTakenHoldOf()
    {
        const std::string part = add("resistor", {20, 10});
        const bench::PinRef pin{part, "2"};
        editor().change("net flag", [&](bench::Document& d) { bench::setNetFlag(d, editor().catalogue(), pin, "OPEN"); });
        QTest::qWait(60);
        (void)view().grab();
        const QPointF at = *view().pinInWidget(pin);
        std::optional<QPoint> flag;
        for (double away = 14; away < 60 && !flag; away += 2)
            for (const QPointF way : {QPointF(1, 0), QPointF(-1, 0), QPointF(0, 1), QPointF(0, -1)})
                if (const auto target = view().targetAt(at + way * away); away > 20 && target.pin == pin)
                    flag = (at + way * away).toPoint();
        QVERIFY(flag.has_value());
        QSignalSpy wanted(&view(), &BenchView::menuWanted);
        QTest::mouseClick(&view(), Qt::RightButton, {}, *flag);
        QCOMPARE(wanted.size(), 1);
        QVERIFY(wanted[0][0].value<BenchView::Target>().pin == pin);
        if (QWidget* popup = QApplication::activePopupWidget()) {
            QVERIFY(rowNamed(*qobject_cast<QMenu*>(popup), "Take the flag OPEN away") != nullptr);
            popup->close();
        }
        QTest::mouseDClick(&view(), Qt::LeftButton, {}, *flag);
        auto* line = view().findChild<QLineEdit*>("netFlag");
        QVERIFY(line != nullptr);
        QCOMPARE(line->text(), QString("OPEN"));
        line->setText("SHUT");
        QTest::keyClick(line, Qt::Key_Return);
        QCOMPARE(bench::netFlagOf(editor().document(), pin), std::string("SHUT"));
    }

    void whatLiesUnderThePointerHasAMenu()
    {
        const std::string led = add("led", {10, 10}), key = add("resistor", {20, 10});
        view().wireBetween({led, "A"}, {key, "1"});
        std::unique_ptr<QMenu> part(window_->makeMenuOf({{}, {}, led}));
        rowNamed(*part, "Rotate")->trigger();
        QCOMPARE(editor().document().part(led)->turn, 1);
        std::unique_ptr<QMenu> pin(window_->makeMenuOf({bench::PinRef{key, "2"}, {}, key}));
        for (const char* row : {"Wire from here", "Wire to…", "Net flag…", "Toggle on the tape", "Toggle a probe", "Rotate"})
            QVERIFY2(rowNamed(*pin, row) != nullptr, row);
        rowNamed(*pin, "Toggle on the tape")->trigger();
        const auto lanes = editor().lanes();
        QVERIFY(std::find(lanes.begin(), lanes.end(), bench::PinRef{key, "2"}) != lanes.end());
        std::unique_ptr<QMenu> wire(window_->makeMenuOf({{}, 0, {}}));
        rowNamed(*wire, "leaf")->trigger();
        QCOMPARE(editor().document().wires[0].color, "leaf");
        std::unique_ptr<QMenu> paper(window_->makeMenuOf({}));
        QVERIFY(rowNamed(*paper, "Add a part…") != nullptr && rowNamed(*paper, "Undo: colour") != nullptr);
        // The right button without a move opens it; with one it moves the sheet.
        QSignalSpy wanted(&view(), &BenchView::menuWanted);
        QTest::mouseClick(&view(), Qt::RightButton, {}, QPoint(30, view().height() - 30));
        QCOMPARE(wanted.size(), 1);
        if (QWidget* popup = QApplication::activePopupWidget())
            popup->close();
        QTest::mousePress(&view(), Qt::RightButton, {}, QPoint(30, 30));
        QTest::mouseMove(&view(), QPoint(90, 60));
        QTest::mouseRelease(&view(), Qt::RightButton, {}, QPoint(90, 60));
        QCOMPARE(wanted.size(), 1);
    }

    // The bead beside a board's pin, and its name on the board, are the pin.
    void theBeadAndTheNameAreThePin()
    {
        const std::string board = add("briar-328", {10, 10}), led = add("led", {2, 12});
        for (const char* name : {"PB0", "PD3", "PC2"}) {
            const bench::PinRef ref{board, name};
            const bench::PartItem& item = *editor().document().part(board);
            const QPointF pad = *view().pinInWidget(ref);
            const QPointF middle = view().toWidget(toUnits(item.at) + QPointF(catalogue_.find("briar-328")->size.x, catalogue_.find("briar-328")->size.y) * kStep / 2);
            const bool sideways = std::abs(pad.x() - middle.x()) / catalogue_.find("briar-328")->size.x > std::abs(pad.y() - middle.y()) / catalogue_.find("briar-328")->size.y;
            const QPointF out = (sideways ? QPointF(pad.x() < middle.x() ? -1 : 1, 0) : QPointF(0, pad.y() < middle.y() ? -1 : 1)) * kStep * view().zoom();
            for (const double steps : {1.0, -1.2}) {
                QVERIFY(view().targetAt(pad + out * steps).pin.has_value());
                QCOMPARE(view().targetAt(pad + out * steps).pin->text(), ref.text());
            }
        }
        // A wire dropped on the bead is a wire.
        const QPointF lead = *view().pinInWidget({led, "A"});
        const QPointF pad = *view().pinInWidget({board, "PD3"});
        QPointF bead = pad;
        for (const QPointF d : {QPointF(kStep, 0), QPointF(-kStep, 0), QPointF(0, kStep), QPointF(0, -kStep)})
            if (view().targetAt(pad + d * view().zoom() * 1.3).pin == bench::PinRef{board, "PD3"})
                bead = pad + d * view().zoom();
        QTest::mousePress(&view(), Qt::LeftButton, {}, lead.toPoint());
        QTest::mouseMove(&view(), (lead + QPointF(20, 20)).toPoint());
        QTest::mouseMove(&view(), bead.toPoint());
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, bead.toPoint());
        QCOMPARE(editor().document().wires.size(), std::size_t{1});
        QCOMPARE(editor().document().wires[0].to.text(), board + ".PD3");
    }

    // A quarter of the way round the shaft is a third of its range, which is three quarters of a turn.
    void aKnobIsTurnedByDragging()
    {
        const std::string pot = add("potentiometer", {10, 10});
        editor().setControl(pot, "position", 0.5);
        editor().run();
        QTRY_VERIFY(std::fabs(control(pot + ".position") - 0.5) < 1e-9);
        const bench::PartKind& kind = *catalogue_.find("potentiometer");
        const QPointF shaft = view().toWidget(toUnits(editor().document().part(pot)->at) + QPointF(kind.size.x * kStep / 2, 24));
        const auto at = [&](double degrees) { return (shaft + QPointF(std::cos(degrees * M_PI / 180), std::sin(degrees * M_PI / 180)) * 8).toPoint(); };
        const bench::GridPoint before = editor().document().part(pot)->at;
        QTest::mousePress(&view(), Qt::LeftButton, {}, at(-90));
        for (int degrees = -90; degrees <= 0; degrees += 5)
            QTest::mouseMove(&view(), at(degrees));
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, at(0));
        QVERIFY(editor().document().part(pot)->at == before);
        QTRY_VERIFY2(std::fabs(control(pot + ".position") - (0.5 + 90.0 / 270)) < 0.06, qPrintable(QString::number(control(pot + ".position"))));
    }

    void plusTurnsWhatLiesUnderThePointer()
    {
        const std::string first = add("potentiometer", {4, 10}), second = add("potentiometer", {24, 10});
        editor().select({{first}, {}});
        const double before = control(second + ".position");
        const bench::PartKind& kind = *catalogue_.find("potentiometer");
        QTest::mouseMove(&view(), view().toWidget(toUnits(editor().document().part(second)->at) + QPointF(kind.size.x, kind.size.y) * kStep / 2).toPoint());
        QTest::keyClick(&view(), Qt::Key_Plus);
        editor().session().settle();
        QTRY_VERIFY(control(second + ".position") != before);
        QVERIFY(!editor().document().part(first)->controls.contains("position"));
    }

    void aWiresEndGoesToAnotherPin()
    {
        const std::string led = add("led", {4, 10}), r = add("resistor", {14, 10});
        view().wireBetween({led, "A"}, {r, "1"});
        const std::string colour = editor().document().wires[0].color;
        editor().select({{}, {0}});
        const QPoint from = view().pinInWidget({r, "1"})->toPoint(), to = view().pinInWidget({r, "2"})->toPoint();
        QTest::mousePress(&view(), Qt::LeftButton, {}, from);
        QTest::mouseMove(&view(), from + QPoint(20, 12));
        QTest::mouseMove(&view(), to);
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, to);
        QCOMPARE(editor().document().wires.size(), std::size_t{1});
        const bench::WireItem& wire = editor().document().wires[0];
        QCOMPARE(std::minmax(wire.from, wire.to), std::minmax(bench::PinRef{led, "A"}, bench::PinRef{r, "2"}));
        QCOMPARE(wire.color, colour);
    }

    void aClickAfterSelectAllSelectsOne()
    {
        const std::string a = add("resistor", {4, 10});
        add("resistor", {24, 10});
        view().selectAll();
        QCOMPARE(editor().selection().parts.size(), std::size_t{2});
        const bench::PartKind& kind = *catalogue_.find("resistor");
        QTest::mouseClick(&view(), Qt::LeftButton, {}, view().toWidget(toUnits(editor().document().part(a)->at) + QPointF(kind.size.x, kind.size.y) * kStep / 2).toPoint());
        QCOMPARE(editor().selection().parts, std::set<std::string>{a});
    }

    void whatIsAddedComesIntoView()
    {
        openLock();
        view().zoomBy(3, QPointF(10, 10));
        QTest::mouseMove(&view(), QPoint(view().width() - 4, view().height() - 4));
        view().addPartAtPointer(*catalogue_.find("breadboard-full"));
        const std::string id = *editor().selection().parts.begin();
        PartArt art;
        const QRectF box = art.sheetBox(*catalogue_.find("breadboard-full"), *editor().document().part(id));
        const QRectF shown(view().toSheet({0, 0}), view().toSheet(QPointF(view().width(), view().height())));
        QVERIFY(shown.contains(box));
    }

    void aTypedValueIsSet()
    {
        window_->openAddPart("resistor 160");
        QTest::keyClick(window_->pickList().line(), Qt::Key_Return);
        QCOMPARE(editor().document().parts.size(), std::size_t{1});
        QCOMPARE(editor().document().parts[0].set.at("resistance"), "160");
    }

    // By keys alone: two pins by their names.
    void aWireByKeysAlone()
    {
        const std::string led = add("led", {4, 10}), r = add("resistor", {14, 10});
        QTest::keyClick(&view(), Qt::Key_W, Qt::ControlModifier);
        QTest::keyClicks(window_->pickList().line(), QString::fromStdString(led) + ".A");
        QTest::keyClick(window_->pickList().line(), Qt::Key_Return);
        QTRY_VERIFY(window_->pickList().isVisible());
        QTest::keyClicks(window_->pickList().line(), QString::fromStdString(r) + ".2");
        QTest::keyClick(window_->pickList().line(), Qt::Key_Return);
        QCOMPARE(editor().document().wires.size(), std::size_t{1});
        QCOMPARE(editor().document().wires[0].from.text(), led + ".A");
        QCOMPARE(editor().document().wires[0].to.text(), r + ".2");
    }

    void severalPartsHaveTheirSettingsInCommon()
    {
        const std::string a = add("resistor", {4, 10}), b = add("resistor", {14, 10});
        editor().change("set", [&](bench::Document& d) { d.part(b)->set["resistance"] = "4k7"; });
        editor().select({{a, b}, {}});
        auto* field = window_->findChild<QLineEdit*>("many-resistance");
        QVERIFY(field != nullptr);
        QVERIFY(field->text().isEmpty() && field->placeholderText() == "different");
        field->setFocus();
        QTest::keyClicks(field, "1k");
        QTest::keyClick(field, Qt::Key_Return);
        QCOMPARE(editor().document().part(a)->set.at("resistance"), "1k");
        QCOMPARE(editor().document().part(b)->set.at("resistance"), "1k");
    }

    void theRunButtonNeverMoves()
    {
        auto* run = window_->findChild<QToolButton*>("run");
        const QPoint before = run->mapTo(window_.get(), QPoint(0, 0));
        editor().change("title", [](bench::Document& d) { d.title = "A bench with a title as long as a canal on which nobody has gone for years"; });
        add("led", {4, 4});
        openLock();
        QCOMPARE(run->mapTo(window_.get(), QPoint(0, 0)), before);
        editor().change("wrong", [](bench::Document& d) { d.part("mcu")->firmware = "firmware/none.elf"; });
        editor().session().settle();
        QTest::qWait(100);
        QCOMPARE(run->mapTo(window_.get(), QPoint(0, 0)), before);
    }

    void theWindowCanBeSmall()
    {
        window_->resize(720, 460);
        QTest::qWait(50);
        QVERIFY2(window_->width() <= 740 && window_->height() <= 480, qPrintable(QString("%1 %2").arg(window_->width()).arg(window_->height())));
        window_->showCode(true);
        QTest::qWait(50);
        QVERIFY(window_->width() <= 900);
    }

    void theGuideOpensWhereOneIs()
    {
        const std::string led = add("led", {4, 10});
        editor().select({{led}, {}});
        QTest::keyClick(&view(), Qt::Key_F1);
        QVERIFY(window_->guide().isVisible());
        QCOMPARE(window_->guide().page(), "parts/led.md");
        QTest::keyClick(&window_->guide().searchLine(), Qt::Key_Escape);
        QVERIFY(!window_->guide().isVisible());
        window_->showSerial();
        window_->serialView().setFocusPolicy(Qt::StrongFocus);
        window_->serialView().setFocus();
        window_->openGuide();
        QCOMPARE(window_->guide().page(), "user-guide.md");
        QVERIFY(window_->guide().text().textCursor().block().text().contains("serial"));
        window_->guide().searchLine().setText("wavelength of nothing at all");
        QCOMPARE(window_->guide().contents().count(), 1);
        window_->guide().searchLine().setText("breadboard rails");
        QVERIFY(window_->guide().contents().count() >= 2);
        QTest::keyClick(&window_->guide().searchLine(), Qt::Key_Return);
        QVERIFY(window_->guide().text().toPlainText().contains("rails"));
    }

    void theListOfKeysHasThemAll()
    {
        QTest::keyClick(&view(), Qt::Key_Question);
        auto* card = window_->findChild<KeysCard*>();
        QVERIFY(card != nullptr && card->isVisible());
        QString shown;
        for (const QLabel* label : card->findChildren<QLabel*>())
            shown += label->text();
        for (const Command& c : window_->commands())
            if (!c.keys.isEmpty())
                QVERIFY2(shown.contains(">" + c.shownKey().toHtmlEscaped() + "<") && shown.contains(">" + c.name.toHtmlEscaped() + "<"), qPrintable(c.name));
        QTest::keyClick(card, Qt::Key_Escape);
        QTRY_VERIFY(window_->findChild<KeysCard*>() == nullptr);
    }

    void settingsAreKept()
    {
        window_->openSettings();
        auto* dialog = window_->findChild<SettingsDialog*>();
        QVERIFY(dialog != nullptr);
        dialog->findChild<QSpinBox*>("textPercent")->setValue(120);
        dialog->findChild<QSpinBox*>("autosaveSeconds")->setValue(7);
        QMetaObject::invokeMethod(dialog->findChild<QPushButton*>(), "clicked");
        for (QPushButton* b : dialog->findChildren<QPushButton*>())
            if (b->text().contains("Save"))
                QTest::mouseClick(b, Qt::LeftButton);
        QCOMPARE(settings::textPercent(), 120);
        QCOMPARE(settings::autosaveSeconds(), 7);
        QSettings().setValue("autosave/seconds", -5);
        QCOMPARE(settings::autosaveSeconds(), 1);
    }

    void theFirstStepsGoOnAsTheyAreDone()
    {
        openLock();
        window_->offerTour();
        auto* tour = window_->findChild<Tour*>();
        QVERIFY(tour != nullptr && tour->count() <= 5);
        editor().run();
        QTRY_COMPARE(tour->step(), std::size_t{1});
        editor().select({{"mcu"}, {}});
        QTRY_COMPARE(tour->step(), std::size_t{2});
        QTest::mouseClick(tour->findChild<QPushButton*>("tourLeave"), Qt::LeftButton);
        QTRY_VERIFY(window_->findChild<Tour*>() == nullptr);
        window_->offerTour();
        QVERIFY(window_->findChild<Tour*>() == nullptr);
    }

    // An example is saved elsewhere, and stays as it is.
    void anExampleIsNotOverwritten()
    {
        const QString file = QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml";
        QFile before(file);
        QVERIFY(before.open(QIODevice::ReadOnly));
        const QByteArray text = before.readAll();
        openLock();
        editor().change("title", [](bench::Document& d) { d.title = "Another"; });
        bool asked = false;
        QTimer::singleShot(300, this, [&] {
            if (auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget())) {
                asked = true;
                dialog->reject();
            }
        });
        QTest::keyClick(window_.get(), Qt::Key_S, Qt::ControlModifier);
        QVERIFY(asked);
        QFile after(file);
        QVERIFY(after.open(QIODevice::ReadOnly));
        QCOMPARE(after.readAll(), text);
    }
};

QTEST_MAIN(CommandsTest)
#include "commands_test.moc"
