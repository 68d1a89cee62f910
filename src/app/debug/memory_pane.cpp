#include "app/debug/memory_pane.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QPainter>
#include <QVBoxLayout>
#include <QWheelEvent>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr int kLine = 16, kLeft = 4, kColumns = 8, kDigit = 7;
constexpr int kByte = 20, kNarrowByte = 17;  // of a byte's figures; the narrow one where all of it would not fit else
constexpr int kLetter = 7, kNarrowLetter = 6, kGap = 4;

}  // namespace

MemorySheet::MemorySheet(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setFocusPolicy(Qt::ClickFocus);
    setObjectName("memory");
}

std::span<const std::uint8_t> MemorySheet::bytes() const
{
    if (showsProgram())
        return debug_.code == nullptr ? std::span<const std::uint8_t>() : std::span<const std::uint8_t>(*debug_.code);
    return debug_.memoryRegion == region_ ? std::span<const std::uint8_t>(debug_.memory) : std::span<const std::uint8_t>();  // else the next picture has it
}

QByteArray MemorySheet::contents() const
{
    const auto all = bytes();
    return {reinterpret_cast<const char*>(all.data()), static_cast<qsizetype>(all.size())};
}

int MemorySheet::byteLeft() const { return kLeft + addressDigits() * kDigit + 8; }

bool MemorySheet::isNarrow() const { return byteLeft() + kColumns * (kByte + kLetter) + kGap > width(); }

int MemorySheet::bytePitch() const { return isNarrow() ? kNarrowByte : kByte; }

int MemorySheet::addressDigits() const
{
    return begin() + size() > 0x1000000 ? 8 : begin() + size() > 0x10000 ? 6 : 4;
}

void MemorySheet::refresh(const session::DebugPicture& debug)
{
    debug_ = debug;
    update();
}

void MemorySheet::setView(std::size_t region, std::uint64_t from)
{
    region_ = region;
    const std::uint64_t first = begin(), all = size();
    // Of a chip that is not known yet, as wanted.
    from_ = all == 0 ? from : first + std::min(from < first ? 0 : from - first, all > kColumns ? all - kColumns : 0) / kColumns * kColumns;
    cursor_.reset();
    emit viewChanged();
    update();
}

void MemorySheet::paintEvent(QPaintEvent*)
{
    QPainter p(this);
    p.fillRect(rect(), theme::card());
    const auto all = bytes();
    if (all.empty() || place() == nullptr || from_ < begin())
        return;
    const std::size_t first = from_ - begin();
    const std::size_t shown = std::min<std::size_t>(static_cast<std::size_t>(height() / kLine + 1) * kColumns, all.size() > first ? all.size() - first : 0);
    const std::vector<std::uint8_t>& before = debug_.memoryBefore;
    const chip::Device& device = *debug_.device;
    const std::uint64_t sp = debug_.registers.sp;
    const bool ram = place()->kind == chip::RegionKind::ram;
    const int left = byteLeft(), pitch = bytePitch(), letter = isNarrow() ? kNarrowLetter : kLetter;
    // Letters that would be cut are left out.
    const bool letters = left + kColumns * (pitch + letter) + kGap <= width();
    p.setFont(theme::figures(8.4));
    for (std::size_t i = 0; i < shown; ++i) {
        const std::uint64_t address = from_ + i;
        const int y = static_cast<int>(i / kColumns) * kLine, column = static_cast<int>(i % kColumns);
        if (column == 0) {
            p.setPen(theme::muted());
            p.drawText(kLeft, y + 12, QString("%1").arg(address, addressDigits(), 16, QChar('0')));
        }
        const QRect box(left + column * pitch, y, pitch, kLine);
        const std::uint8_t value = all[first + i];
        const bool changed = ram && first + i < before.size() && before[first + i] != value;
        // The stack in use, and what it has reached at its deepest.
        if (ram && address > sp && address <= debug_.ramEnd)
            p.fillRect(box, theme::dataGround());
        else if (ram && debug_.lowestStack != UINT32_MAX && address > debug_.lowestStack && address <= sp)
            p.fillRect(box, theme::heapGround());
        else if (ram && address >= device.ramBegin && address < debug_.dataEnd)
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
        p.drawText(box.adjusted(0, 0, -2, -1), Qt::AlignCenter, hex);
        if (!letters)
            continue;
        p.setPen(value >= 0x20 && value < 0x7F ? theme::ink() : theme::faint());
        p.drawText(QRect(left + kColumns * pitch + kGap + column * letter, y, letter + 1, kLine - 1), Qt::AlignCenter, value >= 0x20 && value < 0x7F ? QString(QChar(value)) : QString("·"));
    }
}

void MemorySheet::wheelEvent(QWheelEvent* event)
{
    const std::int64_t step = std::int64_t{-event->angleDelta().y() / 40} * kColumns;
    const std::uint64_t offset = from_ - std::min(from_, begin());
    setView(region_, begin() + (step < 0 && offset < static_cast<std::uint64_t>(-step) ? 0 : offset + static_cast<std::uint64_t>(step)));
}

void MemorySheet::mousePressEvent(QMouseEvent* event)
{
    const QPoint at = event->position().toPoint();
    const int left = byteLeft(), column = (at.x() - left) / bytePitch();
    nibble_ = -1;
    cursor_.reset();
    if (at.x() >= left && column < kColumns && !showsProgram())
        if (const std::uint64_t address = from_ + static_cast<std::uint64_t>(at.y() / kLine * kColumns + column); address < begin() + size())
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
        if (place() != nullptr)
            editor_.session().poke(static_cast<debug::Space>(place()->space), static_cast<std::uint32_t>(*cursor_), static_cast<std::uint8_t>(nibble_ * 16 + digit));
        nibble_ = -1;
        if (*cursor_ + 1 < begin() + size())
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
    choice_ = new QComboBox;
    choice_->setAccessibleName(tr("Which memory"));
    choice_->setFont(theme::words(8.6));
    choice_->setFocusPolicy(Qt::NoFocus);
    where_ = new QLineEdit;
    where_->setObjectName("memoryWhere");
    where_->setPlaceholderText(tr("0x0100, sp, or \"text\""));
    where_->setFont(theme::figures(8.6));
    head->addWidget(choice_);
    head->addWidget(where_, 1);
    rows->addLayout(head);
    auto* body = new QHBoxLayout;
    body->setSpacing(0);
    sheet_ = new MemorySheet(editor);
    bar_ = new QScrollBar(Qt::Vertical);
    body->addWidget(sheet_, 1);
    body->addWidget(bar_);
    rows->addLayout(body, 1);
    connect(choice_, &QComboBox::currentIndexChanged, this, [this](int i) {
        if (i >= 0)
            showRegion(choice_->itemData(i).toULongLong());
    });
    connect(where_, &QLineEdit::returnPressed, this, [this] { go(where_->text().trimmed()); });
    connect(sheet_, &MemorySheet::viewChanged, this, [this] {
        const QSignalBlocker quiet(bar_);
        bar_->setRange(0, static_cast<int>(sheet_->size() / 8));
        bar_->setValue(static_cast<int>((sheet_->from() - std::min(sheet_->from(), sheet_->begin())) / 8));
        emit viewChanged();
    });
    connect(bar_, &QScrollBar::valueChanged, this, [this](int row) { sheet_->setView(sheet_->region(), sheet_->begin() + static_cast<std::uint64_t>(row) * 8); });
}

void MemoryPane::refresh(const session::DebugPicture& debug)
{
    debug_ = debug;
    sheet_->refresh(debug);
    if (debug.device != device_)
        offerRegions();
}

void MemoryPane::offerRegions()
{
    device_ = debug_.device;
    const QSignalBlocker quiet(choice_);
    choice_->clear();
    if (device_ == nullptr)
        return;
    // What changes first.
    for (const chip::RegionKind kind : {chip::RegionKind::ram, chip::RegionKind::nonVolatile, chip::RegionKind::flash})
        for (std::size_t r = 0; r < device_->regions.size(); ++r)
            if (const chip::MemoryRegion& region = device_->regions[r]; region.kind == kind && region.size > 0) {
                const QString name = QString::fromStdString(region.name);
                choice_->addItem(name.left(1).toUpper() + name.mid(1), static_cast<qulonglong>(r));
            }
    showRegion(choice_->itemData(0).toULongLong());
    if (!wanted_.isEmpty())
        go(std::exchange(wanted_, QString()));
}

void MemoryPane::showRegion(std::size_t region)
{
    if (device_ == nullptr || region >= device_->regions.size())
        return;
    const chip::MemoryRegion& r = device_->regions[region];
    // In RAM that begins with registers, what lies behind them.
    const bool behind = r.kind == chip::RegionKind::ram && device_->ramBegin >= r.begin && device_->ramBegin < r.begin + r.size;
    sheet_->setView(region, behind ? device_->ramBegin : r.begin);
}

// An address, "sp", or bytes to be found behind the present view: "text" or hexadecimal pairs with spaces.
void MemoryPane::go(const QString& text)
{
    if (device_ == nullptr) {
        wanted_ = text;
        return;
    }
    const auto to = [this](std::uint64_t address) {
        // Where regions share one space, an address says which of them; else it is of the one that is shown.
        std::size_t region = sheet_->region();
        if (region < device_->regions.size())
            for (std::size_t r = 0; r < device_->regions.size(); ++r)
                if (const chip::MemoryRegion& m = device_->regions[r]; m.space == device_->regions[region].space && address >= m.begin && address < m.begin + m.size)
                    region = r;
        if (const QSignalBlocker quiet(choice_); true)
            choice_->setCurrentIndex(choice_->findData(static_cast<qulonglong>(region)));
        sheet_->setView(region, address);
    };
    if (text.compare("sp", Qt::CaseInsensitive) == 0) {
        for (std::size_t r = 0; r < device_->regions.size(); ++r)
            if (device_->regions[r].kind == chip::RegionKind::ram && device_->regions[r].space == device_->dataSpace) {
                sheet_->setView(r, debug_.registers.sp);
                break;
            }
        return to(debug_.registers.sp);
    }
    bool isNumber = false;
    const std::uint64_t address = text.toULongLong(&isNumber, text.startsWith("0x") ? 0 : 16);
    if (isNumber)
        return to(address);
    QByteArray wanted = text.startsWith('"') ? text.mid(1, text.size() - (text.endsWith('"') && text.size() > 1 ? 2 : 1)).toUtf8() : QByteArray::fromHex(text.toLatin1());
    if (wanted.isEmpty())
        return;
    const QByteArray all = sheet_->contents();
    qsizetype found = all.indexOf(wanted, static_cast<qsizetype>(sheet_->from() - std::min(sheet_->from(), sheet_->begin())) + kColumns);
    if (found < 0)
        found = all.indexOf(wanted);
    if (found >= 0)
        sheet_->setView(sheet_->region(), sheet_->begin() + static_cast<std::uint64_t>(found));
    else
        emit editor_.message(tr("%1 is not found in this memory").arg(text), false);
}

}  // namespace bramix::app
