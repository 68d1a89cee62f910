// The lanes of the tape, each kind in its own way.
#include "app/tape/tape_view.h"

#include <cmath>

#include <QPainter>
#include <QPainterPath>

#include "app/shell/scale.h"
#include "app/shell/theme.h"
#include "app/tape/tape_layout.h"

namespace bramix::app {

using namespace tape_layout;
using kernel::Time;

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
    painter.setClipRect(QRectF(kLabels, row.top, plotWidth() + 1, row.height));
    if (!lane.trouble.empty())
        say(text(lane.trouble), QColor(0xE0, 0x8A, 0x7A));
    else if (!lane.wave.empty())
        drawWave(painter, lane, row);
    else if (lane.crowded && !lane.text.starts_with("interrupts ") && !lane.columns.empty())
        drawCrowd(painter, lane, row);
    else if (!lane.columns.empty())
        drawLevels(painter, {lane.text, 0, lane.columns, {}}, row, QColor(0xD9, 0xB0, 0x8C));
    else if (lane.crowded && lane.items.empty())
        say(tr("zoom in to read it"), theme::kTapeMuted);
    else if (!lane.depths.empty())
        drawFunctions(painter, lane, row);
    else if (!lane.shares.empty())
        drawShares(painter, lane, row);
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
    const Time end = std::min(editor_.picture().tapeTo, editor_.picture().latest);
    if (const double x = std::max(xOf(std::min(lane.knownTo, end)), kLabels); lane.trouble.empty() && lane.knownTo < end && x < width()) {
        painter.fillRect(QRectF(x, row.top + 3, width() - x, row.height - 6), QBrush(theme::kTapeGrid, Qt::BDiagPattern));
        if (width() - x > 120) {
            painter.setPen(theme::kTapeMuted);
            painter.setFont(theme::words(8));
            painter.drawText(QRectF(x + 8, row.top, width() - x, row.height), Qt::AlignVCenter, lane.crowded ? tr("more than can be shown: zoom in") : tr("looking back…"));
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

// More than can be told one by one: where the line speaks, and where something stands out.
void TapeView::drawCrowd(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
    const QRectF band(0, row.top + 4, 0, row.height - 8);
    QVector<QRectF> spoken;
    for (std::size_t i = 0; i < lane.columns.size(); ++i) {
        if (lane.columns[i].first == 0)
            continue;
        const double x = kLabels + static_cast<double>(i);
        if (!spoken.isEmpty() && spoken.back().right() >= x)
            spoken.back().setRight(x + 1);
        else
            spoken.append(QRectF(x, band.top(), 1, band.height()));
    }
    for (const QRectF& block : spoken) {
        painter.fillRect(block, QColor(0x55, 0x74, 0x64));
        painter.fillRect(QRectF(block.left(), block.top(), block.width(), 1), QColor(0x8F, 0xC7, 0xA4));
    }
    for (const Time at : lane.outstanding)
        painter.fillRect(QRectF(xOf(at) - 1, band.top(), 2, band.height()), QColor(0xE0, 0x8A, 0x7A));
}

// Addresses and bytes, numbers, interrupts; what was not acknowledged, or broke off, in another colour.
void TapeView::drawItems(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
    painter.setFont(theme::figures(7.6));
    const QFontMetricsF metrics(painter.font());
    // Where blocks are too narrow to be told apart, one covers them all.
    double drawnTo = 0;
    for (const tape::Decoded& item : lane.items) {
        const bool refused = tape::standsOut(true, item.text);
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
    const bool volts = lane.text.starts_with("volts ");
    const double margin = std::max((lane.high - lane.low) * 0.08, volts ? 0.01 : 0.5);
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
    const auto words = [&](double v) { return volts ? text(kernel::formatQuantity(v, kernel::Unit::volt, 4)) : QString::number(v, 'g', 8); };
    drawBound(painter, words(lane.high), row.top + 1);
    if (lane.high - lane.low > (volts ? 0.005 : 0.0))
        drawBound(painter, words(lane.low), row.top + row.height - 13);
}

// How much the top or the bottom of a lane is.
void TapeView::drawBound(QPainter& painter, const QString& words, double top)
{
    painter.setFont(theme::figures(7.2));
    painter.setPen(theme::kTapeMuted);
    const QRectF box(kLabels, top, painter.fontMetrics().horizontalAdvance(words) + 10, 12);  // up to the edge, so that no stump of the line looks like a sign
    painter.fillRect(box, theme::kTapeGround);
    painter.drawText(box, Qt::AlignCenter, words);
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

}  // namespace bramix::app
