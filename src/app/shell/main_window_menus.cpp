// The menu behind the mark, the menus of things on the bench, the guide and the cards.
#include <QApplication>
#include <QDir>
#include <QFileInfo>
#include <QMenu>
#include <QMessageBox>
#include <QProxyStyle>
#include <QSettings>
#include <QTimer>

#include "app/shell/keys_card.h"
#include "app/shell/main_window.h"
#include "app/shell/settings.h"
#include "app/shell/settings_dialog.h"
#include "app/shell/theme.h"
#include "app/shell/tour.h"
#include "bench/edit.h"

namespace bramix::app {

namespace {

QString text(const std::string& s) { return QString::fromStdString(s); }

}  // namespace

// A row shows the key but does not take it: the window's own action has it.
QAction* MainWindow::addRow(QMenu& menu, const QString& id, const QString& otherName)
{
    const Command* c = command(id);
    if (c == nullptr)
        return nullptr;
    QAction* row = menu.addAction(otherName.isEmpty() ? c->name : otherName);
    row->setObjectName(id);
    if (!c->keys.isEmpty())
        row->setText(row->text() + '\t' + c->shownKey());
    connect(row, &QAction::triggered, this, [this, run = c->run] {
        fromMenu_ = true;
        run();
        fromMenu_ = false;
    });
    return row;
}

namespace {

// A menu whose rows have pictures in place of small icons.
class PictureRows : public QProxyStyle {
public:
    PictureRows(QObject* parent, int size) : size_(size) { setParent(parent); }
    int pixelMetric(PixelMetric metric, const QStyleOption* option, const QWidget* widget) const override { return metric == PM_SmallIconSize ? size_ : QProxyStyle::pixelMetric(metric, option, widget); }

private:
    int size_;
};

}  // namespace

QMenu* MainWindow::makeMenu()
{
    auto* menu = new QMenu(this);
    menu->setObjectName("mainMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    // What a file is about stands first, without another step.
    for (const char* id : {"new", "newEmpty", "open"})
        addRow(*menu, id);
    QMenu* recent = menu->addMenu(tr("Recent"));
    constexpr QSize kPicture{54, 38};
    recent->setStyle(new PictureRows(recent, kPicture.width()));
    for (const QString& file : editor_.recentFiles()) {
        const QFileInfo info(file);
        QAction* row = recent->addAction(info.fileName() == "bench.toml" ? info.dir().dirName() : info.completeBaseName(), this, [this, file] {
            if (mayLeave())
                open(file);
        });
        row->setToolTip(file);
        row->setIconVisibleInMenu(true);
        // Drawn when somebody looks.
        connect(recent, &QMenu::aboutToShow, row, [this, row, file] { row->setIcon(QIcon(start_->pictureOf(file, kPicture))); });
    }
    recent->setEnabled(!recent->isEmpty());
    menu->addSeparator();
    for (const char* id : {"save", "saveAs", "export", "saveRecording", "firmware"})
        addRow(*menu, id);
    menu->addSeparator();
    for (const Menu part : {Menu::edit, Menu::bench, Menu::run, Menu::code, Menu::tape, Menu::instruments, Menu::view}) {
        QMenu* sub = menu->addMenu(menuTitle(part));
        for (const Command& c : commands_)
            if (c.menu == part)
                addRow(*sub, c.id, c.id == "undo" ? nameOfUndo() : c.id == "redo" ? nameOfRedo() : QString());
    }
    menu->addSeparator();
    addRow(*menu, "settings");
    for (const Command& c : commands_)
        if (c.menu == Menu::help)
            addRow(*menu, c.id);
    menu->addSeparator();
    addRow(*menu, "quit");
    return menu;
}

QString MainWindow::nameOfUndo() const
{
    const bench::History& history = editor_.history();
    return history.canUndo() ? tr("Undo: %1").arg(text(history.undoName())) : tr("Undo");
}

QString MainWindow::nameOfRedo() const
{
    const bench::History& history = editor_.history();
    return history.canRedo() ? tr("Redo: %1").arg(text(history.redoName())) : tr("Redo");
}

void MainWindow::openMenu()
{
    QMenu* menu = makeMenu();
    menu->popup(transport_->mapToGlobal(QPoint(8, transport_->height() - 4)));
    if (!menu->actions().isEmpty())
        menu->setActiveAction(menu->actions().first());
}

// What can be done with the thing under the pointer.
QMenu* MainWindow::makeMenuOf(const BenchView::Target& target)
{
    QMenu* menu = new QMenu(this);
    menu->setObjectName("thingMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    const auto title = [&](const QString& words) {
        QAction* head = menu->addAction(words);
        head->setEnabled(false);
        QFont font = theme::words(9, QFont::DemiBold);
        head->setFont(font);
    };
    const bench::PartItem* part = editor_.document().part(target.part);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    if (target.pin) {
        const bench::PinRef pin = *target.pin;
        bench_->pointAt(pin);
        title(text(pin.text()));
        menu->addAction(tr("Wire from here"), this, [this, pin] { bench_->beginWire(pin); });
        menu->addAction(tr("Wire to…"), this, [this, pin] { openWireFrom(pin); });
        const auto onPin = [this, menu, pin](const char* id, const QString& name) {
            if (const Command* c = command(id))
                menu->addAction(name + '\t' + c->shownKey(), this, [this, pin, run = c->run] {
                    bench_->pointAt(pin);
                    run();
                });
        };
        onPin("netFlag", tr("Net flag…"));
        if (const std::string flag = bench::netFlagOf(editor_.document(), pin); !flag.empty())
            menu->addAction(tr("Take the flag %1 away").arg(text(flag)), this, [this, pin] { editor_.change(tr("net flag"), [&](bench::Document& d) { bench::setNetFlag(d, editor_.catalogue(), pin, {}); }); });
        menu->addSeparator();
        onPin("pinOnTape", tr("Toggle on the tape"));
        onPin("pinOnScope", tr("Toggle on the oscilloscope"));
        onPin("probe", tr("Toggle a probe"));
        onPin("backEdge", tr("Back to its last edge"));
        if (kind != nullptr)
            menu->addSeparator();
    }
    if (target.wire) {
        if (!editor_.selection().wires.contains(*target.wire))
            editor_.select({{}, {*target.wire}});
        const std::size_t count = editor_.selection().wires.size();
        title(count == 1 ? tr("Wire %1 to %2").arg(text(editor_.document().wires[*target.wire].from.text()), text(editor_.document().wires[*target.wire].to.text())) : tr("%1 wires").arg(count));
        QMenu* colours = menu->addMenu(tr("Colour"));
        for (const std::string& colour : bench::wireColors()) {
            QPixmap patch(16, 16);
            patch.fill(theme::wireColor(colour));
            colours->addAction(QIcon(patch), text(colour), this, [this, colour] { bench_->colourSelection(colour); });
        }
        addRow(*menu, "nextColour");
        addRow(*menu, "ribbon");
        menu->addSeparator();
        addRow(*menu, "remove");
        return menu;
    }
    if (kind != nullptr) {
        if (!editor_.selection().parts.contains(part->id))
            editor_.select({{part->id}, {}});
        const std::size_t count = editor_.selection().parts.size();
        const QString name = count > 1 ? tr("%1 parts").arg(count) : part->label.empty() ? text(part->id) + ", " + text(kind->title) : text(part->label);
        // Of a pin first of all what can be done with the pin; its part has a menu behind it.
        QMenu* const own = menu;
        if (target.pin)
            menu = menu->addMenu(name);
        else
            title(name);
        if (kind->chip != nullptr && count == 1) {
            addRow(*menu, "firmware");
            addRow(*menu, "code", tr("Code"));
            addRow(*menu, "build");
            menu->addSeparator();
        }
        for (const char* id : {"turn", "turnBack", "duplicate", "cut", "copy"})
            addRow(*menu, id);
        if (count == 1) {
            addRow(*menu, "replace");
            addRow(*menu, "sweep", tr("Sweep a value…"));
            if (kind->pins.size() == 2 && kind->chip == nullptr)
                addRow(*menu, "curve", tr("I-V curve"));
        } else {
            QMenu* align = menu->addMenu(tr("Align and distribute"));
            for (const char* id : {"alignLeft", "alignRight", "alignTop", "alignBottom", "alignColumn", "alignRow", "distributeAcross", "distributeDown"})
                addRow(*align, id);
        }
        menu->addSeparator();
        if (count == 1)
            menu->addAction(tr("About this part") + "\tF1", this, [this] { openGuide(); });
        addRow(*menu, "remove");
        return own;
    }
    if (target.pin)
        return menu;
    title(text(editor_.document().title));
    for (const char* id : {"addPart", "wireByName", "paste", "selectAll"})
        addRow(*menu, id);
    menu->addSeparator();
    for (const char* id : {"fit", "zoomIn", "zoomOut"})
        addRow(*menu, id);
    menu->addSeparator();
    addRow(*menu, "undo", nameOfUndo());
    addRow(*menu, "redo", nameOfRedo());
    addRow(*menu, "export");
    return menu;
}

// The page that belongs to where one is.
void MainWindow::openGuide()
{
    const QWidget* focus = QApplication::focusWidget();
    const auto within = [focus](const QWidget* w) { return focus != nullptr && (w == focus || w->isAncestorOf(focus)); };
    if (within(code_))
        return guide_->openAt("user-guide.md", tr("Debug firmware"));
    if (within(serial_))
        return guide_->openAt("user-guide.md", tr("Talk over a serial line"));
    if (within(scope_) || within(sweep_))
        return guide_->openAt("user-guide.md", tr("Measure voltages and currents"));
    if (within(tape_) || within(table_))
        return guide_->openAt("user-guide.md", tr("Measure on the tape"));
    if (start_->isVisible())
        return guide_->openAt("user-guide.md");
    if (editor_.selection().parts.size() == 1)
        if (const bench::PartItem* part = editor_.document().part(*editor_.selection().parts.begin()))
            return guide_->openAt("parts/" + text(part->kind) + ".md");
    guide_->openAt("user-guide.md", tr("Build a bench from nothing"));
}

void MainWindow::openKeys() { new KeysCard(commands_, this); }

void MainWindow::openSettings()
{
    auto* dialog = new SettingsDialog(this);
    connect(dialog, &SettingsDialog::applied, this, [this] {
        editor_.session().setTapeBytes(static_cast<std::size_t>(settings::tapeMegabytes()) << 20U);
        editor_.keepAsideEvery(settings::autosaveSeconds());
        emit settingsChanged();
    });
    dialog->open();
}

void MainWindow::showAbout()
{
    QMessageBox box(this);
    box.setObjectName("about");
    box.setWindowTitle(tr("About Bramix"));
    box.setIconPixmap(theme::icon("berry", theme::bramble).pixmap(48, 48));
    box.setText(tr("<b>Bramix %1</b>").arg(QApplication::applicationVersion()));
    box.setInformativeText(tr("A bench of boards, parts and wires that runs compiled firmware, exact to the cycle, and goes back in time to the cause of what one sees.\n\nBuilt with Qt %1.").arg(qVersion()));
    box.exec();
}

// Two pins by their names: for hands that stay on the keys.
void MainWindow::openWire()
{
    pick_->open(tr("Wire from which pin?"), [this](const QString& typed) { return pinsMatching(typed, [this](const bench::PinRef& pin) { QTimer::singleShot(0, this, [this, pin] { openWireFrom(pin); }); }); },
                QPoint(width() - 400, 44));
}

void MainWindow::openWireFrom(const bench::PinRef& from)
{
    pick_->open(tr("Wire from %1 to which pin?").arg(text(from.text())),
                [this, from](const QString& typed) {
                    return pinsMatching(typed, [this, from](const bench::PinRef& to) { bench_->wireBetween(from, to); });
                },
                QPoint(width() - 400, 44));
}

std::vector<PickList::Entry> MainWindow::pinsMatching(const QString& typed, const std::function<void(const bench::PinRef&)>& then)
{
    constexpr std::size_t kMost = 80;
    std::vector<PickList::Entry> out;
    const QStringList words = typed.split(' ', Qt::SkipEmptyParts);
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr || kind->plugs)
            continue;
        for (const bench::PinKind& pin : kind->pins) {
            QString known = text(part.id + "." + pin.name + " " + part.label + " " + pin.about);
            for (const std::string& alias : pin.aliases)
                known += " " + text(part.id + "." + alias);
            if (out.size() < kMost && std::all_of(words.begin(), words.end(), [&](const QString& w) { return known.contains(w, Qt::CaseInsensitive); }))
                out.push_back({text(part.id + "." + pin.name), text(pin.about), {}, [then, ref = bench::PinRef{part.id, pin.name}] { then(ref); }});
        }
    }
    return out;
}

void MainWindow::offerTour()
{
    if (!QSettings().value("tour/seen", false).toBool())
        startTour();
}

void MainWindow::startTour()
{
    hideStart();
    delete tour_;
    const auto looked = std::make_shared<bool>(false);
    connect(bench_, &BenchView::menuWanted, this, [looked] { *looked = true; });
    auto* tour = new Tour({{tr("<b>Space</b> runs the bench and pauses it. The clock at the top is simulated time."), [this] { return editor_.picture().running; }},
                           {tr("Click a part. What can be turned, pressed and set stands at the right, while it runs."), [this] { return !editor_.selection().parts.empty(); }},
                           {tr("Drag the head on the tape below, the line at the present, to the left: all that you see is then of that moment. <b>Space</b> runs on from there."),
                            [this] { return !editor_.picture().running && editor_.picture().latest > editor_.picture().now; }},
                           {tr("Click anything with the right button to see what can be done with it."), [looked] { return *looked; }},
                           {tr("<b>/</b> adds a part, <b>Ctrl+K</b> finds anything, <b>F1</b> is the guide, <b>?</b> lists the keys, <b>F10</b> is the menu."), {}}},
                          this);
    tour_ = tour;
    connect(tour, &Tour::ended, this, [] { QSettings().setValue("tour/seen", true); });
    connect(tour, &QObject::destroyed, this, [this] { tour_ = nullptr; });
    placeTour();
    tour->QWidget::show();
    tour->raise();
}

// At the bottom left of the bench, clear of the drawer.
void MainWindow::placeTour()
{
    if (tour_ != nullptr)
        tour_->move(bench_->mapTo(this, QPoint(16, bench_->height() - tour_->height() - 16)));
}

}  // namespace bramix::app
