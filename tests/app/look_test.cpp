// The two looks: that they can be read, that a change shows at once everywhere, and where the desktop's choice comes from.
#include "app/shell/settings.h"
#include "app/shell/settings_dialog.h"
#include "app/shell/system_look.h"
#include "app/shell/theme.h"
#include "application.h"
#include "contrast.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QSettings>

#include "app/debug/gdb_link.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

using test::contrast;

class LookTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void cleanup()
    {
        QSettings().remove("look/theme");
        QSettings().remove("ports");
        theme::setLook(theme::Look::light);
    }

    // A pin's name lies neither over another nor over anything that is drawn on its part.
    void namesOfPinsStandFree()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.resize(1280, 800);
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        PartArt art;
        QStringList faults;
        int names = 0;
        for (const auto& [id, kind] : catalogue_.kinds()) {
            if (!kind.listed || kind.chip != nullptr || kind.plugs)
                continue;
            window.editor().newBench();
            window.editor().change("part", [&](bench::Document& d) { bench::addPart(d, kind, {10, 10}); });
            const bench::PartItem& part = window.editor().document().parts[0];
            QCoreApplication::processEvents();
            constexpr double kScale = 4;
            const QRectF box = art.sheetBox(kind, part).adjusted(-30, -30, 30, 30);
            QImage drawn((box.size() * kScale).toSize(), QImage::Format_RGB32);
            drawn.fill(theme::paper());
            QPainter painter(&drawn);
            painter.setRenderHint(QPainter::Antialiasing);
            painter.scale(kScale, kScale);
            painter.translate(toUnits(part.at) - box.topLeft());
            art.drawBody(painter, kind, part, kScale);
            art.drawStill(painter, kind, part);
            art.drawFace(painter, kind, part, session::Picture{});
            painter.end();
            const auto all = window.benchView().pinNames();
            for (const BenchView::PinName& name : all) {
                ++names;
                for (const BenchView::PinName& other : all)
                    if (name.pin < other.pin && name.box.intersects(other.box))
                        faults << QString("%1: %2 lies over %3").arg(QString::fromStdString(id), name.text, other.text);
                if (name.ink == BenchView::PinName::Ink::beside)
                    continue;
                // One ground, but for a few of its pixels.
                const QRect there = QRectF((name.box.topLeft() - box.topLeft()) * kScale, name.box.size() * kScale).toRect() & drawn.rect();
                std::map<int, int> light;
                for (int y = there.top(); y <= there.bottom(); ++y)
                    for (int x = there.left(); x <= there.right(); ++x)
                        ++light[qGray(drawn.pixel(x, y)) / 16];
                int most = 0, sum = 0;
                for (const auto& [tone, n] : light) {
                    most = std::max(most, n);
                    sum += n;
                }
                if (most < sum * 85 / 100)
                    faults << QString("%1: %2 lies over something, %3 % of its ground are one tone").arg(QString::fromStdString(id), name.text).arg(100 * most / std::max(1, sum));
            }
        }
        QVERIFY(names > 250);
        for (const QString& fault : faults)
            qWarning("%s", qPrintable(fault));
        QCOMPARE(faults.size(), 0);
    }

    void textCanBeRead_data()
    {
        QTest::addColumn<bool>("dark");
        QTest::newRow("light") << false;
        QTest::newRow("dark") << true;
    }

    void textCanBeRead()
    {
        QFETCH(bool, dark);
        theme::setLook(dark ? theme::Look::dark : theme::Look::light);
        const auto readable = [](const theme::Tone& text, std::initializer_list<const theme::Tone*> grounds) {
            for (const theme::Tone* ground : grounds) {
                const double c = contrast(text(), (*ground)());
                QVERIFY2(c >= 4.5, qPrintable(QString("%1 on %2: %3").arg(text.name, ground->name).arg(c)));
            }
        };
        readable(theme::ink, {&theme::paper, &theme::panel, &theme::card, &theme::quiet, &theme::hover, &theme::chosen, &theme::changed, &theme::selected, &theme::warningGround, &theme::dataGround, &theme::heapGround, &theme::stackGround});
        readable(theme::muted, {&theme::paper, &theme::panel, &theme::card, &theme::quiet});
        readable(theme::bramble, {&theme::paper, &theme::panel, &theme::card, &theme::quiet, &theme::chosen, &theme::changed});
        readable(theme::rust, {&theme::paper, &theme::panel, &theme::card});
        readable(theme::sky, {&theme::panel, &theme::card});
        readable(theme::leaf, {&theme::card});
        readable(theme::warningInk, {&theme::warningGround, &theme::panel, &theme::card});
        readable(theme::errorInk, {&theme::errorGround});
        readable(theme::goodInk, {&theme::goodGround});
        readable(theme::white, {&theme::go, &theme::accent});
        for (const theme::Tone* t : {&theme::comment, &theme::quoted, &theme::number, &theme::directive, &theme::count})
            readable(*t, {&theme::card});
        // A wire is a line, not text: 3:1 (section 1.4.11), and a little less for the amber one that was there first.
        for (const char* wire : {"ink", "rust", "leaf", "sky", "violet", "bark", "slate"})
            QVERIFY2(contrast(theme::wireColor(wire), theme::paper()) >= 3, wire);
    }

    void aChangeShowsAtOnce()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.resize(1000, 700);
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        const auto paper = [&] { return window.benchView().grab().toImage().pixelColor(30, 30); };
        const auto panel = [&] { return window.findChild<QWidget*>("inspector")->grab().toImage().pixelColor(4, 4); };
        QLabel rich, plain;
        theme::write(&rich, "<span style='color:@rust'>what is @ink here</span>");
        theme::dress(&plain, "color: @muted;");
        QCOMPARE(paper(), theme::paper());
        QVERIFY(plain.styleSheet().contains("#6a6072"));
        theme::setLook(theme::Look::dark);
        QVERIFY(paper().lightnessF() < 0.3);
        QVERIFY(panel().lightnessF() < 0.3);
        QCOMPARE(paper(), theme::paper());
        QVERIFY(plain.styleSheet().contains(theme::muted().name()));
        QVERIFY(rich.text().contains("color:" + theme::rust().name()));
        QVERIFY(rich.text().contains("what is @ink here"));  // a person's words are left alone
        theme::setLook(theme::Look::light);
        QVERIFY(paper().lightnessF() > 0.8);
        QVERIFY(panel().lightnessF() > 0.8);
        // No tone is left by its name in any sheet: a name that is misspelt would be.
        for (QWidget* w : QApplication::allWidgets())
            QVERIFY2(!w->styleSheet().contains('@'), qPrintable(w->objectName() + ": " + w->styleSheet()));
        QVERIFY(!qApp->styleSheet().contains('@'));
    }

    void partsStayVisibleOnDarkPaper()
    {
        // A bare chip is black: its body and the paper differ in both looks.
        theme::setLook(theme::Look::dark);
        PartArt art;
        const bench::PartKind* kind = catalogue_.find("atmega328p");
        QVERIFY(kind != nullptr);
        bench::PartItem part;
        part.kind = kind->id;
        QImage image(600, 400, QImage::Format_RGB32);
        image.fill(theme::paper());
        QPainter painter(&image);
        painter.translate(100, 100);
        art.drawBody(painter, *kind, part, 0);
        painter.end();
        const QRectF box = art.bodyBox(*kind).translated(100, 100);
        QVERIFY(contrast(image.pixelColor(box.center().toPoint() + QPoint(3, 7)), theme::paper()) > 1.35);
    }

    void theDialogSetsIt()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        SystemLook system;
        connect(&window, &MainWindow::settingsChanged, this, [&system] { applyLook(system); });
        window.openSettings();
        auto* dialog = window.findChild<SettingsDialog*>();
        QVERIFY(dialog != nullptr);
        dialog->findChild<QComboBox*>("look")->setCurrentText("dark");
        for (QPushButton* b : dialog->findChildren<QPushButton*>())
            if (b->text().contains("Save"))
                QTest::mouseClick(b, Qt::LeftButton);
        QCOMPARE(settings::look(), settings::LookChoice::dark);
        QCOMPARE(theme::look(), theme::Look::dark);
    }

    void theDesktopIsFollowed()
    {
        SystemLook system;
        int changes = 0;
        connect(&system, &SystemLook::changed, this, [&] {
            ++changes;
            applyLook(system);
        });
        const auto says = [&](const QString& group, const QString& key, const QVariant& value) {
            QVERIFY(QMetaObject::invokeMethod(&system, "portalSaid", Q_ARG(QString, group), Q_ARG(QString, key), Q_ARG(QDBusVariant, QDBusVariant(value))));
        };
        const theme::Look before = system.look();
        QCOMPARE(before, theme::Look::light);
        says("org.freedesktop.appearance", "color-scheme", 1U);
        QCOMPARE(theme::look(), theme::Look::dark);
        says("org.freedesktop.appearance", "color-scheme", 1U);
        QCOMPARE(changes, 1);
        says("org.freedesktop.appearance", "contrast", 2U);
        says("org.freedesktop.appearance", "color-scheme", 7U);
        says("org.freedesktop.appearance", "color-scheme", "no number");
        QCOMPARE(theme::look(), theme::Look::dark);
        says("org.freedesktop.appearance", "color-scheme", 2U);
        QCOMPARE(theme::look(), theme::Look::light);
        // Who chose a look keeps it.
        QSettings().setValue("look/theme", "light");
        says("org.freedesktop.appearance", "color-scheme", 1U);
        QCOMPARE(theme::look(), theme::Look::light);
    }

    void portsThatAreNotAllowedStayClosed()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        QSettings().setValue("ports/gdb", false);
        GdbLink link(window.editor());
        QStringList said;
        connect(&window.editor(), &Editor::message, this, [&](const QString& text, bool) { said << text; });
        link.open();
        QCOMPARE(link.port(), 0);
        QVERIFY(said.join(" ").contains("not allowed in the settings"));
        QSettings().setValue("ports/gdb", true);
        link.open();
        QVERIFY(link.port() != 0);
        link.close();
    }
};

QTEST_MAIN(LookTest)
#include "look_test.moc"
