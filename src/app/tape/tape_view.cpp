#include "app/tape/tape_view.h"

#include <cmath>

#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>

#include "app/shell/scale.h"
#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

using kernel::Duration;
using kernel::Time;

namespace {

constexpr double kLabels = 150;  // width of the lane names
constexpr double kRuler = 24;
constexpr double kTallestLane = 25;
constexpr double kLowestLane = 15;
constexpr double kPresentMargin = 26;  // room to the right of the present
constexpr Duration kShortest = std::chrono::nanoseconds(500);
constexpr Duration kLongest = std::chrono::minutes(30);
constexpr double kSnap = 7;

}  // namespace

TapeView::TapeView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("tape");
    setMouseTracking(true);
    setMinimumHeight(110);
    setAttribute(Qt::WA_OpaquePaintEvent);
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
double TapeView::laneHeight() const
{
    const double room = (height() - kRuler) / static_cast<double>(editor_.lanes().size() + 1 + editor_.picture().buses.size());
    return std::clamp(std::floor(room), kLowestLane, kTallestLane);
}

double TapeView::plotWidth() const { return std::max(50.0, width() - kLabels - kPresentMargin); }

void TapeView::request()
{
    session::TapeRequest r;
    r.lanes = editor_.lanes();
    r.follow = follow_;
    r.to = to_;
    r.from = to_ - span_;
    r.columns = static_cast<std::size_t>(plotWidth());
    editor_.session().watchTape(r);
    update();
}

void TapeView::goTo(kernel::Time at)
{
    follow_ = false;
    to_ = at + span_ / 2;
    markA_ = at;
    markB_.reset();
    request();
    update();
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

void TapeView::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    painter.fillRect(rect(), theme::kTapeGround);
    const session::Picture& picture = editor_.picture();
    drawRuler(painter);
    painter.setRenderHint(QPainter::Antialiasing, false);
    double top = kRuler;
    const auto& lanes = editor_.lanes();
    for (std::size_t i = 0; i < lanes.size(); ++i) {
        const QColor color = colorOf(lanes[i]);
        // Named after what hangs on the pin, where that has a name; the pin stands behind it.
        QString name = QString::fromStdString(lanes[i].pin);
        QString behind;
        const auto net = picture.pins.find(lanes[i]);
        if (net != picture.pins.end()) {
            for (const bench::WireItem& w : editor_.document().wires)
                for (const auto& [near, far] : {std::pair(&w.from, &w.to), std::pair(&w.to, &w.from)})
                    if (near->part == lanes[i].part && near->pin == lanes[i].pin && far->part != lanes[i].part) {
                        behind = name;
                        const bench::PartItem* other = editor_.document().part(far->part);
                        name = QString::fromStdString(other->label.empty() ? far->part : other->label);
                        // Through a resistor to what it is there for.
                        if (const bench::PartKind* kind = editor_.catalogue().find(other->kind); kind != nullptr && kind->behaviour == "resistor")
                            for (const bench::WireItem& v : editor_.document().wires)
                                for (const auto& [a, b] : {std::pair(&v.from, &v.to), std::pair(&v.to, &v.from)})
                                    if (a->part == far->part && a->pin != far->pin)
                                        if (const bench::PartItem* beyond = editor_.document().part(b->part))
                                            name = QString::fromStdString(beyond->label.empty() ? beyond->id : beyond->label);
                    }
        }
        painter.setPen(theme::kTapeText);
        painter.setFont(theme::words(8.8));
        painter.drawText(QRectF(14, top, 92, laneHeight()), Qt::AlignVCenter, painter.fontMetrics().elidedText(name, Qt::ElideRight, 92));
        painter.setPen(theme::kTapeMuted);
        painter.setFont(theme::figures(7.8));
        painter.drawText(QRectF(100, top, kLabels - 110, laneHeight()), Qt::AlignVCenter | Qt::AlignRight, behind);
        painter.setPen(theme::kTapeGrid);
        painter.drawLine(QPointF(0, top + laneHeight()), QPointF(width(), top + laneHeight()));
        if (i < picture.lanes.size() && picture.lanes[i].name == lanes[i].text())
            drawLane(painter, picture.lanes[i], top, color);
        top += laneHeight();
    }
    for (const session::BusLane& bus : picture.buses) {
        drawBus(painter, bus, top);
        top += laneHeight();
    }
    drawSerialLane(painter, top);
    top += laneHeight();
    if (lanes.empty()) {
        painter.setPen(theme::kTapeMuted);
        painter.setFont(theme::words(9));
        painter.drawText(QRectF(0, top, width(), height() - top), Qt::AlignCenter, tr("No lanes. Select a part and click one of its pins in the inspector."));
    }
    // The present; behind it, after going back, what lies ahead if nothing else is done.
    painter.setRenderHint(QPainter::Antialiasing);
    const double x = xOf(picture.now);
    if (picture.latest > picture.now && x < width()) {
        QColor veil = theme::kTapeGround;
        veil.setAlpha(150);
        const double from = std::max(x, kLabels);
        painter.fillRect(QRectF(from, kRuler + 1, std::max(0.0, std::min(xOf(picture.latest), double(width())) - from), height()), veil);
    }
    if (x >= kLabels && x <= width()) {
        const QColor present(0xD0, 0x5C, 0x8C);
        painter.setPen(QPen(present, 1.6));
        painter.drawLine(QPointF(x, kRuler - 6), QPointF(x, height()));
        QPainterPath tip;
        tip.moveTo(x - 6, 4);
        tip.lineTo(x + 6, 4);
        tip.lineTo(x + 6, 12);
        tip.lineTo(x, 19);
        tip.lineTo(x - 6, 12);
        tip.closeSubpath();
        painter.fillPath(tip, present);
    }
    drawMarks(painter);
    drawCause(painter);
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
        if (x < width() - kPresentMargin - 40)
            painter.drawText(QRectF(x + 4, 0, 120, kRuler), Qt::AlignVCenter, QString::number(std::abs(t), 'f', decimals) + " s");
    }
    painter.fillRect(QRectF(0, 0, kLabels - 1, kRuler), theme::kTapeGround);
    painter.setPen(follow_ ? theme::kTapeText : QColor(0xE0, 0x8A, 0xB0));
    painter.setFont(theme::words(8.2, QFont::DemiBold));
    painter.drawText(QRectF(14, 0, kLabels - 14, kRuler), Qt::AlignVCenter, follow_ ? tr("at the present") : tr("back to the present"));
}

void TapeView::drawLane(QPainter& painter, const session::LanePicture& lane, double top, const QColor& color)
{
    const double margin = laneHeight() > 20 ? 6 : 4;
    const double high = top + margin;
    const double low = top + laneHeight() - margin;
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

// Addresses and bytes of a bus; what was not acknowledged, or broke off, in another colour.
void TapeView::drawBus(QPainter& painter, const session::BusLane& bus, double top)
{
    painter.setPen(theme::kTapeText);
    painter.setFont(theme::words(8.8));
    painter.drawText(QRectF(14, top, 40, laneHeight()), Qt::AlignVCenter, QString::fromStdString(bus.name));
    painter.setPen(theme::kTapeMuted);
    painter.setFont(theme::figures(7.8));
    painter.drawText(QRectF(50, top, kLabels - 60, laneHeight()), Qt::AlignVCenter | Qt::AlignRight, painter.fontMetrics().elidedText(QString::fromStdString(bus.lines), Qt::ElideLeft, static_cast<int>(kLabels - 60)));
    painter.setPen(theme::kTapeGrid);
    painter.drawLine(QPointF(0, top + laneHeight()), QPointF(width(), top + laneHeight()));
    if (bus.crowded) {
        painter.setPen(theme::kTapeMuted);
        painter.setFont(theme::words(8));
        painter.drawText(QRectF(kLabels + 8, top, plotWidth(), laneHeight()), Qt::AlignVCenter, tr("zoom in to read it"));
        return;
    }
    painter.setFont(theme::figures(7.6));
    const QFontMetricsF metrics(painter.font());
    painter.save();
    painter.setClipRect(QRectF(kLabels, top, width() - kLabels, laneHeight()));
    for (const tape::Decoded& item : bus.items) {
        const bool refused = item.text.ends_with("nack");
        if (item.from == item.to) {
            painter.setPen(QPen(theme::kTapeMuted, 1));
            painter.drawLine(QPointF(xOf(item.from), top + 3), QPointF(xOf(item.from), top + laneHeight() - 3));
            continue;
        }
        const QRectF block(xOf(item.from), top + 4, std::max(1.5, xOf(item.to) - xOf(item.from) - 1), laneHeight() - 8);
        painter.fillRect(block, !item.good || refused ? QColor(0xE0, 0x8A, 0x7A) : item.what == "address" ? QColor(0xB9, 0xA2, 0xE0) : QColor(0x8F, 0xC7, 0xA4));
        if (block.width() < 18)
            continue;
        QString text = QString::fromStdString(item.text);
        text.replace(", ack", "");
        if (metrics.horizontalAdvance(text) > block.width() - 4)
            text = text.section(' ', 0, 0).remove("0x").remove(',');
        painter.setPen(theme::kTapeGround);
        painter.drawText(block.adjusted(2, 0, -2, 0), Qt::AlignCenter, metrics.horizontalAdvance(text) <= block.width() - 2 ? text : QString());
    }
    painter.restore();
}

// What the first UART said, as blocks of text where there is room for it.
void TapeView::drawSerialLane(QPainter& painter, double top)
{
    const session::Picture& p = editor_.picture();
    if (p.uarts.empty())
        return;
    painter.setPen(theme::kTapeText);
    painter.setFont(theme::words(8.8));
    painter.drawText(QRectF(14, top, 92, laneHeight()), Qt::AlignVCenter, tr("serial out"));
    painter.setPen(theme::kTapeMuted);
    painter.setFont(theme::figures(7.8));
    painter.drawText(QRectF(80, top, kLabels - 90, laneHeight()), Qt::AlignVCenter | Qt::AlignRight, QString::fromStdString(p.uarts[0].name));
    painter.setPen(theme::kTapeGrid);
    painter.drawLine(QPointF(0, top + laneHeight()), QPointF(width(), top + laneHeight()));
    painter.setFont(theme::figures(7.6));
    const QFontMetricsF metrics(painter.font());
    painter.save();
    painter.setClipRect(QRectF(kLabels, top, width() - kLabels, laneHeight()));
    for (const session::SerialRun& run : p.serialLane) {
        const QRectF block(xOf(run.from), top + 4, std::max(2.0, xOf(run.to) - xOf(run.from) - 1), laneHeight() - 8);
        painter.fillRect(block, QColor(0x6F, 0xA8, 0xD6));
        if (block.width() <= 14 || run.text.empty())
            continue;
        QString text;
        for (const char c : run.text)
            text += c >= 32 && c < 127 ? QChar(c) : c == '\r' || c == '\n' ? QChar(' ') : QChar(0xB7);
        painter.setPen(theme::kTapeGround);
        painter.drawText(block.adjusted(4, 0, -2, 0), Qt::AlignVCenter, metrics.elidedText(text.trimmed(), Qt::ElideRight, block.width() - 6));
    }
    painter.restore();
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
    painter.setBrush(QColor(0xE8, 0xA3, 0x2B));
    painter.drawRoundedRect(box, 4, 4);
    painter.setPen(theme::kTapeGround);
    painter.drawText(box, Qt::AlignCenter, text);
}

// The edge under the pointer: when, and who did it.
void TapeView::drawCause(QPainter& painter)
{
    if (pointer_.x() < kLabels || pressed_)
        return;
    const auto index = static_cast<std::size_t>(std::max(0.0, (pointer_.y() - kRuler) / laneHeight()));
    const session::Picture& p = editor_.picture();
    if (pointer_.y() < kRuler || index >= p.lanes.size())
        return;
    const session::LanePicture::Edge* nearest = nullptr;
    double best = kSnap;
    for (const auto& edge : p.lanes[index].edges)
        if (const double d = std::abs(xOf(edge.at) - pointer_.x()); d < best) {
            best = d;
            nearest = &edge;
        }
    if (nearest == nullptr)
        return;
    static const char* const words[] = {"falls", "rises", "floats from here", "goes between thresholds", "two outputs fight from here"};
    const QString first = tr("%1 at %2").arg(words[std::min<int>(nearest->state, 4)], QString::fromStdString(kernel::formatClock(nearest->at)));
    const QString second = nearest->cause.empty() ? QString() : tr("by %1").arg(QString::fromStdString(nearest->cause));
    const QFont font = theme::figures(8.2);
    const QFontMetricsF metrics(font);
    const double w = std::max(metrics.horizontalAdvance(first), metrics.horizontalAdvance(second)) + 20;
    QRectF card(xOf(nearest->at) + 10, pointer_.y() + 12, w, second.isEmpty() ? 24 : 42);
    if (card.right() > width() - 4)
        card.moveRight(xOf(nearest->at) - 10);
    if (card.bottom() > height() - 4)
        card.moveBottom(pointer_.y() - 8);
    painter.setPen(QPen(theme::kRule, 1));
    painter.setBrush(theme::kCard);
    painter.drawRoundedRect(card, 6, 6);
    painter.setFont(font);
    painter.setPen(theme::kMuted);
    painter.drawText(QPointF(card.left() + 10, card.top() + 16), first);
    painter.setPen(theme::kInk);
    painter.drawText(QPointF(card.left() + 10, card.top() + 33), second);
}

void TapeView::resizeEvent(QResizeEvent*) { request(); }

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
    const auto index = static_cast<std::size_t>(std::max(0.0, (y - kRuler) / laneHeight()));
    Time best = timeAt(x);
    double nearest = kSnap;
    if (index < p.lanes.size())
        for (const auto& edge : p.lanes[index].edges)
            if (const double d = std::abs(xOf(edge.at) - x); d < nearest) {
                nearest = d;
                best = edge.at;
            }
    return best;
}

void TapeView::mousePressEvent(QMouseEvent* event)
{
    pressAt_ = event->position();
    pressed_ = true;
    dragged_ = false;
    toAtPress_ = editor_.picture().tapeTo;
    if (overPresent(pressAt_)) {
        // The window stands still while the present is dragged through it.
        grabbed_ = true;
        rest();
        return;
    }
    if (pressAt_.y() < kRuler && pressAt_.x() < kLabels) {
        pressed_ = false;
        follow(span_);
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
    if (!click || event->position().x() < kLabels)
        return;
    if (event->button() == Qt::RightButton) {
        markA_.reset();
        markB_.reset();
    } else if ((event->modifiers() & Qt::ShiftModifier) != 0 && markA_) {
        markB_ = snapped(event->position().x(), event->position().y());
    } else {
        markA_ = snapped(event->position().x(), event->position().y());
        markB_.reset();
    }
    update();
}

void TapeView::mouseDoubleClickEvent(QMouseEvent*)
{
    markA_.reset();
    markB_.reset();
    follow(span_);
}

void TapeView::leaveEvent(QEvent*)
{
    pointer_ = {-1, -1};
    update();
}

}  // namespace bramix::app
