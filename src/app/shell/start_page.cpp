#include "app/shell/start_page.h"

#include "app/code/build_pane.h"

#include <QComboBox>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QGridLayout>
#include <QLabel>
#include <QPainter>
#include <QPixmapCache>
#include <QPushButton>
#include <QRegularExpression>
#include <QScrollArea>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/shell/settings.h"
#include "app/shell/theme.h"
#include "bench/geometry.h"

namespace bramix::app {

namespace {

constexpr QSize kTile{210, 118};
constexpr int kColumns = 3;
// Of a larger bench the picture shows wires as straight lines: at its size nobody sees their ways, which take long to find.
constexpr std::size_t kMostRouted = 250;

QString text(const std::string& s) { return QString::fromStdString(s); }

// A bench's picture from the last time, for as long as its file, the look and the screen are the same; else drawn now.
template <class Draw>
QPixmap kept(const QString& file, QSize size, double ratio, Draw&& draw)
{
    const QString key = QString("bench %1 %2 %3x%4@%5 %6").arg(file).arg(QFileInfo(file).lastModified().toMSecsSinceEpoch()).arg(size.width()).arg(size.height()).arg(ratio).arg(theme::paper().name());
    QPixmap out;
    if (!QPixmapCache::find(key, &out)) {
        out = draw();
        if (!out.isNull())
            QPixmapCache::insert(key, out);
    }
    return out;
}

QLabel* heading(const QString& words)
{
    auto* label = new QLabel(words);
    label->setFont(theme::words(12, QFont::DemiBold));
    return label;
}

}  // namespace

StartPage::StartPage(const bench::Catalogue& catalogue, PartArt& art, QWidget* parent) : QWidget(parent), catalogue_(catalogue), art_(art)
{
    setObjectName("startPage");
    setAttribute(Qt::WA_StyledBackground);
    theme::dress(this, "QWidget#startPage, QWidget#startTiles { background: @paper; } QWidget#startNew { background: @panel; border-radius: 10px; }"
                  "QToolButton#tile { background: @card; border: 1px solid @rule; border-radius: 8px; padding: 6px; } QToolButton#tile:hover { border: 1px solid @bramble; }");
    auto* columns = new QHBoxLayout(this);
    columns->setContentsMargins(36, 30, 24, 24);
    columns->setSpacing(28);

    auto* box = new QWidget;
    box->setObjectName("startNew");
    box->setFixedWidth(330);
    auto* rows = new QVBoxLayout(box);
    rows->setContentsMargins(20, 18, 20, 18);
    rows->setSpacing(8);
    rows->addWidget(heading(tr("A new bench")));
    const auto row = [&](const QString& label, QWidget* widget) {
        auto* l = new QLabel(label);
        l->setFont(theme::words(8.8));
        theme::dress(l, "color: @muted;");
        rows->addWidget(l);
        rows->addWidget(widget);
    };
    board_ = new QComboBox;
    board_->setObjectName("startBoard");
    for (const bench::PartKind* kind : bench::skeletonBoards(catalogue_))
        board_->addItem(QIcon(art_.thumbnail(*kind, {40, 30}, devicePixelRatioF())), text(kind->title), text(kind->id));
    board_->setIconSize({40, 30});
    row(tr("board"), board_);
    language_ = new QComboBox;
    language_->setObjectName("startLanguage");
    connect(board_, &QComboBox::currentIndexChanged, this, &StartPage::boardChosen);
    row(tr("firmware in"), language_);
    name_ = new QLineEdit(tr("New bench"));
    name_->setObjectName("startName");
    name_->setAccessibleName(tr("Name of the new bench"));
    row(tr("name"), name_);
    auto* where = new QWidget;
    auto* whereRow = new QHBoxLayout(where);
    whereRow->setContentsMargins(0, 0, 0, 0);
    folder_ = new QLineEdit(settings::benchFolder());
    folder_->setObjectName("startFolder");
    folder_->setAccessibleName(tr("Folder of the new bench"));
    auto* choose = new QPushButton(tr("Choose…"));
    whereRow->addWidget(folder_, 1);
    whereRow->addWidget(choose);
    row(tr("in the folder"), where);
    connect(choose, &QPushButton::clicked, this, [this] {
        if (const QString chosen = QFileDialog::getExistingDirectory(this, tr("Where the bench goes"), folder_->text()); !chosen.isEmpty())
            folder_->setText(chosen);
    });
    make_ = new QPushButton(tr("Make it, build it and run it"));
    make_->setObjectName("startMake");
    make_->setMinimumHeight(36);
    theme::dress(make_, "QPushButton { background: @go; color: white; border: none; border-radius: 8px; font-weight: 600; } QPushButton:hover { background: @goHover; } QPushButton:disabled { background: @goFaint; }");
    rows->addSpacing(4);
    rows->addWidget(make_);
    state_ = new QLabel;
    state_->setObjectName("startState");
    state_->setWordWrap(true);
    state_->setFont(theme::words(8.8));
    rows->addWidget(state_);
    tools_ = new QLabel;
    tools_->setObjectName("startTools");
    tools_->setWordWrap(true);
    tools_->setFont(theme::words(8.8));
    tools_->setTextFormat(Qt::RichText);
    rows->addWidget(tools_);
    rows->addStretch(1);
    for (const auto& [label, tip, signal] : {std::tuple(tr("An empty bench"), tr("Without a board and without files"), &StartPage::emptyWanted), std::tuple(tr("Open a bench…"), QString("Ctrl+O"), &StartPage::openWanted)}) {
        auto* b = new QPushButton(label);
        b->setToolTip(tip);
        connect(b, &QPushButton::clicked, this, signal);
        rows->addWidget(b);
    }
    columns->addWidget(box);

    auto* scroll = new QScrollArea;
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setStyleSheet("QScrollArea { background: transparent; }");
    auto* content = new QWidget;
    content->setObjectName("startTiles");
    tiles_ = new QVBoxLayout(content);
    tiles_->setContentsMargins(0, 0, 8, 0);
    tiles_->setSpacing(10);
    scroll->setWidget(content);
    columns->addWidget(scroll, 1);

    connect(make_, &QPushButton::clicked, this, &StartPage::make);
    connect(name_, &QLineEdit::returnPressed, this, &StartPage::make);
    connect(&build_, &QProcess::finished, this, [this](int code, QProcess::ExitStatus) {
        make_->setEnabled(true);
        const QString output = QString::fromLocal8Bit(build_.readAll());
        if (code != 0) {
            const QStringList lines = output.split('\n').filter("rror");
            return say(tr("The firmware did not build: %1").arg(lines.isEmpty() ? output.trimmed().section('\n', -1) : lines.first()), true);
        }
        say({}, false);
        emit made(file_);
    });
    connect(&build_, &QProcess::errorOccurred, this, [this] {
        make_->setEnabled(true);
        say(tr("make could not be started; install the Debian package make"), true);
    });
}

// Its languages, and whether what builds them is there.
void StartPage::boardChosen()
{
    const bench::PartKind* kind = catalogue_.find(board_->currentData().toString().toStdString());
    if (kind == nullptr)
        return;
    const QVariant before = language_->currentData();
    language_->clear();
    for (const bench::SourceLanguage language : bench::languagesOf(*kind)) {
        const QString name = language == bench::SourceLanguage::c ? "C" : language == bench::SourceLanguage::cpp ? "C++" : language == bench::SourceLanguage::assembler ? tr("Assembler") : tr("setup() and loop()");
        language_->addItem(name, static_cast<int>(language));
        if (language == bench::SourceLanguage::framework)
            language_->setItemData(language_->count() - 1, tr("A framework's program: its core and libraries are those of the Debian package arduino-core-avr"), Qt::ToolTipRole);
    }
    language_->setCurrentIndex(std::max(language_->findData(before), 0));
    showTools();
}

void StartPage::showTools()
{
    const bench::PartKind* kind = catalogue_.find(board_->currentData().toString().toStdString());
    if (kind == nullptr)
        return;
    QStringList lines;
    for (const bench::Tool& tool : bench::buildTools(*kind->chip))
        lines << (tool.path.empty() ? tr("<span style='color:@rust'>%1 is missing:</span> sudo apt install %2").arg(text(tool.program), text(tool.packages))
                                    : tr("<span style='color:@leaf'>●</span> %1 is installed").arg(text(tool.program)));
    theme::write(tools_, lines.join("<br>"));
}

void StartPage::say(const QString& words, bool error)
{
    theme::dress(state_, error ? "color: @rust;" : "color: @ink;");
    state_->setText(words);
}

void StartPage::make()
{
    if (build_.state() != QProcess::NotRunning)
        return;
    const auto language = static_cast<bench::SourceLanguage>(language_->currentData().toInt());
    if (language == bench::SourceLanguage::framework && !bench::isFrameworkInstalled())
        return say(tr("setup() and loop() need the Debian package arduino-core-avr: sudo apt install arduino-core-avr"), true);
    const auto bench = bench::makeNewBench({folder_->text().toStdString(), name_->text().trimmed().toStdString(), board_->currentData().toString().toStdString(), language}, catalogue_);
    if (!bench)
        return say(text(bench.error().text()), true);
    file_ = text(*bench);
    for (const QString& folder : {QFileInfo(file_).absolutePath(), QFileInfo(file_).absolutePath() + "/firmware"})
        BuildPane::allowIn(folder);  // made here, just now
    make_->setEnabled(false);
    say(tr("Building…"), false);
    build_.setWorkingDirectory(QFileInfo(file_).absolutePath() + "/firmware");
    build_.setProcessChannelMode(QProcess::MergedChannels);
    build_.start("make", QStringList());
}

void StartPage::takeFocus()
{
    name_->setFocus();
    name_->selectAll();
}

void StartPage::refresh(const QStringList& recent)
{
    boardChosen();
    while (QLayoutItem* item = tiles_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    QStringList examples;
    const QString folder = text(bench::shareFolder()) + "/benches";
    for (const QString& name : QDir(folder).entryList(QDir::Dirs | QDir::NoDotAndDotDot))
        if (QFileInfo::exists(folder + "/" + name + "/bench.toml"))
            examples << folder + "/" + name + "/bench.toml";
    recent_ = recent;
    columns_ = columnsThatFit();
    addTiles(tiles_, tr("Worked on last"), recent, columns_);
    addTiles(tiles_, tr("Examples"), examples, 30);
    tiles_->addStretch(1);
}

int StartPage::columnsThatFit() const
{
    constexpr int kGap = 24, kMost = 6;
    return std::clamp((tiles_->parentWidget()->parentWidget()->width() - kGap) / (kTile.width() + kGap), kColumns, kMost);
}

void StartPage::resizeEvent(QResizeEvent* event)
{
    QWidget::resizeEvent(event);
    // Once the layout has its size.
    QTimer::singleShot(0, this, [this] {
        if (isVisible() && columnsThatFit() != columns_)
            refresh(recent_);
    });
}

void StartPage::addTiles(QVBoxLayout* column, const QString& words, const QStringList& files, int most)
{
    auto* box = new QWidget;
    auto* grid = new QGridLayout(box);
    grid->setContentsMargins(0, 0, 0, 6);
    grid->setSpacing(12);
    int count = 0;
    for (const QString& file : files) {
        const auto document = bench::loadDocument(file.toStdString());
        if (!document || count == most)
            continue;
        auto* tile = new QToolButton;
        tile->setObjectName("tile");
        tile->setProperty("file", file);
        tile->setToolButtonStyle(Qt::ToolButtonTextUnderIcon);
        tile->setIcon(QIcon(kept(file, kTile, devicePixelRatioF(), [&] { return picture(*document, kTile); })));
        tile->setIconSize(kTile);
        tile->setFont(theme::words(9.2, QFont::DemiBold));
        // What it teaches is the first sentence of its notes.
        const QString notes = text(document->notes).simplified();
        const qsizetype end = notes.indexOf(QRegularExpression("[.:;]( |$)"));
        tile->setText(text(document->title));
        tile->setToolTip(notes);
        tile->ensurePolished();
        tile->setFixedHeight(tile->sizeHint().height());
        auto* cell = new QWidget;
        auto* rows = new QVBoxLayout(cell);
        rows->setContentsMargins(0, 0, 0, 0);
        rows->setSpacing(3);
        rows->addWidget(tile);
        auto* about = new QLabel(end < 0 ? notes : notes.left(end));
        about->setWordWrap(true);
        about->setFixedWidth(kTile.width() + 12);
        about->setFont(theme::words(8.4));
        theme::dress(about, "color: @muted;");
        about->ensurePolished();
        about->setFixedHeight(about->heightForWidth(about->width()));  // what a column of widgets would not ask for
        rows->addWidget(about);
        rows->addStretch(1);
        grid->addWidget(cell, count / columns_, count % columns_, Qt::AlignTop | Qt::AlignLeft);
        connect(tile, &QToolButton::clicked, this, [this, file] { emit benchChosen(file); });
        ++count;
    }
    if (count == 0) {
        delete box;
        return;
    }
    grid->setColumnStretch(columns_, 1);
    column->addWidget(heading(words));
    column->addWidget(box);
}

QPixmap StartPage::pictureOf(const QString& file, QSize size)
{
    return kept(file, size, devicePixelRatioF(), [&] {
        const auto document = bench::loadDocument(file.toStdString());
        return document ? picture(*document, size) : QPixmap();
    });
}

QPixmap StartPage::picture(const bench::Document& document, QSize size)
{
    const double ratio = devicePixelRatioF();
    QPixmap out(size * ratio);
    out.setDevicePixelRatio(ratio);
    out.fill(theme::paper());
    QRectF bounds;
    for (const bench::PartItem& part : document.parts)
        if (const bench::PartKind* kind = catalogue_.find(part.kind))
            bounds = bounds.united(art_.sheetBox(*kind, part));
    if (bounds.isEmpty())
        return out;
    std::vector<std::vector<bench::GridPoint>> paths;
    if (document.wires.size() <= kMostRouted)
        paths = bench::wirePaths(document, catalogue_);
    else
        for (const bench::WireItem& wire : document.wires) {
            const auto from = bench::pinPlace(document, catalogue_, wire.from), to = bench::pinPlace(document, catalogue_, wire.to);
            paths.push_back(from && to ? std::vector{*from, *to} : std::vector<bench::GridPoint>());
        }
    for (const auto& path : paths)
        for (const auto& point : path)
            bounds = bounds.united(QRectF(toUnits(point), QSizeF(1, 1)));
    bounds.adjust(-20, -20, 20, 20);
    const double scale = std::min(size.width() / bounds.width(), size.height() / bounds.height());
    QPainter painter(&out);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(size.width() / 2.0, size.height() / 2.0);
    painter.scale(scale, scale);
    painter.translate(-bounds.center());
    const auto bodies = [&](bool boards) {
        for (const bench::PartItem& part : document.parts)
            if (const bench::PartKind* kind = catalogue_.find(part.kind); kind != nullptr && kind->plugs == boards) {
                painter.save();
                painter.translate(toUnits(part.at));
                art_.drawBody(painter, *kind, part, scale * ratio);
                art_.drawStill(painter, *kind, part);
                art_.drawFace(painter, *kind, part, session::Picture{});
                painter.restore();
            }
    };
    bodies(true);
    for (std::size_t i = 0; i < paths.size(); ++i) {
        painter.setPen(QPen(theme::wireColor(document.wires[i].color), 3.2, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
        for (std::size_t k = 1; k < paths[i].size(); ++k)
            painter.drawLine(toUnits(paths[i][k - 1]), toUnits(paths[i][k]));
    }
    bodies(false);
    return out;
}

}  // namespace bramix::app
