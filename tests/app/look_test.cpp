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
