#include "app/debug/memory_pane.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QPainter>
#include <QVBoxLayout>
#include <QWheelEvent>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr int kLine = 16, kLeft = 4, kAddress = 40, kByte = 20, kColumns = 8;

}  // namespace

MemorySheet::MemorySheet(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setFocusPolicy(Qt::ClickFocus);
    setObjectName("memory");
}

QByteArray MemorySheet::contents() const
{
    QByteArray all;
    if (space_ == debug::Space::flash && debug_.code != nullptr)
        all = QByteArray(reinterpret_cast<const char*>(debug_.code->data()), static_cast<qsizetype>(debug_.code->size()));
    else if (debug_.memorySpace == space_)
        all = QByteArray(reinterpret_cast<const char*>(debug_.memory.data()), static_cast<qsizetype>(debug_.memory.size()));
    return all;
}

std::uint32_t MemorySheet::size() const
{
    return debug_.device == nullptr ? 0 : static_cast<std::uint32_t>(debug_.device->sizeOf(static_cast<chip::SpaceId>(space_)));
}

void MemorySheet::refresh(const session::DebugPicture& debug)
{
    debug_ = debug;
    update();
}

void MemorySheet::setView(debug::Space space, std::uint32_t from)
{
    space_ = space;
    const std::uint32_t all = size();
    from_ = (all == 0 ? from : std::min(from, all > kColumns ? all - kColumns : 0)) / kColumns * kColumns;  // of a chip that is not known yet, as wanted
    cursor_.reset();
    emit viewChanged();
    update();
}

void MemorySheet::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.fillRect(rect(), theme::card());
    const bool isFlash = space_ == debug::Space::flash;
    if (!isFlash && debug_.memorySpace != space_)
        return;  // the next picture has it
    const std::size_t all = isFlash ? (debug_.code == nullptr ? 0 : debug_.code->size()) : debug_.memory.size();
    const std::size_t shown = std::min<std::size_t>(static_cast<std::size_t>(height() / kLine + 1) * kColumns, all > from_ ? all - from_ : 0);
    const QFont font = theme::figures(8.4);
    p.setFont(font);
    const bool data = space_ == debug::Space::data;
    for (std::size_t i = 0; i < shown; ++i) {
        const std::uint32_t address = from_ + static_cast<std::uint32_t>(i);
        const int y = static_cast<int>(i / kColumns) * kLine, column = static_cast<int>(i % kColumns);
        if (column == 0) {
            p.setPen(theme::muted());
            p.drawText(kLeft, y + 12, QString("%1").arg(address, 4, 16, QChar('0')));
        }
        const QRect box(kLeft + kAddress + column * kByte, y, kByte, kLine);
        const std::uint8_t value = isFlash ? (*debug_.code)[address] : debug_.memory[address];
        const bool changed = !isFlash && address < debug_.memoryBefore.size() && debug_.memoryBefore[address] != value;
        // The stack in use, and what it has reached at its deepest.
        if (data && address > debug_.registers.sp && address <= debug_.ramEnd)
            p.fillRect(box, theme::dataGround());
        else if (data && debug_.lowestStack != UINT32_MAX && address > debug_.lowestStack && address <= debug_.registers.sp)
            p.fillRect(box, theme::heapGround());
        else if (data && debug_.device != nullptr && address >= debug_.device->ramBegin && address < debug_.dataEnd)
            p.fillRect(box, theme::stackGround());
        if (changed)
            p.fillRect(box, theme::changed());
        if (cursor_ == address) {
            p.setPen(QPen(theme::bramble(), 1.4));
            p.setBrush(Qt::NoBrush);
            p.drawRect(box.adjusted(0, 0, -2, -2));
        }
        p.setPen(changed ? theme::bramble() : value == 0 ? theme::faint() : theme::ink());
        QString hex = QString("%1").arg(value, 2, 16, QChar('0'));
        if (cursor_ == address && nibble_ >= 0)
            hex = QString("%1_").arg(nibble_, 1, 16);
        p.drawText(box.adjusted(1, 0, -3, -1), Qt::AlignCenter, hex);
        p.setPen(value >= 0x20 && value < 0x7F ? theme::ink() : theme::faint());
        p.drawText(QRect(kLeft + kAddress + kColumns * kByte + 4 + column * 7, y, 8, kLine - 1), Qt::AlignCenter, value >= 0x20 && value < 0x7F ? QString(QChar(value)) : QString("·"));
    }
}

void MemorySheet::wheelEvent(QWheelEvent* event)
{
    const int rows = -event->angleDelta().y() / 40;
    const std::int64_t to = std::int64_t{from_} + rows * kColumns;
    setView(space_, static_cast<std::uint32_t>(std::clamp<std::int64_t>(to, 0, size())));
}

void MemorySheet::mousePressEvent(QMouseEvent* event)
{
    const QPoint at = event->position().toPoint();
    const int column = (at.x() - kLeft - kAddress) / kByte;
    nibble_ = -1;
    cursor_.reset();
    if (at.x() >= kLeft + kAddress && column < kColumns && space_ != debug::Space::flash)
        if (const std::uint32_t address = from_ + static_cast<std::uint32_t>(at.y() / kLine * kColumns + column); address < size())
            cursor_ = address;
    update();
}

void MemorySheet::keyPressEvent(QKeyEvent* event)
{
    bool isHex = false;
    const int digit = event->text().toInt(&isHex, 16);
    if (!cursor_ || !isHex || event->text().size() != 1) {
        event->ignore();
        return;
    }
    if (nibble_ < 0) {
        nibble_ = digit;
    } else {
        editor_.session().poke(space_, *cursor_, static_cast<std::uint8_t>(nibble_ * 16 + digit));
        nibble_ = -1;
        if (*cursor_ + 1 < size())
            cursor_ = *cursor_ + 1;
    }
    update();
}

MemoryPane::MemoryPane(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    auto* head = new QHBoxLayout;
    space_ = new QComboBox;
    space_->setAccessibleName(tr("Which memory"));
    space_->addItems({tr("Data"), tr("EEPROM"), tr("Flash")});
    space_->setFont(theme::words(8.6));
    space_->setFocusPolicy(Qt::NoFocus);
    where_ = new QLineEdit;
    where_->setObjectName("memoryWhere");
    where_->setPlaceholderText(tr("0x0100, sp, or \"text\""));
    where_->setFont(theme::figures(8.6));
    head->addWidget(space_);
    head->addWidget(where_, 1);
    rows->addLayout(head);
    auto* body = new QHBoxLayout;
    body->setSpacing(0);
    sheet_ = new MemorySheet(editor);
    bar_ = new QScrollBar(Qt::Vertical);
    body->addWidget(sheet_, 1);
    body->addWidget(bar_);
    rows->addLayout(body, 1);
    connect(space_, &QComboBox::currentIndexChanged, this, [this](int i) {
        static constexpr debug::Space kSpaces[] = {debug::Space::data, debug::Space::eeprom, debug::Space::flash};
        sheet_->setView(kSpaces[std::clamp(i, 0, 2)], i == 0 ? sheet_->ramBegin() : 0);
    });
    connect(where_, &QLineEdit::returnPressed, this, [this] { go(where_->text().trimmed()); });
    connect(sheet_, &MemorySheet::viewChanged, this, [this] {
        const QSignalBlocker quiet(bar_);
        bar_->setRange(0, static_cast<int>(sheet_->size() / 8));
        bar_->setValue(static_cast<int>(sheet_->from() / 8));
        emit viewChanged();
    });
    connect(bar_, &QScrollBar::valueChanged, this, [this](int row) { sheet_->setView(sheet_->space(), static_cast<std::uint32_t>(row) * 8); });
}

void MemoryPane::refresh(const session::DebugPicture& debug)
{
    debug_ = debug;
    sheet_->refresh(debug);
}

// An address, "sp", or bytes to be found behind the present view: "text" or hexadecimal pairs with spaces.
void MemoryPane::go(const QString& text)
{
    if (text.compare("sp", Qt::CaseInsensitive) == 0) {
        space_->setCurrentIndex(0);
        sheet_->setView(debug::Space::data, debug_.registers.sp);
        return;
    }
    bool isNumber = false;
    const std::uint32_t address = text.toUInt(&isNumber, text.startsWith("0x") ? 0 : 16);
    if (isNumber) {
        sheet_->setView(sheet_->space(), address);
        return;
    }
    QByteArray wanted = text.startsWith('"') ? text.mid(1, text.size() - (text.endsWith('"') && text.size() > 1 ? 2 : 1)).toUtf8() : QByteArray::fromHex(text.toLatin1());
    if (wanted.isEmpty())
        return;
    const QByteArray all = sheet_->contents();
    qsizetype found = all.indexOf(wanted, static_cast<qsizetype>(sheet_->from()) + kColumns);
    if (found < 0)
        found = all.indexOf(wanted);
    if (found >= 0)
        sheet_->setView(sheet_->space(), static_cast<std::uint32_t>(found));
    else
        emit editor_.message(tr("%1 is not found in this memory").arg(text), false);
}

}  // namespace bramix::app
