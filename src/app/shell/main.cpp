// bramix [BENCH] [--picture FILE --for TIME]: the window, or one picture of it.
#include <QApplication>
#include <QCommandLineParser>
#include <QElapsedTimer>
#include <QPushButton>
#include <QComboBox>
#include <QLineEdit>
#include <QMenu>
#include <QPainter>
#include <QTimer>

#include <fmt/format.h>

#include "app/shell/main_window.h"
#include "app/shell/system_look.h"
#include "app/shell/theme.h"
#include "kernel/check.h"
#include "kernel/units.h"

namespace {

using namespace bramix;

// Runs the bench for a simulated while with the window open, draws it, and leaves.
struct Order {
    QString file;
    kernel::Duration until{}, back{}, tape{};
    bool serial = false, slow = false;
    QString stop;
    QStringList variables;  // as curves beside the serial text
    QStringList presses;    // buttons beside the serial line, by their labels
    QString lane;           // measured from mark to mark
    kernel::Time markA{}, markB{};
    bool large = false;     // the arrangement for measuring
    bool table = false;     // beside the tape
    QString explained;      // the pin whose edge is told of:
    kernel::Time edge{};    // the last at or before this
    QString added;          // a part is looked for by these letters
    QString opened;         // a menu, a card or a dialog: see openWhat()
};

void openWhat(app::MainWindow& window, const QString& what)
{
    const QString kind = what.section(':', 0, 0), name = what.section(':', 1);
    const auto menuOf = [&](const app::BenchView::Target& target, QPointF at) { window.makeMenuOf(target)->popup(window.benchView().mapToGlobal(at.toPoint())); };
    if (what.isEmpty())
        return;
    if (kind == "keys")
        return window.openKeys();
    if (kind == "guide")
        return name.isEmpty() ? window.openGuide() : window.guide().openAt(name.section('#', 0, 0), name.section('#', 1));
    if (kind == "settings")
        return window.openSettings();
    if (kind == "tour")
        return window.startTour();
    if (kind == "find") {
        window.openFindAnything();
        return window.pickList().line()->setText(name);
    }
    if (kind == "menu") {
        QMenu* menu = window.makeMenu();
        menu->popup(window.mapToGlobal(QPoint(8, 44)));
        for (QAction* row : menu->actions())
            if (row->menu() != nullptr && row->text() == name)
                row->menu()->popup(window.mapToGlobal(QPoint(230, 120)));
        return;
    }
    if (kind == "curve") {
        (void)window.sweep().askAlone(name.toStdString());
        return window.showSweep();
    }
    if (kind == "button") {
        // Drop-downs open by themselves, the others by a click.
        if (auto* box = window.findChild<QComboBox*>(name))
            return box->showPopup();
        if (auto* b = window.findChild<QPushButton*>(name))
            b->click();
        return;
    }
    if (kind == "paper")
        return menuOf({}, QPointF(40, 40));
    if (kind == "part")
        return menuOf({{}, {}, name.toStdString()}, QPointF(300, 80));
    if (kind == "wire")
        return menuOf({{}, name.toUInt(), {}}, QPointF(300, 80));
    if (const auto pin = bench::parsePinRef(name.toStdString()); kind == "pin" && pin)
        return menuOf({*pin, {}, pin->part}, window.benchView().pinInWidget(*pin).value_or(QPointF(100, 100)));
}

int drawPicture(app::MainWindow& window, const Order& order)
{
    const auto& [file, until, back, tape, serial, slow, stop, variables, presses, lane, markA, markB, large, table, explained, edge, added, opened] = order;
    if (serial)
        window.showSerial();
    if (!variables.isEmpty()) {
        window.serialView().showCurves(true);
        for (const QString& v : variables)
            window.serialView().plot().addVariable(v);
    }
    window.tapeView().follow(tape);
    window.editor().session().settle();
    if (stop.isEmpty()) {
        window.editor().session().runFor(until);
    } else {
        bench::StopItem once;
        once.at = stop.toStdString();
        window.editor().session().runTo(once);
    }
    window.editor().session().settle();
    QTimer poll;
    bool pressed = false;
    QObject::connect(&poll, &QTimer::timeout, &window, [&] {
        const session::Picture& now = window.editor().picture();
        if (!pressed && now.now > kernel::Time(until / 10)) {
            pressed = true;
            for (const QString& label : presses)
                for (QPushButton* button : window.serialView().findChildren<QPushButton*>())
                    if (button->text() == label)
                        button->click();
        }
        if (now.now < kernel::Time(until) && now.stopped.empty() && now.notBuilt.empty() && (now.running || now.number == 0 || stop.isEmpty()))
            return;
        poll.stop();
        window.editor().pause();
        window.editor().session().settle();
        if (slow)
            window.code().slowRun(true);
        if (back.count() > 0) {
            window.tapeView().rest();
            window.editor().session().goTo(window.editor().picture().now - back);
            window.editor().session().settle();
        }
        if (large)
            window.showTapeLarge();
        window.showTable(table);
        if (!lane.isEmpty()) {
            window.tapeView().choose(lane.toStdString());
            window.tapeView().goTo(markA + (markB - markA) / 2);
            window.tapeView().setMarks(markA, markB);
        }
        openWhat(window, opened);
        if (!added.isEmpty())
            window.openAddPart(added);
        if (!explained.isEmpty())
            window.editor().session().search({"edge", explained.toStdString(), {}, edge + kernel::Duration(1), false}, [&window, explained](const auto& hit) {
                if (hit && *hit)
                    QMetaObject::invokeMethod(&window, [&window, explained, at = (*hit)->at] { window.tapeView().explain(*bench::parsePinRef(explained.toStdString()), at); });
            });
        QTimer::singleShot(slow ? 1600 : table ? 1200 : 400, &window, [&] {
            QPixmap shot = window.grab();
            // What stands over the window in windows of its own: menus, lists, dialogs.
            QPainter painter(&shot);
            for (QWidget* other : QApplication::topLevelWidgets())
                if (other != &window && other->isVisible())
                    painter.drawPixmap(other->pos() - window.pos(), other->grab());
            painter.end();
            const bool good = shot.save(file);
            fmt::print("{}: {}\n", file.toStdString(), good ? "the window as it stands" : "could not be written");
            QApplication::exit(good ? 0 : 2);
        });
    });
    poll.start(10);
    return QApplication::exec();
}

}  // namespace

int main(int argc, char** argv)
{
    try {
        QApplication application(argc, argv);
        QApplication::setApplicationName("bramix");
        QApplication::setOrganizationName("bramix");
        QApplication::setApplicationVersion(BRAMIX_VERSION);
        application.setStyle("Fusion");
        application.setFont(app::theme::words(9.4));
        const app::SystemLook system;
        app::applyLook(system);
        QObject::connect(&system, &app::SystemLook::changed, &application, [&system] { app::applyLook(system); });
        QCommandLineParser parser;
        parser.setApplicationDescription("A bench for microcontroller boards: wire it, run firmware on it, see what happens.");
        parser.addHelpOption();
        parser.addVersionOption();
        parser.addPositionalArgument("bench", "the bench to open");
        const QCommandLineOption picture("picture", "draw the window into a PNG file and leave", "file");
        const QCommandLineOption span("for", "with --picture: after this much simulated time", "time", "3s");
        const QCommandLineOption serial("serial", "with --picture: show the serial view");
        const QCommandLineOption scope("scope", "with --picture: show the oscilloscope with these pins, comma separated", "pins");
        const QCommandLineOption across("across", "with --scope: so much time across", "time", "10ms");
        const QCommandLineOption findings("findings", "with --picture: open the list of findings");
        const QCommandLineOption selected("select", "with --picture: select this part", "part");
        const QCommandLineOption sweep("sweep", "with --picture: show the sweep of this figure, PART.NAME=FROM..TO", "range");
        const QCommandLineOption plot("plot", "with --sweep: what is plotted, comma separated", "traces");
        const QCommandLineOption curves("curves", "with --sweep: a curve for each, PART.NAME=A,B,C", "values");
        const QCommandLineOption code("code", "with --picture: show the code and this pane: variables, stops, build, chip, memory or timing; chip=Timer 1, memory=sp", "pane");
        const QCommandLineOption until("until", "with --picture: run to this stop, such as lock.c:41 or \"change ticks\"", "stop");
        const QCommandLineOption slow("slow", "with --until: then run slowly for a second");
        const QCommandLineOption tape("tape", "with --picture: so much time on the tape", "time", "2.5s");
        const QCommandLineOption back("back", "with --picture: then go back by so much", "time", "0s");
        const QCommandLineOption count("count", "with --picture: count cycles");
        const QCommandLineOption probes("probe", "with --picture: probes on these pins, comma separated", "pins");
        const QCommandLineOption lanes("lanes", "with --picture: these lanes too, semicolons between", "lanes");
        const QCommandLineOption measured("measure", "with --picture: this lane (PART.PIN, or functions CHIP) between two marks, LANE=FROM..TO", "span");
        const QCommandLineOption variables("variables", "with --serial: these variables as curves, comma separated", "names");
        const QCommandLineOption presses("press", "with --picture: a button beside the serial line, pressed after a tenth of the time", "label");
        const QCommandLineOption explained("explain", "with --picture: why the last edge of a pin came, PART.PIN=BEFORE", "edge");
        const QCommandLineOption table("table", "with --picture: what the lanes read, as a table");
        const QCommandLineOption added("add", "with --picture: look for a part to add by these letters", "letters");
        const QCommandLineOption opened("open", "with --picture: the menu, keys, guide, settings, tour, find:WORDS, curve:PART, button:NAME, or the menu of paper, part:ID, pin:PART.PIN, wire:N, or a row of the menu by its words", "what");
        const QCommandLineOption theme("theme", "with --picture: light or dark, whatever the settings say", "name");
        const QCommandLineOption large("large", "with --picture: the tape takes most of the window");
        parser.addOptions({theme, added, opened, lanes, measured, explained, variables, presses, table, large, picture, span, serial, scope, across, findings, selected, sweep, plot, curves, probes, code, until, count, slow, back, tape});
        parser.process(application);

        const auto catalogue = bench::Catalogue::loadInstalled();
        if (!catalogue) {
            fmt::print(stderr, "{}\n", catalogue.error().text());
            return 2;
        }
        if (parser.isSet(theme))
            app::theme::setLook(parser.value(theme) == "dark" ? app::theme::Look::dark : app::theme::Look::light);
        app::MainWindow window(*catalogue);
        QObject::connect(&window, &app::MainWindow::settingsChanged, &application, [&system] { app::applyLook(system); });
        if (!parser.positionalArguments().isEmpty())
            window.takeFile(parser.positionalArguments().first());
        else
            window.showStart();
        window.show();
        if (parser.isSet(picture)) {
            const auto length = kernel::parseDuration(parser.value(span).toStdString());
            if (!length) {
                fmt::print(stderr, "--for: {}\n", length.error().text());
                return 2;
            }
            const auto backBy = kernel::parseDuration(parser.value(back).toStdString());
            if (!backBy) {
                fmt::print(stderr, "--back: {}\n", backBy.error().text());
                return 2;
            }
            const auto tapeSpan = kernel::parseDuration(parser.value(tape).toStdString());
            if (!tapeSpan) {
                fmt::print(stderr, "--tape: {}\n", tapeSpan.error().text());
                return 2;
            }
            window.neverAsk();
            if (parser.isSet(selected))
                window.editor().select({{parser.value(selected).toStdString()}, {}});
            if (parser.isSet(findings))
                window.showFindings();
            if (parser.isSet(scope)) {
                const auto time = kernel::parseDuration(parser.value(across).toStdString());
                if (!time) {
                    fmt::print(stderr, "--across: {}\n", time.error().text());
                    return 2;
                }
                window.scope().setSpan(*time);
                for (const QString& pin : parser.value(scope).split(',', Qt::SkipEmptyParts)) {
                    const auto ref = bench::parsePinRef(pin.toStdString());
                    if (!ref) {
                        fmt::print(stderr, "--scope: {}\n", ref.error().text());
                        return 2;
                    }
                    window.scope().toggle(*ref);
                }
                window.showScope();
            }
            if (parser.isSet(code)) {
                window.showCode(true);
                app::CodePanel& panel = window.code();
                const std::map<QString, QWidget*> panes{{"variables", &panel.variables()}, {"stops", &panel.stops()}, {"build", &panel.buildPane()}, {"chip", &panel.chip()}, {"memory", &panel.memory()}, {"timing", &panel.timing()}};
                for (const QString& name : parser.value(code).split(',')) {
                    if (const auto pane = panes.find(name.section('=', 0, 0)); pane != panes.end())
                        panel.showPane(pane->second);
                    if (name.startsWith("chip="))
                        panel.chip().show(name.section('=', 1));
                    if (name.startsWith("memory="))
                        panel.memory().go(name.section('=', 1));
                }
            }
            if (parser.isSet(count))
                window.editor().session().countCycles(true);
            for (const QString& pin : parser.value(probes).split(',', Qt::SkipEmptyParts))
                if (const auto ref = bench::parsePinRef(pin.toStdString()))
                    window.editor().toggleProbe(*ref);
            if (parser.isSet(sweep)) {
                const QString axis = parser.value(sweep).section('=', 0, 0), range = parser.value(sweep).section('=', 1);
                window.sweep().setAxis(axis.toStdString());
                window.sweep().setRange(range.section("..", 0, 0), range.section("..", 1), "201", false);
                if (parser.isSet(curves))
                    window.sweep().setCurves(parser.value(curves).section('=', 0, 0).toStdString(), parser.value(curves).section('=', 1));
                for (const QString& trace : parser.value(plot).split(',', Qt::SkipEmptyParts)) {
                    const auto parsed = bench::parseTrace(trace.toStdString());
                    if (!parsed) {
                        fmt::print(stderr, "--plot: {}\n", parsed.error().text());
                        return 2;
                    }
                    window.sweep().toggleTrace(*parsed);
                }
                window.showSweep();
            }
            for (const QString& text : parser.value(lanes).split(';', Qt::SkipEmptyParts)) {
                const auto lane = session::parseLane(text.trimmed().toStdString());
                if (!lane) {
                    fmt::print(stderr, "--lanes: {}\n", lane.error().text());
                    return 2;
                }
                lane->kind == session::LaneSpec::Kind::pin ? window.editor().toggleLane(lane->pins[0]) : window.editor().toggleRead(text.trimmed().toStdString());
            }
            Order order{parser.value(picture), *length, *backBy, *tapeSpan, parser.isSet(serial), parser.isSet(slow), parser.value(until), parser.value(variables).split(',', Qt::SkipEmptyParts), parser.values(presses), {}, {}, {}, parser.isSet(large), parser.isSet(table), {}, {}, parser.value(added), {}};
            if (parser.isSet(measured)) {
                const QString range = parser.value(measured).section('=', 1);
                const auto from = kernel::parseDuration(range.section("..", 0, 0).toStdString()), to = kernel::parseDuration(range.section("..", 1).toStdString());
                if (!from || !to) {
                    fmt::print(stderr, "--measure: \"{}\"; expected LANE=FROM..TO\n", parser.value(measured).toStdString());
                    return 2;
                }
                order.lane = parser.value(measured).section('=', 0, 0);
                order.markA = kernel::Time(*from);
                order.markB = kernel::Time(*to);
            }
            if (parser.isSet(explained)) {
                const auto before = kernel::parseDuration(parser.value(explained).section('=', 1).toStdString());
                if (!before || !bench::parsePinRef(parser.value(explained).section('=', 0, 0).toStdString())) {
                    fmt::print(stderr, "--explain: \"{}\"; expected PART.PIN=TIME\n", parser.value(explained).toStdString());
                    return 2;
                }
                order.explained = parser.value(explained).section('=', 0, 0);
                order.edge = kernel::Time(*before);
            }
            order.opened = parser.value(opened);
            return drawPicture(window, order);
        }
        if (!parser.positionalArguments().isEmpty())
            window.offerTour();
        return QApplication::exec();
    } catch (const std::exception& bug) {
        fmt::print(stderr, "Bramix itself failed: {}\n", bug.what());
        return 3;
    }
}
