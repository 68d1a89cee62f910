#include "app/tape/tape_view.h"

#include <cmath>

#include <QDragEnterEvent>
#include <QFileDialog>
#include <QMenu>
#include <QMimeData>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QSvgGenerator>
#include <fmt/format.h>

#include "app/shell/scale.h"
#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

using kernel::Duration;
using kernel::Time;

namespace {

constexpr double kLabels = 150;  // width of the lane names
constexpr double kRuler = 24;
constexpr double kTallestLane = 34;
constexpr double kLowestLane = 15;
constexpr double kPresentMargin = 26;  // room to the right of the present
constexpr Duration kShortest = std::chrono::nanoseconds(500);
constexpr Duration kLongest = std::chrono::minutes(30);
constexpr double kSnap = 7;
constexpr int kSearchWidth = 160;
constexpr double kWaveShare = 2;  // a voltage takes the room of so many lanes

const QColor kMark(0xE8, 0xA3, 0x2B);
const QColor kPresent(0xD0, 0x5C, 0x8C);

QString text(const std::string& s) { return QString::fromStdString(s); }
QString seconds(double s, int digits = 4) { return text(kernel::formatQuantity(s, kernel::Unit::second, digits)); }

}  // namespace

TapeView::TapeView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("tape");
    setMouseTracking(true);
    setMinimumHeight(110);
    setAttribute(Qt::WA_OpaquePaintEvent);
    setFocusPolicy(Qt::ClickFocus);
    setAcceptDrops(true);
    const auto field = [this](const char* name, const QString& hint) {
        auto* edit = new QLineEdit(this);
        edit->setObjectName(name);
        edit->setFont(theme::figures(8.2));
        edit->setPlaceholderText(hint);
        edit->setStyleSheet("QLineEdit { background: #2E2433; color: #EFE7DC; border: 1px solid #4A3E52; border-radius: 4px; padding: 0 6px; } QLineEdit:focus { border: 1px solid #C06A93; }");
        edit->installEventFilter(this);
        return edit;
    };
    search_ = field("tapeSearch", tr("find on the tape"));
    search_->setToolTip(tr("rise, fall, < 5us, high > 2ms (of the chosen lane); 48 65 6C or words on serial lines and buses; an interrupt's name; finding …\nEnter: the next, Shift+Enter: the one before"));
    naming_ = field("bookmarkName", tr("name of the bookmark, and Enter"));
    naming_->hide();
    connect(&editor_, &Editor::pictureChanged, this, [this] { update(); });
    connect(&editor_, &Editor::lanesChanged, this, &TapeView::request);
    connect(&editor_, &Editor::sessionRestarted, this, [this] {
        markA_.reset();
        markB_.reset();
        follow_ = true;
        request();
    });
    request();
}

// Lanes grow lower, down to what can be read, so that all are seen.
std::vector<TapeView::Row> TapeView::rows() const
{
    std::vector<Row> out;
    const session::Picture& picture = editor_.picture();
    for (std::size_t i = 0; i < editor_.lanes().size(); ++i)
        out.push_back({Row::Kind::pin, i, editor_.lanes()[i].text(), 0, 1});
    for (std::size_t i = 0; i < picture.reads.size(); ++i)
        out.push_back({Row::Kind::read, i, picture.reads[i].text, 0, picture.reads[i].text.starts_with("volts ") ? kWaveShare : 1});
    if (!picture.uarts.empty())
        out.push_back({Row::Kind::serial, 0, "serial", 0, 1});
    double shares = 0.2;  // a little air below
    for (const Row& r : out)
        shares += r.height;
    const double lane = std::clamp(std::floor((height() - kRuler) / shares), kLowestLane, kTallestLane);
    double top = kRuler;
    for (Row& r : out) {
        r.top = top;
        r.height *= lane;
        top += r.height;
    }
    return out;
}

std::optional<TapeView::Row> TapeView::rowAt(double y) const
{
    for (const Row& r : rows())
        if (y >= r.top && y < r.top + r.height)
            return r;
    return std::nullopt;
}

double TapeView::plotWidth() const { return std::max(50.0, width() - kLabels - kPresentMargin); }

void TapeView::request()
{
    session::TapeRequest r;
    r.lanes = editor_.lanes();
    r.reads = editor_.reads();
    r.follow = follow_;
    r.to = to_;
    r.from = to_ - span_;
    r.columns = static_cast<std::size_t>(plotWidth());
    if (markA_ && markB_)
        if (const auto pin = bench::parsePinRef(chosen_)) {
            r.measure = *pin;
            r.measureFrom = std::min(*markA_, *markB_);
            r.measureTo = std::max(*markA_, *markB_);
        }
    editor_.session().watchTape(r);
    update();
}

void TapeView::choose(const std::string& lane)
{
    chosen_ = lane;
    request();
}

void TapeView::setMarks(std::optional<Time> a, std::optional<Time> b)
{
    markA_ = a;
    markB_ = b;
    request();
}

void TapeView::goTo(kernel::Time at)
{
    follow_ = false;
    to_ = at + span_ / 2;
    markA_ = at;
    markB_.reset();
    request();
}

void TapeView::rest()
{
    to_ = editor_.picture().tapeTo;
    follow_ = false;
    request();
}

void TapeView::follow(Duration span)
{
    span_ = std::clamp(span, kShortest, kLongest);
    follow_ = true;
    request();
}

std::optional<Duration> TapeView::betweenMarks() const { return markA_ && markB_ ? std::optional(*markB_ - *markA_) : std::nullopt; }

double TapeView::xOf(Time t) const
{
    const session::Picture& p = editor_.picture();
    return kLabels + plotWidth() * static_cast<double>((t - p.tapeFrom).count()) / static_cast<double>((p.tapeTo - p.tapeFrom).count());
}

Time TapeView::timeAt(double x) const
{
    const session::Picture& p = editor_.picture();
    return p.tapeFrom + Duration(static_cast<std::int64_t>((x - kLabels) / plotWidth() * static_cast<double>((p.tapeTo - p.tapeFrom).count())));
}

// A lane has the colour of a wire at its pin.
QColor TapeView::colorOf(const bench::PinRef& pin) const
{
    const bench::PartItem* part = editor_.document().part(pin.part);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    for (const bench::WireItem& w : editor_.document().wires)
        for (const bench::PinRef* end : {&w.from, &w.to})
            if (end->part == pin.part && kind != nullptr && kind->pin(end->pin) == kind->pin(pin.pin))
                return theme::laneColor(w.color);
    return theme::kTapeText;
}

// What hangs on the pin gives the lane its name, where that has one; the pin stands behind it.
std::pair<QString, QString> TapeView::nameOf(const bench::PinRef& pin) const
{
    QString name = text(pin.pin), behind;
    const auto called = [](const bench::PartItem& part) { return text(part.label.empty() ? part.id : part.label); };
    for (const bench::WireItem& w : editor_.document().wires)
        for (const auto& [near, far] : {std::pair(&w.from, &w.to), std::pair(&w.to, &w.from)}) {
            if (near->part != pin.part || near->pin != pin.pin || far->part == pin.part)
                continue;
            const bench::PartItem* other = editor_.document().part(far->part);
            if (other == nullptr)
                continue;
            behind = text(pin.pin);
            name = called(*other);
            // Through a resistor to what it is there for.
            if (const bench::PartKind* kind = editor_.catalogue().find(other->kind); kind != nullptr && kind->behaviour == "resistor")
                for (const bench::WireItem& v : editor_.document().wires)
                    for (const auto& [a, b] : {std::pair(&v.from, &v.to), std::pair(&v.to, &v.from)})
                        if (a->part == far->part && a->pin != far->pin)
                            if (const bench::PartItem* beyond = editor_.document().part(b->part))
                                name = called(*beyond);
        }
    return {name, behind};
}

void TapeView::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    paint(painter);
}

void TapeView::paint(QPainter& painter)
{
    painter.fillRect(rect(), theme::kTapeGround);
    drawRuler(painter);
    painter.setRenderHint(QPainter::Antialiasing, false);
    const std::vector<Row> all = rows();
    for (const Row& row : all)
        switch (row.kind) {
        case Row::Kind::pin: drawPinLane(painter, row); break;
        case Row::Kind::read: drawRead(painter, row); break;
        case Row::Kind::serial: drawSerialLane(painter, row); break;
        }
    if (editor_.lanes().empty()) {
        const double top = all.empty() ? kRuler : all.back().top + all.back().height;
        painter.setPen(theme::kTapeMuted);
        painter.setFont(theme::words(9));
        painter.drawText(QRectF(0, top, width(), height() - top), Qt::AlignCenter, tr("No pins here yet. Select a part and click one of its pins in the inspector, or drag it here."));
    }
    painter.setRenderHint(QPainter::Antialiasing);
    drawEvents(painter);
    drawPresent(painter);
    drawMarks(painter);
    drawMeasures(painter);
    drawCause(painter);
}

// The present; behind it, after going back, what lies ahead if nothing else is done.
void TapeView::drawPresent(QPainter& painter)
{
    const session::Picture& picture = editor_.picture();
    const double x = xOf(picture.now);
    if (picture.latest > picture.now && x < width()) {
        QColor veil = theme::kTapeGround;
        veil.setAlpha(150);
        const double from = std::max(x, kLabels);
        painter.fillRect(QRectF(from, kRuler + 1, std::max(0.0, std::min(xOf(picture.latest), double(width())) - from), height()), veil);
    }
    if (x < kLabels || x > width())
        return;
    painter.setPen(QPen(kPresent, 1.6));
    painter.drawLine(QPointF(x, kRuler - 6), QPointF(x, height()));
    QPainterPath tip;
    tip.moveTo(x - 6, 4);
    tip.lineTo(x + 6, 4);
    tip.lineTo(x + 6, 12);
    tip.lineTo(x, 19);
    tip.lineTo(x - 6, 12);
    tip.closeSubpath();
    painter.fillPath(tip, kPresent);
}

void TapeView::drawRuler(QPainter& painter)
{
    const session::Picture& p = editor_.picture();
    painter.setPen(theme::kTapeGrid);
    painter.drawLine(QPointF(0, kRuler), QPointF(width(), kRuler));
    const double spanSeconds = kernel::seconds(p.tapeTo - p.tapeFrom);
    if (spanSeconds <= 0)
        return;
    const double step = roundStep(spanSeconds * 110 / plotWidth());
    const int decimals = std::max(0, static_cast<int>(std::ceil(-std::log10(step) - 1e-9)));
    painter.setFont(theme::figures(7.6));
    const double first = std::ceil(kernel::seconds(p.tapeFrom) / step) * step;
    for (double t = first; t <= kernel::seconds(p.tapeTo) + step * 0.01; t += step) {
        if (t < -step / 2)
            continue;
        const double x = kLabels + plotWidth() * (t - kernel::seconds(p.tapeFrom)) / spanSeconds;
        painter.setPen(theme::kTapeGrid);
        painter.drawLine(QPointF(x, kRuler), QPointF(x, height()));
        painter.setPen(theme::kTapeMuted);
        if (x < width() - kPresentMargin - 90 - kSearchWidth)
            painter.drawText(QRectF(x + 4, 0, 120, kRuler), Qt::AlignVCenter, QString::number(std::abs(t), 'f', decimals) + " s");
    }
    painter.fillRect(QRectF(0, 0, kLabels - 1, kRuler), theme::kTapeGround);
    painter.setPen(follow_ ? theme::kTapeText : QColor(0xE0, 0x8A, 0xB0));
    painter.setFont(theme::words(8.2, QFont::DemiBold));
    painter.drawText(QRectF(14, 0, kLabels - 14, kRuler), Qt::AlignVCenter, follow_ ? tr("at the present") : tr("back to the present"));
}

void TapeView::drawHeading(QPainter& painter, const Row& row, const QString& name, const QString& behind)
{
    const bool chosen = !chosen_.empty() && row.text == chosen_;
    if (chosen) {
        painter.fillRect(QRectF(0, row.top + 1, kLabels - 6, row.height - 1), QColor(0x3A, 0x2A, 0x38));
        painter.fillRect(QRectF(0, row.top + 1, 3, row.height - 1), kPresent);
    }
    const double line = std::min(row.height, kTallestLane);
    painter.setFont(theme::figures(7.8));
    // The name goes first; what it hangs on takes the room that is left.
    const QString right = painter.fontMetrics().elidedText(behind, Qt::ElideLeft, 78);
    const double taken = right.isEmpty() ? 0 : painter.fontMetrics().horizontalAdvance(right) + 8;
    painter.setPen(theme::kTapeMuted);
    painter.drawText(QRectF(14, row.top, kLabels - 24, line), Qt::AlignVCenter | Qt::AlignRight, right);
    painter.setPen(chosen ? QColor(0xF4, 0xEC, 0xE0) : theme::kTapeText);
    painter.setFont(theme::words(8.8));
    const double room = kLabels - 24 - taken;
    painter.drawText(QRectF(14, row.top, room, line), Qt::AlignVCenter, painter.fontMetrics().elidedText(name, Qt::ElideRight, static_cast<int>(room)));
    painter.setPen(theme::kTapeGrid);
    painter.drawLine(QPointF(0, row.top + row.height), QPointF(width(), row.top + row.height));
}

void TapeView::drawPinLane(QPainter& painter, const Row& row)
{
    const bench::PinRef& pin = editor_.lanes()[row.index];
    const auto [name, behind] = nameOf(pin);
    drawHeading(painter, row, name, behind);
    const auto& lanes = editor_.picture().lanes;
    if (row.index < lanes.size() && lanes[row.index].name == pin.text())
        drawLevels(painter, lanes[row.index], row, colorOf(pin));
}

void TapeView::drawLevels(QPainter& painter, const session::LanePicture& lane, const Row& row, const QColor& color)
{
    const double margin = row.height > 20 ? 6 : 4;
    const double high = row.top + margin;
    const double low = row.top + row.height - margin;
    const auto level = [&](tape::State s) { return s == 1 ? high : s == 0 ? low : (high + low) / 2; };
    const session::Picture& p = editor_.picture();
    // Nothing is known before time zero, or before what has been forgotten.
    const double knownX = std::max(kLabels, xOf(std::max(p.tapeKnownFrom, Time{})));
    QColor faint = color;
    faint.setAlpha(130);
    const QPen pen(color, 1.3);
    QVector<QLineF> lines, dim;
    QVector<QRectF> blocks;
    double x = kLabels;
    for (const tape::Column& c : lane.columns) {
        if (x + 1 >= knownX) {
            if (c.edges > 1) {
                blocks.append(QRectF(x, high, 1.2, low - high));
            } else {
                if (c.edges == 1)
                    lines.append(QLineF(x, level(c.first), x, level(c.last)));
                const tape::State s = c.last;
                (s <= 1 ? lines : dim).append(QLineF(x, level(s), x + 1, level(s)));
            }
        }
        x += 1;
    }
    painter.setPen(QPen(faint, 1, Qt::DotLine));
    painter.drawLines(dim);
    painter.setPen(pen);
    painter.drawLines(lines);
    for (const QRectF& block : blocks)
        painter.fillRect(block, faint);
}

void TapeView::drawRead(QPainter& painter, const Row& row)
{
    const session::ReadLane& lane = editor_.picture().reads[row.index];
    drawHeading(painter, row, text(lane.name.empty() ? lane.text : lane.name), text(lane.lines));
    const auto say = [&](const QString& words, const QColor& color) {
        painter.setPen(color);
        painter.setFont(theme::words(8));
        painter.drawText(QRectF(kLabels + 8, row.top, plotWidth(), row.height), Qt::AlignVCenter, words);
    };
    painter.save();
    painter.setClipRect(QRectF(kLabels, row.top, width() - kLabels, row.height));
    if (!lane.trouble.empty())
        say(text(lane.trouble), QColor(0xE0, 0x8A, 0x7A));
    else if (!lane.wave.empty())
        drawWave(painter, lane, row);
    else if (!lane.columns.empty())
        drawLevels(painter, {lane.text, 0, lane.columns, {}}, row, QColor(0xD9, 0xB0, 0x8C));
    else if (lane.crowded)
        say(tr("zoom in to read it"), theme::kTapeMuted);
    else
        drawItems(painter, lane, row);
    painter.restore();
}

// Addresses and bytes, numbers, interrupts; what was not acknowledged, or broke off, in another colour.
void TapeView::drawItems(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
    painter.setFont(theme::figures(7.6));
    const QFontMetricsF metrics(painter.font());
    // Where blocks are too narrow to be told apart, one covers them all.
    double drawnTo = 0;
    for (const tape::Decoded& item : lane.items) {
        const bool refused = item.text.ends_with("nack");
        const double left = xOf(item.from), right = xOf(item.to);
        if (right < kLabels || left > width())
            continue;
        if (item.from == item.to) {
            painter.setPen(QPen(item.what == "reset" ? QColor(0xE0, 0x8A, 0x7A) : theme::kTapeMuted, item.what == "reset" ? 2 : 1));
            painter.drawLine(QPointF(left, row.top + 3), QPointF(left, row.top + row.height - 3));
            continue;
        }
        QRectF block(left, row.top + 4, std::max(1.5, right - left - 1), row.height - 8);
        if (block.right() < drawnTo + 0.5 && item.good && !refused)
            continue;
        drawnTo = block.right();
        const QColor color = !item.good || refused                                  ? QColor(0xE0, 0x8A, 0x7A)
                             : item.what == "address" || item.what == "instruction" ? QColor(0xB9, 0xA2, 0xE0)
                             : item.what == "interrupt"                             ? QColor(0xD9, 0xB0, 0x8C)
                             : item.what == "value"                                 ? QColor(0x6E, 0x7C, 0x9C)
                                                                                    : QColor(0x8F, 0xC7, 0xA4);
        painter.fillRect(block, color);
        if (block.width() < 14)
            continue;
        // Of a long block the part that is seen has the words.
        block.setLeft(std::max(block.left(), kLabels));
        QString words = text(item.text);
        words.replace(", ack", "");
        if (metrics.horizontalAdvance(words) > block.width() - 4 && item.what != "interrupt")
            words = words.section(' ', 0, 0).remove("0x").remove(',');
        else if (item.what == "interrupt")
            words = metrics.elidedText(words, Qt::ElideRight, block.width() - 4);
        painter.setPen(item.what == "value" ? QColor(0xF4, 0xEC, 0xE0) : theme::kTapeGround);
        painter.drawText(block.adjusted(2, 0, -2, 0), Qt::AlignCenter, metrics.horizontalAdvance(words) <= block.width() - 2 ? words : QString());
    }
}

void TapeView::drawWave(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
    const double margin = std::max((lane.high - lane.low) * 0.08, 0.01);
    const double low = lane.low - margin, high = lane.high + margin;
    const auto yOf = [&](double v) { return row.top + row.height - 3 - (v - low) / (high - low) * (row.height - 6); };
    QVector<QLineF> lines;
    double x = kLabels;
    std::optional<double> before;
    for (const tape::WaveColumn& c : lane.wave) {
        if (c.known) {
            if (before)
                lines.append(QLineF(x - 1, yOf(*before), x, yOf(c.first)));
            lines.append(QLineF(x, yOf(c.least), x, yOf(c.most)));
            before = c.last;
        } else {
            before.reset();
        }
        x += 1;
    }
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(QPen(QColor(0xF0, 0xB4, 0x5A), 1.2));
    painter.drawLines(lines);
    painter.setRenderHint(QPainter::Antialiasing, false);
    painter.setFont(theme::figures(7.2));
    painter.setPen(theme::kTapeMuted);
    const auto bound = [&](double volts, double top) {
        const QString words = text(kernel::formatQuantity(volts, kernel::Unit::volt, 4));
        const QRectF box(kLabels + 2, top, painter.fontMetrics().horizontalAdvance(words) + 6, 12);
        painter.fillRect(box, theme::kTapeGround);
        painter.drawText(box, Qt::AlignCenter, words);
    };
    bound(lane.high, row.top + 1);
    if (lane.high - lane.low > 0.005)
        bound(lane.low, row.top + row.height - 13);
}

// What the first UART said, as blocks of text where there is room for it.
void TapeView::drawSerialLane(QPainter& painter, const Row& row)
{
    const session::Picture& p = editor_.picture();
    drawHeading(painter, row, tr("serial out"), text(p.uarts[0].name));
    painter.setFont(theme::figures(7.6));
    const QFontMetricsF metrics(painter.font());
    painter.save();
    painter.setClipRect(QRectF(kLabels, row.top, width() - kLabels, row.height));
    for (const session::SerialRun& run : p.serialLane) {
        const QRectF block(xOf(run.from), row.top + 4, std::max(2.0, xOf(run.to) - xOf(run.from) - 1), row.height - 8);
        painter.fillRect(block, QColor(0x6F, 0xA8, 0xD6));
        if (block.width() <= 14 || run.text.empty())
            continue;
        QString words;
        for (const char c : run.text)
            words += c >= 32 && c < 127 ? QChar(c) : c == '\r' || c == '\n' ? QChar(' ') : QChar(0xB7);
        painter.setPen(theme::kTapeGround);
        painter.drawText(block.adjusted(4, 0, -2, 0), Qt::AlignVCenter, metrics.elidedText(words.trimmed(), Qt::ElideRight, block.width() - 6));
    }
    painter.restore();
}

// What was done (a small wedge), noticed (a small lozenge) and said by a stop (a bar), and bookmarks with their names, on the ruler.
void TapeView::drawEvents(QPainter& painter)
{
    painter.save();
    painter.setClipRect(QRectF(kLabels, 0, width() - kLabels, kRuler + 1));
    painter.setPen(Qt::NoPen);
    for (const session::TapeEvent& e : editor_.picture().events) {
        const double x = xOf(e.at);
        QPainterPath shape;
        if (e.kind == session::TapeEvent::Kind::input) {
            shape.moveTo(x, kRuler);
            shape.lineTo(x - 3.5, kRuler - 6);
            shape.lineTo(x + 3.5, kRuler - 6);
            shape.closeSubpath();
            painter.fillPath(shape, QColor(0xC9, 0xA6, 0xF0));
        } else if (e.kind == session::TapeEvent::Kind::mark) {
            painter.fillRect(QRectF(x - 1.5, kRuler - 9, 3, 9), QColor(0x8F, 0xC7, 0xA4));
        } else {
            shape.moveTo(x, kRuler - 8);
            shape.lineTo(x + 4, kRuler - 4);
            shape.lineTo(x, kRuler);
            shape.lineTo(x - 4, kRuler - 4);
            shape.closeSubpath();
            painter.fillPath(shape, e.grave ? QColor(0xE2, 0x6A, 0x52) : QColor(0xE8, 0xA3, 0x2B));
        }
    }
    painter.setFont(theme::words(7.8, QFont::DemiBold));
    for (const bench::BookmarkItem& b : editor_.document().bookmarks) {
        const auto at = kernel::parseQuantity(b.at, kernel::Unit::second);
        if (!at)
            continue;
        const double x = xOf(Time(Duration(static_cast<std::int64_t>(std::llround(*at * 1e12)))));
        if (x < kLabels - 1 || x > width())
            continue;
        const QString name = text(b.name);
        const double w = painter.fontMetrics().horizontalAdvance(name) + 10;
        painter.fillRect(QRectF(x, 2, w, 13), QColor(0x4B, 0x6E, 0x8A));
        painter.setPen(QColor(0xF4, 0xEC, 0xE0));
        painter.drawText(QRectF(x + 5, 2, w, 13), Qt::AlignVCenter, name);
        painter.setPen(QPen(QColor(0x4B, 0x6E, 0x8A), 1.2));
        painter.drawLine(QPointF(x, 2), QPointF(x, kRuler));
        painter.setPen(Qt::NoPen);
    }
    painter.restore();
    if (!editor_.document().bookmarks.empty()) {
        painter.setPen(QPen(QColor(0x4B, 0x6E, 0x8A, 150), 1, Qt::DotLine));
        for (const bench::BookmarkItem& b : editor_.document().bookmarks)
            if (const auto at = kernel::parseQuantity(b.at, kernel::Unit::second))
                if (const double x = xOf(Time(Duration(static_cast<std::int64_t>(std::llround(*at * 1e12))))); x >= kLabels && x <= width())
                    painter.drawLine(QPointF(x, kRuler), QPointF(x, height()));
    }
}

void TapeView::drawMarks(QPainter& painter)
{
    const auto draw = [&](Time t) {
        const double x = xOf(t);
        if (x < kLabels || x > width())
            return;
        painter.setPen(QPen(theme::kAmber, 1.2, Qt::DashLine));
        painter.drawLine(QPointF(x, kRuler), QPointF(x, height()));
    };
    if (markA_)
        draw(*markA_);
    if (markB_)
        draw(*markB_);
    if (!markA_)
        return;
    QString text;
    double x = xOf(*markA_);
    if (markB_) {
        const double between = std::abs(kernel::seconds(*markB_ - *markA_));
        text = QString::fromStdString(kernel::formatQuantity(between, kernel::Unit::second, 6));
        if (between > 0)
            text += "  " + QString::fromStdString(kernel::formatQuantity(1 / between, kernel::Unit::hertz, 4));
        x = (x + xOf(*markB_)) / 2;
    } else {
        text = QString::fromStdString(kernel::formatClock(*markA_));
    }
    painter.setFont(theme::figures(8.4, QFont::DemiBold));
    const double w = painter.fontMetrics().horizontalAdvance(text) + 16;
    const QRectF box(std::clamp(x - w / 2, kLabels, width() - w - 4), 3, w, kRuler - 6);
    painter.setPen(Qt::NoPen);
    painter.setBrush(kMark);
    painter.drawRoundedRect(box, 4, 4);
    painter.setPen(theme::kTapeGround);
    painter.drawText(box, Qt::AlignCenter, text);
}

// What the chosen lane comes to between the marks.
void TapeView::drawMeasures(QPainter& painter)
{
    const session::Picture& p = editor_.picture();
    if (!markA_ || !markB_ || !p.measured)
        return;
    const tape::PulseMeasures& m = *p.measured;
    const auto pin = bench::parsePinRef(chosen_);
    const auto [name, behind] = pin ? nameOf(*pin) : std::pair<QString, QString>();
    QStringList lines{tr("%1 between the marks").arg(behind.isEmpty() ? name : name + " " + behind)};
    lines << tr("%1 rises, %2 falls%3").arg(m.rises).arg(m.falls).arg(m.cut ? tr(" (the first ones)") : QString());
    const auto spread = [](const tape::Spread& s) { return s.most - s.least < 1e-12 ? seconds(s.mean, 6) : QString("%1  (%2 … %3)").arg(seconds(s.mean, 6), seconds(s.least, 6), seconds(s.most, 6)); };
    if (m.period.count > 0) {
        lines << tr("frequency  %1").arg(text(kernel::formatQuantity(1 / m.period.mean, kernel::Unit::hertz, 6)));
        lines << tr("period  %1").arg(spread(m.period));
        if (m.duty)
            lines << tr("duty  %1 %").arg(*m.duty * 100, 0, 'f', 2);
    }
    if (m.high.count > 0)
        lines << tr("high  %1").arg(spread(m.high));
    if (m.low.count > 0)
        lines << tr("low  %1").arg(spread(m.low));
    if (m.period.count > 1)
        lines << tr("jitter  %1 (standard deviation)").arg(seconds(m.period.deviation, 3));
    if (m.baud)
        lines << tr("looks like %1 baud").arg(*m.baud, 0, 'f', 0);
    const QFont font = theme::figures(8.2);
    const QFontMetricsF metrics(font);
    double w = 0;
    for (const QString& l : lines)
        w = std::max(w, metrics.horizontalAdvance(l));
    const bool bars = m.histogram.size() > 1 && m.period.most - m.period.least > 1e-12;
    const double h = metrics.height() * static_cast<double>(lines.size()) + 14 + (bars ? 34 : 0);
    const QRectF card(width() - kPresentMargin - w - 30, std::max(kRuler + 4, height() - h - 8), w + 22, h);
    painter.setPen(QPen(theme::kRule, 1));
    painter.setBrush(theme::kCard);
    painter.drawRoundedRect(card, 6, 6);
    painter.setFont(font);
    double y = card.top() + 7 + metrics.ascent();
    for (qsizetype i = 0; i < lines.size(); ++i, y += metrics.height()) {
        painter.setPen(i == 0 ? theme::kMuted : theme::kInk);
        painter.drawText(QPointF(card.left() + 11, y), lines[i]);
    }
    if (!bars)
        return;
    const std::uint32_t tallest = *std::max_element(m.histogram.begin(), m.histogram.end());
    const double step = (card.width() - 22) / static_cast<double>(m.histogram.size());
    for (std::size_t i = 0; i < m.histogram.size(); ++i)
        if (m.histogram[i] > 0) {
            const double bar = std::max(1.5, 26.0 * m.histogram[i] / tallest);
            painter.fillRect(QRectF(card.left() + 11 + step * static_cast<double>(i), card.bottom() - 7 - bar, std::max(1.0, step - 1), bar), theme::kBramble);
        }
}

void TapeView::drawCard(QPainter& painter, QPointF near, const QStringList& lines)
{
    const QFont font = theme::figures(8.2);
    const QFontMetricsF metrics(font);
    double w = 0;
    for (const QString& l : lines)
        w = std::max(w, metrics.horizontalAdvance(l));
    QRectF card(near.x() + 10, near.y() + 12, w + 20, 17 * static_cast<double>(lines.size()) + 8);
    if (card.right() > width() - 4)
        card.moveRight(near.x() - 10);
    if (card.bottom() > height() - 4)
        card.moveBottom(near.y() - 8);
    painter.setPen(QPen(theme::kRule, 1));
    painter.setBrush(theme::kCard);
    painter.drawRoundedRect(card, 6, 6);
    painter.setFont(font);
    for (qsizetype i = 0; i < lines.size(); ++i) {
        painter.setPen(i == 0 && lines.size() > 1 ? theme::kMuted : theme::kInk);
        painter.drawText(QPointF(card.left() + 10, card.top() + 16 + 17 * static_cast<double>(i)), lines[i]);
    }
}

// What lies under the pointer: an edge with when and who did it, an item in full, what was done or noticed.
void TapeView::drawCause(QPainter& painter)
{
    if (pointer_.x() < kLabels || pressed_)
        return;
    const session::Picture& p = editor_.picture();
    if (pointer_.y() < kRuler) {
        QStringList lines;
        for (const session::TapeEvent& e : p.events)
            if (std::abs(xOf(e.at) - pointer_.x()) < 5 && lines.size() < 8)
                lines << QString("%1  %2").arg(text(kernel::formatClock(e.at)), text(e.text));
        if (!lines.isEmpty())
            drawCard(painter, pointer_, lines);
        return;
    }
    const auto row = rowAt(pointer_.y());
    if (!row)
        return;
    if (row->kind == Row::Kind::read && row->index < p.reads.size()) {
        const session::ReadLane& lane = p.reads[row->index];
        const Time at = timeAt(pointer_.x());
        for (const tape::Decoded& item : lane.items)
            if (item.from <= at && at < item.to) {
                drawCard(painter, pointer_, {tr("%1, %2 long").arg(text(kernel::formatClock(item.from)), seconds(kernel::seconds(item.to - item.from))), text(item.what + "  " + item.text)});
                return;
            }
        if (!lane.wave.empty()) {
            const auto column = static_cast<std::size_t>(std::max(0.0, pointer_.x() - kLabels));
            if (column < lane.wave.size() && lane.wave[column].known)
                drawCard(painter, pointer_, {text(kernel::formatQuantity(lane.wave[column].first, kernel::Unit::volt, 4))});
        }
        return;
    }
    if (row->kind != Row::Kind::pin || row->index >= p.lanes.size())
        return;
    const session::LanePicture::Edge* nearest = nullptr;
    double best = kSnap;
    for (const auto& edge : p.lanes[row->index].edges)
        if (const double d = std::abs(xOf(edge.at) - pointer_.x()); d < best) {
            best = d;
            nearest = &edge;
        }
    if (nearest == nullptr)
        return;
    static const char* const words[] = {"falls", "rises", "floats from here", "goes between thresholds", "two outputs fight from here"};
    QStringList lines{tr("%1 at %2").arg(words[std::min<int>(nearest->state, 4)], text(kernel::formatClock(nearest->at)))};
    if (!nearest->cause.empty())
        lines << tr("by %1").arg(text(nearest->cause));
    drawCard(painter, QPointF(xOf(nearest->at), pointer_.y()), lines);
}

void TapeView::resizeEvent(QResizeEvent*)
{
    // Left of the present's head, which a hand takes hold of.
    search_->setGeometry(width() - static_cast<int>(kPresentMargin) - 14 - kSearchWidth, 2, kSearchWidth, static_cast<int>(kRuler) - 4);
    request();
}

void TapeView::wheelEvent(QWheelEvent* event)
{
    const double factor = std::pow(1.0018, -event->angleDelta().y());
    const auto next = Duration(static_cast<std::int64_t>(static_cast<double>(span_.count()) * factor));
    const Duration span = std::clamp(next, kShortest, kLongest);
    if (!follow_) {
        const double share = std::clamp((event->position().x() - kLabels) / plotWidth(), 0.0, 1.0);
        const Time fixed = timeAt(event->position().x());
        to_ = fixed + Duration(static_cast<std::int64_t>(static_cast<double>(span.count()) * (1 - share)));
    }
    span_ = span;
    request();
    event->accept();
}

// On the head or the line of the present.
bool TapeView::overPresent(QPointF at) const
{
    constexpr double kGrab = 7;
    return at.x() >= kLabels - kGrab && std::abs(at.x() - xOf(editor_.picture().now)) <= (at.y() < kRuler ? kGrab : kGrab / 2);
}

// Near an edge of the lane under the pointer, its very instant.
Time TapeView::snapped(double x, double y) const
{
    const session::Picture& p = editor_.picture();
    const auto row = rowAt(y);
    Time best = timeAt(x);
    double nearest = kSnap;
    const auto consider = [&](Time at) {
        if (const double d = std::abs(xOf(at) - x); d < nearest) {
            nearest = d;
            best = at;
        }
    };
    if (row && row->kind == Row::Kind::pin && row->index < p.lanes.size())
        for (const auto& edge : p.lanes[row->index].edges)
            consider(edge.at);
    if (row && row->kind == Row::Kind::read && row->index < p.reads.size())
        for (const Time at : p.reads[row->index].edges)
            consider(at);
    if (row && row->kind == Row::Kind::read && row->index < p.reads.size())
        for (const tape::Decoded& item : p.reads[row->index].items) {
            consider(item.from);
            consider(item.to);
        }
    return best;
}

const bench::BookmarkItem* TapeView::bookmarkAt(double x) const
{
    for (const bench::BookmarkItem& b : editor_.document().bookmarks)
        if (const auto at = kernel::parseQuantity(b.at, kernel::Unit::second))
            if (const double left = xOf(Time(Duration(static_cast<std::int64_t>(std::llround(*at * 1e12))))); x >= left - 3 && x <= left + QFontMetricsF(theme::words(7.8, QFont::DemiBold)).horizontalAdvance(text(b.name)) + 10)
                return &b;
    return nullptr;
}

void TapeView::mousePressEvent(QMouseEvent* event)
{
    pressAt_ = event->position();
    if (event->button() == Qt::RightButton) {
        const QPoint at = event->globalPosition().toPoint();
        if (pressAt_.x() < kLabels && pressAt_.y() >= kRuler)
            openLaneMenu(rowAt(pressAt_.y()).value_or(Row{Row::Kind::serial, 0, {}, 0, 0}), at);
        else
            openPlotMenu(at);
        return;
    }
    pressed_ = true;
    dragged_ = false;
    toAtPress_ = editor_.picture().tapeTo;
    if (overPresent(pressAt_)) {
        // The window stands still while the present is dragged through it.
        grabbed_ = true;
        rest();
        return;
    }
    if (pressAt_.x() < kLabels) {
        pressed_ = false;
        if (pressAt_.y() < kRuler)
            follow(span_);
        else if (const auto row = rowAt(pressAt_.y()))
            choose(chosen_ == row->text ? std::string() : row->text);
    }
}

void TapeView::mouseMoveEvent(QMouseEvent* event)
{
    pointer_ = event->position();
    setCursor(grabbed_ || overPresent(pointer_) ? Qt::SizeHorCursor : Qt::ArrowCursor);
    if (grabbed_) {
        dragged_ = true;
        editor_.session().drag(timeAt(std::max(pointer_.x(), kLabels)));
        update();
        return;
    }
    if (pressed_ && std::abs(pointer_.x() - pressAt_.x()) > 4) {
        dragged_ = true;
        follow_ = false;
        to_ = toAtPress_ - Duration(static_cast<std::int64_t>((pointer_.x() - pressAt_.x()) / plotWidth() * static_cast<double>(span_.count())));
        to_ = std::min(to_, editor_.picture().latest);
        request();
    }
    update();
}

void TapeView::mouseReleaseEvent(QMouseEvent* event)
{
    const bool click = pressed_ && !dragged_ && !grabbed_;
    pressed_ = false;
    grabbed_ = false;
    if (!click || event->position().x() < kLabels || event->button() == Qt::RightButton)
        return;
    if (event->position().y() < kRuler)
        if (const bench::BookmarkItem* b = bookmarkAt(event->position().x()))
            if (const auto at = kernel::parseQuantity(b->at, kernel::Unit::second))
                return goTo(Time(Duration(static_cast<std::int64_t>(std::llround(*at * 1e12)))));
    // The lane that was meant is the one that is measured.
    if (const auto row = rowAt(event->position().y()); row && row->kind == Row::Kind::pin)
        chosen_ = row->text;
    if ((event->modifiers() & Qt::ShiftModifier) != 0 && markA_) {
        markB_ = snapped(event->position().x(), event->position().y());
    } else {
        markA_ = snapped(event->position().x(), event->position().y());
        markB_.reset();
    }
    request();
}

void TapeView::mouseDoubleClickEvent(QMouseEvent* event)
{
    if (event->position().x() < kLabels)
        return;
    markA_.reset();
    markB_.reset();
    follow(span_);
}

void TapeView::leaveEvent(QEvent*)
{
    pointer_ = {-1, -1};
    update();
}

void TapeView::keyPressEvent(QKeyEvent* event)
{
    if (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right)
        toEdge(event->key() == Qt::Key_Right);
    else if (event->key() == Qt::Key_M)
        openPlotMenu({}), naming_->setFocus();
    else
        QWidget::keyPressEvent(event);
}

void TapeView::toEdge(bool forward) { search("edge", forward); }

// The place that is found gets the first mark, and the view goes there.
void TapeView::search(const QString& words, bool forward)
{
    session::TapeQuery query;
    query.words = words.trimmed().toStdString();
    query.lane = chosen_;
    query.forward = forward;
    query.from = markA_.value_or(forward ? editor_.picture().tapeFrom : editor_.picture().tapeTo);
    for (const session::ReadLane& lane : editor_.picture().reads)
        query.reads.push_back(lane.text);
    editor_.session().search(query, [this, words](const kernel::Result<std::optional<session::TapeHit>>& hit) {
        QMetaObject::invokeMethod(this, [this, words, hit] {
            if (!hit) {
                emit editor_.message(text(hit.error().text()), true);
            } else if (!*hit) {
                emit editor_.message(tr("\"%1\" does not come on what the tape still knows in this direction").arg(words), false);
            } else {
                // Close to it already: only the mark moves.
                const session::Picture& p = editor_.picture();
                const Time at = (*hit)->at;
                if (at > p.tapeFrom + (p.tapeTo - p.tapeFrom) / 20 && at < p.tapeTo - (p.tapeTo - p.tapeFrom) / 20) {
                    rest();
                    setMarks(at, std::nullopt);
                } else {
                    goTo(at);
                }
            }
        });
    });
}

bool TapeView::eventFilter(QObject* watched, QEvent* event)
{
    if (event->type() == QEvent::KeyPress) {
        const auto* press = static_cast<QKeyEvent*>(event);
        const bool enter = press->key() == Qt::Key_Return || press->key() == Qt::Key_Enter;
        if (watched == search_ && enter) {
            search(search_->text(), (press->modifiers() & Qt::ShiftModifier) == 0);
            return true;
        }
        if (watched == naming_ && enter) {
            addBookmark(naming_->text().trimmed());
            naming_->hide();
            setFocus();
            return true;
        }
        if ((watched == naming_ || watched == search_) && press->key() == Qt::Key_Escape) {
            naming_->hide();
            setFocus();
            return true;
        }
    }
    return QWidget::eventFilter(watched, event);
}

void TapeView::addBookmark(const QString& name)
{
    if (name.isEmpty())
        return;
    const Time at = markA_.value_or(editor_.picture().now);
    bench::BookmarkItem item;
    item.name = name.toStdString();
    item.at = fmt::format("{:.12f}s", kernel::seconds(at));
    editor_.change(tr("bookmark"), [&](bench::Document& d) { d.bookmarks.push_back(item); });
}

// The lane under the pointer, and what can be added.
void TapeView::openLaneMenu(const Row& row, QPoint at)
{
    auto* menu = new QMenu(this);
    menu->setObjectName("laneMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction(tr("Add a lane …"), this, [this, at] { emit lanesWanted(mapFromGlobal(at)); });
    menu->addAction(tr("What lanes read, as a table"), this, [this] { emit tableWanted(); });
    if (row.kind != Row::Kind::serial) {
        menu->addSeparator();
        menu->addAction(tr("Up"), this, [this, row] { editor_.moveLane(row.text, -1); });
        menu->addAction(tr("Down"), this, [this, row] { editor_.moveLane(row.text, 1); });
        if (row.kind == Row::Kind::pin)
            menu->addAction(tr("Its voltage as a lane"), this, [this, row] { editor_.toggleRead("volts " + row.text); });
        menu->addAction(tr("Take %1 off").arg(text(row.text)), this, [this, row] {
            if (row.kind == Row::Kind::pin)
                editor_.toggleLane(editor_.lanes()[row.index]);
            else
                editor_.toggleRead(row.text);
        });
    }
    menu->popup(at);
}

void TapeView::openPlotMenu(QPoint at)
{
    const auto name = [this] {
        naming_->setGeometry(static_cast<int>(kLabels) + 8, static_cast<int>(kRuler) + 6, 220, 24);
        naming_->clear();
        naming_->show();
        naming_->setFocus();
    };
    if (at.isNull())
        return name();
    auto* menu = new QMenu(this);
    menu->setObjectName("tapeMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction(markA_ ? tr("Bookmark at the mark …") : tr("Bookmark at the present …"), this, name);
    if (const bench::BookmarkItem* b = bookmarkAt(pressAt_.x()); b != nullptr && pressAt_.y() < kRuler)
        menu->addAction(tr("Remove the bookmark %1").arg(text(b->name)), this, [this, gone = *b] { editor_.change(tr("remove bookmark"), [&](bench::Document& d) { std::erase(d.bookmarks, gone); }); });
    menu->addAction(tr("No marks"), this, [this] { setMarks(std::nullopt, std::nullopt); })->setEnabled(markA_.has_value());
    menu->addAction(tr("The whole run"), this, [this] {
        const session::Picture& p = editor_.picture();
        follow_ = false;
        span_ = std::clamp(p.latest - std::max(p.tapeKnownFrom, Time{}) + Duration(1), kShortest, kLongest);
        to_ = p.latest;
        request();
    });
    menu->addSeparator();
    menu->addAction(tr("Save this part as a picture …"), this, [this] {
        if (const QString file = QFileDialog::getSaveFileName(this, tr("Save the tape as a picture"), editor_.folder() + "/tape.png", tr("Pictures (*.png *.svg)")); !file.isEmpty())
            emit editor_.message(savePicture(file) ? tr("Saved to %1").arg(file) : tr("%1 could not be written").arg(file), false);
    });
    menu->addAction(tr("Read in a capture of a real board …"), this, [this] {
        if (const QString file = QFileDialog::getOpenFileName(this, tr("Read in a capture"), editor_.folder(), tr("Value change dumps (*.vcd);;All files (*)")); !file.isEmpty())
            readCapture(file);
    });
    if (std::any_of(editor_.picture().reads.begin(), editor_.picture().reads.end(), [](const session::ReadLane& l) { return l.text.starts_with("capture "); }))
        menu->addAction(tr("Move the capture from the first mark to the second"), this, &TapeView::alignCapture)->setEnabled(markA_ && markB_);
    menu->addAction(tr("Save these edges as CSV or VCD …"), this, [this] {
        const QString file = QFileDialog::getSaveFileName(this, tr("Save the edges"), editor_.folder() + "/edges.csv", tr("Edges (*.csv *.vcd)"));
        if (file.isEmpty())
            return;
        const session::Picture& p = editor_.picture();
        editor_.session().writeEdges(file.toStdString(), editor_.lanes(), p.tapeFrom, p.tapeTo, [this, file](const std::string& trouble) {
            QMetaObject::invokeMethod(this, [this, file, trouble] { emit editor_.message(trouble.empty() ? tr("Saved to %1").arg(file) : text(trouble), !trouble.empty()); });
        });
    });
    menu->popup(at);
}

bool TapeView::readCapture(const QString& file)
{
    const auto capture = tape::readVcd(file.toStdString());
    if (!capture) {
        emit editor_.message(text(capture.error().text()), true);
        return false;
    }
    editor_.session().setCapture(*capture);
    // The first few are shown at once; the others can be added.
    constexpr std::size_t kFirst = 8;
    for (std::size_t i = 0; i < std::min(kFirst, (*capture)->names.size()); ++i)
        if (const std::string lane = "capture " + (*capture)->names[i]; !editor_.reads() || std::find(editor_.reads()->begin(), editor_.reads()->end(), lane) == editor_.reads()->end())
            editor_.toggleRead(lane);
    capture_ = *capture;
    emit editor_.message(tr("%1 signals, %2 long; mark an edge of them and the same edge of the run, and move one to the other by the other mouse button").arg((*capture)->names.size()).arg(seconds(kernel::seconds((*capture)->end - Time{}))), false);
    return true;
}

void TapeView::alignCapture()
{
    if (!markA_ || !markB_)
        return;
    editor_.session().shiftCapture(*markB_ - *markA_);
    setMarks(*markB_, std::nullopt);
}

bool TapeView::savePicture(const QString& file)
{
    if (!file.endsWith(".svg", Qt::CaseInsensitive)) {
        QImage image(size() * 2, QImage::Format_RGB32);
        image.setDevicePixelRatio(2);
        QPainter painter(&image);
        paint(painter);
        painter.end();
        return image.save(file);
    }
    QSvgGenerator svg;
    svg.setFileName(file);
    svg.setSize(size());
    svg.setViewBox(rect());
    svg.setTitle(text(editor_.document().title));
    QPainter painter;
    if (!painter.begin(&svg))
        return false;
    paint(painter);
    return painter.end();
}

// Pins, what decoders may read, voltages, interrupts. What is typed may be a lane itself.
std::vector<PickList::Entry> TapeView::offers(const QString& typed)
{
    std::vector<PickList::Entry> out;
    const auto matches = [&](const QString& words) {
        for (const QString& word : typed.split(' ', Qt::SkipEmptyParts))
            if (!words.contains(word, Qt::CaseInsensitive))
                return false;
        return true;
    };
    const auto offer = [&](const std::string& lane, const QString& about) {
        constexpr std::size_t kMost = 80;
        if (out.size() < kMost && matches(text(lane) + " " + about))
            out.push_back({text(lane), about, {}, [this, lane] {
                               const auto spec = session::parseLane(lane);
                               if (spec && spec->kind == session::LaneSpec::Kind::pin)
                                   editor_.toggleLane(spec->pins[0]);
                               else
                                   editor_.toggleRead(lane);
                           }});
    };
    if (const std::string lane = typed.trimmed().toStdString(); !lane.empty() && session::parseLane(lane))
        out.push_back({typed.trimmed(), tr("as typed"), {}, [this, lane] {
                           const auto spec = session::parseLane(lane);
                           spec->kind == session::LaneSpec::Kind::pin ? editor_.toggleLane(spec->pins[0]) : editor_.toggleRead(lane);
                       }});
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr)
            continue;
        if (kind->chip != nullptr)
            offer("interrupts " + part.id, tr("which interrupt runs"));
        // What lines are by their names: of a display, a bus, a strip of pixels, a servo.
        for (const tape::DecoderKind& decoder : tape::decoderKinds()) {
            std::string lines;
            bool whole = true;
            for (const std::string& role : decoder.roles) {
                const bool optional = role.ends_with('?');
                const std::string bare = optional ? role.substr(0, role.size() - 1) : role;
                const bench::PinKind* pin = kind->pin(bare);
                for (const bench::PinKind& p : kind->pins)
                    if (pin == nullptr && kind->chip != nullptr && (" " + p.about + " ").find(" " + bare + " ") != std::string::npos)
                        pin = &p;
                if (pin != nullptr)
                    lines += (lines.empty() ? "" : ",") + bare + "=" + part.id + "." + pin->name;
                whole = whole && (pin != nullptr || optional);
            }
            if (whole && (decoder.roles.size() > 1 || kind->chip == nullptr))
                offer(decoder.name + ":" + lines, tr("what %1 says").arg(text(part.label.empty() ? part.id : part.label)));
        }
    }
    for (const session::UartPicture& u : editor_.picture().uarts) {
        const std::string chip = u.name.substr(0, u.name.rfind('.'));
        const bench::PartItem* part = editor_.document().part(chip);
        const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
        for (std::size_t i = 0; kind != nullptr && i < kind->pins.size(); ++i)
            for (const char* line : {"TXD", "RXD"})
                if ((" " + kind->pins[i].about).find(std::string(" ") + line) != std::string::npos)
                    offer("uart:" + chip + "." + kind->pins[i].name, tr("serial line, baud found by itself"));
    }
    if (capture_ != nullptr)
        for (const std::string& name : capture_->names)
            offer("capture " + name, tr("of the capture"));
    for (const bench::PinRef& pin : editor_.lanes()) {
        offer("volts " + pin.text(), tr("its voltage"));
        if (!typed.isEmpty())
            for (const char* decoder : {"uart", "pwm", "servo", "ws2812", "1-wire", "dht"})
                offer(std::string(decoder) + ":" + pin.text(), tr("what this line says"));
    }
    if (editor_.lanes().size() > 1) {
        std::string value = "value";
        for (const bench::PinRef& pin : editor_.lanes())
            value += " " + pin.text();
        offer(value, tr("all lanes as one number, the top one lowest"));
    }
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind); kind != nullptr && !kind->plugs)
            for (const bench::PinKind& pin : kind->pins)
                if (!pin.ground && !pin.supplyVolts)
                    offer(part.id + "." + pin.name, text(pin.about));
    return out;
}

void TapeView::dragEnterEvent(QDragEnterEvent* event)
{
    if (event->mimeData()->hasFormat("application/x-bramix-pin"))
        event->acceptProposedAction();
}

void TapeView::dropEvent(QDropEvent* event)
{
    if (const auto pin = bench::parsePinRef(event->mimeData()->data("application/x-bramix-pin").toStdString()); pin && std::find(editor_.lanes().begin(), editor_.lanes().end(), *pin) == editor_.lanes().end())
        editor_.toggleLane(*pin);
    event->acceptProposedAction();
}

}  // namespace bramix::app
