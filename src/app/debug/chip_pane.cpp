#include "app/debug/chip_pane.h"

#include <QHeaderView>
#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <QVBoxLayout>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr int kLeft = 4, kNameWidth = 66, kBit = 20, kBitGap = 2, kRow = 40, kHead = 22, kBitRow = 20, kBitsInRow = 8, kCoreTop = 44, kCoreRow = 15;
const QString kUsed = QStringLiteral("In use");
const QString kPins = QStringLiteral("Pins");

// Where a bit is drawn: eight in a row, the highest first.
QRect boxOf(unsigned bits, int top, int bit)
{
    const int column = kBitsInRow - 1 - bit % kBitsInRow, row = (static_cast<int>(bits) - 1 - bit) / kBitsInRow;
    return {kLeft + kNameWidth + column * (kBit + kBitGap), top + row * kBitRow, kBit, 18};
}

int heightOf(const chip::PeripheralRegister& reg) { return kRow + (static_cast<int>(reg.bits) / kBitsInRow - 1) * kBitRow; }

}  // namespace

ChipSheet::ChipSheet(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor) { setMouseTracking(true); }

const std::vector<chip::PeripheralGroup>& ChipSheet::all() const
{
    static const std::vector<chip::PeripheralGroup> kNone;
    const chip::RegisterMap* map = debug_.registerMap();
    return map == nullptr ? kNone : map->peripherals;
}

QStringList ChipSheet::groups() const
{
    QStringList out;
    for (const chip::PeripheralGroup& g : all())
        out << QString::fromStdString(g.name);
    return out;
}

bool ChipSheet::inUse(const chip::PeripheralGroup& group) const
{
    return group.name != "Core and clock" && std::any_of(group.registers.begin(), group.registers.end(), [&](const chip::PeripheralRegister& r) {
               // What comes up so by itself tells nothing.
               const auto peek = [this](std::uint64_t a) { return debug_.io[a]; };
               return debug_.io.at(r.address) && ((debug::describeByFields(r, peek).value ^ r.reset) & r.resetMask) != 0;
           });
}

void ChipSheet::refresh(const session::DebugPicture& debug)
{
    debug_ = debug;
    lay();
    update();
}

void ChipSheet::showGroup(const QString& name)
{
    shown_ = name;
    lay();
    update();
}

void ChipSheet::lay()
{
    rows_.clear();
    heads_.clear();
    int y = shown_.isEmpty() ? coreHeight() : 4;
    for (const chip::PeripheralGroup& g : all()) {
        const QString name = QString::fromStdString(g.name);
        if (shown_.isEmpty() ? !inUse(g) : shown_ != name)
            continue;
        heads_.emplace_back(name, y);
        y += kHead;
        for (const chip::PeripheralRegister& r : g.registers) {
            rows_.push_back({&r, y});
            y += heightOf(r);
        }
        y += 4;
    }
    if (height_ != y) {
        height_ = y;
        setMinimumHeight(y);
        updateGeometry();
    }
}

QRect ChipSheet::bitRect(const QString& reg, int bit) const
{
    for (const Row& row : rows_)
        if (QString::fromStdString(row.reg->name) == reg)
            return boxOf(row.reg->bits, row.top, bit);
    return {};
}

namespace {

void write(QPainter& p, int x, int y, const QString& s, const QFont& font, const QColor& color)
{
    p.setFont(font);
    p.setPen(color);
    p.drawText(x, y, s);
}

// Registers of a core that are shown as numbers, and how many stand in a row.
std::vector<std::size_t> numbersOf(const chip::Device& device)
{
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < device.coreRegisters.size(); ++i)
        if (device.coreRegisters[i].role == chip::CoreRole::general || device.coreRegisters[i].role == chip::CoreRole::link)
            out.push_back(i);
    return out;
}

// Four columns of bytes, two of wider registers; the value stands right of the longest name.
struct CoreColumns {
    int count = 4, width = 62, value = 28;
};

CoreColumns columnsOf(const chip::Device& device)
{
    std::size_t longest = 0;
    unsigned bits = 0;
    for (const std::size_t i : numbersOf(device)) {
        longest = std::max(longest, device.coreRegisters[i].name.size());
        bits = std::max(bits, device.coreRegisters[i].bits);
    }
    CoreColumns out;
    out.value = std::max(28, static_cast<int>(longest) * 7 + 6);
    if (bits > 8 || out.value > 28)
        out.count = 2, out.width = 124;
    return out;
}

}  // namespace

int ChipSheet::coreHeight() const
{
    if (debug_.device == nullptr)
        return kCoreTop;
    const int count = static_cast<int>(numbersOf(*debug_.device).size()), columns = columnsOf(*debug_.device).count;
    return kCoreTop + (count + columns - 1) / columns * kCoreRow + 12;
}

// Flags, pointers, and the numbers in rows.
void ChipSheet::paintCore(QPainter& p) const
{
    const chip::Device& device = *debug_.device;
    const debug::Registers& r = debug_.registers;
    const int wide = device.pointerBytes > 2 ? 8 : 4;
    write(p, kLeft, 14, tr("Core"), theme::words(8.2, QFont::DemiBold), theme::muted());
    write(p, kLeft, 32, QString("pc %1").arg(r.pc, wide, 16, QChar('0')), theme::figures(8.8), theme::ink());
    if (device.registerOf(chip::CoreRole::stackPointer))
        write(p, kLeft + 66 + (wide - 4) * 7, 32, QString("sp %1").arg(r.sp, wide, 16, QChar('0')), theme::figures(8.8), theme::ink());
    if (const auto status = device.registerOf(chip::CoreRole::status)) {
        const chip::CoreRegister& reg = device.coreRegisters[*status];
        const std::uint64_t before = debug_.statusBefore.value_or(r.r[*status]);
        const int x = wide == 4 ? kLeft + 132 : kLeft + 66, y = wide == 4 ? 20 : 2;
        for (std::size_t i = 0; i < reg.flags.size(); ++i) {
            const unsigned bit = reg.bits - 1 - static_cast<unsigned>(i);
            const bool on = ((r.r[*status] >> bit) & 1) != 0;
            const bool changed = (((r.r[*status] ^ before) >> bit) & 1) != 0;
            const QRect box(x + static_cast<int>(i) * 14, y, 13, 16);
            p.setPen(changed ? QPen(theme::bramble(), 1.4) : QPen(theme::rule()));
            p.setBrush(on ? theme::ink() : theme::card());
            p.drawRoundedRect(box, 2, 2);
            p.setFont(theme::figures(7.6));
            p.setPen(on ? theme::card() : theme::muted());
            p.drawText(box, Qt::AlignCenter, QString(reg.flags[i]));
        }
    }
    const auto [columns, width, value] = columnsOf(device);
    int n = 0;
    for (const std::size_t i : numbersOf(device)) {
        const int x = kLeft + (n % columns) * width, y = kCoreTop + (n / columns) * kCoreRow;
        ++n;
        const bool changed = debug_.changedRegisters[i];
        if (changed)
            p.fillRect(QRect(x - 2, y, width - 4, kCoreRow), theme::changed());
        write(p, x, y + 12, QString::fromStdString(device.coreRegisters[i].name), theme::figures(8), theme::muted());
        write(p, x + value, y + 12, QString("%1").arg(r.r[i], static_cast<int>(device.coreRegisters[i].bytes()) * 2, 16, QChar('0')), theme::figures(8.6), changed ? theme::bramble() : theme::ink());
    }
}

void ChipSheet::paintEvent(QPaintEvent* event)
{
    QPainter p(this);
    p.fillRect(rect(), theme::card());
    p.setRenderHint(QPainter::Antialiasing);
    if (debug_.device == nullptr)
        return;
    const auto text = [&](int x, int y, const QString& s, const QFont& font, const QColor& color) { write(p, x, y, s, font, color); };
    if (shown_.isEmpty())
        paintCore(p);
    for (const auto& [name, y] : heads_)
        text(kLeft, y + 14, name, theme::words(8.6, QFont::DemiBold), theme::ink());
    const auto peek = [this](std::uint64_t a) { return debug_.io[a]; };
    const auto peekBefore = [this](std::uint64_t a) { return debug_.ioBefore.at(a).value_or(debug_.io[a]); };
    for (const Row& row : rows_) {
        if (row.top > event->rect().bottom() || row.top + heightOf(*row.reg) < event->rect().top())
            continue;
        const debug::RegisterText words = debug::describeRegister(*debug_.device, *row.reg, peek);
        const std::uint64_t before = debug::describeByFields(*row.reg, peekBefore).value;
        // A long name is written smaller, so that it ends before the bits.
        const QString name = QString::fromStdString(row.reg->name);
        QFont font = theme::figures(8.8, QFont::Medium);
        if (const int wide = QFontMetrics(font).horizontalAdvance(name); wide > kNameWidth - 4)
            font = theme::figures(std::max(8.8 * (kNameWidth - 4) / wide, 5.5), QFont::Medium);
        text(kLeft, row.top + 13, name, font, words.value != before ? theme::bramble() : theme::ink());
        for (int bit = static_cast<int>(row.reg->bits) - 1; bit >= 0; --bit) {
            const debug::BitText& b = words.bits[row.reg->bits - 1 - static_cast<unsigned>(bit)];
            const QRect box = boxOf(row.reg->bits, row.top, bit);
            if (b.name.empty()) {
                p.setPen(QPen(theme::rule(), 1.2));
                p.drawLine(box.center() + QPoint(-4, 0), box.center() + QPoint(4, 0));
                continue;
            }
            const bool changed = (((words.value ^ before) >> bit) & 1) != 0;
            p.setPen(changed ? QPen(theme::bramble(), 1.8) : QPen(theme::rule()));
            p.setBrush(b.value ? theme::ink() : theme::card());
            p.drawRoundedRect(box, 3, 3);
            p.setFont(theme::figures(8.4));
            p.setPen(b.value ? theme::card() : theme::muted());
            p.drawText(box, Qt::AlignCenter, b.value ? "1" : "0");
        }
        QString meaning = QString("%1  %2").arg(words.value, static_cast<int>(row.reg->bits) / 4, 16, QChar('0')).arg(QString::fromStdString(words.meaning));
        p.setFont(theme::words(7.8));
        meaning = p.fontMetrics().elidedText(meaning, Qt::ElideRight, width() - kLeft - 6);
        text(kLeft, row.top + heightOf(*row.reg) - 9, meaning, theme::words(7.8), theme::muted());
    }
}

void ChipSheet::mousePressEvent(QMouseEvent* event)
{
    for (const Row& row : rows_)
        for (int bit = 0; bit < static_cast<int>(row.reg->bits); ++bit) {
            const std::uint64_t address = row.reg->address + static_cast<unsigned>(bit) / 8;
            if (boxOf(row.reg->bits, row.top, bit).contains(event->position().toPoint()) && debug_.io.at(address)) {
                editor_.session().poke(debug::Space::data, static_cast<std::uint32_t>(address), static_cast<std::uint8_t>(debug_.io[address] ^ (1U << (bit % 8))));
                return;
            }
        }
    QWidget::mousePressEvent(event);
}

bool ChipSheet::event(QEvent* event)
{
    if (event->type() == QEvent::ToolTip && debug_.device != nullptr) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const auto peek = [this](std::uint64_t a) { return debug_.io[a]; };
        for (const Row& row : rows_) {
            if (help->pos().y() < row.top || help->pos().y() >= row.top + heightOf(*row.reg))
                continue;
            const debug::RegisterText words = debug::describeRegister(*debug_.device, *row.reg, peek);
            QString tip = QString("%1 at 0x%2").arg(QString::fromStdString(row.reg->name)).arg(row.reg->address, 2, 16, QChar('0'));
            for (std::size_t i = 0; i < words.bits.size(); ++i)
                if (!words.bits[i].name.empty() && !row.reg->fields.empty())
                    tip += QString("\n%1  %2 %3  %4").arg(static_cast<int>(words.bits.size() - 1 - i)).arg(QString::fromStdString(words.bits[i].name), words.bits[i].value ? "1" : "0", QString::fromStdString(words.bits[i].meaning));
            QToolTip::showText(help->globalPos(), tip, this);
            return true;
        }
        QToolTip::hideText();
    }
    return QWidget::event(event);
}

void ChipPane::refreshPins(const std::vector<chip::PinStatus>& pins)
{
    while (pins_->topLevelItemCount() > static_cast<int>(pins.size()))
        delete pins_->takeTopLevelItem(pins_->topLevelItemCount() - 1);
    while (pins_->topLevelItemCount() < static_cast<int>(pins.size())) {
        auto* item = new QTreeWidgetItem(pins_);
        for (int c = 0; c < 5; ++c)
            item->setFont(c, theme::figures(8.4));
    }
    for (std::size_t i = 0; i < pins.size(); ++i) {
        const chip::PinStatus& pin = pins[i];
        QTreeWidgetItem* item = pins_->topLevelItem(static_cast<int>(i));
        const QStringList cells{QString::fromStdString(pin.name), pin.output ? tr("out") : pin.pullUp ? tr("in, pull-up") : tr("in"), pin.latch ? "1" : "0",
                                !pin.digital ? tr("off") : pin.floats ? tr("floats") : pin.level ? "1" : "0", QString::fromStdString(pin.function)};
        for (int c = 0; c < 5; ++c) {
            if (item->text(c) == cells[c])
                continue;
            item->setForeground(c, item->text(c).isEmpty() ? theme::ink() : theme::bramble());  // changed since the picture before
            item->setText(c, cells[c]);
        }
    }
}

ChipPane::ChipPane(Editor& editor, QWidget* parent) : QWidget(parent)
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    choice_ = new QComboBox;
    choice_->setAccessibleName(tr("Which registers"));
    choice_->setFont(theme::words(8.6));
    choice_->setFocusPolicy(Qt::NoFocus);
    sheet_ = new ChipSheet(editor);
    scroll_ = new QScrollArea;
    scroll_->setWidget(sheet_);
    scroll_->setWidgetResizable(true);
    scroll_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    pins_ = new QTreeWidget;
    pins_->setObjectName("pinTable");
    pins_->setRootIsDecorated(false);
    pins_->setUniformRowHeights(true);
    pins_->setFocusPolicy(Qt::NoFocus);
    pins_->setHeaderLabels({tr("Pin"), tr("Direction"), tr("Latch"), tr("Reads"), tr("In use as")});
    for (int c = 0; c < 4; ++c)
        pins_->header()->setSectionResizeMode(c, QHeaderView::ResizeToContents);
    pins_->header()->setFont(theme::words(8.2, QFont::DemiBold));
    theme::dress(pins_->header(), "QHeaderView::section { background: @card; color: @muted; border: none; padding: 2px 8px 2px 4px; }");
    pins_->header()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    pins_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    pins_->hide();
    rows->addWidget(choice_);
    rows->addWidget(scroll_, 1);
    rows->addWidget(pins_, 1);
    connect(choice_, &QComboBox::currentTextChanged, this, [this](const QString& name) {
        scroll_->setVisible(name != kPins);
        pins_->setVisible(name == kPins);
        if (name != kPins)
            sheet_->showGroup(name == kUsed ? QString() : name);
    });
}

void ChipPane::refresh(const session::DebugPicture& debug)
{
    sheet_->refresh(debug);
    if (debug.registerMap() != map_) {
        map_ = debug.registerMap();
        choice_->clear();
        choice_->addItem(kUsed);
        choice_->addItem(kPins);
        choice_->addItems(sheet_->groups());
    }
    if (pins_->isVisible())
        refreshPins(debug.pins);
    if (!wanted_.isEmpty() && choice_->findText(wanted_) >= 0)
        choice_->setCurrentText(std::exchange(wanted_, QString()));
}

}  // namespace bramix::app
