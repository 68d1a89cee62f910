#include "app/shell/drawer.h"

#include <QDir>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QMenu>
#include <QPainter>
#include <QPushButton>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr int kRail = 44;
constexpr int kWidth = 236;

}  // namespace

Drawer::Drawer(Editor& editor, PartArt& art, QWidget* parent) : QWidget(parent), editor_(editor), art_(art)
{
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    auto* rail = new QWidget;
    rail->setFixedWidth(kRail);
    auto* column = new QVBoxLayout(rail);
    column->setContentsMargins(6, 10, 6, 10);
    column->setSpacing(6);
    stack_ = new QStackedWidget;
    stack_->setFixedWidth(kWidth);
    for (const auto& [icon, tip] : {std::pair("parts", tr("Parts")), std::pair("files", tr("Files")), std::pair("findings", tr("Findings"))}) {
        auto* b = new QToolButton;
        b->setIcon(theme::icon(icon));
        b->setIconSize({22, 22});
        b->setCheckable(true);
        b->setToolTip(tip);
        b->setAccessibleName(tip);
        b->setFocusPolicy(Qt::NoFocus);
        const auto which = static_cast<Page>(rail_.size());
        connect(b, &QToolButton::clicked, this, [this, which] { toggle(which); });
        rail_.push_back(b);
        column->addWidget(b);
    }
    column->addStretch(1);
    layout->addWidget(rail);
    layout->addWidget(stack_);

    auto* partsPage = new QWidget;
    auto* partsLayout = new QVBoxLayout(partsPage);
    partsLayout->setContentsMargins(0, 0, 0, 0);
    filter_ = new QLineEdit;
    filter_->setPlaceholderText(tr("Name or purpose"));
    parts_ = new QListWidget;
    parts_->setAccessibleName(tr("Parts"));
    parts_->setObjectName("drawerParts");
    parts_->setIconSize({44, 36});
    parts_->setFocusPolicy(Qt::NoFocus);
    parts_->setStyleSheet("QListWidget { background: transparent; }");
    partsLayout->addWidget(filter_);
    partsLayout->addWidget(parts_, 1);
    stack_->addWidget(page(tr("Parts"), partsPage));
    files_ = new QWidget;
    filesLayout_ = new QVBoxLayout(files_);
    filesLayout_->setContentsMargins(0, 0, 0, 0);
    filesLayout_->setSpacing(3);
    stack_->addWidget(page(tr("Files"), files_));
    findings_ = new QListWidget;
    findings_->setAccessibleName(tr("Findings"));
    findings_->setWordWrap(true);
    findings_->setTextElideMode(Qt::ElideNone);
    findings_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    findings_->setResizeMode(QListView::Adjust);
    findings_->setStyleSheet("QListWidget { background: transparent; }");
    stack_->addWidget(page(tr("Findings"), findings_));
    stack_->hide();

    connect(filter_, &QLineEdit::textChanged, this, &Drawer::fillParts);
    connect(filter_, &QLineEdit::returnPressed, this, [this] {
        if (parts_->count() > 0)
            emit partChosen(parts_->item(0)->data(Qt::UserRole).toString().toStdString());
    });
    connect(parts_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) { emit partChosen(item->data(Qt::UserRole).toString().toStdString()); });
    connect(findings_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) {
        emit placeChosen(item->data(Qt::UserRole).toString().toStdString());
        if (const QString source = item->data(Qt::UserRole + 3).toString(); !source.isEmpty())
            emit codeChosen(item->data(Qt::UserRole + 4).toString().toStdString(), source);
        emit momentChosen(kernel::Time(kernel::Duration(item->data(Qt::UserRole + 1).toLongLong())));
    });
    findings_->setContextMenuPolicy(Qt::CustomContextMenu);
    connect(findings_, &QListWidget::customContextMenuRequested, this, &Drawer::offerMute);
    connect(&editor_, &Editor::fileChanged, this, [this] {
        if (stack_->isVisible() && stack_->currentIndex() == kFiles)
            fillFiles();
    });
    connect(&editor_, &Editor::pictureChanged, this, [this] {
        if (stack_->isVisible() && stack_->currentIndex() == kFindings && editor_.picture().findings.size() != shownFindings_)
            fillFindings();
    });
}

QWidget* Drawer::page(const QString& title, QWidget* content)
{
    auto* out = new QWidget;
    auto* layout = new QVBoxLayout(out);
    layout->setContentsMargins(8, 14, 12, 8);
    auto* label = new QLabel(title);
    label->setFont(theme::words(12, QFont::DemiBold));
    layout->addWidget(label);
    layout->addWidget(content, 1);
    return out;
}

void Drawer::toggle(Page page)
{
    const bool closing = stack_->isVisible() && stack_->currentIndex() == page;
    emit aboutToToggle();
    stack_->setVisible(!closing);
    stack_->setCurrentIndex(page);
    for (std::size_t i = 0; i < rail_.size(); ++i)
        rail_[i]->setChecked(!closing && i == static_cast<std::size_t>(page));
    if (closing)
        return;
    switch (page) {
    case kParts:
        fillParts();
        filter_->setFocus();
        filter_->selectAll();
        break;
    case kFiles: fillFiles(); break;
    case kFindings: fillFindings(); break;
    }
}

void Drawer::fillParts()
{
    parts_->clear();
    for (const bench::PartKind* kind : editor_.catalogue().search(filter_->text().toStdString())) {
        auto* item = new QListWidgetItem(QIcon(art_.thumbnail(*kind, {44, 36}, devicePixelRatioF())), QString::fromStdString(kind->title));
        item->setData(Qt::UserRole, QString::fromStdString(kind->id));
        item->setToolTip(QString::fromStdString(kind->about));
        item->setFont(theme::words(9.4));
        parts_->addItem(item);
    }
}

void Drawer::fillFiles()
{
    while (QLayoutItem* old = filesLayout_->takeAt(0)) {
        // It may be what has been clicked.
        if (QWidget* w = old->widget(); w != nullptr) {
            w->hide();
            w->deleteLater();
        }
        delete old;
    }
    const auto link = [&](const QString& text, const QString& tip, auto then) {
        auto* b = new QPushButton(text);
        b->setObjectName("link");
        b->setToolTip(tip);
        b->setCursor(Qt::PointingHandCursor);
        b->setFont(theme::words(9.4));
        b->setFocusPolicy(Qt::NoFocus);
        connect(b, &QPushButton::clicked, this, then);
        filesLayout_->addWidget(b);
    };
    const auto heading = [&](const QString& text) {
        auto* label = new QLabel(text.toUpper());
        label->setFont(theme::words(7.8, QFont::DemiBold));
        theme::dress(label, "color: @muted;");
        label->setContentsMargins(0, 12, 0, 2);
        filesLayout_->addWidget(label);
    };
    link(tr("New bench"), "Ctrl+N", [this] { emit newWanted(); });
    link(tr("Open…"), "Ctrl+O", [this] { emit openWanted(); });
    link(tr("Save"), "Ctrl+S", [this] { emit saveWanted(false); });
    link(tr("Save as…"), "Ctrl+Shift+S", [this] { emit saveWanted(true); });
    const QStringList recent = editor_.recentFiles();
    if (!recent.isEmpty())
        heading(tr("Recent"));
    for (const QString& file : recent) {
        const QFileInfo info(file);
        link(info.fileName() == "bench.toml" ? info.dir().dirName() : info.completeBaseName(), file, [this, file] { emit fileChosen(file); });
    }
    heading(tr("Examples"));
    const QDir examples(QString::fromStdString(bench::shareFolder()) + "/benches");
    for (const QString& folder : examples.entryList(QDir::Dirs | QDir::NoDotAndDotDot, QDir::Name)) {
        const QString file = examples.filePath(folder + "/bench.toml");
        if (const auto document = bench::loadDocument(file.toStdString()))
            link(QString::fromStdString(document->title), QString::fromStdString(document->notes), [this, file] { emit fileChosen(file); });
    }
    filesLayout_->addStretch(1);
}

// A finding that is as the person wants it can be muted, with the reason kept in the bench file.
void Drawer::offerMute(const QPoint& at)
{
    const QListWidgetItem* item = findings_->itemAt(at);
    if (item == nullptr)
        return;
    const std::string where = item->data(Qt::UserRole).toString().toStdString();
    const std::string id = where.substr(0, where.find_first_of(".:/"));
    const std::string rule = item->data(Qt::UserRole + 2).toString().toStdString();
    const bench::PartItem* part = editor_.document().part(id);
    if (part == nullptr || rule.empty())
        return;
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    if (part->mute.contains(rule)) {
        menu->addAction(tr("Unmute"), this, [this, id, rule] {
            editor_.change(tr("mute"), [&](bench::Document& d) {
                if (bench::PartItem* p = d.part(id))
                    p->mute.erase(rule);
            });
        });
    } else {
        for (const QString& reason : {tr("as intended"), tr("only on this bench"), tr("known, to be fixed")})
            menu->addAction(tr("Mute for %1: %2").arg(QString::fromStdString(id), reason), this, [this, id, rule, reason] {
                editor_.change(tr("mute"), [&](bench::Document& d) {
                    if (bench::PartItem* p = d.part(id))
                        p->mute[rule] = reason.toStdString();
                });
            });
    }
    menu->popup(findings_->viewport()->mapToGlobal(at));
}

void Drawer::fillFindings()
{
    findings_->clear();
    shownFindings_ = editor_.picture().findings.size();
    for (const bench::Finding& f : editor_.picture().findings) {
        QString when = (f.wiring ? tr("seen in its wires") : QString::fromStdString(kernel::formatClock(f.time))) + (f.source.empty() ? QString() : "  " + QString::fromStdString(f.source));
        if (!f.otherSource.empty())
            when += tr(" against %1").arg(QString::fromStdString(f.otherSource));
        if (!f.muted.empty())
            when += tr("\nmuted: %1").arg(QString::fromStdString(f.muted));
        auto* item = new QListWidgetItem(QString("%1\n%2").arg(QString::fromStdString(f.message), when));
        const bool quiet = !f.muted.empty() || f.severity == bench::Severity::note;
        item->setIcon(theme::icon("findings", quiet ? theme::muted : f.severity == bench::Severity::error ? theme::rust : theme::amber));
        if (!f.muted.empty())
            item->setForeground(theme::muted());
        item->setData(Qt::UserRole, QString::fromStdString(f.where));
        item->setData(Qt::UserRole + 1, static_cast<qlonglong>(f.time.time_since_epoch().count()));
        item->setData(Qt::UserRole + 2, QString::fromStdString(f.rule));
        item->setData(Qt::UserRole + 3, QString::fromStdString(f.source));
        item->setData(Qt::UserRole + 4, QString::fromStdString(f.chip));
        item->setToolTip(tr("%1. A click goes to the part and the moment; the other button mutes it.").arg(QString::fromStdString(f.rule)));
        item->setFont(theme::words(8.8));
        constexpr int kBeside = 56;  // icon, margins and a scroll bar
        const QRect needed = QFontMetrics(item->font()).boundingRect(QRect(0, 0, std::max(findings_->viewport()->width() - kBeside, 120), 4000), Qt::TextWordWrap, item->text());
        item->setSizeHint(QSize(120, needed.height() + 16));
        findings_->addItem(item);
    }
    if (shownFindings_ == 0)
        findings_->addItem(tr("Nothing noticed so far."));
}

}  // namespace bramix::app
