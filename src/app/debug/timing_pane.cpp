#include "app/debug/timing_pane.h"

#include <QHeaderView>
#include <QVBoxLayout>

#include <algorithm>

#include <QPainter>
#include <QPainterPath>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

void StackDepthView::show(const session::CountPicture& counts, std::uint64_t clockHz)
{
    setVisible(!counts.stackDepth.empty());
    if (counts.stackDepth == depth_)
        return;
    depth_ = counts.stackDepth;
    const std::uint32_t most = depth_.empty() ? 0 : *std::max_element(depth_.begin(), depth_.end());
    const double seconds = clockHz == 0 ? 0 : static_cast<double>(counts.stackWidth) * static_cast<double>(depth_.size()) / static_cast<double>(clockHz);
    text_ = tr("stack, at most %1 bytes").arg(most);
    span_ = QString::fromStdString(kernel::formatQuantity(seconds, kernel::Unit::second, 3));
    update();
}

// The deepest of each stretch from left to right, as an area.
void StackDepthView::paintEvent(QPaintEvent*)
{
    if (depth_.empty())
        return;
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setFont(theme::words(8.2));
    painter.setPen(theme::muted());
    const QRectF plot(0.5, 18.5, width() - 1, height() - 20);
    painter.drawText(QRectF(0, 0, width(), 16), Qt::AlignLeft | Qt::AlignVCenter, text_);
    painter.drawText(QRectF(0, 0, width(), 16), Qt::AlignRight | Qt::AlignVCenter, span_);
    const double most = std::max<double>(1, *std::max_element(depth_.begin(), depth_.end()));
    QPainterPath area(plot.bottomLeft());
    for (std::size_t i = 0; i < depth_.size(); ++i) {
        const double y = plot.bottom() - depth_[i] / most * plot.height();
        area.lineTo(plot.left() + plot.width() * static_cast<double>(i) / static_cast<double>(depth_.size()), y);
        area.lineTo(plot.left() + plot.width() * static_cast<double>(i + 1) / static_cast<double>(depth_.size()), y);
    }
    area.lineTo(plot.bottomRight());
    painter.setPen(QPen(theme::bramble(), 1));
    painter.setBrush(theme::clear(theme::bramble(), 40));
    painter.drawPath(area);
}

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
    theme::dress(summary_, "color: @muted;");
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
    stack_ = new StackDepthView;
    stack_->setObjectName("stackDepth");
    rows->addWidget(stack_);
    rows->addWidget(table_, 1);
    const auto section = [&](const QStringList& names) {
        auto* item = new QTreeWidgetItem(table_, names);
        for (int c = 0; c < 3; ++c) {
            item->setFont(c, theme::words(8.2, QFont::DemiBold));
            item->setForeground(c, theme::muted());
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
    stack_->show(c, clockHz);
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
        if (seen[i]->timed > 0 && clockHz != 0) {
            const auto time = [&](double cycles) { return QString::fromStdString(kernel::formatQuantity(cycles / static_cast<double>(clockHz), kernel::Unit::second, 3)); };
            // Under the interrupt, what was counted of it.
            if (item->childCount() == 0) {
                auto* lengths = new QTreeWidgetItem(item);
                for (int c = 0; c < 3; ++c) {
                    lengths->setFont(c, theme::figures(8.2));
                    lengths->setForeground(c, theme::muted());
                    lengths->setTextAlignment(c, (c == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
                }
                item->setExpanded(true);
            }
            cell(item->child(0), 0, tr("in it %1 %").arg(100 * seen[i]->share, 0, 'f', 1));
            cell(item->child(0), 1, time(seen[i]->meanLength));
            cell(item->child(0), 2, time(static_cast<double>(seen[i]->longest)));
            item->child(0)->setToolTip(1, tr("on average %1 cycles, from its entry to the end of its RETI, with what interrupts it").arg(seen[i]->meanLength, 0, 'f', 1));
            item->child(0)->setToolTip(2, tr("at the longest %1 cycles").arg(seen[i]->longest));
        } else {
            qDeleteAll(item->takeChildren());
        }
        item->setForeground(0, seen[i]->pending ? theme::bramble() : theme::ink());
        item->setToolTip(2, tr("worst %1 cycles, mean %2, from the moment it could be served to the first instruction of its vector").arg(seen[i]->worstLatency).arg(seen[i]->meanLatency, 0, 'f', 1));
    }
}

}  // namespace bramix::app
