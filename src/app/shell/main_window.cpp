#include "app/shell/main_window.h"

#include <QAction>
#include <QApplication>
#include <QCloseEvent>
#include <QFileDialog>
#include <QInputDialog>
#include <QSettings>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMessageBox>
#include <QPushButton>
#include <QTimer>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "bench/lists.h"

namespace bramix::app {

namespace {

constexpr double kWireShare = 0.325;     // of the height, for the tape
constexpr double kMeasureShare = 0.62;
constexpr double kDebugShare = 0.25;
constexpr int kMessageMs = 8000;

}  // namespace

MainWindow::MainWindow(const bench::Catalogue& catalogue) : editor_(catalogue)
{
    setWindowTitle("Bramix");
    setWindowIcon(theme::icon("berry", theme::kBramble));
    resize(1280, 800);
    setMinimumSize(1024, 640);
    auto* shell = new QWidget;
    shell->setObjectName("shell");
    setCentralWidget(shell);
    auto* rows = new QVBoxLayout(shell);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(0);

    transport_ = new Transport(editor_);
    rows->addWidget(transport_);
    recovery_ = new QWidget;
    recovery_->setObjectName("recovery");
    recovery_->setStyleSheet("QWidget#recovery { background: #F6E3C5; }");
    auto* recoveryRow = new QHBoxLayout(recovery_);
    recoveryRow->setContentsMargins(14, 5, 14, 5);
    recoveryRow->addWidget(new QLabel(tr("Work on this bench was not saved when Bramix last ended.")));
    recoveryRow->addStretch(1);
    auto* restore = new QPushButton(tr("Restore it"));
    auto* discard = new QPushButton(tr("Forget it"));
    recoveryRow->addWidget(restore);
    recoveryRow->addWidget(discard);
    rows->addWidget(recovery_);
    recovery_->hide();

    auto* upper = new QWidget;
    auto* columns = new QHBoxLayout(upper);
    columns->setContentsMargins(0, 0, 0, 0);
    columns->setSpacing(0);
    drawer_ = new Drawer(editor_, art_);
    bench_ = new BenchView(editor_, art_);
    inspector_ = new Inspector(editor_);
    code_ = new CodePanel(editor_);
    middle_ = new QSplitter(Qt::Horizontal);
    middle_->setHandleWidth(1);
    middle_->setChildrenCollapsible(false);
    middle_->addWidget(code_);
    middle_->addWidget(bench_);
    middle_->setStretchFactor(0, 0);
    middle_->setStretchFactor(1, 1);
    code_->hide();
    columns->addWidget(drawer_);
    columns->addWidget(middle_, 1);
    columns->addWidget(inspector_);

    auto* lowerBox = new QWidget;
    lowerBox->setAttribute(Qt::WA_StyledBackground);
    lowerBox->setStyleSheet("background: #221A26;");
    auto* lowerRows = new QVBoxLayout(lowerBox);
    lowerRows->setContentsMargins(0, 0, 0, 0);
    lowerRows->setSpacing(0);
    tabs_ = new QTabBar;
    tabs_->setObjectName("lowerTabs");
    tabs_->addTab(tr("Tape"));
    tabs_->addTab(tr("Serial"));
    tabs_->addTab(tr("Oscilloscope"));
    tabs_->addTab(tr("Sweep"));
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setFocusPolicy(Qt::NoFocus);
    tabs_->setStyleSheet("QTabBar { background: #221A26; } QTabBar::tab { background: transparent; color: #9A8EA0; padding: 5px 14px; border: none; border-bottom: 2px solid transparent; }"
                         "QTabBar::tab:selected { color: #F4ECE0; border-bottom: 2px solid #D05C8C; }");
    tabs_->setFont(theme::words(9.4, QFont::DemiBold));
    tape_ = new TapeView(editor_);
    serial_ = new SerialView(editor_);
    scope_ = new ScopeView(editor_);
    sweep_ = new SweepView(editor_);
    lower_ = new QStackedWidget;
    table_ = new DecodeTable(editor_);
    auto* tapeAndTable = new QSplitter(Qt::Horizontal);
    tapeAndTable->setHandleWidth(1);
    tapeAndTable->setStyleSheet("QSplitter::handle { background: #3A3040; }");
    tapeAndTable->setChildrenCollapsible(false);
    tapeAndTable->addWidget(tape_);
    tapeAndTable->addWidget(table_);
    tapeAndTable->setSizes({820, 460});
    tapeAndTable->setStretchFactor(0, 1);
    tapeAndTable->setStretchFactor(1, 0);
    table_->hide();
    lower_->addWidget(tapeAndTable);
    lower_->addWidget(serial_);
    lower_->addWidget(scope_);
    lower_->addWidget(sweep_);
    lowerRows->addWidget(tabs_);
    lowerRows->addWidget(lower_, 1);

    split_ = new QSplitter(Qt::Vertical);
    split_->setHandleWidth(3);
    split_->setChildrenCollapsible(false);
    split_->addWidget(upper);
    split_->addWidget(lowerBox);
    rows->addWidget(split_, 1);
    start_ = new StartPage(catalogue, art_);
    start_->hide();
    rows->addWidget(start_, 1);
    connect(start_, &StartPage::benchChosen, this, [this](const QString& file) {
        if (mayLeave())
            open(file);
    });
    connect(start_, &StartPage::emptyWanted, this, [this] {
        hideStart();
        askNew();
    });
    connect(code_, &CodePanel::edgesWanted, this, [this](const QString& place) {
        showTape();
        tape_->showMadeBy(place);
    });
    connect(tape_, &TapeView::codeWanted, this, [this](const QString& chip, const QString& place) { openCode(chip.toStdString(), place); });
    connect(start_, &StartPage::openWanted, this, &MainWindow::askOpen);
    connect(start_, &StartPage::made, this, [this](const QString& file) {
        open(file);
        editor_.run();
        showSerial();
    });

    message_ = new QLabel(this);
    message_->setObjectName("message");
    message_->setWordWrap(true);
    message_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    message_->hide();
    pick_ = new PickList(this);
    setFocusPolicy(Qt::StrongFocus);

    connect(tabs_, &QTabBar::currentChanged, lower_, &QStackedWidget::setCurrentIndex);
    connect(&editor_, &Editor::message, this, &MainWindow::showMessage);
    connect(inspector_, &Inspector::firmwareWanted, this, &MainWindow::askFirmware);
    connect(bench_, &BenchView::firmwareDropped, this, [this](const std::string& part, const QString& file) { editor_.loadFirmware(part, file); });
    connect(bench_, &BenchView::benchDropped, this, &MainWindow::open);
    connect(transport_, &Transport::findWanted, this, &MainWindow::openFindAnything);
    connect(transport_, &Transport::findingsWanted, this, [this] { drawer_->toggle(Drawer::kFindings); });
    connect(drawer_, &Drawer::partChosen, this, [this](const std::string& id) {
        if (const bench::PartKind* kind = editor_.catalogue().find(id))
            bench_->addPartAtPointer(*kind);
    });
    connect(drawer_, &Drawer::openWanted, this, &MainWindow::askOpen);
    connect(drawer_, &Drawer::newWanted, this, &MainWindow::askNew);
    connect(drawer_, &Drawer::saveWanted, this, &MainWindow::askSave);
    connect(drawer_, &Drawer::fileChosen, this, [this](const QString& file) {
        if (mayLeave())
            open(file);
    });
    connect(drawer_, &Drawer::momentChosen, tape_, &TapeView::goTo);
    connect(drawer_, &Drawer::placeChosen, this, [this](const std::string& where) { bench_->reveal(where.substr(0, where.find_first_of(".:/"))); });
    connect(drawer_, &Drawer::codeChosen, this, &MainWindow::openCode);
    connect(table_, &DecodeTable::momentWanted, tape_, &TapeView::goTo);
    connect(tape_, &TapeView::tableWanted, this, [this] { showTable(!table_->isVisible()); });
    connect(tape_, &TapeView::lanesWanted, this, [this](QPoint at) {
        pick_->open(tr("Add a lane: a pin, volts …, i2c:…, interrupts …"), [this](const QString& typed) { return tape_->offers(typed); }, tape_->mapTo(this, at) - QPoint(0, 240));
    });
    connect(serial_, &SerialView::momentWanted, this, [this](kernel::Time at) {
        showTape();
        tape_->goTo(at);
    });
    connect(serial_, &SerialView::codeWanted, this, [this](const std::string& chip, quint32 code) {
        if (!code_->isVisible())
            showCode(true);
        code_->chooseChip(chip);
        // The sources come with the next picture where nobody has looked before.
        if (!code_->openCode(code))
            QTimer::singleShot(120, this, [this, code] { code_->openCode(code); });
    });
    connect(&code_->buildPane(), &BuildPane::built, this, [this](bool good) {
        if (good)
            showMessage(code_->buildPane().warnings() > 0 ? tr("Built with %1 warnings; the bench starts again").arg(code_->buildPane().warnings()) : tr("Built; the bench starts again"), false);
        else
            showCode(true);
    });
    connect(restore, &QPushButton::clicked, this, [this] {
        editor_.restoreRecovery();
        recovery_->hide();
    });
    connect(discard, &QPushButton::clicked, this, [this] {
        editor_.discardRecovery();
        recovery_->hide();
    });
    addCommands();
    QTimer::singleShot(0, this, [this] {
        arrange(code_->isVisible() ? kDebugShare : kWireShare);
        showRecoveryBar();
        bench_->fitAll();
    });
    bench_->setFocus();
}

void MainWindow::addCommands()
{
    const auto add = [this](const QString& name, const QList<QKeySequence>& keys, std::function<void()> run) {
        auto* action = new QAction(name, this);
        action->setShortcuts(keys);
        connect(action, &QAction::triggered, this, run);
        addAction(action);
        commands_.push_back({name, keys.isEmpty() ? QString() : keys.first().toString(QKeySequence::NativeText), std::move(run)});
    };
    add(tr("Run or pause"), {Qt::Key_Space}, [this] { editor_.toggleRun(); });
    const auto steps = [&](const QString& name, const QList<QKeySequence>& keys, session::Step step, bool back) {
        add(name, keys, [this, step, back] {
            if (back)
                editor_.session().back(step);
            else
                editor_.session().step(step);
        });
    };
    steps(tr("Step one line"), {QKeySequence(Qt::Key_Period)}, session::Step::line, false);
    steps(tr("Step over the calls of this line"), {QKeySequence(Qt::ALT | Qt::Key_Period)}, session::Step::over, false);
    steps(tr("Step out of this function"), {QKeySequence(Qt::CTRL | Qt::Key_Period)}, session::Step::out, false);
    steps(tr("Step one instruction"), {QKeySequence(Qt::SHIFT | Qt::Key_Period), QKeySequence(Qt::Key_Colon), QKeySequence(Qt::Key_Greater)}, session::Step::instruction, false);
    steps(tr("Step over one instruction"), {}, session::Step::instructionOver, false);
    steps(tr("Back one line"), {QKeySequence(Qt::Key_Comma)}, session::Step::line, true);
    steps(tr("Back over the calls before"), {QKeySequence(Qt::ALT | Qt::Key_Comma)}, session::Step::over, true);
    steps(tr("Back to the call of this function"), {QKeySequence(Qt::CTRL | Qt::Key_Comma)}, session::Step::out, true);
    steps(tr("Back one instruction"), {QKeySequence(Qt::SHIFT | Qt::Key_Comma), QKeySequence(Qt::Key_Semicolon), QKeySequence(Qt::Key_Less)}, session::Step::instruction, true);
    add(tr("Back to the last stop that was passed"), {}, [this] { editor_.session().backToStop(); });
    add(tr("Back to the last edge of the pin under the pointer"), {}, [this] {
        if (const auto pin = bench_->hoveredPin())
            editor_.session().backToChange(pin->text());
    });
    add(tr("Stop at this line, or no more"), {QKeySequence(Qt::Key_B)}, [this] { code_->toggleStopAtCursor(); });
    add(tr("Run to this line"), {QKeySequence(Qt::Key_G)}, [this] { code_->runToCursor(); });
    add(tr("Unfold instructions under the line"), {QKeySequence(Qt::Key_I)}, [this] { code_->toggleInstructions(); });
    add(tr("Steps enter interrupts, or do not"), {}, [this] { editor_.session().enterInterrupts(!editor_.picture().debug.entersInterrupts); });
    add(tr("Slow run, line by line"), {}, [this] { code_->slowRun(!editor_.picture().debug.slow); });
    add(tr("Build the firmware, load it and restart"), {QKeySequence(Qt::CTRL | Qt::Key_B)}, [this] { code_->build(); });
    add(tr("Let gdb in, or shut it out"), {}, [this] { gdb_.port() == 0 ? gdb_.open() : gdb_.close(); });
    add(tr("Code beside the bench, or away"), {QKeySequence(Qt::CTRL | Qt::Key_2)}, [this] { showCode(!code_->isVisible()); });
    add(tr("Restart"), {QKeySequence(Qt::CTRL | Qt::Key_R)}, [this] { editor_.restart(); });
    add(tr("Real time or full speed"), {}, [this] { editor_.session().setFullSpeed(!editor_.picture().atFullSpeed); });
    add(tr("Add a part"), {QKeySequence(Qt::Key_Slash)}, [this] { openAddPart(); });
    add(tr("Turn"), {QKeySequence(Qt::Key_R)}, [this] { bench_->turnSelection(); });
    add(tr("Duplicate"), {QKeySequence(Qt::CTRL | Qt::Key_D)}, [this] { bench_->duplicateSelection(); });
    add(tr("Copy"), {QKeySequence::Copy}, [this] { bench_->copySelection(); });
    add(tr("Cut"), {QKeySequence::Cut}, [this] {
        bench_->copySelection();
        bench_->removeSelection();
    });
    add(tr("Paste"), {QKeySequence::Paste}, [this] { bench_->pasteAtPointer(); });
    const std::pair<QString, bench::Edge> edges[] = {{tr("Align left"), bench::Edge::left},  {tr("Align right"), bench::Edge::right},   {tr("Align top"), bench::Edge::top},
                                                     {tr("Align bottom"), bench::Edge::bottom}, {tr("Align middles in a column"), bench::Edge::middleAcross}, {tr("Align middles in a row"), bench::Edge::middleDown}};
    const QList<QKeySequence> edgeKeys[] = {{QKeySequence(Qt::ALT | Qt::Key_Left)}, {QKeySequence(Qt::ALT | Qt::Key_Right)}, {QKeySequence(Qt::ALT | Qt::Key_Up)}, {QKeySequence(Qt::ALT | Qt::Key_Down)}, {}, {}};
    for (std::size_t i = 0; i < std::size(edges); ++i)
        add(edges[i].first, edgeKeys[i], [this, edge = edges[i].second] { bench_->alignSelection(edge); });
    add(tr("Distribute across"), {}, [this] { bench_->distributeSelection(true); });
    add(tr("Distribute down"), {}, [this] { bench_->distributeSelection(false); });
    add(tr("Replace the selected part by another kind"), {QKeySequence(Qt::SHIFT | Qt::Key_R)}, [this] { openReplace(); });
    add(tr("Remove"), {QKeySequence(Qt::Key_Delete), QKeySequence(Qt::Key_Backspace)}, [this] { bench_->removeSelection(); });
    add(tr("Net flag on the pin under the pointer"), {QKeySequence(Qt::Key_F)}, [this] { bench_->askNetFlag(); });
    add(tr("Pin under the pointer on the tape, or off it"), {QKeySequence(Qt::Key_T)}, [this] {
        if (const auto pin = bench_->hoveredPin())
            editor_.toggleLane(*pin);
    });
    add(tr("Pin under the pointer on the oscilloscope, or off it"), {QKeySequence(Qt::Key_O)}, [this] {
        if (const auto pin = bench_->hoveredPin()) {
            scope_->toggle(*pin);
            showScope();
        }
    });
    add(tr("Sweep a figure of the selected part"), {QKeySequence(Qt::Key_W)}, [this] {
        if (!editor_.selection().parts.empty())
            sweep_->ask(*editor_.selection().parts.begin());
        showSweep();
    });
    add(tr("Probe on the pin under the pointer, or off it"), {QKeySequence(Qt::Key_P)}, [this] {
        if (const auto pin = bench_->hoveredPin())
            editor_.toggleProbe(*pin);
    });
    add(tr("Next span of the probes"), {}, [this] { editor_.nextProbeSpan(); });
    add(tr("Next wire colour"), {QKeySequence(Qt::Key_C)}, [this] { bench_->recolorSelection(); });
    add(tr("Selected wires as a ribbon, or apart again"), {QKeySequence(Qt::Key_L)}, [this] { bench_->toggleRibbon(); });
    add(tr("Turn the dial under the pointer, or of the selected part, up"), {QKeySequence(Qt::Key_Plus), QKeySequence(Qt::Key_Equal)}, [this] { bench_->turnDialByKey(1); });
    add(tr("Turn it down"), {QKeySequence(Qt::Key_Minus)}, [this] { bench_->turnDialByKey(-1); });
    add(tr("Turn it up by a tenth of its way"), {QKeySequence(Qt::Key_PageUp)}, [this] { bench_->turnDialByKey(10); });
    add(tr("Turn it down by a tenth of its way"), {QKeySequence(Qt::Key_PageDown)}, [this] { bench_->turnDialByKey(-10); });
    add(tr("Select all"), {QKeySequence::SelectAll}, [this] { bench_->selectAll(); });
    add(tr("Fit everything"), {QKeySequence(Qt::Key_Home)}, [this] { bench_->fitAll(); });
    add(tr("Zoom in"), {QKeySequence::ZoomIn, QKeySequence(Qt::CTRL | Qt::Key_Equal)}, [this] { bench_->zoomBy(1.25, QPointF(bench_->width() / 2.0, bench_->height() / 2.0)); });
    add(tr("Zoom out"), {QKeySequence::ZoomOut}, [this] { bench_->zoomBy(0.8, QPointF(bench_->width() / 2.0, bench_->height() / 2.0)); });
    add(tr("Undo"), {QKeySequence(Qt::CTRL | Qt::Key_Z)}, [this] { editor_.undo(); });
    add(tr("Redo"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_Z)}, [this] { editor_.redo(); });
    add(tr("Arrangement: wire"), {QKeySequence(Qt::CTRL | Qt::Key_1)}, [this] {
        showCode(false);
        arrange(kWireShare);
    });
    add(tr("Arrangement: measure"), {QKeySequence(Qt::CTRL | Qt::Key_3)}, [this] { showTapeLarge(); });
    add(tr("Show the tape"), {}, [this] { showTape(); });
    add(tr("Table of what the tape's lanes read, or away"), {QKeySequence(Qt::CTRL | Qt::Key_T)}, [this] {
        showTape();
        showTable(!table_->isVisible());
    });
    add(tr("Add a lane to the tape"), {}, [this] {
        showTape();
        emit tape_->lanesWanted(QPoint(160, 0));
    });
    add(tr("Find on the tape"), {QKeySequence(Qt::CTRL | Qt::Key_F)}, [this] {
        showTape();
        tape_->searchLine().setFocus();
        tape_->searchLine().selectAll();
    });
    add(tr("Show the oscilloscope"), {}, [this] { showScope(); });
    add(tr("Show the sweep"), {}, [this] { showSweep(); });
    add(tr("Show the serial view"), {}, [this] { showSerial(); });
    add(tr("Parts drawer"), {}, [this] { drawer_->toggle(Drawer::kParts); });
    add(tr("Files drawer"), {}, [this] { drawer_->toggle(Drawer::kFiles); });
    add(tr("Findings drawer"), {}, [this] { drawer_->toggle(Drawer::kFindings); });
    add(tr("Find anything"), {QKeySequence(Qt::CTRL | Qt::Key_K)}, [this] { openFindAnything(); });
    add(tr("Start page"), {}, [this] { showStart(); });
    add(tr("New bench"), {QKeySequence::New}, [this] { askNew(); });
    add(tr("Open a bench"), {QKeySequence::Open}, [this] { askOpen(); });
    add(tr("Save"), {QKeySequence::Save}, [this] {
        if (code_->hasUnsaved() && code_->isVisible() && code_->isAncestorOf(QApplication::focusWidget()))
            code_->save();
        else
            askSave(false);
    });
    add(tr("Save as"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_S)}, [this] { askSave(true); });
    add(tr("Export as SVG, PDF, PNG, wiring list or bill of materials"), {QKeySequence(Qt::CTRL | Qt::Key_E)}, [this] { askExport(); });
    add(tr("How much the tape keeps"), {}, [this] {
        constexpr int kLeast = 8, kMost = 16'384;
        bool ok = false;
        const int now = QSettings().value("tape/megabytes", static_cast<int>(session::LiveSession::kTapeBytes >> 20U)).toInt();
        const int megabytes = QInputDialog::getInt(this, tr("How much the tape keeps"), tr("Megabytes; a million edges take about one. Beyond, the oldest is forgotten."), now, kLeast, kMost, 64, &ok);
        if (!ok)
            return;
        QSettings().setValue("tape/megabytes", megabytes);
        editor_.session().setTapeBytes(static_cast<std::size_t>(megabytes) << 20U);
    });
    add(tr("Save the recording of this run"), {}, [this] { tape_->askSaveRecording(); });
    add(tr("Quit"), {QKeySequence(Qt::CTRL | Qt::Key_Q)}, [this] { close(); });
}

void MainWindow::arrange(double tapeShare)
{
    const int total = split_->height();
    const int lower = static_cast<int>(total * tapeShare);
    split_->setSizes({total - lower, lower});
}

void MainWindow::showCode(bool on)
{
    code_->setVisible(on);
    code_->setLooking(on);
    // On a small screen the bench needs the inspector's room.
    constexpr int kWideEnough = 1600;
    inspector_->setVisible(!on || width() >= kWideEnough);
    if (on) {
        const int room = middle_->width() + (inspector_->isVisible() ? 0 : inspector_->width());
        middle_->setSizes({std::clamp(room * 48 / 100, 560, 900), std::max(200, room - std::clamp(room * 48 / 100, 560, 900))});
        if (code_->view() != nullptr)
            code_->view()->setFocus();
        arrange(kDebugShare);
    }
    QTimer::singleShot(0, this, [this] { bench_->fitAll(); });
}

void MainWindow::openCode(const std::string& chip, const QString& place)
{
    if (!code_->isVisible())
        showCode(true);
    code_->chooseChip(chip);
    // The sources come with the next picture where nobody has looked before.
    if (!code_->openPlace(place))
        QTimer::singleShot(120, this, [this, place] { code_->openPlace(place); });
}

void MainWindow::open(const QString& file)
{
    if (editor_.openFile(file)) {
        hideStart();
        bench_->fitAll();
        showRecoveryBar();
    }
}

void MainWindow::showStart()
{
    start_->refresh(editor_.recentFiles());
    split_->hide();
    start_->show();
}

void MainWindow::hideStart()
{
    start_->hide();
    split_->show();
}

void MainWindow::showRecoveryBar() { recovery_->setVisible(editor_.hasRecovery()); }

void MainWindow::showSerial() { tabs_->setCurrentIndex(1); }
void MainWindow::showFindings() { drawer_->toggle(Drawer::kFindings); }
void MainWindow::showScope() { tabs_->setCurrentIndex(2); }
void MainWindow::showSweep() { tabs_->setCurrentIndex(3); }
void MainWindow::showTape() { tabs_->setCurrentIndex(0); }
void MainWindow::showTapeLarge()
{
    showTape();
    arrange(kMeasureShare);
}

void MainWindow::openAddPart(const QString& typed)
{
    const QPoint pointer = bench_->mapFromGlobal(QCursor::pos());
    const QPoint at = bench_->rect().contains(pointer) ? bench_->mapTo(this, pointer) + QPoint(12, 12) : bench_->mapTo(this, QPoint(bench_->width() / 2 - 190, 60));
    pick_->open(
        tr("Add a part: LED, resistor, Briar…"),
        [this](const QString& typed) {
            std::vector<PickList::Entry> out;
            for (const bench::PartKind* kind : editor_.catalogue().search(typed.toStdString()))
                out.push_back({QString::fromStdString(kind->title), QString::fromStdString(kind->about), art_.thumbnail(*kind, {44, 38}, devicePixelRatioF()),
                               [this, kind] { bench_->addPartAtPointer(*kind); }});
            return out;
        },
        at);
    pick_->line()->setText(typed);
}

// Another kind in the place of the selected part; wires stay on pins of the same name or number.
void MainWindow::openReplace()
{
    if (editor_.selection().parts.size() != 1)
        return showMessage(tr("Select one part to replace"), false);
    const std::string id = *editor_.selection().parts.begin();
    pick_->open(
        tr("Replace %1 by…").arg(QString::fromStdString(id)),
        [this, id](const QString& typed) {
            std::vector<PickList::Entry> out;
            for (const bench::PartKind* kind : editor_.catalogue().search(typed.toStdString()))
                out.push_back({QString::fromStdString(kind->title), QString::fromStdString(kind->about), art_.thumbnail(*kind, {44, 38}, devicePixelRatioF()), [this, id, kind] {
                                   bool good = false;
                                   editor_.change(tr("replace"), [&](bench::Document& d) { good = bench::replaceKind(d, editor_.catalogue(), id, kind->id); });
                                   if (!good)
                                       showMessage(tr("%1 has wires on pins that a %2 does not have").arg(QString::fromStdString(id), QString::fromStdString(kind->title)), false);
                               }});
            return out;
        },
        QPoint(width() - 400, 44));
}

std::vector<PickList::Entry> MainWindow::findEverything(const QString& typed)
{
    std::vector<PickList::Entry> out;
    const auto matches = [&](const QString& text) {
        for (const QString& word : typed.split(' ', Qt::SkipEmptyParts))
            if (!text.contains(word, Qt::CaseInsensitive))
                return false;
        return true;
    };
    for (const bench::PartItem& part : editor_.document().parts) {
        const QString id = QString::fromStdString(part.id);
        const QString label = QString::fromStdString(part.label);
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind != nullptr && matches(id + " " + label + " " + QString::fromStdString(kind->title)))
            out.push_back({label.isEmpty() ? id : label, tr("part %1, %2").arg(id, QString::fromStdString(kind->title)), {}, [this, name = part.id] { bench_->reveal(name); }});
        if (kind != nullptr && !typed.isEmpty())
            for (const bench::PinKind& pin : kind->pins)
                if (matches(QString::fromStdString(part.id + "." + pin.name + " " + pin.about)))
                    out.push_back({id + "." + QString::fromStdString(pin.name), tr("pin, %1").arg(QString::fromStdString(pin.about)), {}, [this, name = part.id] { bench_->reveal(name); }});
    }
    for (const bench::NetItem& net : editor_.document().nets)
        if (matches(QString::fromStdString(net.name)) && !net.pins.empty())
            out.push_back({QString::fromStdString(net.name), tr("net, %1 pins").arg(net.pins.size()), {}, [this, name = net.pins[0].part] { bench_->reveal(name); }});
    bool isAddress = false;
    if (const std::uint32_t address = typed.trimmed().toUInt(&isAddress, 0); isAddress && typed.trimmed().startsWith("0x"))
        out.push_back({typed.trimmed(), tr("instruction at this address"), {}, [this, address] {
                           showCode(true);
                           code_->openAddress(address);
                       }});
    if (!typed.isEmpty())
        for (const auto& [name, show] : code_->findable())
            if (matches(name))
                out.push_back({name, name.endsWith(')') || !name.contains('.') ? tr("function") : tr("source"), {}, [this, show] {
                                   showCode(true);
                                   show();
                               }});
    for (const Command& command : commands_)
        if (matches(command.name))
            out.push_back({command.name, command.keys, {}, command.run});
    if (out.size() > 60)
        out.resize(60);
    return out;
}

void MainWindow::openFindAnything()
{
    pick_->open(tr("Find a part, a pin, a net, a command"), [this](const QString& typed) { return findEverything(typed); }, QPoint(width() - 400, 44));
}

void MainWindow::askOpen()
{
    if (!mayLeave())
        return;
    const QString file = QFileDialog::getOpenFileName(this, tr("Open a bench"), editor_.folder(), tr("Benches and recordings (*.toml *.bramix-run)"));
    if (!file.isEmpty())
        open(file);
}

void MainWindow::askNew()
{
    if (mayLeave()) {
        editor_.newBench();
        bench_->fitAll();
        showRecoveryBar();
    }
}

void MainWindow::askSave(bool elsewhere)
{
    if (!elsewhere && !editor_.file().isEmpty()) {
        const QString differs = editor_.changedOnDisk();
        if (!differs.isEmpty()) {
            QMessageBox box(this);
            box.setWindowTitle(tr("Changed on disk"));
            box.setText(tr("%1 has been changed by another program since it was opened here.").arg(QFileInfo(editor_.file()).fileName()));
            box.setInformativeText(tr("In the file, against what was opened:\n\n%1").arg(differs));
            auto* overwrite = box.addButton(tr("Overwrite it"), QMessageBox::DestructiveRole);
            auto* other = box.addButton(tr("Save as…"), QMessageBox::AcceptRole);
            auto* reload = box.addButton(tr("Take the file"), QMessageBox::DestructiveRole);
            box.addButton(QMessageBox::Cancel);
            box.setDefaultButton(other);
            box.exec();
            if (box.clickedButton() == reload)
                editor_.reload();
            if (box.clickedButton() == other)
                askSave(true);
            if (box.clickedButton() != overwrite)
                return;
        }
        if (editor_.save(true))
            showMessage(tr("Saved"), false);
        return;
    }
    QString file = QFileDialog::getSaveFileName(this, tr("Save the bench"), editor_.folder() + "/bench.toml", tr("Benches (*.toml)"));
    if (file.isEmpty())
        return;
    if (!file.endsWith(".toml"))
        file += ".toml";
    if (editor_.saveAs(file))
        showMessage(tr("Saved as %1").arg(file), false);
}

void MainWindow::askExport()
{
    const QString wiring = tr("Wiring list (*.csv)"), parts = tr("Bill of materials (*.csv)");
    QString filter;
    QString file = QFileDialog::getSaveFileName(this, tr("Export the bench"), editor_.folder() + "/" + (editor_.file().isEmpty() ? QString("bench") : QFileInfo(editor_.folder()).fileName()),
                                                QStringList{tr("Drawing (*.svg)"), tr("Drawing in true size (*.pdf)"), tr("Picture (*.png)"), wiring, parts}.join(";;"), &filter);
    if (file.isEmpty())
        return;
    const QString suffix = filter.section("*.", 1).section(')', 0, 0);
    if (QFileInfo(file).suffix().isEmpty())
        file += "." + suffix;
    bool good = false;
    if (filter == wiring || filter == parts)
        good = bench::saveText(file.toStdString(), filter == wiring ? bench::wiringList(editor_.document(), editor_.catalogue()) : bench::billOfMaterials(editor_.document(), editor_.catalogue())).has_value();
    else
        good = bench_->exportSheet(file);
    showMessage(good ? tr("Exported to %1").arg(file) : tr("%1 could not be written").arg(file), !good);
}

void MainWindow::askFirmware(const std::string& part)
{
    const QString file = QFileDialog::getOpenFileName(this, tr("Load firmware"), editor_.folder(), tr("Firmware (*.elf *.hex *.ihex *.bin);;All files (*)"));
    if (!file.isEmpty())
        editor_.loadFirmware(part, file);
}

bool MainWindow::mayLeave()
{
    if (code_->hasUnsaved() && asks_) {
        QMessageBox box(this);
        box.setWindowTitle("Bramix");
        box.setText(tr("A source file has changes that are not saved."));
        auto* save = box.addButton(tr("Save"), QMessageBox::AcceptRole);
        auto* discard = box.addButton(tr("Leave them"), QMessageBox::DestructiveRole);
        box.addButton(tr("Stay here"), QMessageBox::RejectRole);
        box.exec();
        if (box.clickedButton() == save ? !code_->save() : box.clickedButton() != discard)
            return false;
    }
    if (editor_.isSaved() || !asks_)
        return true;
    QMessageBox box(this);
    box.setWindowTitle("Bramix");
    box.setText(tr("\"%1\" has changes that are not saved.").arg(QString::fromStdString(editor_.document().title)));
    auto* save = box.addButton(tr("Save"), QMessageBox::AcceptRole);
    auto* discard = box.addButton(tr("Leave them"), QMessageBox::DestructiveRole);
    box.addButton(tr("Stay here"), QMessageBox::RejectRole);
    box.exec();
    if (box.clickedButton() == save) {
        askSave(false);
        return editor_.isSaved();
    }
    if (box.clickedButton() == discard) {
        editor_.discardRecovery();
        return true;
    }
    return false;
}

void MainWindow::closeEvent(QCloseEvent* event)
{
    if (!mayLeave()) {
        event->ignore();
        return;
    }
    if (asks_)
        editor_.discardRecovery();
    event->accept();
}

void MainWindow::showMessage(const QString& text, bool error)
{
    message_->setText(text);
    message_->setFont(theme::words(9.4, QFont::Medium));
    message_->setStyleSheet(QString("QLabel { background: %1; color: #FFFFFF; border-radius: 8px; padding: 9px 14px; }").arg(error ? "#A83A22" : "#3F4A3A"));
    const int room = std::min(620, bench_->width() - 40);
    message_->setMaximumWidth(room);
    message_->setMinimumWidth(std::min(room, message_->fontMetrics().horizontalAdvance(text) + 40));
    message_->adjustSize();
    const QPoint at = bench_->mapTo(this, QPoint((bench_->width() - message_->width()) / 2, bench_->height() - message_->height() - 16));
    message_->move(at);
    message_->show();
    message_->raise();
    QTimer::singleShot(kMessageMs, message_, [this, text] {
        if (message_->text() == text)
            message_->hide();
    });
}

// Keys that a person gave to a part's button work it as long as they are held.
void MainWindow::holdKey(const QString& text, bool down)
{
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr || part.key.empty() || QString::fromStdString(part.key).compare(text, Qt::CaseInsensitive) != 0)
            continue;
        for (const bench::ControlKind& control : kind->controls)
            if (control.type == "hold")
                editor_.setControl(part.id, control.name, down ? 1 : 0);
    }
}

void MainWindow::keyPressEvent(QKeyEvent* event)
{
    if (!event->isAutoRepeat() && event->modifiers() == Qt::NoModifier && !event->text().isEmpty())
        holdKey(QKeySequence(event->key()).toString(), true);
    else if (event->key() == Qt::Key_Escape)
        message_->hide();
    QMainWindow::keyPressEvent(event);
}

void MainWindow::keyReleaseEvent(QKeyEvent* event)
{
    if (!event->isAutoRepeat())
        holdKey(QKeySequence(event->key()).toString(), false);
    QMainWindow::keyReleaseEvent(event);
}

}  // namespace bramix::app
