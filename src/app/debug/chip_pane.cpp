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

constexpr int kLeft = 4, kNameWidth = 66, kBit = 20, kBitGap = 2, kRow = 40, kHead = 22, kCoreHeight = 176;
const QString kUsed = QStringLiteral("In use");
const QString kPins = QStringLiteral("Pins");


}  // namespace

ChipSheet::ChipSheet(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor) { setMouseTracking(true); }

QStringList ChipSheet::groups() const
{
    QStringList out;
    for (const debug::RegisterGroup& g : groups_)
        out << QString::fromStdString(g.name);
    return out;
}

bool ChipSheet::inUse(const debug::RegisterGroup& group) const
{
    return group.name != "Core and clock" && std::any_of(group.registers.begin(), group.registers.end(), [&](const auto* r) {
               // What comes up other than zero by itself tells nothing.
               const bool own = r->name.starts_with("PIN") || r->name.starts_with("UCSR") || r->name == "TWSR" || r->name == "TWDR" || r->name == "TWBR" || r->name == "TWAR" || r->name == "ACSR";
               return !own && r->address < debug_.io.size() && debug_.io[r->address] != 0;
           });
}

void ChipSheet::refresh(const session::DebugPicture& debug)
{
    const bool other = debug.device != debug_.device;
    debug_ = debug;
    if (other) {
        groups_ = debug.device == nullptr ? std::vector<debug::RegisterGroup>() : debug::registerGroups(*debug.device);
    }
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
    int y = shown_.isEmpty() ? kCoreHeight : 4;
    for (const debug::RegisterGroup& g : groups_) {
        const QString name = QString::fromStdString(g.name);
        if (shown_.isEmpty() ? !inUse(g) : shown_ != name)
            continue;
        heads_.emplace_back(name, y);
        y += kHead;
        for (const auto* r : g.registers) {
            rows_.push_back({r, y});
            y += kRow;
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
        if (QString::fromUtf8(row.reg->name.data(), static_cast<int>(row.reg->name.size())) == reg)
            return {kLeft + kNameWidth + (7 - bit) * (kBit + kBitGap), row.top, kBit, 18};
    return {};
}

void ChipSheet::paintEvent(QPaintEvent* event)
{
    QPainter p(this);
    p.fillRect(rect(), theme::card());
    p.setRenderHint(QPainter::Antialiasing);
    if (debug_.device == nullptr)
        return;
    const auto text = [&](int x, int y, const QString& s, const QFont& font, const QColor& color) {
        p.setFont(font);
        p.setPen(color);
        p.drawText(x, y, s);
    };
    if (shown_.isEmpty()) {
        // The core: flags, pointers, and 32 registers in four rows.
        const debug::Registers& r = debug_.registers;
        text(kLeft, 14, tr("Core"), theme::words(8.2, QFont::DemiBold), theme::muted());
        text(kLeft, 32, QString("pc %1").arg(r.pc, 4, 16, QChar('0')), theme::figures(8.8), theme::ink());
        text(kLeft + 66, 32, QString("sp %1").arg(r.sp, 4, 16, QChar('0')), theme::figures(8.8), theme::ink());
        const std::string& flags = debug_.device->coreRegisters[*debug_.device->registerOf(chip::CoreRole::status)].flags;
        const std::uint8_t before = debug_.ioBefore.size() > 0x5F ? debug_.ioBefore[0x5F] : r.sreg;
        for (int bit = 7; bit >= 0; --bit) {
            const bool on = ((r.sreg >> bit) & 1) != 0;
            const bool changed = (((r.sreg ^ before) >> bit) & 1) != 0;
            const QRect box(kLeft + 132 + (7 - bit) * 14, 20, 13, 16);
            p.setPen(changed ? QPen(theme::bramble(), 1.4) : QPen(theme::rule()));
            p.setBrush(on ? theme::ink() : theme::card());
            p.drawRoundedRect(box, 2, 2);
            p.setFont(theme::figures(7.6));
            p.setPen(on ? theme::card() : theme::muted());
            p.drawText(box, Qt::AlignCenter, QString(flags[static_cast<std::size_t>(7 - bit)]));
        }
        const std::set<std::uint8_t> changed(debug_.changedRegisters.begin(), debug_.changedRegisters.end());
        for (int i = 0; i < 32; ++i) {
            const int x = kLeft + (i % 4) * 62, y = 44 + (i / 4) * 15;
            if (changed.contains(static_cast<std::uint8_t>(i)))
                p.fillRect(QRect(x - 2, y, 58, 15), theme::changed());
            text(x, y + 12, QString("r%1").arg(i), theme::figures(8), theme::muted());
            text(x + 28, y + 12, QString("%1").arg(r.r[static_cast<std::size_t>(i)], 2, 16, QChar('0')), theme::figures(8.6), changed.contains(static_cast<std::uint8_t>(i)) ? theme::bramble() : theme::ink());
        }
    }
    for (const auto& [name, y] : heads_)
        text(kLeft, y + 14, name, theme::words(8.6, QFont::DemiBold), theme::ink());
    const auto peek = [this](std::uint16_t a) { return a < debug_.io.size() ? debug_.io[a] : std::uint8_t{0}; };
    for (const Row& row : rows_) {
        if (row.top > event->rect().bottom() || row.top + kRow < event->rect().top())
            continue;
        const debug::RegisterText words = debug::describeRegister(*debug_.device, *row.reg, peek);
        const std::uint8_t value = peek(row.reg->address);
        const std::uint8_t before = row.reg->address < debug_.ioBefore.size() ? debug_.ioBefore[row.reg->address] : value;
        text(kLeft, row.top + 13, QString::fromUtf8(row.reg->name.data(), static_cast<int>(row.reg->name.size())), theme::figures(8.8, QFont::Medium), value != before ? theme::bramble() : theme::ink());
        for (int bit = 7; bit >= 0; --bit) {
            const debug::BitText& b = words.bits[static_cast<std::size_t>(7 - bit)];
            const QRect box(kLeft + kNameWidth + (7 - bit) * (kBit + kBitGap), row.top, kBit, 18);
            if (b.name.empty()) {
                p.setPen(QPen(theme::rule(), 1.2));
                p.drawLine(box.center() + QPoint(-4, 0), box.center() + QPoint(4, 0));
                continue;
            }
            const bool changed = (((value ^ before) >> bit) & 1) != 0;
            p.setPen(changed ? QPen(theme::bramble(), 1.8) : QPen(theme::rule()));
            p.setBrush(b.value ? theme::ink() : theme::card());
            p.drawRoundedRect(box, 3, 3);
            p.setFont(theme::figures(8.4));
            p.setPen(b.value ? theme::card() : theme::muted());
            p.drawText(box, Qt::AlignCenter, b.value ? "1" : "0");
        }
        QString meaning = QString("%1  %2").arg(value, 2, 16, QChar('0')).arg(QString::fromStdString(words.meaning));
        p.setFont(theme::words(7.8));
        meaning = p.fontMetrics().elidedText(meaning, Qt::ElideRight, width() - kLeft - 6);
        text(kLeft, row.top + 31, meaning, theme::words(7.8), theme::muted());
    }
}

void ChipSheet::mousePressEvent(QMouseEvent* event)
{
    for (const Row& row : rows_)
        for (int bit = 0; bit < 8; ++bit) {
            const QRect box(kLeft + kNameWidth + (7 - bit) * (kBit + kBitGap), row.top, kBit, 18);
            if (box.contains(event->position().toPoint()) && row.reg->address < debug_.io.size()) {
                editor_.session().poke(debug::Space::data, row.reg->address, static_cast<std::uint8_t>(debug_.io[row.reg->address] ^ (1U << bit)));
                return;
            }
        }
    QWidget::mousePressEvent(event);
}

bool ChipSheet::event(QEvent* event)
{
    if (event->type() == QEvent::ToolTip && debug_.device != nullptr) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const auto peek = [this](std::uint16_t a) { return a < debug_.io.size() ? debug_.io[a] : std::uint8_t{0}; };
        for (const Row& row : rows_) {
            if (help->pos().y() < row.top || help->pos().y() >= row.top + kRow)
                continue;
            const debug::RegisterText words = debug::describeRegister(*debug_.device, *row.reg, peek);
            QString tip = QString("%1 at 0x%2").arg(QString::fromUtf8(row.reg->name.data(), static_cast<int>(row.reg->name.size()))).arg(row.reg->address, 2, 16, QChar('0'));
            for (std::size_t i = 0; i < words.bits.size(); ++i)
                if (!words.bits[i].name.empty() && !row.reg->bits.empty())
                    tip += QString("\n%1  %2 %3  %4").arg(7 - static_cast<int>(i)).arg(QString::fromStdString(words.bits[i].name), words.bits[i].value ? "1" : "0", QString::fromStdString(words.bits[i].meaning));
            QToolTip::showText(help->globalPos(), tip, this);
            return true;
        }
        QToolTip::hideText();
    }
    return QWidget::event(event);
}

void ChipPane::refreshPins(const std::vector<debug::PinRow>& pins)
{
    while (pins_->topLevelItemCount() > static_cast<int>(pins.size()))
        delete pins_->takeTopLevelItem(pins_->topLevelItemCount() - 1);
    while (pins_->topLevelItemCount() < static_cast<int>(pins.size())) {
        auto* item = new QTreeWidgetItem(pins_);
        for (int c = 0; c < 5; ++c)
            item->setFont(c, theme::figures(8.4));
    }
    for (std::size_t i = 0; i < pins.size(); ++i) {
        const debug::PinRow& pin = pins[i];
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
    if (debug.device != device_) {
        device_ = debug.device;
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
