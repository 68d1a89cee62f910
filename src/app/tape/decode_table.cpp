#include "app/tape/decode_table.h"

#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr std::size_t kMostRows = 50'000;  // of each lane
constexpr int kAskEveryMs = 400;

}  // namespace

void DecodeRows::setRows(std::vector<Row> rows)
{
    beginResetModel();
    rows_ = std::move(rows);
    filter();
    endResetModel();
}

void DecodeRows::setFilter(const QString& words)
{
    beginResetModel();
    words_ = words.split(' ', Qt::SkipEmptyParts);
    filter();
    endResetModel();
}

void DecodeRows::filter()
{
    shown_.clear();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        bool all = true;
        for (const QString& word : words_) {
            bool found = false;
            for (int c = 0; c < columnCount() && !found; ++c)
                found = cell(rows_[i], c).contains(word, Qt::CaseInsensitive);
            all = all && found;
        }
        if (all)
            shown_.push_back(i);
    }
}

int DecodeRows::rowCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : static_cast<int>(shown_.size()); }
int DecodeRows::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : 4; }

QString DecodeRows::cell(const Row& row, int column) const
{
    switch (column) {
    case 0: return QString::fromStdString(kernel::formatClock(row.item.from));
    case 1: return row.lane;
    case 2: return QString::fromStdString(row.item.what);
    default: return QString::fromStdString(row.item.text);
    }
}

QVariant DecodeRows::data(const QModelIndex& index, int role) const
{
    if (!index.isValid() || index.row() >= rowCount())
        return {};
    const Row& r = row(index.row());
    if (role == Qt::DisplayRole)
        return cell(r, index.column());
    if (role == Qt::ForegroundRole)
        return tape::standsOut(r.item.good, r.item.text) ? QColor(0xE0, 0x8A, 0x7A) : index.column() == 0 ? theme::kTapeMuted : theme::kTapeText;
    return {};
}

QVariant DecodeRows::headerData(int section, Qt::Orientation orientation, int role) const
{
    const QStringList names{tr("time"), tr("lane"), tr("what"), tr("says")};
    return orientation == Qt::Horizontal && role == Qt::DisplayRole ? QVariant(names.value(section)) : QVariant();
}

QString DecodeRows::csv() const
{
    QString out = "from_s,to_s,lane,what,value,good,text\n";
    const auto exact = [](kernel::Time t) { return QString("%1.%2").arg(t.time_since_epoch().count() / kernel::kPicosPerSecond).arg(t.time_since_epoch().count() % kernel::kPicosPerSecond, 12, 10, QChar('0')); };
    const auto quoted = [](QString s) { return '"' + s.replace('"', "\"\"") + '"'; };
    for (const std::size_t i : shown_) {
        const Row& r = rows_[i];
        out += QString("%1,%2,%3,%4,%5,%6,%7\n").arg(exact(r.item.from), exact(r.item.to), quoted(r.lane), QString::fromStdString(r.item.what)).arg(r.item.value).arg(r.item.good ? 1 : 0).arg(quoted(QString::fromStdString(r.item.text)));
    }
    return out;
}

DecodeTable::DecodeTable(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("decodeTable");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet("QWidget#decodeTable { background: #221A26; } QLabel { color: #9A8EA0; background: transparent; }"
                  "QLineEdit { background: #2E2433; color: #EFE7DC; border: 1px solid #4A3E52; border-radius: 4px; padding: 1px 6px; }"
                  "QPushButton { background: #3A3040; color: #EFE7DC; border: 1px solid #4A3E52; border-radius: 4px; padding: 2px 8px; }"
                  "QTableView { background: #221A26; border: none; gridline-color: #332A38; selection-background-color: #5C2A48; selection-color: #FFFFFF; }"
                  "QHeaderView { background: #2E2433; } QHeaderView::section { background: #2E2433; color: #9A8EA0; border: none; padding: 2px 6px; font: 8.2pt Inter; }");
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(8, 3, 8, 6);
    rows->setSpacing(4);
    auto* top = new QHBoxLayout;
    filter_ = new QLineEdit;
    filter_->setObjectName("decodeFilter");
    filter_->setPlaceholderText(tr("only rows with …"));
    filter_->setFont(theme::figures(8.2));
    filter_->setClearButtonEnabled(true);
    count_ = new QLabel;
    count_->setFont(theme::figures(8));
    auto* csv = new QPushButton(tr("CSV…"));
    csv->setFont(theme::words(8.4));
    csv->setFocusPolicy(Qt::NoFocus);
    top->addWidget(filter_, 1);
    top->addWidget(count_);
    top->addWidget(csv);
    rows->addLayout(top);
    model_ = new DecodeRows(this);
    view_ = new QTableView;
    view_->setModel(model_);
    view_->setFont(theme::figures(8.2));
    view_->verticalHeader()->hide();
    view_->verticalHeader()->setDefaultSectionSize(20);
    view_->horizontalHeader()->setStretchLastSection(true);
    view_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    view_->horizontalHeader()->setFont(theme::words(8.2));
    view_->setColumnWidth(0, 140);
    view_->setColumnWidth(1, 74);
    view_->setColumnWidth(2, 70);
    view_->setSelectionBehavior(QAbstractItemView::SelectRows);
    view_->setShowGrid(false);
    view_->setFocusPolicy(Qt::ClickFocus);
    rows->addWidget(view_, 1);
    connect(filter_, &QLineEdit::textChanged, this, [this](const QString& words) {
        model_->setFilter(words);
        count_->setText(tr("%1 rows").arg(model_->rowCount()));
    });
    connect(view_, &QTableView::clicked, this, [this](const QModelIndex& index) { emit momentWanted(model_->row(index.row()).item.from); });
    connect(csv, &QPushButton::clicked, this, [this] {
        if (const QString file = QFileDialog::getSaveFileName(this, tr("Save the table"), editor_.folder() + "/decoded.csv", tr("CSV (*.csv)")); !file.isEmpty()) {
            const bool good = saveCsv(file);
            emit editor_.message(good ? tr("Saved to %1").arg(file) : tr("%1 could not be written").arg(file), !good);
        }
    });
    again_.setSingleShot(true);
    again_.setInterval(kAskEveryMs);
    connect(&again_, &QTimer::timeout, this, &DecodeTable::look);
    connect(&editor_, &Editor::pictureChanged, this, &DecodeTable::look);
}

void DecodeTable::showEvent(QShowEvent*) { ask(); }

// Another window, or more in it: not oftener than one can read.
void DecodeTable::look()
{
    const session::Picture& p = editor_.picture();
    QStringList lanes;
    for (const session::ReadLane& lane : p.reads)
        lanes << QString::fromStdString(lane.text);
    if (!isVisible() || (p.tapeFrom == from_ && p.tapeTo == to_ && lanes == lanes_))
        return;
    if (waiting_ || (asked_.isValid() && asked_.elapsed() < kAskEveryMs))
        again_.start();
    else
        ask();
}

void DecodeTable::ask()
{
    const session::Picture& p = editor_.picture();
    from_ = p.tapeFrom;
    to_ = p.tapeTo;
    lanes_.clear();
    waiting_ = true;
    asked_.restart();
    auto all = std::make_shared<std::vector<DecodeRows::Row>>();
    std::vector<std::string> wanted;
    for (const session::ReadLane& lane : p.reads) {
        lanes_ << QString::fromStdString(lane.text);
        if (const auto spec = session::parseLane(lane.text); spec && (spec->kind == session::LaneSpec::Kind::decoded || spec->kind == session::LaneSpec::Kind::interrupts))
            wanted.push_back(lane.text);
    }
    // One lane after the other; the last one shows them all in order of time.
    for (std::size_t i = 0; i < wanted.size(); ++i)
        editor_.session().readAll(wanted[i], from_, to_, kMostRows, [this, all, lane = wanted[i], last = i + 1 == wanted.size()](const kernel::Result<std::vector<tape::Decoded>>& items) {
            if (items)
                for (const tape::Decoded& item : *items)
                    all->push_back({QString::fromStdString(lane.substr(0, lane.find_first_of(": "))), item});
            if (!last)
                return;
            std::stable_sort(all->begin(), all->end(), [](const DecodeRows::Row& a, const DecodeRows::Row& b) { return a.item.from < b.item.from; });
            QMetaObject::invokeMethod(this, [this, all] {
                waiting_ = false;
                model_->setRows(std::move(*all));
                count_->setText(tr("%1 rows").arg(model_->rowCount()));
            });
        });
    if (wanted.empty()) {
        waiting_ = false;
        model_->setRows({});
        count_->setText(tr("no lane that reads"));
    }
}

bool DecodeTable::saveCsv(const QString& file) { return bench::saveText(file.toStdString(), model_->csv().toStdString()).has_value(); }

}  // namespace bramix::app
