#include "app/debug/stops_pane.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QMenu>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/shell/theme.h"

namespace bramix::app {

StopsPane::StopsPane(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    list_ = new QTreeWidget;
    list_->setObjectName("stops");
    list_->setColumnCount(2);
    list_->header()->hide();
    list_->header()->setStretchLastSection(false);
    list_->header()->setSectionResizeMode(0, QHeaderView::Stretch);
    list_->header()->setSectionResizeMode(1, QHeaderView::ResizeToContents);
    list_->setRootIsDecorated(false);
    list_->setFocusPolicy(Qt::ClickFocus);
    list_->setContextMenuPolicy(Qt::CustomContextMenu);
    rows->addWidget(list_, 1);
    field_ = new QLineEdit;
    field_->setObjectName("stopField");
    field_->setFont(theme::figures(8.8));
    field_->setPlaceholderText(tr("lock.c:41, change ticks, rise mcu.PB3 …"));
    field_->setToolTip(tr("Where to stop, in words:\n"
                          "lock.c:41 · show_lamps · 0x01e8\n"
                          "write x · read x · change x · change x to 5\n"
                          "interrupt TIMER1_COMPA · interrupt any · reset · stack 0x0800\n"
                          "rise, fall or edge mcu.PB3 · high or low mcu.PB3 for 5ms\n"
                          "serial \"ready\" · time 20ms · finding\n"
                          "A -> B measures the cycles between two of these, and does not stop"));
    auto* buttons = new QHBoxLayout;
    auto* add = new QPushButton(tr("Stop there"));
    auto* once = new QPushButton(tr("Run to it once"));
    for (QPushButton* b : {add, once}) {
        b->setFocusPolicy(Qt::NoFocus);
        b->setFont(theme::words(8.6));
        buttons->addWidget(b);
    }
    rows->addWidget(field_);
    rows->addLayout(buttons);
    const auto addStop = [this] {
        const std::string at = field_->text().trimmed().toStdString();
        if (at.empty())
            return;
        field_->clear();
        editor_.change(tr("stop"), [&](bench::Document& d) {
            bench::StopItem s;
            s.at = at;
            d.stops.push_back(std::move(s));
        });
    };
    connect(field_, &QLineEdit::returnPressed, this, addStop);
    connect(add, &QPushButton::clicked, this, addStop);
    connect(once, &QPushButton::clicked, this, [this] {
        bench::StopItem s;
        s.at = field_->text().trimmed().toStdString();
        if (!s.at.empty())
            editor_.session().runTo(s);
    });
    connect(list_, &QTreeWidget::itemChanged, this, [this](QTreeWidgetItem* item, int column) {
        if (column == 0)
            change(list_->indexOfTopLevelItem(item), [&](bench::StopItem& s) { s.off = item->checkState(0) != Qt::Checked; });
    });
    connect(list_, &QTreeWidget::itemDoubleClicked, this, [this](QTreeWidgetItem* item, int) {
        const auto row = static_cast<std::size_t>(list_->indexOfTopLevelItem(item));
        if (row < shown_.size() && shown_[row].line > 0)
            emit placeChosen(QString::fromStdString(shown_[row].file), shown_[row].line);
    });
    connect(list_, &QWidget::customContextMenuRequested, this, &StopsPane::menu);
}

void StopsPane::change(int row, const std::function<void(bench::StopItem&)>& edit)
{
    editor_.change(tr("stop"), [&](bench::Document& d) {
        if (row >= 0 && static_cast<std::size_t>(row) < d.stops.size())
            edit(d.stops[static_cast<std::size_t>(row)]);
    });
}

void StopsPane::refresh(const session::DebugPicture& debug)
{
    const QSignalBlocker quiet(list_);
    shown_ = debug.stops;
    while (list_->topLevelItemCount() > static_cast<int>(shown_.size()))
        delete list_->takeTopLevelItem(list_->topLevelItemCount() - 1);
    for (std::size_t i = 0; i < shown_.size(); ++i) {
        const session::StopPicture& s = shown_[i];
        QTreeWidgetItem* item = list_->topLevelItem(static_cast<int>(i));
        if (item == nullptr) {
            item = new QTreeWidgetItem(list_);
            item->setFont(0, theme::figures(8.8));
            item->setFont(1, theme::figures(8.4));
            item->setForeground(1, theme::muted());
            item->setTextAlignment(1, Qt::AlignRight | Qt::AlignVCenter);
        }
        QString text = QString::fromStdString(s.item.at);
        if (!s.item.when.empty())
            text += tr("  when %1").arg(QString::fromStdString(s.item.when));
        if (s.item.count > 1)
            text += tr("  from hit %1").arg(s.item.count);
        if (!s.item.say.empty())
            text += tr("  say \"%1\"").arg(QString::fromStdString(s.item.say));
        item->setText(0, text);
        item->setToolTip(0, s.problem.empty() ? text : QString::fromStdString(s.problem));
        item->setForeground(0, !s.problem.empty() ? theme::rust() : s.item.off ? theme::muted() : theme::ink());
        item->setCheckState(0, s.item.off ? Qt::Unchecked : Qt::Checked);
        if (s.measures && s.hits > 0)
            text += tr("\n%1 … %2 … %3 cycles").arg(s.least).arg(static_cast<double>(s.sum) / static_cast<double>(s.hits), 0, 'f', 1).arg(s.most);
        if (s.measures)
            item->setText(0, text);
        item->setText(1, !s.problem.empty() ? tr("cannot") : s.hits == 0 ? QString() : QString("%1×").arg(s.hits));
    }
}

void StopsPane::ask(int row, const QString& title, const QString& hint, const QString& now, const std::function<void(bench::StopItem&, const QString&)>& set)
{
    bool ok = false;
    const QString text = QInputDialog::getText(this, title, hint, QLineEdit::Normal, now, &ok);
    if (ok)
        change(row, [&](bench::StopItem& s) { set(s, text.trimmed()); });
}

void StopsPane::menu(const QPoint& at)
{
    QTreeWidgetItem* item = list_->itemAt(at);
    if (item == nullptr)
        return;
    const int row = list_->indexOfTopLevelItem(item);
    if (static_cast<std::size_t>(row) >= shown_.size())
        return;
    const bench::StopItem stop = shown_[static_cast<std::size_t>(row)].item;
    QMenu menu;
    menu.addAction(tr("Condition…"), [&] {
        ask(row, tr("Condition"), tr("An expression, such as ticks > 100:"), QString::fromStdString(stop.when), [](bench::StopItem& s, const QString& t) { s.when = t.toStdString(); });
    });
    menu.addAction(tr("Hit count…"), [&] {
        ask(row, tr("Hit count"), tr("Stops from this hit on:"), QString::number(stop.count), [](bench::StopItem& s, const QString& t) { s.count = std::max(1, t.toInt()); });
    });
    menu.addAction(tr("Log message…"), [&] {
        ask(row, tr("Log message"), tr("Logs this line and runs on; {expressions} are filled in:"), QString::fromStdString(stop.say), [](bench::StopItem& s, const QString& t) { s.say = t.toStdString(); });
    });
    menu.addSeparator();
    menu.addAction(tr("Remove"), [&] {
        editor_.change(tr("remove stop"), [&](bench::Document& d) {
            if (static_cast<std::size_t>(row) < d.stops.size())
                d.stops.erase(d.stops.begin() + row);
        });
    });
    menu.exec(list_->viewport()->mapToGlobal(at));
}

}  // namespace bramix::app
