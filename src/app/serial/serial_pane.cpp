#include "app/serial/serial_pane.h"

#include <algorithm>
#include <cctype>

#include <QApplication>
#include <QClipboard>
#include <QElapsedTimer>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>

#include "app/shell/theme.h"
#include "kernel/time.h"

namespace bramix::app {

using session::SerialLine;

namespace {

constexpr std::size_t kHexColumns = 16;
constexpr int kScanMs = 6;         // at a time, so that the window stays fluid
constexpr int kStampColumns = 15;  // twelve figures, and room for the sign of what was sent
const QColor kReceived = theme::kTapeText;
const QColor kSent(0xE0, 0x8A, 0xB0);
const QColor kBroken(0xE2, 0x8A, 0x6E);
const QColor kStamp(0x8A, 0x7E, 0x92);
const QColor kSelection(0x5C, 0x2A, 0x48);
const QColor kFound(0x6B, 0x53, 0x1E);

// A terminal's sixteen colours, as they read on the dark ground: plain, then bright.
const QColor kInks[16] = {{0x7A, 0x70, 0x82}, {0xE0, 0x7A, 0x66}, {0x93, 0xC0, 0x7C}, {0xD9, 0xB0, 0x55}, {0x77, 0xA9, 0xDA}, {0xC3, 0x96, 0xE0}, {0x7F, 0xC4, 0xC0}, {0xD9, 0xCF, 0xC2},
                          {0x9A, 0x90, 0xA2}, {0xF4, 0x9A, 0x86}, {0xB4, 0xDC, 0x9E}, {0xF2, 0xD0, 0x80}, {0x9C, 0xC8, 0xF2}, {0xDC, 0xB8, 0xF4}, {0xA4, 0xE0, 0xDC}, {0xFF, 0xFF, 0xFF}};

QColor inkOf(session::Ink ink, bool sent)
{
    const session::Ink plain = ink & 31;
    return plain == session::kBroken ? kBroken : plain >= 1 && plain <= 16 ? kInks[plain - 1] : sent ? kSent : kReceived;
}

// Control characters as their pictures, all else as UTF-8 where it is that.
QString readable(std::string_view bytes)
{
    QString out = QString::fromUtf8(bytes.data(), static_cast<qsizetype>(bytes.size()));
    for (QChar& c : out)
        if (c.unicode() < 32)
            c = QChar(0x2400 + c.unicode());
        else if (c.unicode() == 127)
            c = QChar(0x2421);
    return out;
}

bool holds(std::string_view text, const QByteArray& words)
{
    const auto same = [](char a, char b) { return std::tolower(static_cast<unsigned char>(a)) == b; };
    return std::search(text.begin(), text.end(), words.begin(), words.end(), same) != text.end();
}

}  // namespace

SerialPane::SerialPane(QWidget* parent) : QAbstractScrollArea(parent)
{
    setObjectName("serialText");
    setAccessibleName(tr("Serial text"));
    setFont(theme::figures(9));
    setFrameShape(QFrame::NoFrame);
    setFocusPolicy(Qt::ClickFocus);
    viewport()->setCursor(Qt::IBeamCursor);
    viewport()->setMouseTracking(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAsNeeded);
    scanning_.setInterval(0);
    connect(&scanning_, &QTimer::timeout, this, [this] {
        scan();
        updateBars();
        viewport()->update();
    });
    connect(verticalScrollBar(), &QScrollBar::valueChanged, this, [this](int value) { atEnd_ = value >= verticalScrollBar()->maximum(); });
}

int SerialPane::rowHeight() const { return fontMetrics().height() + 2; }
int SerialPane::left() const { return 12 - horizontalScrollBar()->value() + (stamps_ ? kStampColumns * fontMetrics().horizontalAdvance('0') : 0); }

void SerialPane::setText(const session::SerialText* text)
{
    text_ = text;
    shown_.clear();
    shownPage_.clear();
    scanned_ = 0;
    generation_ = text == nullptr ? 0 : text->generation();
    pausedEnd_ = text == nullptr ? 0 : text->end();
    anchor_.reset();
    cursor_.reset();
    longest_ = 0;
    atEnd_ = true;
    refresh();
}

bool SerialPane::passes(std::uint64_t line) const { return (echo_ || !text_->sent(line)) && (filter_.isEmpty() || holds(text_->text(line), filter_)); }

// Looks at lines that have not been looked at, for as long as it may.
void SerialPane::scan()
{
    if (text_ == nullptr || !filters()) {
        scanning_.stop();
        return;
    }
    QElapsedTimer since;
    since.start();
    scanned_ = std::max(scanned_, text_->first());
    const std::uint64_t end = text_->pageBegin();
    for (int i = 0; scanned_ < end; ++scanned_, ++i) {
        if ((i & 1023) == 1023 && since.elapsed() >= kScanMs)
            break;
        if (passes(scanned_))
            shown_.push_back(scanned_);
    }
    scanned_ < end ? scanning_.start() : scanning_.stop();
}

void SerialPane::refresh()
{
    if (text_ != nullptr && text_->generation() != generation_) {
        generation_ = text_->generation();
        shown_.clear();
        scanned_ = 0;
        anchor_.reset();
        cursor_.reset();
        pausedEnd_ = std::min(pausedEnd_, text_->end());
    }
    if (paused_)
        return;
    if (text_ != nullptr) {
        pausedEnd_ = text_->end();
        // What has been forgotten at the top moves the rest up.
        if (text_->first() > firstSeen_) {
            if (!atEnd_ && !filters())
                verticalScrollBar()->setValue(verticalScrollBar()->value() - static_cast<int>(std::min<std::uint64_t>(text_->first() - firstSeen_, INT_MAX)));
            shown_.erase(shown_.begin(), std::lower_bound(shown_.begin(), shown_.end(), text_->first()));
            firstSeen_ = text_->first();
        } else {
            firstSeen_ = text_->first();
        }
        if (filters()) {
            scan();
            shownPage_.clear();
            for (std::uint64_t line = text_->pageBegin(); line < text_->end(); ++line)
                if (passes(line))
                    shownPage_.push_back(line);
        }
    }
    updateBars();
    viewport()->update();
}

std::size_t SerialPane::rows() const
{
    if (text_ == nullptr)
        return 0;
    if (hex_)
        return static_cast<std::size_t>((text_->endByte() + kHexColumns - 1) / kHexColumns - text_->firstByte() / kHexColumns);
    if (filters())
        return shown_.size() + shownPage_.size();
    return static_cast<std::size_t>(std::min(pausedEnd_, text_->end()) - text_->first());
}

std::uint64_t SerialPane::lineOf(std::size_t row) const
{
    if (!filters())
        return text_->first() + row;
    return row < shown_.size() ? shown_[row] : shownPage_[row - shown_.size()];
}

std::optional<std::size_t> SerialPane::rowOf(std::uint64_t line) const
{
    if (!filters())
        return line >= text_->first() && line < text_->end() ? std::optional(static_cast<std::size_t>(line - text_->first())) : std::nullopt;
    if (const auto found = std::lower_bound(shown_.begin(), shown_.end(), line); found != shown_.end() && *found == line)
        return static_cast<std::size_t>(found - shown_.begin());
    const auto onPage = std::find(shownPage_.begin(), shownPage_.end(), line);
    return onPage == shownPage_.end() ? std::nullopt : std::optional(shown_.size() + static_cast<std::size_t>(onPage - shownPage_.begin()));
}

void SerialPane::updateBars()
{
    const int seen = std::max(1, viewport()->height() / rowHeight());
    QScrollBar* bar = verticalScrollBar();
    const bool follow = atEnd_;
    bar->setPageStep(seen);
    bar->setRange(0, std::max(0, static_cast<int>(std::min<std::size_t>(rows(), INT_MAX / 2)) - seen));
    if (follow && !paused_)
        bar->setValue(bar->maximum());
    atEnd_ = bar->value() >= bar->maximum();
    const int width = fontMetrics().horizontalAdvance('0') * (longest_ + 2) + (stamps_ ? kStampColumns * fontMetrics().horizontalAdvance('0') : 0) + 24;
    horizontalScrollBar()->setPageStep(viewport()->width());
    horizontalScrollBar()->setRange(0, std::max(0, width - viewport()->width()));
}

QString SerialPane::stampOf(kernel::Time at) const { return QString::number(kernel::seconds(at), 'f', 6).rightJustified(12); }

void SerialPane::paintEvent(QPaintEvent*)
{
    QPainter painter(viewport());
    painter.fillRect(viewport()->rect(), theme::kTapeGround);
    if (text_ == nullptr)
        return;
    const auto top = static_cast<std::size_t>(verticalScrollBar()->value());
    const std::size_t total = rows();
    int longest = longest_;
    for (int y = 2; y < viewport()->height(); y += rowHeight()) {
        const std::size_t row = top + static_cast<std::size_t>((y - 2) / rowHeight());
        if (row >= total)
            break;
        if (hex_) {
            drawHexRow(painter, row, y);
        } else {
            const std::uint64_t line = lineOf(row);
            longest = std::max(longest, static_cast<int>(text_->text(line).size()));
            drawLine(painter, line, y);
        }
    }
    if (longest > longest_) {
        longest_ = longest;
        QMetaObject::invokeMethod(this, [this] { updateBars(); }, Qt::QueuedConnection);
    }
    if (total == 0) {
        painter.setFont(theme::words(9));
        painter.setPen(theme::kTapeMuted);
        painter.drawText(viewport()->rect(), Qt::AlignCenter, !filter_.isEmpty() ? tr("No line with this in it") : tr("Nothing has come yet"));
    }
}

void SerialPane::drawLine(QPainter& painter, std::uint64_t number, int y)
{
    const SerialLine line = text_->line(number);
    const int height = rowHeight();
    const int base = y + fontMetrics().ascent() + 1;
    const int digit = fontMetrics().horizontalAdvance('0');
    if (anchor_ && cursor_) {
        const auto [from, to] = std::minmax(*anchor_, *cursor_);
        if (number >= from.line && number <= to.line && from != to) {
            const int begin = number == from.line ? from.column : 0;
            const int end = number == to.line ? to.column : static_cast<int>(line.text.size()) + 1;
            painter.fillRect(QRect(left() + begin * digit, y, std::max(0, end - begin) * digit, height), kSelection);
        }
    }
    if (!sought_.isEmpty()) {
        const auto same = [](char a, char b) { return std::tolower(static_cast<unsigned char>(a)) == b; };
        for (auto at = line.text.begin();;) {
            at = std::search(at, line.text.end(), sought_.begin(), sought_.end(), same);
            if (at == line.text.end())
                break;
            painter.fillRect(QRect(left() + static_cast<int>(at - line.text.begin()) * digit, y, static_cast<int>(sought_.size()) * digit, height), kFound);
            ++at;
        }
    }
    painter.setFont(font());
    int x = left();
    if (line.sent) {
        painter.setPen(kSent);
        painter.drawText(x - 2 * digit, base, QStringLiteral("›"));
    }
    const auto write = [&](std::size_t from, std::size_t to, session::Ink ink) {
        if (to <= from)
            return;
        QFont f = font();
        f.setBold((ink & session::kBold) != 0);
        painter.setFont(f);
        painter.setPen(inkOf(ink, line.sent));
        const QString part = readable(std::string_view(line.text).substr(from, to - from));
        painter.drawText(x, base, part);
        x += digit * static_cast<int>(part.size());
    };
    std::size_t at = 0;
    session::Ink ink = 0;
    for (const session::InkRun& run : line.inks) {
        write(at, run.from, ink);
        at = run.from;
        ink = run.ink;
    }
    write(at, line.text.size(), ink);
    if (stamps_) {
        painter.fillRect(QRect(0, y, 12 + (kStampColumns - 3) * digit, height), theme::kTapeGround);
        painter.setFont(font());
        painter.setPen(kStamp);
        painter.drawText(12, base, stampOf(line.at));
    }
}

void SerialPane::drawHexRow(QPainter& painter, std::size_t row, int y)
{
    const int base = y + fontMetrics().ascent() + 1;
    const int digit = fontMetrics().horizontalAdvance('0');
    const std::uint64_t first = (text_->firstByte() / kHexColumns + row) * kHexColumns;
    painter.setFont(font());
    bool stamped = false;
    for (std::size_t i = 0; i < kHexColumns; ++i) {
        const std::uint64_t number = first + i;
        if (number < text_->firstByte() || number >= text_->endByte())
            continue;
        const session::SerialByte& b = text_->byte(number);
        if (!stamped) {
            stamped = true;
            painter.setPen(kStamp);
            if (stamps_)
                painter.drawText(12, base, stampOf(b.at));
            painter.drawText(left(), base, QString("%1").arg(first, 8, 16, QChar('0')).toUpper());
        }
        painter.setPen(!b.good ? kBroken : b.fromChip ? kReceived : kSent);
        painter.drawText(left() + (10 + static_cast<int>(i) * 3 + (i >= 8 ? 1 : 0)) * digit, base, QString("%1").arg(b.byte, 2, 16, QChar('0')).toUpper());
        painter.drawText(left() + (10 + 16 * 3 + 3 + static_cast<int>(i)) * digit, base, b.byte >= 32 && b.byte < 127 ? QString(QChar(b.byte)) : QStringLiteral("·"));
    }
}

void SerialPane::setHex(bool hex)
{
    hex_ = hex;
    anchor_.reset();
    cursor_.reset();
    refresh();
}
void SerialPane::setStamps(bool stamps)
{
    stamps_ = stamps;
    refresh();
}
void SerialPane::setEcho(bool echo)
{
    echo_ = echo;
    setText(text_);
}
void SerialPane::setPaused(bool paused)
{
    paused_ = paused;
    if (!paused)
        atEnd_ = true;
    refresh();
}
void SerialPane::setFilter(const QString& words)
{
    filter_ = words.toLower().toUtf8();
    setText(text_);
}
void SerialPane::setSought(const QString& words)
{
    sought_ = words.toLower().toUtf8();
    viewport()->update();
}

void SerialPane::reveal(std::uint64_t line)
{
    if (const auto row = rowOf(line)) {
        const int seen = std::max(1, viewport()->height() / rowHeight());
        verticalScrollBar()->setValue(static_cast<int>(*row) - seen / 2);
    }
    viewport()->update();
}

bool SerialPane::find(bool forward)
{
    const std::size_t total = text_ == nullptr || hex_ ? 0 : rows();
    if (total == 0 || sought_.isEmpty())
        return false;
    const auto here = cursor_ ? rowOf(cursor_->line) : std::nullopt;
    std::size_t row = here.value_or(forward ? total - 1 : 0);
    for (std::size_t i = 0; i < total; ++i) {
        row = forward ? (row + 1) % total : (row + total - 1) % total;
        const std::string_view text = text_->text(lineOf(row));
        const auto same = [](char a, char b) { return std::tolower(static_cast<unsigned char>(a)) == b; };
        const auto at = std::search(text.begin(), text.end(), sought_.begin(), sought_.end(), same);
        if (at == text.end())
            continue;
        const int column = static_cast<int>(at - text.begin());
        anchor_ = Spot{lineOf(row), column};
        cursor_ = Spot{lineOf(row), column + static_cast<int>(sought_.size())};
        reveal(lineOf(row));
        return true;
    }
    return false;
}

std::vector<std::uint64_t> SerialPane::visibleLines() const
{
    std::vector<std::uint64_t> out;
    const auto top = static_cast<std::size_t>(verticalScrollBar()->value());
    for (std::size_t i = 0; i < static_cast<std::size_t>(viewport()->height() / rowHeight()) && top + i < rows(); ++i)
        out.push_back(lineOf(top + i));
    return out;
}

QRect SerialPane::stampRect(std::size_t visibleRow) const { return {12, 2 + static_cast<int>(visibleRow) * rowHeight(), (kStampColumns - 3) * fontMetrics().horizontalAdvance('0'), rowHeight()}; }

SerialPane::Spot SerialPane::spotAt(QPoint at) const
{
    const std::size_t total = rows();
    if (total == 0)
        return {};
    const auto row = std::min(total - 1, static_cast<std::size_t>(std::max(0, verticalScrollBar()->value() + (at.y() - 2) / rowHeight())));
    const std::uint64_t line = lineOf(row);
    const int digit = fontMetrics().horizontalAdvance('0');
    return {line, std::clamp((at.x() - left() + digit / 2) / digit, 0, static_cast<int>(text_->text(line).size()))};
}

void SerialPane::mousePressEvent(QMouseEvent* event)
{
    if (text_ == nullptr || hex_ || event->button() != Qt::LeftButton || rows() == 0)
        return;
    const QPoint at = event->position().toPoint();
    if (stamps_ && at.x() < 12 + (kStampColumns - 3) * fontMetrics().horizontalAdvance('0')) {
        const std::size_t row = static_cast<std::size_t>(verticalScrollBar()->value()) + static_cast<std::size_t>(std::max(0, (at.y() - 2) / rowHeight()));
        if (row < rows()) {
            const SerialLine line = text_->line(lineOf(row));
            emit placeWanted(line.at, line.code, (event->modifiers() & Qt::ControlModifier) != 0);
        }
        return;
    }
    const Spot spot = spotAt(at);
    if ((event->modifiers() & Qt::ShiftModifier) == 0 || !anchor_)
        anchor_ = spot;
    cursor_ = spot;
    selecting_ = true;
    viewport()->update();
}

void SerialPane::mouseMoveEvent(QMouseEvent* event)
{
    const bool overStamp = stamps_ && !hex_ && event->position().x() < 12 + (kStampColumns - 3) * fontMetrics().horizontalAdvance('0');
    viewport()->setCursor(overStamp ? Qt::PointingHandCursor : Qt::IBeamCursor);
    viewport()->setToolTip(overStamp ? tr("To its place on the tape; with Ctrl, to the code that sent it") : QString());
    if (!selecting_ || rows() == 0)
        return;
    if (event->position().y() < 0)
        verticalScrollBar()->setValue(verticalScrollBar()->value() - 1);
    else if (event->position().y() > viewport()->height())
        verticalScrollBar()->setValue(verticalScrollBar()->value() + 1);
    cursor_ = spotAt(event->position().toPoint());
    viewport()->update();
}

void SerialPane::mouseReleaseEvent(QMouseEvent*) { selecting_ = false; }

void SerialPane::mouseDoubleClickEvent(QMouseEvent* event)
{
    if (text_ == nullptr || hex_ || rows() == 0)
        return;
    const Spot spot = spotAt(event->position().toPoint());
    const std::string_view text = text_->text(spot.line);
    const auto isWord = [&](int i) { return i >= 0 && i < static_cast<int>(text.size()) && text[static_cast<std::size_t>(i)] != ' '; };
    int from = spot.column, to = spot.column;
    while (isWord(from - 1))
        --from;
    while (isWord(to))
        ++to;
    anchor_ = Spot{spot.line, from};
    cursor_ = Spot{spot.line, to};
    viewport()->update();
}

QString SerialPane::selected() const
{
    if (!anchor_ || !cursor_ || text_ == nullptr || *anchor_ == *cursor_)
        return {};
    const auto [from, to] = std::minmax(*anchor_, *cursor_);
    const auto first = rowOf(from.line), last = rowOf(to.line);
    if (!first || !last)
        return {};
    QString out;
    for (std::size_t row = *first; row <= *last; ++row) {
        const std::uint64_t line = lineOf(row);
        std::string_view text = text_->text(line);
        if (line == to.line)
            text = text.substr(0, static_cast<std::size_t>(to.column));
        if (line == from.line)
            text.remove_prefix(std::min(text.size(), static_cast<std::size_t>(from.column)));
        out += (row == *first ? "" : "\n") + QString::fromUtf8(text.data(), static_cast<qsizetype>(text.size()));
    }
    return out;
}

QString SerialPane::allText(bool stamps) const
{
    QString out;
    for (std::size_t row = 0; text_ != nullptr && row < (hex_ ? 0 : rows()); ++row) {
        const std::string_view text = text_->text(lineOf(row));
        out += (stamps ? stampOf(text_->at(lineOf(row))) + "  " : QString()) + QString::fromUtf8(text.data(), static_cast<qsizetype>(text.size())) + "\n";
    }
    return out;
}

void SerialPane::selectAll()
{
    if (rows() == 0 || hex_)
        return;
    anchor_ = Spot{lineOf(0), 0};
    cursor_ = Spot{lineOf(rows() - 1), static_cast<int>(text_->text(lineOf(rows() - 1)).size())};
    viewport()->update();
}

void SerialPane::copy() const
{
    if (const QString text = selected(); !text.isEmpty())
        QApplication::clipboard()->setText(text);
}

void SerialPane::contextMenuEvent(QContextMenuEvent* event)
{
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction(tr("Copy"), this, [this] { copy(); })->setEnabled(!selected().isEmpty());
    menu->addAction(tr("Select all"), this, [this] { selectAll(); });
    if (text_ != nullptr && !hex_ && rows() > 0) {
        const SerialLine line = text_->line(spotAt(event->pos()).line);
        menu->addSeparator();
        menu->addAction(tr("Show on the tape"), this, [this, line] { emit placeWanted(line.at, line.code, false); });
        menu->addAction(tr("Show the code that sent it"), this, [this, line] { emit placeWanted(line.at, line.code, true); })->setEnabled(line.code != UINT32_MAX);
    }
    menu->popup(event->globalPos());
}

void SerialPane::keyPressEvent(QKeyEvent* event)
{
    if (event->matches(QKeySequence::Copy))
        copy();
    else if (event->matches(QKeySequence::SelectAll))
        selectAll();
    else if (event->key() == Qt::Key_Home && (event->modifiers() & Qt::ControlModifier) != 0)
        verticalScrollBar()->setValue(0);
    else if (event->key() == Qt::Key_End)
        verticalScrollBar()->setValue(verticalScrollBar()->maximum());
    else
        QAbstractScrollArea::keyPressEvent(event);
}

void SerialPane::resizeEvent(QResizeEvent*) { updateBars(); }

// Copying means this text while it has the focus, not parts of the bench.
bool SerialPane::event(QEvent* event)
{
    if (event->type() == QEvent::ShortcutOverride) {
        const auto* key = static_cast<QKeyEvent*>(event);
        if (key->matches(QKeySequence::Copy) || key->matches(QKeySequence::SelectAll)) {
            event->accept();
            return true;
        }
    }
    return QAbstractScrollArea::event(event);
}

}  // namespace bramix::app
