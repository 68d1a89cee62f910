#include "app/code/code_panel.h"

#include <QComboBox>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QMenu>
#include <QRegularExpression>
#include <QSaveFile>
#include <QToolTip>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "debug/code_functions.h"
#include "debug/register_view.h"
#include "kernel/files.h"

namespace bramix::app {

namespace {

constexpr std::size_t kLargestSource = 16U << 20U;
constexpr double kUsualPace = 4;     // lines a second

QTabBar* smallTabs(const QStringList& names)
{
    auto* tabs = new QTabBar;
    for (const QString& name : names)
        tabs->addTab(name);
    tabs->setDrawBase(false);
    tabs->setExpanding(false);
    tabs->setUsesScrollButtons(false);
    tabs->setFocusPolicy(Qt::NoFocus);
    tabs->setFont(theme::words(8.6, QFont::DemiBold));
    theme::dress(tabs, "QTabBar::tab { background: transparent; color: @muted; padding: 4px 8px; border: none; border-bottom: 2px solid transparent; }"
                        "QTabBar::tab:selected { color: @ink; border-bottom: 2px solid @bramble; }");
    return tabs;
}

// Of a package: looked into, never written to.
bool isInstalled(const QString& file) { return file.startsWith("/usr/") && !file.startsWith("/usr/local/"); }

}  // namespace

CodePanel::CodePanel(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("code");
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(0);
    auto* head = new QHBoxLayout;
    head->setContentsMargins(8, 4, 8, 0);
    head->setSpacing(4);
    tabs_ = new QTabBar;
    tabs_->setObjectName("codeTabs");
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setFocusPolicy(Qt::NoFocus);
    tabs_->setElideMode(Qt::ElideNone);
    tabs_->setUsesScrollButtons(true);  // rather than names of two letters
    tabs_->setFont(theme::words(9, QFont::Medium));
    theme::dress(tabs_, "QTabBar::tab { background: transparent; color: @muted; padding: 5px 10px; border: none; border-top-left-radius: 6px; border-top-right-radius: 6px; }"
                         "QTabBar::tab:selected { background: @card; color: @ink; }");
    head->addWidget(tabs_, 1);
    const auto button = [&](const QString& text, const QString& tip) {
        auto* b = new QToolButton;
        b->setText(text);
        b->setToolTip(tip);
        b->setCheckable(true);
        b->setFocusPolicy(Qt::NoFocus);
        b->setFont(theme::words(8.6));
        head->addWidget(b);
        return b;
    };
    unfold_ = button(tr("Instructions"), tr("Unfold the instructions of the line where the program stands (I)"));
    unfold_->setChecked(true);
    slow_ = button(tr("Slow run"), tr("Step by itself, so many lines or instructions a second"));
    pace_ = new QSpinBox;
    pace_->setAccessibleName(tr("Pace of the slow run"));
    pace_->setRange(1, 100);
    pace_->setValue(static_cast<int>(kUsualPace));
    pace_->setFocusPolicy(Qt::ClickFocus);
    pace_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    pace_->setFont(theme::words(8.4));
    pace_->setFixedWidth(38);
    head->addWidget(pace_);
    paceOf_ = new QComboBox;
    paceOf_->setObjectName("slowUnit");
    paceOf_->addItems({tr("lines/s"), tr("instructions/s")});
    paceOf_->setFocusPolicy(Qt::NoFocus);
    paceOf_->setFont(theme::words(8.4));
    head->addWidget(paceOf_);
    rows->addLayout(head);
    auto* strip = new QWidget;
    theme::dress(strip, "background: @card;");
    auto* stripRow = new QHBoxLayout(strip);
    stripRow->setContentsMargins(12, 4, 12, 3);
    crumbs_ = new QLabel;
    crumbs_->setObjectName("crumbs");
    crumbs_->setFont(theme::words(8.8));
    crumbs_->setTextFormat(Qt::RichText);
    crumbs_->setMinimumWidth(10);
    crumbs_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    hint_ = new QLabel;
    hint_->setFont(theme::words(8.2));
    theme::dress(hint_, "color: @muted;");
    stripRow->addWidget(crumbs_, 1);
    stripRow->addWidget(hint_);
    rows->addWidget(strip);
    auto* split = new QSplitter(Qt::Vertical);
    split->setHandleWidth(1);
    split->setChildrenCollapsible(false);
    views_ = new QStackedWidget;
    nothing_ = new QLabel;
    nothing_->setObjectName("codeNothing");
    nothing_->setFont(theme::words(10));
    nothing_->setAlignment(Qt::AlignCenter);
    nothing_->setWordWrap(true);
    nothing_->setMargin(24);
    theme::dress(nothing_, "color: @muted; background: @paper;");
    views_->addWidget(nothing_);
    auto* reading = new QWidget;
    auto* readingRows = new QVBoxLayout(reading);
    readingRows->setContentsMargins(0, 0, 0, 0);
    readingRows->setSpacing(0);
    mode_ = new QLabel;
    mode_->setObjectName("codeMode");
    mode_->setFont(theme::words(8.6));
    mode_->setContentsMargins(12, 3, 12, 3);
    mode_->setMinimumWidth(10);
    mode_->setWordWrap(true);
    mode_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    readingRows->addWidget(views_, 1);
    readingRows->addWidget(mode_);
    split->addWidget(reading);
    auto* below = new QSplitter(Qt::Horizontal);
    below->setHandleWidth(1);
    below->setChildrenCollapsible(false);
    const auto side = [&](QTabBar* tabs, QStackedWidget* stack) {
        auto* box = new QWidget;
        auto* column = new QVBoxLayout(box);
        column->setContentsMargins(8, 3, 8, 6);
        column->setSpacing(4);
        column->addWidget(tabs);
        column->addWidget(stack, 1);
        below->addWidget(box);
        connect(tabs, &QTabBar::currentChanged, stack, &QStackedWidget::setCurrentIndex);
    };
    left_ = new QStackedWidget;
    variables_ = new VariablesPane(editor_);
    stops_ = new StopsPane(editor_);
    build_ = new BuildPane(editor_);
    for (QWidget* w : std::initializer_list<QWidget*>{variables_, stops_, build_})
        left_->addWidget(w);
    leftTabs_ = smallTabs({tr("Variables"), tr("Stops"), tr("Build")});
    side(leftTabs_, left_);
    right_ = new QStackedWidget;
    chip_ = new ChipPane(editor_);
    memory_ = new MemoryPane(editor_);
    timing_ = new TimingPane(editor_);
    for (QWidget* w : std::initializer_list<QWidget*>{chip_, memory_, timing_})
        right_->addWidget(w);
    rightTabs_ = smallTabs({tr("Chip"), tr("Memory"), tr("Timing")});
    side(rightTabs_, right_);
    split->addWidget(below);
    split->setStretchFactor(0, 3);
    split->setStretchFactor(1, 2);
    split->setSizes({330, 250});
    below->setSizes({280, 280});
    rows->addWidget(split, 1);

    connect(tabs_, &QTabBar::currentChanged, this, [this](int index) {
        if (index >= 0 && static_cast<std::size_t>(index) < files_.size()) {
            views_->setCurrentWidget(nothingShown_ ? static_cast<QWidget*>(nothing_) : load(files_[static_cast<std::size_t>(index)]));
            mark(editor_.picture().debug);
        }
    });
    connect(crumbs_, &QLabel::linkActivated, this, [this](const QString& link) {
        frame_ = link.toUInt();
        request();
    });
    connect(unfold_, &QToolButton::toggled, this, [this](bool on) {
        instructions_ = on;
        mark(editor_.picture().debug);
    });
    connect(slow_, &QToolButton::clicked, this, &CodePanel::slowRun);
    connect(pace_, &QSpinBox::valueChanged, this, [this] {
        if (editor_.picture().debug.slow)
            slowRun(true);
    });
    connect(paceOf_, &QComboBox::currentIndexChanged, this, [this] {
        if (editor_.picture().debug.slow)
            slowRun(true);
    });
    connect(views_, &QStackedWidget::currentChanged, this, [this] { showMode(); });
    showMode();
    connect(&editor_, &Editor::pictureChanged, this, &CodePanel::refresh);
    connect(&editor_, &Editor::documentChanged, this, &CodePanel::request);
    connect(memory_, &MemoryPane::viewChanged, this, &CodePanel::request);
    connect(right_, &QStackedWidget::currentChanged, this, [this] {
        request();
        refresh();
    });
    connect(stops_, &StopsPane::placeChosen, this, qOverload<const QString&, int>(&CodePanel::openPlace));
    connect(build_, &BuildPane::placeChosen, this, qOverload<const QString&, int>(&CodePanel::openPlace));
    connect(build_, &BuildPane::built, this, [this](bool good) {
        if (!good)
            showPane(build_);
    });
}

void CodePanel::takeFocus()
{
    focusWanted_ = view() == nullptr;
    if (view() != nullptr)
        view()->setFocus();
}

void CodePanel::setLooking(bool on)
{
    looking_ = on;
    request();
}

void CodePanel::request()
{
    session::DebugRequest r;
    r.chip = chipId_;
    r.on = looking_;
    r.frame = frame_;
    r.watches = editor_.document().watches;
    r.hovered = hovered_.toStdString();
    r.globals = true;
    // The program is at hand in any case.
    if (right_->currentWidget() == memory_ && !memory_->sheet().showsProgram())
        r.memory = memory_->sheet().region();
    editor_.session().watchDebug(r);
    markedStops_ = SIZE_MAX;  // stops may have been edited
}

void CodePanel::chooseChip(const std::string& id)
{
    chipId_ = id;
    frame_ = 0;
    request();
}

void CodePanel::slowRun(bool on)
{
    slow_->setChecked(on);
    if (on)
        editor_.session().slowRun(paceOf_->currentIndex() == 1 ? session::Step::instruction : session::Step::line, pace_->value());
    else
        editor_.session().pause();
}

// What comes with each picture.

void CodePanel::refresh()
{
    const session::DebugPicture& debug = editor_.picture().debug;
    if (!looking_)
        return;
    showNothing(debug);
    if (!debug.there)
        return;
    if (debug.program != program_ || QString::fromStdString(debug.firmwareFile) != firmware_)
        takeProgram(debug);
    slow_->setChecked(debug.slow);
    const bool moved = debug.standing && (!wasStanding_ || debug.registers.pc != shownPc_ || debug.frame != shownFrame_ || editor_.picture().now != shownAt_);
    // Each stop begins at the innermost frame.
    if (moved && debug.registers.pc != shownPc_ && frame_ != 0) {
        frame_ = 0;
        request();
    }
    wasStanding_ = debug.standing;
    if (debug.standing) {
        shownPc_ = debug.registers.pc;
        shownFrame_ = debug.frame;
        shownAt_ = editor_.picture().now;
    }
    if (moved && !nothingShown_)
        showPlace(debug);
    showCrumbs(debug);
    // While it runs, marks stay where they are, but for counts.
    if (moved || debug.standing || wasMarked_ || debug.counts.total != markedCounts_ || debug.stops.size() != markedStops_)
        mark(debug);
    wasMarked_ = debug.standing;
    markedCounts_ = debug.counts.total;
    markedStops_ = debug.stops.size();
    if (debug.hovered && debug.hovered->expression == hovered_.toStdString()) {
        if (debug.hovered->known)
            QToolTip::showText(hoveredAt_, QString("%1 = %2\n%3").arg(hovered_, QString::fromStdString(debug.hovered->value), QString::fromStdString(debug.hovered->type)));
        hovered_.clear();
        request();
    }
    variables_->refresh(debug);
    stops_->refresh(debug);
    if (right_->currentWidget() == chip_)
        chip_->refresh(debug);
    if (right_->currentWidget() == memory_)
        memory_->refresh(debug);
    if (right_->currentWidget() == timing_) {
        std::uint64_t hz = 0;
        for (const session::ChipPicture& c : editor_.picture().chips)
            if (c.id == debug.chip)
                hz = c.clockHz;
        timing_->refresh(debug, hz);
    }
}

// In place of code, what to do to have some.
void CodePanel::showNothing(const session::DebugPicture& debug)
{
    const bool blank = debug.code == nullptr || std::all_of(debug.code->begin(), debug.code->begin() + std::min<std::ptrdiff_t>(2, static_cast<std::ptrdiff_t>(debug.code->size())), [](std::uint8_t b) { return b == 0xFF; });  // nor has a boot loader or another chip written any
    const bool none = !debug.there || (debug.firmwareFile.empty() && blank);
    nothing_->setText(debug.there ? tr("No firmware is loaded.\n\nDrop an ELF or HEX file on the board, or press Ctrl+N for a bench with a source of your own.")
                                  : tr("No chip is on this bench yet: the source of its firmware stands here."));
    if (none == nothingShown_)
        return;
    nothingShown_ = none;
    mode_->setVisible(!none);
    if (none)
        views_->setCurrentWidget(nothing_);
    else if (tabs_->currentIndex() >= 0 && static_cast<std::size_t>(tabs_->currentIndex()) < files_.size())
        views_->setCurrentWidget(load(files_[static_cast<std::size_t>(tabs_->currentIndex())]));
}

const debug::Function* CodePanel::entry() const
{
    const debug::Function* out = nullptr;
    for (const char* name : {"main", "setup", "loop"})
        if (const int at = symbols_.functionByName(name); at >= 0) {
            const debug::Function& f = symbols_.functions()[static_cast<std::size_t>(at)];
            if (!isInstalled(sources_.find(QString::fromStdString(f.file))))
                return &f;
            if (out == nullptr)
                out = &f;
        }
    return out;
}

void CodePanel::takeProgram(const session::DebugPicture& debug)
{
    program_ = debug.program;
    freshProgram_ = true;
    flash_ = debug.code;
    device_ = debug.device;
    const QString firmware = QString::fromStdString(debug.firmwareFile);
    firmware_ = firmware;
    const bool image = firmware.endsWith(".hex") || firmware.endsWith(".bin") || firmware.isEmpty();
    symbols_ = debug::Symbols();
    if (flash_ != nullptr && device_ != nullptr)
        symbols_ = debug::symbolsOfFirmware(debug.firmwareFile, !image, {*flash_, device_->codeBegin, device_->codeUnitBytes}, *device_);
    sources_.setFolders({firmware.isEmpty() ? editor_.folder() : QFileInfo(firmware).absolutePath(), editor_.folder()});
    // Files that stay keep their views; unsaved ones stay in any case.
    std::vector<Tab> before = std::exchange(files_, {});
    std::set<std::uint32_t> withCode;
    for (const debug::LineRow& row : symbols_.rows())
        if (row.file != debug::Symbols::kEnd)
            withCode.insert(row.file);
    const auto keep = [&](Tab tab) {
        for (Tab& old : before)
            if (old.view != nullptr && old.name == tab.name && (old.file == tab.file || tab.file.isEmpty())) {
                tab.view = std::exchange(old.view, nullptr);
                tab.read = old.read;
            }
        files_.push_back(std::move(tab));
    };
    for (const std::uint32_t index : withCode) {
        Tab tab;
        tab.name = QString::fromStdString(symbols_.files()[index]);
        tab.file = sources_.find(tab.name);
        // The compiler's own headers and the run-time library are not what one works on.
        if (tab.name.contains("/avr/include/") || tab.name.contains("/gcc/avr/") || tab.name.contains("gcrt1") || (tab.name.contains("libgcc") && tab.file.isEmpty()))
            continue;
        keep(std::move(tab));
    }
    for (Tab& old : before)
        if (old.view != nullptr && !old.name.isEmpty() && old.view->isModified())
            keep(old);
    keep(Tab{});
    for (Tab& old : before)
        if (old.view != nullptr)
            old.view->deleteLater();
    // A package's files stand last, the file where reading begins first.
    std::stable_partition(files_.begin(), files_.end(), [](const Tab& t) { return !t.name.isEmpty() && !isInstalled(t.file); });
    std::stable_partition(files_.begin(), files_.end(), [](const Tab& t) { return !t.name.isEmpty(); });  // all instructions come after them
    if (const debug::Function* first = entry())
        std::stable_partition(files_.begin(), files_.end(), [&](const Tab& t) { return t.name == QString::fromStdString(first->file); });
    const QString chosen = tabs_->currentIndex() >= 0 ? tabs_->tabToolTip(tabs_->currentIndex()) : QString();
    {
        const QSignalBlocker quiet(tabs_);
        while (tabs_->count() > 0)
            tabs_->removeTab(0);
        for (const Tab& tab : files_) {
            const int i = tabs_->addTab(tab.name.isEmpty() ? tr("Flash") : QFileInfo(tab.name).fileName());
            tabs_->setTabToolTip(i, tab.name.isEmpty() ? tr("All instructions in flash") : tab.file.isEmpty() ? tr("%1: not found; open it to say where it lies").arg(tab.name) : tab.file);
            if (tab.file.isEmpty() && !tab.name.isEmpty())
                tabs_->setTabTextColor(i, theme::faint());
        }
        for (int i = 0; i < tabs_->count(); ++i)
            if (tabs_->tabToolTip(i) == chosen)
                tabs_->setCurrentIndex(i);
    }
    for (Tab& tab : files_)
        if (tab.view != nullptr && !tab.file.isEmpty() && !tab.view->isModified() && QFileInfo(tab.file).lastModified() != tab.read) {
            const int first = tab.view->firstVisibleLine();
            if (const auto text = kernel::readFile(tab.file.toStdString(), kLargestSource)) {
                tab.view->setSource(QString::fromStdString(*text), QFileInfo(tab.file).suffix());
                tab.view->setFirstVisibleLine(first);
                tab.read = QFileInfo(tab.file).lastModified();
            }
        }
    if (files_.back().view != nullptr)
        fillInstructions();
    if (tabs_->currentIndex() >= 0)
        views_->setCurrentWidget(nothingShown_ ? static_cast<QWidget*>(nothing_) : load(files_[static_cast<std::size_t>(tabs_->currentIndex())]));
    if (focusWanted_ && view() != nullptr && isVisible())
        takeFocus();
    shownPc_ = UINT32_MAX;
    hint_->setText(firmware_.isEmpty() ? QString() : symbols_.kind() == debug::DebugKind::stabs ? tr("STABS: build with -gdwarf-4 for more") : symbols_.rows().empty() ? tr("no line information: build with -gdwarf-4") : QString());
}

CodeView* CodePanel::newView()
{
    auto* view = new CodeView;
    view->setAccessibleName(tr("Source"));
    views_->addWidget(view);
    const auto tab = [this, view]() -> Tab* {
        for (Tab& t : files_)
            if (t.view == view)
                return &t;
        return nullptr;
    };
    connect(view, &CodeView::stopClicked, this, [this, tab](int line) {
        if (Tab* t = tab())
            toggleStop(*t, line);
    });
    connect(view, &CodeView::unfoldClicked, this, [this, tab](int line) {
        if (Tab* t = tab())
            toggleUnfold(*t, line);
    });
    connect(view, &CodeView::editingWanted, this, &CodePanel::edit);
    connect(view, &CodeView::letterTyped, this, &CodePanel::letterTyped);
    connect(view, &CodeView::typingSeen, this, &CodePanel::showMode);
    connect(view, &CodeView::editingEnded, this, [this] { showMode(); });
    connect(view, &CodeView::hovered, this, &CodePanel::hover);
    connect(view, &CodeView::definitionWanted, this, [this, tab](const QString& expression, int line) {
        if (const Tab* t = tab())
            openDefinition(t->name, expression, line);
    });
    connect(view, &CodeView::menuWanted, this, [this, tab](int line, const QPoint& at) {
        if (Tab* t = tab())
            lineMenu(*t, line, at);
    });
    connect(view, &QsciScintilla::modificationChanged, this, [this, view](bool modified) {
        for (std::size_t i = 0; i < files_.size(); ++i)
            if (files_[i].view == view && !files_[i].name.isEmpty())
                tabs_->setTabText(static_cast<int>(i), QFileInfo(files_[i].name).fileName() + (modified ? " •" : ""));
    });
    return view;
}

CodeView* CodePanel::load(Tab& tab)
{
    if (tab.view == nullptr) {
        tab.view = newView();
        if (tab.name.isEmpty()) {
            fillInstructions();
            return tab.view;
        }
        const bool there = !tab.file.isEmpty() && QFileInfo::exists(tab.file);
        if (const auto text = kernel::readFile(tab.file.toStdString(), kLargestSource)) {
            tab.view->setSource(QString::fromStdString(*text), QFileInfo(tab.file).suffix());
            tab.read = QFileInfo(tab.file).lastModified();
        } else if (there) {  // a device, or too large for a source
            tab.view->setSource(QString::fromStdString(text.error().text()), "asm");
        } else {
            tab.view->setSource(tr("%1\nis not on this machine where the firmware says, nor beside the bench.\n\nPress Enter to say where it lies; files beside it are then found too.").arg(tab.name), "asm");
        }
        std::set<int> lines;
        for (const debug::LineRow& row : symbols_.rows())
            if (row.file != debug::Symbols::kEnd && QString::fromStdString(symbols_.files()[row.file]) == tab.name)
                lines.insert(row.line);
        if (!tab.file.isEmpty())
            tab.view->setCodeLines(std::move(lines));
    }
    return tab.view;
}

// What a person does.

CodeView* CodePanel::view() const { return qobject_cast<CodeView*>(views_->currentWidget()); }

QString CodePanel::stopName(const Tab& tab, int line) const
{
    if (tab.name.isEmpty()) {
        const auto at = addressOfLine_.find(line);
        return at == addressOfLine_.end() ? QString() : QString("0x%1").arg(at->second, 4, 16, QChar('0'));
    }
    // A line without code stands for the next one that has some, and the mark goes there at once.
    int at = line;
    if (symbols_.addressesOf(tab.name.toStdString(), at).empty())
        return {};
    int alike = 0;
    for (const Tab& other : files_)
        alike += QFileInfo(other.name).fileName() == QFileInfo(tab.name).fileName() ? 1 : 0;
    return QString("%1:%2").arg(alike > 1 ? tab.name : QFileInfo(tab.name).fileName()).arg(at);
}

void CodePanel::toggleStop(const Tab& tab, int line)
{
    const std::string at = stopName(tab, line).toStdString();
    if (at.empty()) {
        emit editor_.message(tr("No code comes from this line or any after it"), false);
        return;
    }
    editor_.change(tr("stop"), [&](bench::Document& d) {
        if (std::erase_if(d.stops, [&](const bench::StopItem& s) { return s.at == at && (s.chip == chipId_ || s.chip.empty()); }) > 0)
            return;
        bench::StopItem s;
        s.at = at;
        s.chip = chipId_;
        d.stops.push_back(std::move(s));
    });
}

void CodePanel::toggleUnfold(const Tab& tab, int line)
{
    if (tab.name.isEmpty())
        return;
    const std::pair<QString, int> key(tab.name, line);
    if (unfolded_.erase(key) == 0)
        unfolded_.insert(key);
    mark(editor_.picture().debug);
}

void CodePanel::toggleStopAtCursor()
{
    const int index = tabs_->currentIndex();
    if (index >= 0 && view() != nullptr)
        toggleStop(files_[static_cast<std::size_t>(index)], view()->lineAtCursor());
}

void CodePanel::runToCursor()
{
    const int index = tabs_->currentIndex();
    if (index < 0 || view() == nullptr)
        return;
    bench::StopItem s;
    s.at = stopName(files_[static_cast<std::size_t>(index)], view()->lineAtCursor()).toStdString();
    s.chip = chipId_;
    if (!s.at.empty())
        editor_.session().runTo(s);
}

void CodePanel::toggleInstructions() { unfold_->toggle(); }

void CodePanel::edit()
{
    const int index = tabs_->currentIndex();
    if (index < 0 || view() == nullptr)
        return;
    Tab& tab = files_[static_cast<std::size_t>(index)];
    if (tab.name.isEmpty())
        return;
    if (tab.file.isEmpty()) {
        const QString file = QFileDialog::getOpenFileName(this, tr("Where is %1?").arg(QFileInfo(tab.name).fileName()), editor_.folder());
        if (!file.isEmpty()) {
            sources_.remember(tab.name, file);
            program_ = UINT64_MAX;  // all names are looked for again
            refresh();
        }
        return;
    }
    if (isInstalled(tab.file))
        return void(emit editor_.message(tr("%1 is a package's and only read here; a copy in the bench's folder can be changed").arg(QFileInfo(tab.file).fileName()), false));
    view()->setEditing(true);
    view()->setFocus();
    showMode();
}

// What typing does just now, and how to do the other thing.
void CodePanel::showMode(const QString& typed)
{
    const bool editing = view() != nullptr && view()->isEditing();
    const char* look = editing ? "background: @goodGround; color: @goodInk;" : typed.isEmpty() ? "background: @quiet; color: @muted;" : "background: @chosen; color: @bramble;";
    theme::dress(mode_, QString("QLabel { %1 }").arg(look));
    const int index = tabs_->currentIndex();
    if (index >= 0 && static_cast<std::size_t>(index) < files_.size() && isInstalled(files_[static_cast<std::size_t>(index)].file))
        return mode_->setText(tr("<b>Reading</b> a package's source, which is not changed here. B stops here, G runs to here, I shows instructions"));
    mode_->setText(editing            ? tr("<b>Editing.</b> Ctrl+S saves, Ctrl+B builds, Esc goes back to reading")
                   : typed.isEmpty() ? tr("<b>Reading.</b> Enter or a double click edits. B stops here, G runs to here, I shows instructions")
                                     : tr("<b>This is being read.</b> Enter edits here and writes \u201c%1\u201d; Esc goes on reading").arg(typed.toHtmlEscaped()));
}

bool CodePanel::hasUnsaved() const
{
    return std::any_of(files_.begin(), files_.end(), [](const Tab& t) { return t.view != nullptr && !t.name.isEmpty() && t.view->isModified(); });
}

bool CodePanel::save()
{
    bool good = true;
    for (Tab& tab : files_) {
        if (tab.view == nullptr || tab.name.isEmpty() || !tab.view->isModified())
            continue;
        QSaveFile file(tab.file);
        const QByteArray text = tab.view->text().toUtf8();
        if (file.open(QIODevice::WriteOnly) && file.write(text) == text.size() && file.commit()) {
            tab.view->setModified(false);
            tab.read = QFileInfo(tab.file).lastModified();
        } else {
            good = false;
            emit editor_.message(tr("%1 could not be written: %2").arg(tab.file, file.errorString()), true);
        }
    }
    return good;
}

void CodePanel::build()
{
    if (save()) {
        showPane(build_);
        build_->build();
    }
}

void CodePanel::showPane(QWidget* pane)
{
    if (const int i = left_->indexOf(pane); i >= 0)
        leftTabs_->setCurrentIndex(i);
    if (const int i = right_->indexOf(pane); i >= 0)
        rightTabs_->setCurrentIndex(i);
}

void CodePanel::hover(const QString& expression, const QPoint& at)
{
    // A register of the chip tells its bits at once; a variable's value comes with the next picture.
    const session::DebugPicture& debug = editor_.picture().debug;
    if (debug.registerMap() != nullptr)
        for (const chip::PeripheralGroup& group : debug.registerMap()->peripherals)
            for (const chip::PeripheralRegister& reg : group.registers)
                if (expression == QString::fromStdString(reg.name) && debug.io.at(reg.address)) {
                    const auto words = debug::describeRegister(*device_, reg, [&](std::uint64_t a) { return debug.io[a]; });
                    QString tip = QString("%1 = 0x%2   %3").arg(expression).arg(words.value, static_cast<int>(reg.bits) / 4, 16, QChar('0')).arg(QString::fromStdString(words.meaning));
                    for (std::size_t i = 0; i < words.bits.size() && !reg.fields.empty(); ++i)
                        if (!words.bits[i].name.empty())
                            tip += QString("\n%1 = %2   %3").arg(QString::fromStdString(words.bits[i].name)).arg(words.bits[i].value ? 1 : 0).arg(QString::fromStdString(words.bits[i].meaning));
                    QToolTip::showText(at, tip);
                    return;
                }
    if (!debug.standing)
        return;
    hovered_ = expression;
    hoveredAt_ = at;
    request();
}

void CodePanel::lineMenu(const Tab& tab, int line, const QPoint& at)
{
    const std::string stop = stopName(tab, line).toStdString();
    if (stop.empty())
        return;
    QMenu menu;
    const bool there = std::any_of(editor_.document().stops.begin(), editor_.document().stops.end(), [&](const bench::StopItem& s) { return s.at == stop; });
    menu.addAction(there ? tr("Remove this stop") : tr("Stop here"), [&] { toggleStop(tab, line); });
    menu.addAction(tr("Run to here"), [&] {
        bench::StopItem s;
        s.at = stop;
        s.chip = chipId_;
        editor_.session().runTo(s);
    });
    menu.addAction(tr("Edges made by this line"), [&] { emit edgesWanted(QString::fromStdString(stop)); });
    if (!tab.name.isEmpty())
        menu.addAction(tr("Disassembly of this line"), [&] { toggleUnfold(tab, line); });
    menu.exec(at);
}

void CodePanel::openDefinition(const QString& file, const QString& expression, int line)
{
    const std::string name = expression.section(QRegularExpression("[^A-Za-z0-9_]"), 0, 0).toStdString();
    const auto go = [&](const std::string& where, int at) { return at > 0 && openPlace(QString::fromStdString(where), at); };
    // A local of the function in which the name stands comes before everything else.
    int inside = -1;
    for (const debug::LineRow& row : symbols_.rows())
        if (inside < 0 && row.file != debug::Symbols::kEnd && static_cast<int>(row.line) == line && symbols_.files()[row.file] == file.toStdString())
            inside = symbols_.functionAt(row.address);
    const debug::Variable* found = nullptr;
    for (const debug::Variable& v : symbols_.variables())
        if (v.name == name && (v.function < 0 ? found == nullptr : v.function == inside))
            found = &v;
    if (found != nullptr && go(found->file, found->line))
        return;
    int function = symbols_.functionByName(name);
    for (std::size_t e = 0; device_ != nullptr && function < 0 && e < device_->exceptions.size(); ++e)
        if (name == device_->exceptions[e].name + "_vect")
            function = symbols_.functionByName(device_->exceptions[e].handlerName);
    if (function >= 0) {
        const debug::Function& f = symbols_.functions()[static_cast<std::size_t>(function)];
        if (!go(f.file, f.line))
            openAddress(f.begin());
        return;
    }
    emit editor_.message(tr("The debug information does not say where %1 is defined").arg(QString::fromStdString(name)), true);
}

bool CodePanel::openCode(std::uint32_t address)
{
    if (device_ == nullptr)
        return false;
    const debug::Place place = symbols_.at(address);
    if (place.line <= 0 || !openPlace(QString::fromStdString(place.file), place.line))
        openAddress(address);
    return place.line > 0;
}

std::vector<std::pair<QString, std::function<void()>>> CodePanel::findable()
{
    std::vector<std::pair<QString, std::function<void()>>> out;
    for (const debug::Function& f : symbols_.functions())
        if (f.caller < 0)
            out.emplace_back(QString::fromStdString(f.name), [this, file = QString::fromStdString(f.file), line = f.line, address = f.begin()] {
                if (line <= 0 || !openPlace(file, line))
                    openAddress(address);
            });
    // Interrupts by their names: the handler where there is one, else the vector.
    for (std::size_t e = 0; device_ != nullptr && e < device_->exceptions.size(); ++e) {
        const chip::Exception& exception = device_->exceptions[e];
        const int handler = symbols_.functionByName(exception.handlerName);
        const std::uint32_t address = handler >= 0 ? symbols_.functions()[static_cast<std::size_t>(handler)].begin() : exception.entry;
        out.emplace_back(exception.name == "interrupt" ? tr("interrupt") : tr("%1 interrupt").arg(QString::fromStdString(exception.name)), [this, address] {
            const debug::Place place = symbols_.at(address);
            if (place.line <= 0 || !openPlace(QString::fromStdString(place.file), place.line))
                openAddress(address);
        });
    }
    for (std::size_t i = 0; i + 1 < files_.size(); ++i)
        out.emplace_back(QFileInfo(files_[i].name).fileName(), [this, i] { tabs_->setCurrentIndex(static_cast<int>(i)); });
    return out;
}

}  // namespace bramix::app
