// How the tape is drawn; what a hand does to it is in tape_view.cpp.
#include "app/tape/tape_view.h"

#include <cmath>

#include <QPainter>
#include <QPainterPath>
#include <QSvgGenerator>

#include "app/shell/scale.h"
#include "app/shell/theme.h"
#include "app/tape/tape_layout.h"

namespace bramix::app {

using namespace tape_layout;
using kernel::Duration;
using kernel::Time;

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
        case Row::Kind::group: drawGroup(painter, row); break;
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
    drawStory(painter);
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
    // Edges of the line of code that is looked for.
    const QString by = search_->text().trimmed();
    if (!by.startsWith("by ") || row.index >= lanes.size())
        return;
    const std::string place = by.mid(3).trimmed().toStdString();
    painter.setRenderHint(QPainter::Antialiasing);
    for (const auto& edge : lanes[row.index].edges)
        if (const std::size_t found = edge.cause.find(place); found != std::string::npos && (found + place.size() == edge.cause.size() || std::isdigit(static_cast<unsigned char>(edge.cause[found + place.size()])) == 0)) {
            const double x = xOf(edge.at);
            if (x < kLabels)
                continue;
            painter.setPen(Qt::NoPen);
            painter.setBrush(kPresent);
            painter.drawEllipse(QPointF(x, row.top + row.height / 2), 3, 3);
        }
    painter.setRenderHint(QPainter::Antialiasing, false);
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
    else if (lane.crowded && lane.items.empty())
        say(tr("zoom in to read it"), theme::kTapeMuted);
    else if (!lane.depths.empty())
        drawFunctions(painter, lane, row);
    else if (lane.speaks) {
        // What it means to the part above what the bus says.
        Row upper = row, lower = row;
        upper.height = std::floor(row.height / 2);
        lower.top += upper.height - 2;
        lower.height -= upper.height - 2;
        drawMeaning(painter, lane.meaning, upper);
        drawItems(painter, lane, lower);
    } else
        drawItems(painter, lane, row);
    // What is being looked for still.
    if (const double x = std::max(xOf(lane.knownTo), kLabels); lane.trouble.empty() && lane.knownTo < std::min(editor_.picture().tapeTo, editor_.picture().latest) && x < width()) {
        painter.fillRect(QRectF(x, row.top + 3, width() - x, row.height - 6), QBrush(theme::kTapeGrid, Qt::BDiagPattern));
        if (width() - x > 120) {
            painter.setPen(theme::kTapeMuted);
            painter.setFont(theme::words(8));
            painter.drawText(QRectF(x + 8, row.top, width() - x, row.height), Qt::AlignVCenter, lane.crowded ? tr("more than can be shown: zoom in") : tr("looking back …"));
        }
    }
    painter.restore();
}

// A heading: a wedge that points at what is under it, or to the side where that is folded away.
void TapeView::drawGroup(QPainter& painter, const Row& row)
{
    const auto spec = session::parseLane(row.text);
    if (!spec)
        return;
    const QRectF band(0, row.top, width(), row.height);
    painter.fillRect(band, QColor(0x2E, 0x24, 0x33));
    painter.setRenderHint(QPainter::Antialiasing);
    painter.save();
    painter.translate(13, band.center().y());
    painter.rotate(spec->folded ? 0 : 90);
    QPainterPath wedge;
    wedge.moveTo(-2.5, -4);
    wedge.lineTo(3.5, 0);
    wedge.lineTo(-2.5, 4);
    wedge.closeSubpath();
    painter.fillPath(wedge, theme::kTapeMuted);
    painter.restore();
    painter.setRenderHint(QPainter::Antialiasing, false);
    painter.setPen(theme::kTapeText);
    painter.setFont(theme::words(8.2, QFont::DemiBold));
    painter.drawText(QRectF(22, row.top, kLabels - 24, row.height), Qt::AlignVCenter, painter.fontMetrics().elidedText(text(spec->chip), Qt::ElideRight, static_cast<int>(kLabels) - 26));
    if (spec->folded) {
        painter.setFont(theme::words(8));
        painter.setPen(theme::kTapeMuted);
        const std::vector<std::string>& order = editor_.laneOrder();
        int hidden = 0;
        for (std::size_t i = row.index + 1; i < order.size(); ++i, ++hidden)
            if (const auto next = session::parseLane(order[i]); next && next->kind == session::LaneSpec::Kind::group)
                break;
        painter.drawText(QRectF(kLabels + 8, row.top, plotWidth(), row.height), Qt::AlignVCenter, hidden == 1 ? tr("one lane folded away") : tr("%1 lanes folded away").arg(hidden));
    }
}

// The same name has the same tint at every start: a sum of its letters, each with another weight.
static std::size_t tintOf(const std::string& name)
{
    std::size_t sum = 0;
    for (const char c : name)
        sum = sum * 31 + static_cast<unsigned char>(c);
    return sum;
}

// Who called whom: each function stands on the one that called it, an interrupt on what it interrupted.
void TapeView::drawFunctions(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
    static const std::array kTints{QColor(0x9D, 0xB8, 0x8A), QColor(0x8F, 0xB3, 0xB8), QColor(0xC9, 0xB6, 0x7C), QColor(0xA9, 0xA3, 0xCF), QColor(0xB8, 0x9A, 0x86), QColor(0x8D, 0xA7, 0xC4),
                                   QColor(0xC4, 0x9F, 0xB4), QColor(0xB5, 0xC2, 0x9B), QColor(0x9A, 0xBF, 0xA8), QColor(0xD0, 0xAE, 0x94), QColor(0xB3, 0xB1, 0xA2)};
    const std::size_t deepest = std::min(lane.rows, kMostDepth);
    const double step = (row.height - 4) / static_cast<double>(deepest);
    painter.setFont(theme::words(std::clamp(step * 0.52, 6.4, 8.2)));
    const QFontMetricsF metrics(painter.font());
    std::array<double, kMostDepth> drawnTo{};
    for (std::size_t i = 0; i < lane.items.size(); ++i) {
        const tape::Decoded& item = lane.items[i];
        const std::size_t depth = std::min<std::size_t>(lane.depths[i], deepest - 1);
        const double left = std::max(xOf(item.from), kLabels), right = std::min(xOf(item.to), double(width()));
        if (right < kLabels || left > width() || item.text.empty())
            continue;
        const QRectF block(left, row.top + row.height - 2 - step * static_cast<double>(depth + 1), std::max(1.0, right - left - 0.6), step - 1);
        if (block.right() < drawnTo[depth] + 0.5)
            continue;
        drawnTo[depth] = block.right();
        const QColor color = item.what == "interrupt" ? QColor(0xE0, 0xA2, 0x6E) : kTints[tintOf(item.text) % kTints.size()];
        painter.fillRect(block, color);
        if (block.width() < 16 || step < 8)
            continue;
        painter.setPen(theme::kTapeGround);
        painter.drawText(block.adjusted(3, 0, -2, 0), Qt::AlignVCenter, metrics.elidedText(text(item.text), Qt::ElideRight, block.width() - 5));
    }
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
                             : item.what == "value" || item.what == "stretch"         ? QColor(0x6E, 0x7C, 0x9C)
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

// Registers, characters, commands: in words, as wide as they took.
void TapeView::drawMeaning(QPainter& painter, const std::vector<tape::Decoded>& items, const Row& row)
{
    painter.setFont(theme::words(7.8));
    const QFontMetricsF metrics(painter.font());
    double drawnTo = 0;
    for (std::size_t i = 0; i < items.size(); ++i) {
        const tape::Decoded& item = items[i];
        const double left = xOf(item.from), right = xOf(item.to);
        if (right < kLabels || left > width())
            continue;
        QRectF block(left, row.top + 3, std::max(1.5, right - left - 1), row.height - 4);
        if (block.right() < drawnTo + 0.5)
            continue;
        drawnTo = block.right();
        const bool part = item.what == "part";
        painter.fillRect(block, part ? QColor(0x5C, 0x4A, 0x6E) : item.good ? QColor(0x4B, 0x5F, 0x56) : QColor(0x8A, 0x4A, 0x40));
        block.setLeft(std::max(block.left(), kLabels));
        if (block.width() < 12)
            continue;
        QString words = text(item.text);
        if (item.what == "data" && words.size() == 3 && words.startsWith('\'') && block.width() < 24)
            words = words.mid(1, 1);
        painter.setPen(QColor(0xEF, 0xE7, 0xDC));
        painter.drawText(block.adjusted(2, 0, -2, 0), Qt::AlignCenter, metrics.elidedText(words, Qt::ElideRight, block.width() - 4));
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

// What a UART said, as blocks of text where there is room for it.
void TapeView::drawSerialLane(QPainter& painter, const Row& row)
{
    const session::Picture& p = editor_.picture();
    if (row.index >= p.serialLanes.size())
        return;
    drawHeading(painter, row, tr("serial out"), text(p.serialLanes[row.index].name));
    painter.setFont(theme::figures(7.6));
    const QFontMetricsF metrics(painter.font());
    painter.save();
    painter.setClipRect(QRectF(kLabels, row.top, width() - kLabels, row.height));
    for (const session::SerialRun& run : p.serialLanes[row.index].runs) {
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

// Why the edge that was clicked came. A click on it leads to the code.
void TapeView::drawStory(QPainter& painter)
{
    storyCard_ = {};
    if (!story_ || !markA_ || *markA_ != story_->at || xOf(story_->at) < kLabels || xOf(story_->at) > width())
        return;
    const std::vector<Row> all = rows();
    const auto row = std::find_if(all.begin(), all.end(), [&](const Row& r) { return r.kind == Row::Kind::pin && r.text == story_->pin; });
    if (row == all.end())
        return;
    QStringList lines;
    for (const std::string& line : story_->story.lines)
        lines << text(line);
    const bool leads = !story_->story.place.empty();
    const QFont font = theme::figures(8.2), small = theme::words(7.8);
    const QFontMetricsF metrics(font);
    double w = 0;
    for (const QString& l : lines)
        w = std::max(w, metrics.horizontalAdvance(l));
    constexpr double kLine = 17;
    const double h = kLine * (static_cast<double>(lines.size()) + (leads ? 1 : 0)) + 10;
    storyCard_ = QRectF(xOf(story_->at) + 10, row->top + row->height + 2, std::max(w, 120.0) + 22, h);
    if (storyCard_.right() > width() - 4)
        storyCard_.moveRight(xOf(story_->at) - 10);
    if (storyCard_.bottom() > height() - 4)
        storyCard_.moveBottom(std::max(row->top - 2, kRuler + h + 2));
    painter.setPen(QPen(theme::kBramble, 1));
    painter.setBrush(theme::kCard);
    painter.drawRoundedRect(storyCard_, 6, 6);
    double y = storyCard_.top() + 17;
    for (qsizetype i = 0; i < lines.size(); ++i, y += kLine) {
        painter.setFont(font);
        painter.setPen(i == 0 ? theme::kInk : theme::kMuted);
        painter.drawText(QPointF(storyCard_.left() + 11, y), lines[i]);
    }
    if (leads) {
        painter.setFont(small);
        painter.setPen(theme::kBramble);
        painter.drawText(QPointF(storyCard_.left() + 11, y), tr("click here to see the code"));
    }
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

}  // namespace bramix::app
