#include "app/shell/pick_list.h"

#include <QApplication>
#include <QGraphicsDropShadowEffect>
#include <QKeyEvent>
#include <QPainter>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr int kRow = 46;
constexpr int kWidth = 380;
constexpr int kShown = 7;

// Picture, title, and a line about it.
class EntryDelegate : public QStyledItemDelegate {
public:
    using QStyledItemDelegate::QStyledItemDelegate;

    [[nodiscard]] QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex&) const override { return {kWidth - 20, kRow}; }

    void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override
    {
        painter->save();
        painter->setRenderHint(QPainter::Antialiasing);
        const QRectF box = QRectF(option.rect).adjusted(2, 1, -2, -1);
        if ((option.state & QStyle::State_Selected) != 0) {
            painter->setPen(Qt::NoPen);
            painter->setBrush(theme::chosen());
            painter->drawRoundedRect(box, 6, 6);
        }
        const auto picture = index.data(Qt::DecorationRole).value<QPixmap>();
        double left = box.left() + 10;
        if (!picture.isNull()) {
            const QSizeF size = QSizeF(picture.size()) / picture.devicePixelRatio();
            painter->drawPixmap(QPointF(box.left() + 8 + (44 - size.width()) / 2, box.center().y() - size.height() / 2), picture);
            left = box.left() + 62;
        }
        painter->setPen(theme::ink());
        painter->setFont(theme::words(9.6, QFont::Medium));
        painter->drawText(QRectF(left, box.top() + 4, box.right() - left - 6, 19), Qt::AlignVCenter, index.data(Qt::DisplayRole).toString());
        painter->setPen(theme::muted());
        painter->setFont(theme::words(8.2));
        const QString about = QFontMetrics(painter->font()).elidedText(index.data(Qt::UserRole).toString(), Qt::ElideRight, static_cast<int>(box.right() - left - 6));
        painter->drawText(QRectF(left, box.top() + 22, box.right() - left - 6, 17), Qt::AlignVCenter, about);
        painter->restore();
    }
};

}  // namespace

PickList::PickList(QWidget* parent) : QFrame(parent)
{
    setObjectName("pickList");
    theme::dress(this, "QFrame#pickList { background: @card; border: 1px solid @edge; border-radius: 10px; }");
    auto* shadow = new QGraphicsDropShadowEffect(this);
    shadow->setBlurRadius(28);
    shadow->setOffset(0, 6);
    shadow->setColor(QColor(42, 34, 48, 70));
    setGraphicsEffect(shadow);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(8, 8, 8, 8);
    line_ = new QLineEdit;
    line_->setObjectName("pickLine");
    line_->setFont(theme::words(11));
    line_->installEventFilter(this);
    list_ = new QListWidget;
    list_->setAccessibleName(tr("What is offered"));
    list_->setObjectName("pickEntries");
    list_->setItemDelegate(new EntryDelegate(list_));
    list_->setFocusPolicy(Qt::NoFocus);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    layout->addWidget(line_);
    layout->addWidget(list_);
    connect(line_, &QLineEdit::textChanged, this, &PickList::filter);
    connect(list_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) { choose(list_->row(item)); });
    hide();
}

void PickList::open(const QString& hint, Source source, QPoint at)
{
    if (QWidget* now = QApplication::focusWidget(); now != nullptr && now != line_)
        before_ = now;
    source_ = std::move(source);
    line_->setPlaceholderText(hint);
    line_->clear();
    filter();
    const QRect room = parentWidget()->rect();
    move(std::clamp(at.x(), 8, std::max(8, room.width() - kWidth - 8)), std::clamp(at.y(), 8, std::max(8, room.height() - height() - 8)));
    show();
    raise();
    line_->setFocus();
}

void PickList::filter()
{
    entries_ = source_ ? source_(line_->text()) : std::vector<Entry>{};
    list_->clear();
    for (const Entry& entry : entries_) {
        auto* item = new QListWidgetItem(entry.title);
        item->setData(Qt::UserRole, entry.about);
        item->setData(Qt::DecorationRole, entry.picture);
        list_->addItem(item);
    }
    if (entries_.empty()) {
        auto* item = new QListWidgetItem(tr("Nothing of that name"));
        item->setData(Qt::UserRole, tr("Try a shorter word"));
        item->setFlags(Qt::NoItemFlags);
        list_->addItem(item);
    }
    list_->setCurrentRow(0);
    const int rows = std::clamp(list_->count(), 1, kShown);
    list_->setFixedHeight(rows * kRow + 4);
    setFixedSize(kWidth, rows * kRow + 4 + line_->sizeHint().height() + 26);
}

void PickList::choose(int row)
{
    if (row < 0 || row >= static_cast<int>(entries_.size()))
        return;
    const auto choose = entries_[static_cast<std::size_t>(row)].choose;
    hide();
    giveFocusBack();
    choose();
}

// To what had it: keys that act there go on.
void PickList::giveFocusBack()
{
    if (before_ != nullptr && before_->isVisible())
        before_->setFocus();
    else
        parentWidget()->setFocus();
}

bool PickList::eventFilter(QObject* watched, QEvent* event)
{
    if (watched == line_ && event->type() == QEvent::FocusOut)
        hide();
    if (watched == line_ && event->type() == QEvent::KeyPress) {
        switch (static_cast<QKeyEvent*>(event)->key()) {
        case Qt::Key_Escape:
            hide();
            giveFocusBack();
            return true;
        case Qt::Key_Down: list_->setCurrentRow(std::min(list_->currentRow() + 1, list_->count() - 1)); return true;
        case Qt::Key_Up: list_->setCurrentRow(std::max(list_->currentRow() - 1, 0)); return true;
        case Qt::Key_Return:
        case Qt::Key_Enter: choose(list_->currentRow()); return true;
        default: break;
        }
    }
    return QFrame::eventFilter(watched, event);
}

}  // namespace bramix::app
