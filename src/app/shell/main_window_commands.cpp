// What can be done in the window, and by which keys: see commands.h.
#include <QApplication>
#include <QDesktopServices>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QMessageBox>
#include <QTimer>

#include "app/shell/keys_card.h"
#include "app/shell/main_window.h"

namespace bramix::app {

// Letters of the bench act where the pointer or the focus is on it, and never while something is typed.
bool MainWindow::benchHasKeys() const
{
    const QWidget* focus = QApplication::focusWidget();
    return bench_->hasFocus() || focus == nullptr || focus == this || (bench_->underMouse() && qobject_cast<const QLineEdit*>(focus) == nullptr);
}

void MainWindow::addCommand(Command command)
{
    auto* action = new QAction(command.name, this);
    action->setObjectName(command.id);
    const std::function<void()> run = command.run;
    if (command.where == Keys::bench)
        command.run = [this, run] {
            // What was done by a key is said, with the way back.
            const bench::Document before = editor_.document();
            run();
            if (!(editor_.document() == before))
                showMessage(tr("Done: %1. Ctrl+Z takes it back").arg(QString::fromStdString(editor_.history().undoName())), false, kShortMessageMs);
        };
    if (command.where != Keys::code)
        action->setShortcuts(command.keys);
    if (command.where == Keys::bench)
        connect(action, &QAction::triggered, this, [this, run = command.run] {
            if (fromMenu_ || benchHasKeys())
                run();
        });
    else
        connect(action, &QAction::triggered, this, command.run);
    addAction(action);
    command.action = action;
    commands_.push_back(std::move(command));
}

const Command* MainWindow::command(const QString& id) const
{
    for (const Command& c : commands_)
        if (c.id == id)
            return &c;
    return nullptr;
}

void MainWindow::addCommands()
{
    addFileCommands();
    addBenchCommands();
    addRunCommands();
    addViewCommands();
}

void MainWindow::addFileCommands()
{
    const auto add = [this](const char* id, const QString& name, const QList<QKeySequence>& keys, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = Menu::file, .where = Keys::window, .keys = keys, .run = std::move(run)});
    };
    add("new", tr("New bench…"), {QKeySequence::New}, [this] { askNew(); }, tr("start page examples recent"));
    add("newEmpty", tr("Empty bench"), {}, [this] { newEmpty(); }, tr("new"));
    add("open", tr("Open…"), {QKeySequence::Open}, [this] { askOpen(); }, tr("bench recording"));
    add("save", tr("Save"), {QKeySequence::Save}, [this] {
        if (code_->hasUnsaved() && code_->isVisible() && code_->isAncestorOf(QApplication::focusWidget()))
            code_->save();
        else
            askSave(false);
    });
    add("saveAs", tr("Save as…"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_S)}, [this] { askSave(true); });
    add("export", tr("Export…"), {QKeySequence(Qt::CTRL | Qt::Key_E)}, [this] { askExport(); }, tr("SVG PDF PNG picture wiring list bill of materials"));
    add("saveRecording", tr("Save recording…"), {}, [this] { tape_->askSaveRecording(); }, tr("run tape"));
    add("firmware", tr("Load firmware…"), {}, [this] { askFirmwareOfChosen(); }, tr("ELF HEX binary"));
    add("settings", tr("Settings…"), {}, [this] { openSettings(); }, tr("preferences text size tape autosave"));
    add("quit", tr("Quit"), {QKeySequence(Qt::CTRL | Qt::Key_Q)}, [this] { close(); });
    const auto help = [this](const char* id, const QString& name, const QList<QKeySequence>& keys, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = Menu::help, .where = Keys::window, .keys = keys, .run = std::move(run)});
    };
    help("guide", tr("User guide"), {QKeySequence(Qt::Key_F1)}, [this] { openGuide(); }, tr("help manual"));
    help("keys", tr("Keys"), {QKeySequence(Qt::Key_Question)}, [this] { openKeys(); }, tr("shortcuts"));
    help("tour", tr("First steps"), {}, [this] { startTour(); }, tr("tour hint"));
    help("about", tr("About Bramix"), {}, [this] { showAbout(); }, tr("version licence"));
}

void MainWindow::addBenchCommands()
{
    Menu menu = Menu::edit;
    const auto anywhere = [&](const char* id, const QString& name, const QList<QKeySequence>& keys, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = menu, .where = Keys::window, .keys = keys, .run = std::move(run)});
    };
    const auto onBench = [&](const char* id, const QString& name, const QList<QKeySequence>& keys, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = menu, .where = Keys::bench, .keys = keys, .run = std::move(run)});
    };
    anywhere("undo", tr("Undo"), {QKeySequence(Qt::CTRL | Qt::Key_Z)}, [this] { editor_.undo(); });
    anywhere("redo", tr("Redo"), {QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_Z)}, [this] { editor_.redo(); });
    onBench("cut", tr("Cut"), {QKeySequence::Cut}, [this] {
        bench_->copySelection();
        bench_->removeSelection();
    });
    onBench("copy", tr("Copy"), {QKeySequence::Copy}, [this] { bench_->copySelection(); });
    onBench("paste", tr("Paste"), {QKeySequence::Paste}, [this] { bench_->pasteAtPointer(); });
    onBench("duplicate", tr("Duplicate"), {QKeySequence(Qt::CTRL | Qt::Key_D)}, [this] { bench_->duplicateSelection(); });
    onBench("remove", tr("Remove"), {QKeySequence(Qt::Key_Delete), QKeySequence(Qt::Key_Backspace)}, [this] { bench_->removeSelection(); }, tr("delete"));
    onBench("selectAll", tr("Select all"), {QKeySequence::SelectAll}, [this] { bench_->selectAll(); });
    menu = Menu::bench;
    anywhere("addPart", tr("Add a part…"), {QKeySequence(Qt::Key_Slash)}, [this] { openAddPart(); });
    anywhere("wireByName", tr("Wire two pins…"), {QKeySequence(Qt::CTRL | Qt::Key_W)}, [this] { openWire(); }, tr("connect join"));
    onBench("turn", tr("Rotate"), {QKeySequence(Qt::Key_R)}, [this] { bench_->turnSelection(); }, tr("rotate"));
    onBench("turnBack", tr("Rotate back"), {}, [this] { bench_->turnSelectionBack(); }, tr("rotate"));
    onBench("replace", tr("Replace with another part…"), {QKeySequence(Qt::SHIFT | Qt::Key_R)}, [this] { openReplace(); });
    onBench("netFlag", tr("Net flag on the pin…"), {QKeySequence(Qt::Key_F)}, [this] { bench_->askNetFlag(); }, tr("label GND"));
    onBench("nextColour", tr("Next wire colour"), {QKeySequence(Qt::Key_C)}, [this] { bench_->recolorSelection(); }, tr("color"));
    onBench("ribbon", tr("Group wires as a ribbon, or ungroup"), {QKeySequence(Qt::Key_L)}, [this] { bench_->toggleRibbon(); });
    onBench("dialUp", tr("Turn the knob up"), {QKeySequence(Qt::Key_Plus), QKeySequence(Qt::Key_Equal)}, [this] { bench_->turnDialByKey(1); }, tr("dial"));
    onBench("dialDown", tr("Turn the knob down"), {QKeySequence(Qt::Key_Minus)}, [this] { bench_->turnDialByKey(-1); }, tr("knob dial"));
    onBench("dialUpFar", tr("Turn the knob up by a tenth of its range"), {QKeySequence(Qt::Key_PageUp)}, [this] { bench_->turnDialByKey(10); }, tr("knob dial"));
    onBench("dialDownFar", tr("Turn the knob down by a tenth of its range"), {QKeySequence(Qt::Key_PageDown)}, [this] { bench_->turnDialByKey(-10); }, tr("knob dial"));
    const std::tuple<const char*, QString, bench::Edge, int> edges[] = {{"alignLeft", tr("Align left"), bench::Edge::left, Qt::Key_Left},
                                                                      {"alignRight", tr("Align right"), bench::Edge::right, Qt::Key_Right},
                                                                      {"alignTop", tr("Align top"), bench::Edge::top, Qt::Key_Up},
                                                                      {"alignBottom", tr("Align bottom"), bench::Edge::bottom, Qt::Key_Down},
                                                                      {"alignColumn", tr("Align centres in a column"), bench::Edge::middleAcross, 0},
                                                                      {"alignRow", tr("Align centres in a row"), bench::Edge::middleDown, 0}};
    for (const auto& [id, name, edge, key] : edges)
        onBench(id, name, key == 0 ? QList<QKeySequence>() : QList<QKeySequence>{QKeySequence(Qt::ALT | static_cast<Qt::Key>(key))}, [this, edge = edge] { bench_->alignSelection(edge); });
    onBench("distributeAcross", tr("Distribute horizontally"), {}, [this] { bench_->distributeSelection(true); });
    onBench("distributeDown", tr("Distribute vertically"), {}, [this] { bench_->distributeSelection(false); });
}

void MainWindow::addRunCommands()
{
    Menu menu = Menu::run;
    const auto add = [&](const char* id, const QString& name, const QList<QKeySequence>& keys, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = menu, .where = Keys::window, .keys = keys, .run = std::move(run)});
    };
    add("run", tr("Run or pause"), {Qt::Key_Space}, [this] { editor_.toggleRun(); }, tr("start stop"));
    add("restart", tr("Restart"), {QKeySequence(Qt::CTRL | Qt::Key_R)}, [this] { editor_.restart(); }, tr("reset power"));
    add("pace", tr("Real time or full speed"), {}, [this] { editor_.session().setFullSpeed(!editor_.picture().atFullSpeed); });
    const auto steps = [&](const char* id, const QString& name, const QList<QKeySequence>& keys, session::Step step, bool back) {
        add(id, name, keys, [this, step, back] {
            if (back)
                editor_.session().back(step);
            else
                editor_.session().step(step);
        });
    };
    steps("stepLine", tr("Step one line"), {QKeySequence(Qt::Key_Period)}, session::Step::line, false);
    steps("stepOver", tr("Step over"), {QKeySequence(Qt::ALT | Qt::Key_Period)}, session::Step::over, false);
    steps("stepOut", tr("Step out"), {QKeySequence(Qt::CTRL | Qt::Key_Period)}, session::Step::out, false);
    steps("stepInstruction", tr("Step one instruction"), {QKeySequence(Qt::SHIFT | Qt::Key_Period), QKeySequence(Qt::Key_Colon), QKeySequence(Qt::Key_Greater)}, session::Step::instruction, false);
    steps("stepInstructionOver", tr("Step over the instruction"), {}, session::Step::instructionOver, false);
    steps("backLine", tr("Step back one line"), {QKeySequence(Qt::Key_Comma)}, session::Step::line, true);
    steps("backOver", tr("Step back over"), {QKeySequence(Qt::ALT | Qt::Key_Comma)}, session::Step::over, true);
    steps("backOut", tr("Step back out"), {QKeySequence(Qt::CTRL | Qt::Key_Comma)}, session::Step::out, true);
    steps("backInstruction", tr("Step back one instruction"), {QKeySequence(Qt::SHIFT | Qt::Key_Comma), QKeySequence(Qt::Key_Semicolon), QKeySequence(Qt::Key_Less)}, session::Step::instruction, true);
    add("backStop", tr("Back to the previous stop"), {}, [this] { editor_.session().backToStop(); });
    add("backEdge", tr("Back to the pin's last edge"), {}, [this] {
        if (const auto pin = bench_->hoveredPin())
            editor_.session().backToChange(pin->text());
        else
            showMessage(tr("Point at a pin to go back to its last edge"), false);
    });
    add("slowRun", tr("Slow run"), {}, [this] { code_->slowRun(!editor_.picture().debug.slow); });
    add("enterInterrupts", tr("Step into interrupts"), {}, [this] { editor_.session().enterInterrupts(!editor_.picture().debug.entersInterrupts); });
    menu = Menu::code;
    add("code", tr("Code"), {QKeySequence(Qt::CTRL | Qt::Key_2)}, [this] { showCode(!code_->isVisible()); }, tr("source main.c debug arrangement"));
    add("edit", tr("Edit the source"), {}, [this] {
        showCode(true);
        code_->edit();
    }, tr("change write main.c"));
    add("build", tr("Build and restart"), {QKeySequence(Qt::CTRL | Qt::Key_B)}, [this] { code_->build(); }, tr("make compile firmware"));
    add("gdb", tr("Allow GDB connections"), {}, [this] { gdb_.port() == 0 ? gdb_.open() : gdb_.close(); }, tr("debugger remote"));
    const auto inCode = [&](const char* id, const QString& name, const QKeySequence& key, std::function<void()> run) {
        addCommand({.id = id, .name = name, .words = {}, .menu = Menu::code, .where = Keys::code, .keys = {key}, .run = std::move(run)});
    };
    inCode("stopHere", tr("Toggle stop on this line"), QKeySequence(Qt::Key_B), [this] { code_->toggleStopAtCursor(); });
    inCode("runToHere", tr("Run to this line"), QKeySequence(Qt::Key_G), [this] { code_->runToCursor(); });
    inCode("instructions", tr("Disassembly of this line"), QKeySequence(Qt::Key_I), [this] { code_->toggleInstructions(); });
    inCode("editHere", tr("Edit here"), QKeySequence(Qt::Key_Return), [this] { code_->edit(); });
    connect(code_, &CodePanel::letterTyped, this, [this](const QString& letter) {
        for (const Command& c : commands_)
            if (c.where == Keys::code && c.keys.first() == QKeySequence(letter.toUpper()))
                return c.run();
    });
}

void MainWindow::addViewCommands()
{
    Menu menu = Menu::tape;
    const auto add = [&](const char* id, const QString& name, const QList<QKeySequence>& keys, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = menu, .where = Keys::window, .keys = keys, .run = std::move(run)});
    };
    const auto onBench = [&](const char* id, const QString& name, const QKeySequence& key, std::function<void()> run, const QString& words = {}) {
        addCommand({.id = id, .name = name, .words = words, .menu = menu, .where = Keys::bench, .keys = {key}, .run = std::move(run)});
    };
    add("tape", tr("Show the tape"), {}, [this] { showTape(); }, tr("lanes recording logic"));
    add("addLane", tr("Add a lane…"), {}, [this] {
        showTape();
        emit tape_->lanesWanted(QPoint(160, 0));
    }, tr("signal bus variable"));
    onBench("pinOnTape", tr("Toggle the pin on the tape"), QKeySequence(Qt::Key_T), [this] { withPin([this](const bench::PinRef& pin) { editor_.toggleLane(pin); }); });
    add("findOnTape", tr("Find on the tape"), {QKeySequence(Qt::CTRL | Qt::Key_F)}, [this] {
        showTape();
        tape_->searchLine().setFocus();
        tape_->searchLine().selectAll();
    }, tr("search edge pulse byte"));
    add("table", tr("Decoded data as a table"), {QKeySequence(Qt::CTRL | Qt::Key_T)}, [this] {
        showTape();
        showTable(!table_->isVisible());
    });
    menu = Menu::instruments;
    add("scope", tr("Show the oscilloscope"), {}, [this] { showScope(); });
    onBench("pinOnScope", tr("Toggle the pin on the oscilloscope"), QKeySequence(Qt::Key_O), [this] {
        withPin([this](const bench::PinRef& pin) {
            scope_->toggle(pin);
            showScope();
        });
    });
    onBench("probe", tr("Toggle a probe on the pin"), QKeySequence(Qt::Key_P), [this] { withPin([this](const bench::PinRef& pin) { editor_.toggleProbe(pin); }); }, tr("measure voltage"));
    add("probeSpan", tr("Next span of the probes"), {}, [this] { editor_.nextProbeSpan(); });
    add("sweepView", tr("Show the sweep"), {}, [this] { showSweep(); });
    onBench("sweep", tr("Sweep a value of the selected part"), QKeySequence(Qt::Key_W), [this] {
        if (!editor_.selection().parts.empty())
            sweep_->ask(*editor_.selection().parts.begin());
        showSweep();
    }, tr("curve characteristic"));
    onBench("curve", tr("I-V curve of the selected part"), QKeySequence(Qt::SHIFT | Qt::Key_W), [this] {
        if (editor_.selection().parts.size() == 1 && sweep_->askAlone(*editor_.selection().parts.begin()))
            showSweep();
        else
            showMessage(tr("Select one part with two leads to see its curve"), false, kShortMessageMs);
    }, tr("characteristic diode LED forward reverse"));
    add("serial", tr("Show the serial view"), {}, [this] { showSerial(); }, tr("terminal UART console"));
    menu = Menu::view;
    add("find", tr("Find anything"), {QKeySequence(Qt::CTRL | Qt::Key_K)}, [this] { openFindAnything(); });
    add("menu", tr("Menu"), {QKeySequence(Qt::Key_F10)}, [this] { openMenu(); });
    add("wireArrangement", tr("Arrangement: wire"), {QKeySequence(Qt::CTRL | Qt::Key_1)}, [this] {
        showCode(false);
        arrange(kWireShare);
    });
    add("measureArrangement", tr("Arrangement: measure"), {QKeySequence(Qt::CTRL | Qt::Key_3)}, [this] { showTapeLarge(); });
    add("fit", tr("Fit everything"), {QKeySequence(Qt::Key_Home)}, [this] { bench_->fitAll(); }, tr("zoom"));
    add("zoomIn", tr("Zoom in"), {QKeySequence::ZoomIn, QKeySequence(Qt::CTRL | Qt::Key_Equal)}, [this] { bench_->zoomBy(1.25, QPointF(bench_->width() / 2.0, bench_->height() / 2.0)); });
    add("zoomOut", tr("Zoom out"), {QKeySequence::ZoomOut}, [this] { bench_->zoomBy(0.8, QPointF(bench_->width() / 2.0, bench_->height() / 2.0)); });
    add("inspector", tr("Inspector"), {QKeySequence(Qt::CTRL | Qt::Key_I)}, [this] { inspector_->setVisible(!inspector_->isVisible()); }, tr("settings of the selected part"));
    add("partsDrawer", tr("Parts drawer"), {}, [this] { drawer_->toggle(Drawer::kParts); });
    add("filesDrawer", tr("Files drawer"), {}, [this] { drawer_->toggle(Drawer::kFiles); }, tr("recent examples"));
    add("findings", tr("Findings drawer"), {}, [this] { drawer_->toggle(Drawer::kFindings); }, tr("errors warnings problems"));
    add("start", tr("Start page"), {}, [this] { showStart(); }, tr("examples recent"));
    add("fullScreen", tr("Full screen"), {QKeySequence(Qt::Key_F11)}, [this] { setWindowState(windowState() ^ Qt::WindowFullScreen); });
}

void MainWindow::withPin(const std::function<void(const bench::PinRef&)>& then)
{
    if (const auto pin = bench_->hoveredPin())
        then(*pin);
    else
        showMessage(tr("Point at a pin first"), false, kShortMessageMs);
}

}  // namespace bramix::app
