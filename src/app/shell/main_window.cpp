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

#include <QMimeData>
#include <QDir>
#include <QRegularExpression>

#include "app/shell/examples.h"
#include "app/shell/progress_card.h"
#include "app/shell/settings.h"
#include "app/shell/theme.h"
#include "bench/lists.h"
#include "bench/new_bench.h"
#include "bench/part_search.h"

namespace bramix::app {

namespace {

// With the value that was typed: "Resistor, 160".
QString nameOf(const bench::PartHit& hit)
{
    QString out = QString::fromStdString(hit.kind->title);
    for (const auto& [name, value] : hit.set)
        out += ", " + QString::fromStdString(value);
    return out;
}

}  // namespace

MainWindow::MainWindow(const bench::Catalogue& catalogue) : editor_(catalogue)
{
    setWindowTitle("Bramix");
    setWindowIcon(theme::icon("berry", theme::bramble));
    resize(1280, 800);
    setMinimumSize(720, 460);
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
    theme::dress(recovery_, "QWidget#recovery { background: @warningGround; }");
    auto* recoveryRow = new QHBoxLayout(recovery_);
    recoveryRow->setContentsMargins(14, 5, 14, 5);
    recoveryRow->addWidget(new QLabel(tr("Work on this bench was not saved when Bramix last ended.")));
    recoveryRow->addStretch(1);
    auto* restore = new QPushButton(tr("Restore it"));
    auto* discard = new QPushButton(tr("Discard it"));
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
    lowerBox->setObjectName("dock");
    lowerBox->setAttribute(Qt::WA_StyledBackground);
    theme::dress(lowerBox, theme::darkStyleSheet());
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
    // The search of the tape stands beside the tabs, so that it covers nothing of the tape.
    auto* tabsRow = new QHBoxLayout;
    tabsRow->setContentsMargins(0, 0, 12, 0);
    tabsRow->addWidget(tabs_);
    tabsRow->addStretch(1);
    tape_->searchLine().setFixedWidth(260);
    tabsRow->addWidget(&tape_->searchLine());
    connect(tabs_, &QTabBar::currentChanged, &tape_->searchLine(), [this](int tab) { tape_->searchLine().setVisible(tab == 0); });
    lowerRows->addLayout(tabsRow);
    lowerRows->addWidget(lower_, 1);

    split_ = new QSplitter(Qt::Vertical);
    split_->setHandleWidth(3);
    split_->setChildrenCollapsible(false);
    split_->addWidget(upper);
    split_->addWidget(lowerBox);
    rows->addWidget(split_, 1);
    start_ = new StartPage(catalogue, art_);
    connect(&theme::changes(), &theme::Changes::changed, start_, [this] {
        if (start_->isVisible())
            start_->refresh(editor_.recentFiles());  // its pictures are drawn anew
    });
    start_->hide();
    rows->addWidget(start_, 1);
    connect(start_, &StartPage::benchChosen, this, [this](const QString& file) {
        if (mayLeave())
            open(file);
    });
    connect(start_, &StartPage::emptyWanted, this, &MainWindow::newEmpty);
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
    messageTime_.setSingleShot(true);
    connect(&messageTime_, &QTimer::timeout, message_, &QWidget::hide);
    pick_ = new PickList(this);
    guide_ = new GuideView(this);
    setAcceptDrops(true);
    setFocusPolicy(Qt::StrongFocus);

    connect(tabs_, &QTabBar::currentChanged, lower_, &QStackedWidget::setCurrentIndex);
    progress_ = new ProgressCard(this);
    connect(progress_, &ProgressCard::stopWanted, this, [this] { editor_.session().stopWork(); });
    constexpr int kProgressLookMs = 100;
    progressLook_.start(kProgressLookMs);
    connect(&progressLook_, &QTimer::timeout, this, [this] {
        progress_->follow(editor_.session().work());
        if (!progress_->isVisible())
            return;
        const QWidget* over = start_->isVisible() ? static_cast<QWidget*>(start_) : bench_;
        progress_->place(QRect(over->mapTo(this, QPoint(0, 0)), over->size()));
    });
    connect(&editor_, &Editor::message, this, [this](const QString& text, bool error) { showMessage(text, error); });
    connect(inspector_, &Inspector::firmwareWanted, this, &MainWindow::askFirmware);
    connect(inspector_, &Inspector::registersWanted, this, &MainWindow::askRegisters);
    connect(bench_, &BenchView::firmwareDropped, this, [this](const std::string& part, const QString& file) { editor_.loadFirmware(part, file); });
    connect(bench_, &BenchView::benchDropped, this, &MainWindow::open);
    connect(transport_, &Transport::findWanted, this, &MainWindow::openFindAnything);
    connect(transport_, &Transport::menuWanted, this, &MainWindow::openMenu);
    connect(bench_, &BenchView::menuWanted, this, [this](const BenchView::Target& target, QPoint at) { makeMenuOf(target)->popup(at); });
    connect(bench_, &BenchView::otherDropped, this, &MainWindow::takeFile);
    connect(transport_, &Transport::findingsWanted, this, [this] { drawer_->toggle(Drawer::kFindings); });
    connect(drawer_, &Drawer::aboutToToggle, bench_, &BenchView::holdStill);
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
            showMessage(code_->buildPane().warnings() > 0 ? tr("Built with %1 warnings, and loaded").arg(code_->buildPane().warnings()) : tr("Built and loaded"), false);
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
    qApp->installEventFilter(this);
    QTimer::singleShot(0, this, [this] {
        arrange(code_->isVisible() ? kDebugShare : kWireShare);
        showRecoveryBar();
        bench_->fitAll();
    });
    bench_->setFocus();
}

void MainWindow::arrange(double tapeShare)
{
    const int total = split_->height();
    const int lower = static_cast<int>(total * tapeShare);
    split_->setSizes({total - lower, lower});
}

void MainWindow::showCode(bool on)
{
    // Before it is shown nothing has its size yet.
    if (on && !isVisible())
        QTimer::singleShot(0, this, [this] {
            if (code_->isVisible())
                showCode(true);
        });
    bench_->keepMiddle();
    code_->setVisible(on);
    code_->setLooking(on);
    constexpr int kWideEnough = 1600;
    if (on) {
        // The live controls stay: the bench and the code share what is left.
        const int room = middle_->width();
        const int code = std::clamp(room * (width() >= kWideEnough ? 48 : 58) / 100, 360, 900);
        middle_->setSizes({code, std::max(200, room - code)});
        code_->takeFocus();
        arrange(kDebugShare);
    }
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

void MainWindow::open(const QString& wanted)
{
    const QString file = ownCopyOf(wanted);
    if (file.isEmpty())
        return showMessage(tr("%1 could not be copied to where it may be worked on").arg(wanted), true);
    if (editor_.openFile(file)) {
        if (file != wanted)
            showMessage(tr("A copy of your own: %1").arg(file), false);
        hideStart();
        bench_->fitAll();
        showRecoveryBar();
        setWindowTitle(tr("%1 – Bramix").arg(QString::fromStdString(editor_.document().title)));
    }
}

void MainWindow::showStart()
{
    start_->refresh(editor_.recentFiles());
    split_->hide();
    start_->show();
    start_->takeFocus();
}

void MainWindow::hideStart()
{
    start_->hide();
    split_->show();
    bench_->setFocus();
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
    hideStart();  // onto the bench that lies behind it
    const QPoint pointer = bench_->mapFromGlobal(QCursor::pos());
    const QPoint at = bench_->rect().contains(pointer) ? bench_->mapTo(this, pointer) + QPoint(12, 12) : bench_->mapTo(this, QPoint(bench_->width() / 2 - 190, 60));
    pick_->open(
        tr("Add a part: LED, resistor, Briar…"),
        [this](const QString& typed) {
            std::vector<PickList::Entry> out;
            offerParts(typed, "%1", SIZE_MAX, out);
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

// Kinds to add that match, under a title with their name in it.
void MainWindow::offerParts(const QString& typed, const QString& title, std::size_t most, std::vector<PickList::Entry>& out)
{
    for (const bench::PartHit& hit : bench::searchParts(editor_.catalogue().kinds(), typed.toStdString())) {
        if (most-- == 0)
            return;
        out.push_back({title.arg(nameOf(hit)), QString::fromStdString(hit.kind->about), art_.thumbnail(*hit.kind, {44, 38}, devicePixelRatioF()), [this, hit] { bench_->addPartAtPointer(*hit.kind, hit.set); }});
    }
}

// A time: so much further, or to that moment.
void MainWindow::offerTime(const QString& typed, std::vector<PickList::Entry>& out)
{
    static const QRegularExpression kTime("^\\s*(run\\s+for|run|for|go\\s+to|to|at|)\\s*(\\d[\\d.,]*\\s*(?:ps|ns|us|µs|ms|s))\\s*$", QRegularExpression::CaseInsensitiveOption);
    const auto match = kTime.match(typed);
    const session::Picture& now = editor_.picture();
    if (!match.hasMatch() || !now.powered)
        return;
    const auto span = kernel::parseDuration(match.captured(2).toStdString());
    if (!span || span->count() <= 0)
        return;
    const QString said = QString::fromStdString(kernel::formatQuantity(kernel::seconds(*span), kernel::Unit::second, 12));
    const QString word = match.captured(1).toLower();
    const bool forIt = word.startsWith("run") || word == "for";
    const kernel::Time moment{*span};
    if (forIt || word.isEmpty())
        out.push_back({tr("Run for %1").arg(said), tr("then pause"), {}, [this, span = *span] { editor_.session().runFor(span); }});
    if (forIt)
        return;
    if (moment >= now.tapeFrom && moment <= std::max(now.now, now.latest))
        out.push_back({tr("Go to %1").arg(said), tr("the whole bench, at that moment"), {}, [this, moment] { editor_.session().goTo(moment); }});
    else if (moment > now.now)
        out.push_back({tr("Run until %1").arg(said), tr("then pause"), {}, [this, moment] {
                           // It may have run on since the list came up: what is left is told by where it stands.
                           editor_.session().pause();
                           editor_.session().settle();
                           const kernel::Time stands = editor_.session().picture()->now;
                           moment > stands ? editor_.session().runFor(moment - stands) : editor_.session().goTo(moment);
                       }});
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
    offerTime(typed, out);
    if (!typed.isEmpty())
        for (const auto& [name, show] : code_->findable())
            if (matches(name))
                out.push_back({name, name.endsWith(')') || !name.contains('.') ? tr("function") : tr("source"), {}, [this, show] {
                                   showCode(true);
                                   show();
                               }});
    for (const Command& c : commands_)
        if (matches(c.name + " " + c.words))
            out.push_back({c.name, c.keys.isEmpty() ? tr("command") : c.shownKey(), {}, [this, run = c.run] {
                               fromMenu_ = true;
                               run();
                               fromMenu_ = false;
                           }});
    // What is not there yet can be added from here.
    constexpr std::size_t kMostKinds = 12, kMost = 80;
    if (!typed.trimmed().isEmpty()) {
        offerParts(typed, tr("Add: %1"), kMostKinds, out);
    }
    if (out.size() > kMost)
        out.resize(kMost);
    return out;
}

void MainWindow::openFindAnything()
{
    pick_->open(tr("Find a part, a pin, a net, a command"), [this](const QString& typed) { return findEverything(typed); }, QPoint(width() - 400, 44));
}

void MainWindow::askOpen()
{
    const QString file = QFileDialog::getOpenFileName(this, tr("Open a bench"), editor_.folder(), tr("Benches, recordings, programs (*.toml *.bramix-run *.ino)"));
    if (!file.isEmpty())
        takeFile(file);
}

// A bench with a board and firmware, or an empty one: the same choice wherever it is asked for.
void MainWindow::askNew() { showStart(); }

void MainWindow::newEmpty()
{
    if (!mayLeave())
        return;
    hideStart();
    editor_.newBench();
    bench_->fitAll();
    showRecoveryBar();
}

void MainWindow::askSave(bool elsewhere)
{
    // What came with Bramix stays as it is.
    const bool shipped = isExample(editor_.file());
    if (!elsewhere && shipped) {
        showMessage(tr("This is an example: it stays as it is. Save a copy of your own"), false);
        elsewhere = true;
    }
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
    const QString name = QString::fromStdString(editor_.document().title).toLower().simplified().replace(QRegularExpression("[^a-z0-9]+"), "-");
    QString file = QFileDialog::getSaveFileName(this, tr("Save the bench"), shipped || editor_.file().isEmpty() ? settings::benchFolder() + "/" + name + ".toml" : editor_.folder() + "/bench.toml", tr("Benches (*.toml)"));
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

void MainWindow::askRegisters(const std::string& part)
{
    const bench::PartItem* item = editor_.document().part(part);
    if (item != nullptr && !item->registers.empty()) {
        QMessageBox box(this);
        box.setWindowTitle(tr("Registers"));
        box.setText(tr("%1 describes the registers of %2.").arg(QFileInfo(QString::fromStdString(item->registers)).fileName(), QString::fromStdString(part)));
        auto* other = box.addButton(tr("Another file…"), QMessageBox::AcceptRole);
        auto* away = box.addButton(tr("Take it away"), QMessageBox::DestructiveRole);
        box.addButton(QMessageBox::Cancel);
        box.exec();
        if (box.clickedButton() == away)
            return editor_.describeRegisters(part, {});
        if (box.clickedButton() != other)
            return;
    }
    const QString file = QFileDialog::getOpenFileName(this, tr("Describe registers"), editor_.folder(), tr("Register descriptions (*.svd *.xml);;All files (*)"));
    if (!file.isEmpty())
        editor_.describeRegisters(part, file);
}

bool MainWindow::mayLeave()
{
    if (code_->hasUnsaved() && asks_) {
        QMessageBox box(this);
        box.setWindowTitle("Bramix");
        box.setText(tr("A source file has changes that are not saved."));
        auto* save = box.addButton(tr("Save"), QMessageBox::AcceptRole);
        auto* discard = box.addButton(tr("Discard"), QMessageBox::DestructiveRole);
        box.addButton(tr("Cancel"), QMessageBox::RejectRole);
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
    auto* discard = box.addButton(tr("Discard"), QMessageBox::DestructiveRole);
    box.addButton(tr("Cancel"), QMessageBox::RejectRole);
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

void MainWindow::showMessage(const QString& text, bool error, int ms)
{
    message_->setText(text);
    message_->setFont(theme::words(9.4, QFont::Medium));
    message_->setStyleSheet(QString("QLabel { background: %1; color: #FFFFFF; border-radius: 8px; padding: 9px 14px; }").arg(error ? "#A83A22" : "#3F4A3A"));
    placeMessage();
    message_->show();
    message_->raise();
    messageTime_.start(ms);
}

// A button, a list or a box of choices that has the focus keeps Space, which would run the bench, and Enter presses a button.
bool MainWindow::eventFilter(QObject* watched, QEvent* event)
{
    if (event->type() != QEvent::ShortcutOverride && event->type() != QEvent::KeyPress)
        return QMainWindow::eventFilter(watched, event);
    auto* widget = qobject_cast<QWidget*>(watched);
    const auto* key = static_cast<QKeyEvent*>(event);
    if (widget == nullptr || widget != QApplication::focusWidget() || key->modifiers() != Qt::NoModifier)
        return QMainWindow::eventFilter(watched, event);
    auto* button = qobject_cast<QAbstractButton*>(widget);
    const bool enter = key->key() == Qt::Key_Return || key->key() == Qt::Key_Enter;
    if (event->type() == QEvent::ShortcutOverride) {
        const bool list = qobject_cast<QAbstractItemView*>(widget) != nullptr || qobject_cast<QComboBox*>(widget) != nullptr;
        if ((key->key() == Qt::Key_Space && (button != nullptr || list)) || (enter && (button != nullptr || list)))
            event->accept();
    } else if (key->key() == Qt::Key_Escape && inspector_->isAncestorOf(widget)) {
        bench_->setFocus();  // back to what is looked at, where its keys act
        return true;
    } else if (enter && button != nullptr && button->isEnabled() && button->window() == this) {
        button->click();
        return true;
    }
    return QMainWindow::eventFilter(watched, event);
}

// In the middle of what can be seen of the bench, which may change while it stands.
void MainWindow::placeMessage()
{
    const QWidget* over = start_->isVisible() ? static_cast<QWidget*>(start_) : bench_;
    const int room = std::max(160, std::min(620, over->width() - 40));
    message_->setMaximumWidth(room);
    message_->setMinimumWidth(std::min(room, message_->fontMetrics().horizontalAdvance(message_->text()) + 40));
    message_->adjustSize();
    message_->move(over->mapTo(this, QPoint((over->width() - message_->width()) / 2, over->height() - message_->height() - 16)));
}

void MainWindow::resizeEvent(QResizeEvent* event)
{
    QMainWindow::resizeEvent(event);
    // On a small screen the bench needs the inspector's room; Ctrl+I brings it back.
    constexpr int kRoomForAll = 960;
    if (event->size().width() < kRoomForAll && event->oldSize().width() >= kRoomForAll)
        inspector_->hide();
    else if (event->size().width() >= kRoomForAll && event->oldSize().width() < kRoomForAll)
        inspector_->show();
    guide_->place();
    QTimer::singleShot(0, this, [this] {
        if (message_->isVisible())
            placeMessage();
        placeTour();
    });
}

// Files may be dropped anywhere in the window.
void MainWindow::dragEnterEvent(QDragEnterEvent* event)
{
    if (event->mimeData()->hasUrls())
        event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event)
{
    for (const QUrl& url : event->mimeData()->urls())
        takeFile(url.toLocalFile());
    event->acceptProposedAction();
}

// A bench or a recording is opened, firmware goes to the only board.
void MainWindow::takeFile(const QString& file)
{
    if (QFileInfo(file).isDir())
        return takeFolder(file);
    const QString suffix = QFileInfo(file).suffix().toLower();
    if (suffix == "toml" || suffix == "bramix-run") {
        if (mayLeave())
            open(file);
        return;
    }
    if (suffix == "elf" || suffix == "hex" || suffix == "ihex" || suffix == "bin") {
        const auto chips = chipParts();
        if (chips.size() == 1)
            return editor_.loadFirmware(chips.front(), file);
        return showMessage(chips.empty() ? tr("There is no board to run %1; add one first").arg(QFileInfo(file).fileName()) : tr("Drop %1 onto the board that it is for").arg(QFileInfo(file).fileName()), true);
    }
    if (suffix == "svd") {
        const auto chips = chipParts();
        if (chips.size() == 1)
            return editor_.describeRegisters(chips.front(), file);
        return showMessage(chips.empty() ? tr("There is no chip whose registers %1 could describe").arg(QFileInfo(file).fileName()) : tr("Choose the chip that %1 describes, and then the file in the inspector").arg(QFileInfo(file).fileName()), true);
    }
    if (suffix == "ino")
        return openProgram(file);
    showMessage(tr("%1 is no bench, recording or firmware").arg(QFileInfo(file).fileName()), true);
}

// What a folder is for: its only bench, else its only program.
void MainWindow::takeFolder(const QString& folder)
{
    const QDir dir(folder);
    for (const QString& pattern : {QStringLiteral("*.toml"), QStringLiteral("*.ino")}) {
        const QStringList found = dir.entryList({pattern}, QDir::Files, QDir::Name);
        if (found.size() == 1)
            return takeFile(dir.filePath(found.front()));
        if (found.size() > 1)
            return showMessage(tr("%1 holds several: %2. Open one of them").arg(dir.dirName(), found.mid(0, 4).join(", ")), true);
    }
    showMessage(tr("There is no bench and no program in %1").arg(dir.dirName()), true);
}

// A program of setup() and loop() where it lies: a bench and a Makefile come beside it where there are none.
void MainWindow::openProgram(const QString& file)
{
    if (!mayLeave())
        return;
    const auto beside = bench::benchBesideProgram(file.toStdString(), editor_.catalogue());
    if (!beside)
        return showMessage(QString::fromStdString(beside.error().text()), true);
    const QString bench = QString::fromStdString(beside->bench);
    if (beside->madeMakefile)
        BuildPane::allowIn(QFileInfo(bench).absolutePath());  // made here, just now
    open(bench);
    showCode(true);
    if (beside->madeMakefile)
        code_->build();
}

std::vector<std::string> MainWindow::chipParts() const
{
    std::vector<std::string> out;
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind); kind != nullptr && kind->chip != nullptr)
            out.push_back(part.id);
    return out;
}

// Of the selected board, or of the only one.
void MainWindow::askFirmwareOfChosen()
{
    const auto chips = chipParts();
    const auto& selected = editor_.selection().parts;
    for (const std::string& chip : chips)
        if (selected.size() == 1 && *selected.begin() == chip)
            return askFirmware(chip);
    if (chips.size() == 1)
        return askFirmware(chips.front());
    showMessage(chips.empty() ? tr("There is no board to load firmware into; add one first") : tr("Select the board that the firmware is for"), false);
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
