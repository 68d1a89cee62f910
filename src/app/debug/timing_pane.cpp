#include "app/debug/timing_pane.h"

#include <QHeaderView>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

TimingPane::TimingPane(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    count_ = new QPushButton(tr("Count cycles from now"));
    count_->setObjectName("countCycles");
    count_->setCheckable(true);
    count_->setFocusPolicy(Qt::NoFocus);
    count_->setFont(theme::words(8.6));
    count_->setToolTip(tr("Exact, instruction by instruction. The run is a few times slower while it counts; otherwise it costs nothing."));
    summary_ = new QLabel;
    summary_->setFont(theme::words(8.4));
    summary_->setWordWrap(true);
    summary_->setStyleSheet("color: #6F6577;");
    table_ = new QTreeWidget;
    table_->setObjectName("timing");
    table_->setColumnCount(3);
    table_->setRootIsDecorated(false);
    table_->setIndentation(8);
    table_->setFocusPolicy(Qt::NoFocus);
    table_->setHeaderLabels({tr("Function"), tr("Calls"), tr("Share")});
    table_->header()->setStretchLastSection(false);
    table_->header()->setSectionResizeMode(0, QHeaderView::Stretch);
    table_->header()->setSectionResizeMode(1, QHeaderView::ResizeToContents);
    table_->header()->setSectionResizeMode(2, QHeaderView::ResizeToContents);
    rows->addWidget(count_);
    rows->addWidget(summary_);
    rows->addWidget(table_, 1);
    const auto section = [&](const QStringList& names) {
        auto* item = new QTreeWidgetItem(table_, names);
        for (int c = 0; c < 3; ++c) {
            item->setFont(c, theme::words(8.2, QFont::DemiBold));
            item->setForeground(c, theme::kMuted);
            item->setTextAlignment(c, c == 0 ? Qt::AlignLeft : Qt::AlignRight);
        }
        item->setExpanded(true);
        return item;
    };
    table_->header()->hide();
    functions_ = section({tr("Functions"), tr("calls"), tr("cycles")});
    interrupts_ = section({tr("Interrupts"), tr("times"), tr("worst wait")});
    connect(count_, &QPushButton::toggled, this, [this](bool on) { editor_.session().countCycles(on); });
}

void TimingPane::refresh(const session::DebugPicture& debug, std::uint64_t clockHz)
{
    const session::CountPicture& c = debug.counts;
    if (count_->isChecked() != c.on) {
        const QSignalBlocker quiet(count_);
        count_->setChecked(c.on);
    }
    const auto cell = [](QTreeWidgetItem* item, int column, const QString& text) {
        if (item->text(column) != text)
            item->setText(column, text);
    };
    const auto rowsOf = [](QTreeWidgetItem* parent, std::size_t count) {
        while (parent->childCount() > static_cast<int>(count))
            delete parent->takeChild(parent->childCount() - 1);
        while (parent->childCount() < static_cast<int>(count)) {
            auto* item = new QTreeWidgetItem(parent);
            for (int i = 0; i < 3; ++i) {
                item->setFont(i, theme::figures(8.5));
                item->setTextAlignment(i, (i == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
            }
        }
    };
    const double total = std::max<double>(1, static_cast<double>(c.total));
    summary_->setText(c.total == 0 ? tr("Nothing counted yet.")
                                   : tr("%L1 cycles: %2 % asleep, %3 % entering interrupts.").arg(c.total).arg(100.0 * static_cast<double>(c.asleep) / total, 0, 'f', 1).arg(100.0 * static_cast<double>(c.entries) / total, 0, 'f', 1));
    functions_->setHidden(c.functions.empty());
    rowsOf(functions_, c.functions.size());
    for (std::size_t i = 0; i < c.functions.size(); ++i) {
        QTreeWidgetItem* item = functions_->child(static_cast<int>(i));
        const auto& f = c.functions[i];
        cell(item, 0, QString::fromStdString(f.name));
        cell(item, 1, f.calls == 0 ? QString() : QString::number(f.calls));
        cell(item, 2, QString("%1 %").arg(100.0 * static_cast<double>(f.cycles) / total, 0, 'f', 1));
        item->setToolTip(2, tr("%L1 cycles%2").arg(f.cycles).arg(f.calls > 0 ? tr(", %1 a call").arg(static_cast<double>(f.cycles) / static_cast<double>(f.calls), 0, 'f', 1) : QString()));
    }
    std::vector<const session::InterruptPicture*> seen;
    for (const session::InterruptPicture& i : debug.interrupts)
        if (i.count > 0 || i.enabled || i.raised)
            seen.push_back(&i);
    interrupts_->setHidden(seen.empty());
    rowsOf(interrupts_, seen.size());
    for (std::size_t i = 0; i < seen.size(); ++i) {
        QTreeWidgetItem* item = interrupts_->child(static_cast<int>(i));
        cell(item, 0, QString::fromStdString(seen[i]->name) + (seen[i]->pending ? tr("  waits") : seen[i]->raised && !seen[i]->enabled ? tr("  flag set") : QString()));
        cell(item, 1, QString::number(seen[i]->count));
        cell(item, 2, seen[i]->count == 0 || clockHz == 0 ? QString() : QString::fromStdString(kernel::formatQuantity(static_cast<double>(seen[i]->worstLatency) / static_cast<double>(clockHz), kernel::Unit::second, 3)));
        item->setForeground(0, seen[i]->pending ? theme::kBramble : theme::kInk);
        item->setToolTip(2, tr("worst %1 cycles, mean %2, from the moment it could be served to the first instruction of its vector").arg(seen[i]->worstLatency).arg(seen[i]->meanLatency, 0, 'f', 1));
    }
}

}  // namespace bramix::app
