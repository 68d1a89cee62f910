// What stands over the lanes: what was done and noticed, marks, measures, and the cards that tell who did it and why.
#include "app/tape/tape_view.h"

#include <cmath>

#include <QPainter>
#include <QPainterPath>

#include "app/shell/scale.h"
#include "app/shell/theme.h"
#include "app/tape/tape_layout.h"

namespace bramix::app {

using namespace tape_layout;
using kernel::Duration;
using kernel::Time;

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
        painter.setPen(QPen(theme::kTapeWarning, 1.2, Qt::DashLine));
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
    QRectF box(std::clamp(x - w / 2, kLabels, width() - w - 4), 3, w, kRuler - 6);
    // Beside the present's head, which a hand takes hold of.
    constexpr double kHead = 9;
    if (const double head = xOf(editor_.picture().now); box.left() < head + kHead && box.right() > head - kHead)
        box.moveLeft(head - kHead - w >= kLabels ? head - kHead - w : head + kHead);
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
    if (!markA_ || !markB_)
        return;
    if (!p.measured) {
        if (const QStringList lines = functionMeasures(); !lines.isEmpty())
            drawCard(painter, {double(width()), double(height())}, lines);
        return;
    }
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
    painter.setPen(QPen(theme::rule(), 1));
    painter.setBrush(theme::card());
    painter.drawRoundedRect(card, 6, 6);
    painter.setFont(font);
    double y = card.top() + 7 + metrics.ascent();
    for (qsizetype i = 0; i < lines.size(); ++i, y += metrics.height()) {
        painter.setPen(i == 0 ? theme::muted() : theme::ink());
        painter.drawText(QPointF(card.left() + 11, y), lines[i]);
    }
    if (!bars)
        return;
    const std::uint32_t tallest = *std::max_element(m.histogram.begin(), m.histogram.end());
    const double step = (card.width() - 22) / static_cast<double>(m.histogram.size());
    for (std::size_t i = 0; i < m.histogram.size(); ++i)
        if (m.histogram[i] > 0) {
            const double bar = std::max(1.5, 26.0 * m.histogram[i] / tallest);
            painter.fillRect(QRectF(card.left() + 11 + step * static_cast<double>(i), card.bottom() - 7 - bar, std::max(1.0, step - 1), bar), theme::bramble());
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
    painter.setPen(QPen(theme::rule(), 1));
    painter.setBrush(theme::card());
    painter.drawRoundedRect(card, 6, 6);
    painter.setFont(font);
    for (qsizetype i = 0; i < lines.size(); ++i) {
        painter.setPen(i == 0 && lines.size() > 1 ? theme::muted() : theme::ink());
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
        if (const QStringList lines = sharesAt(lane, pointer_.x()); !lines.isEmpty())
            return drawCard(painter, pointer_, lines);
        if (!lane.wave.empty()) {
            const auto column = static_cast<std::size_t>(std::max(0.0, pointer_.x() - kLabels));
            if (column >= lane.wave.size() || !lane.wave[column].known)
                return;
            const tape::WaveColumn& c = lane.wave[column];
            const auto number = [](double v) { return QString::number(v, 'g', 8); };
            drawCard(painter, pointer_, {lane.text.starts_with("volts ") ? text(kernel::formatQuantity(c.first, kernel::Unit::volt, 4)) : c.least == c.most ? number(c.first) : tr("%1 … %2").arg(number(c.least), number(c.most))});
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
    painter.setPen(QPen(theme::bramble(), 1));
    painter.setBrush(theme::card());
    painter.drawRoundedRect(storyCard_, 6, 6);
    double y = storyCard_.top() + 17;
    for (qsizetype i = 0; i < lines.size(); ++i, y += kLine) {
        painter.setFont(font);
        painter.setPen(i == 0 ? theme::ink() : theme::muted());
        painter.drawText(QPointF(storyCard_.left() + 11, y), lines[i]);
    }
    if (leads) {
        painter.setFont(small);
        painter.setPen(theme::bramble());
        painter.drawText(QPointF(storyCard_.left() + 11, y), tr("click here to see the code"));
    }
}

}  // namespace bramix::app
