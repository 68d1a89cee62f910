// The lane of functions: who called whom, or who had how much; and what they had between the marks.
#include <QPainter>

#include <algorithm>
#include <array>

#include "app/shell/editor.h"
#include "app/shell/theme.h"
#include "app/tape/tape_layout.h"
#include "app/tape/tape_view.h"

namespace bramix::app {

using namespace tape_layout;

namespace {

// The same name has the same tint at every start: a sum of its letters, each with another weight.
QColor tintOf(const std::string& name)
{
    static const std::array kTints{QColor(0x9D, 0xB8, 0x8A), QColor(0x8F, 0xB3, 0xB8), QColor(0xC9, 0xB6, 0x7C), QColor(0xA9, 0xA3, 0xCF), QColor(0xB8, 0x9A, 0x86), QColor(0x8D, 0xA7, 0xC4),
                                   QColor(0xC4, 0x9F, 0xB4), QColor(0xB5, 0xC2, 0x9B), QColor(0x9A, 0xBF, 0xA8), QColor(0xD0, 0xAE, 0x94), QColor(0xB3, 0xB1, 0xA2)};
    std::size_t sum = 0;
    for (const char c : name)
        sum = sum * 31 + static_cast<unsigned char>(c);
    return kTints[sum % kTints.size()];
}

const QColor kInterrupt(0xE0, 0xA2, 0x6E), kAsleep(0x45, 0x3B, 0x4A), kInReset(0x7A, 0x45, 0x40);

QColor tintOf(const session::FunctionShare& f)
{
    switch (f.kind) {
    case session::FunctionShare::Kind::interrupt: return kInterrupt;
    case session::FunctionShare::Kind::asleep: return kAsleep;
    case session::FunctionShare::Kind::inReset: return kInReset;
    case session::FunctionShare::Kind::function: break;
    }
    return tintOf(f.name);
}

QColor inkOn(const QColor& ground) { return ground.lightness() < 110 ? theme::kTapeText : theme::kTapeGround; }

}  // namespace

// Who called whom: each function stands on the one that called it, an interrupt on what it interrupted.
void TapeView::drawFunctions(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
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
        const QColor color = item.what == "interrupt" ? kInterrupt : item.what == "asleep" ? kAsleep : tintOf(item.text);
        painter.fillRect(block, color);
        if (block.width() < 16 || step < 8)
            continue;
        painter.setPen(inkOn(color));
        painter.drawText(block.adjusted(3, 0, -2, 0), Qt::AlignVCenter, metrics.elidedText(text(item.text), Qt::ElideRight, block.width() - 5));
    }
}

namespace {

bool runs(const session::FunctionShare& f) { return f.kind != session::FunctionShare::Kind::asleep && f.kind != session::FunctionShare::Kind::inReset; }

// The share that fills the lane: where the core mostly sleeps, no more than the busiest column needs.
double fullShare(const session::ReadLane& lane)
{
    double most = 0, sum = 0;
    std::uint32_t column = UINT32_MAX;
    for (const session::ReadLane::Share& s : lane.shares) {
        if (s.column != column)
            sum = 0;
        column = s.column;
        sum += runs(lane.functions[s.function]) ? static_cast<double>(s.part) : 0;
        most = std::max(most, sum);
    }
    for (const double step : {0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5})
        if (most <= step)
            return step;
    return 1;
}

}  // namespace

// Who had how much of each column, those that had the most in the window at the bottom. A name stands where its band is wide and high enough for it.
void TapeView::drawShares(QPainter& painter, const session::ReadLane& lane, const Row& row)
{
    const double full = fullShare(lane);
    const double top = row.top + 2, bottom = row.top + row.height - 2, whole = (bottom - top) / full;
    struct Band {
        QVector<QRectF> blocks;
        // The stretch of columns under way in which it is high enough, and what of its height all of them have; and the longest such stretch.
        double from = -1, to = -1, top = 0, bottom = 0;
        QRectF best;
    };
    std::vector<Band> bands(lane.functions.size());
    painter.setFont(theme::words(7.2));
    const QFontMetricsF metrics(painter.font());
    constexpr double lowest = 8;
    std::uint32_t column = UINT32_MAX;
    double y = bottom;
    for (const session::ReadLane::Share& s : lane.shares) {
        if (s.column != column)
            y = bottom;
        column = s.column;
        const double x = kLabels + s.column, height = whole * static_cast<double>(s.part);
        Band& band = bands[s.function];
        const QRectF block(QPointF(x, std::max(y - height, top)), QPointF(x + 1, y));
        y = block.top();
        if (!band.blocks.isEmpty() && band.blocks.back().right() == x && std::abs(band.blocks.back().top() - block.top()) < 0.2 && std::abs(band.blocks.back().bottom() - block.bottom()) < 0.2)
            band.blocks.back().setRight(x + 1);
        else
            band.blocks.append(block);
        const bool goesOn = band.to == x && std::min(band.bottom, block.bottom()) - std::max(band.top, block.top()) >= lowest;
        if (!goesOn) {
            band.from = x;
            band.top = block.top();
            band.bottom = block.bottom();
        }
        band.top = std::max(band.top, block.top());
        band.bottom = std::min(band.bottom, block.bottom());
        band.to = x + 1;
        if (band.bottom - band.top >= lowest && band.to - band.from > band.best.width())
            band.best = QRectF(band.from, band.top, band.to - band.from, band.bottom - band.top);
    }
    for (std::size_t i = 0; i < bands.size(); ++i) {
        painter.setPen(Qt::NoPen);
        painter.setBrush(tintOf(lane.functions[i]));
        painter.drawRects(bands[i].blocks);
    }
    for (std::size_t i = 0; i < bands.size(); ++i) {
        // Where the bound of the lane stands there is no room.
        constexpr double kBound = 46, kBoundHeight = 13;
        if (bands[i].best.top() < row.top + kBoundHeight && bands[i].best.bottom() < row.top + kBoundHeight + lowest)
            bands[i].best.setLeft(std::max(bands[i].best.left(), kLabels + kBound));
        else
            bands[i].best.setTop(std::max(bands[i].best.top(), row.top + kBoundHeight));
        if (bands[i].best.width() < 18)
            continue;
        painter.setPen(inkOn(tintOf(lane.functions[i])));
        painter.drawText(bands[i].best.adjusted(3, 0, -3, 0), Qt::AlignVCenter, metrics.elidedText(named(lane.functions[i]), Qt::ElideRight, bands[i].best.width() - 6));
    }
    drawBound(painter, QString("%1 %").arg(full * 100), row.top + 1);
}

QString TapeView::named(const session::FunctionShare& f)
{
    switch (f.kind) {
    case session::FunctionShare::Kind::asleep: return tr("asleep");
    case session::FunctionShare::Kind::inReset: return tr("in reset");
    default: return text(f.name);
    }
}

// Who had how much of a column.
QStringList TapeView::sharesAt(const session::ReadLane& lane, double x) const
{
    constexpr qsizetype kMost = 9;
    const auto column = static_cast<std::int64_t>(x - kLabels);
    std::vector<session::ReadLane::Share> there;
    std::copy_if(lane.shares.begin(), lane.shares.end(), std::back_inserter(there), [&](const auto& s) { return s.column == column; });
    std::sort(there.begin(), there.end(), [](const auto& a, const auto& b) { return a.part > b.part; });
    QStringList lines;
    if (there.empty())
        return lines;
    lines << tr("%1, of %2").arg(text(kernel::formatClock(timeAt(x))), seconds(kernel::seconds(span_) / plotWidth(), 3));
    for (const auto& s : there) {
        if (lines.size() == kMost) {
            lines << tr("… and %1 more").arg(there.size() - static_cast<std::size_t>(kMost) + 1);
            break;
        }
        lines << QString("%1 %  %2").arg(static_cast<double>(s.part) * 100, 5, 'f', 1).arg(named(lane.functions[s.function]));
    }
    return lines;
}

// The same of what lies between the marks.
QStringList TapeView::functionMeasures() const
{
    constexpr std::size_t kMost = 10;
    const auto& functions = editor_.picture().measuredFunctions;
    QStringList lines;
    if (functions.empty() || !markA_ || !markB_)
        return lines;
    lines << tr("functions between the marks");
    const double whole = std::max(1e-12, std::abs(kernel::seconds(*markB_ - *markA_)));
    for (std::size_t i = 0; i < std::min(functions.size(), kMost); ++i)
        lines << QString("%1 %  %2  %3").arg(functions[i].seconds / whole * 100, 6, 'f', 2).arg(seconds(functions[i].seconds, 4), -9).arg(named(functions[i]));
    if (functions.size() > kMost) {
        double rest = 0;
        for (std::size_t i = kMost; i < functions.size(); ++i)
            rest += functions[i].seconds;
        lines << QString("%1 %  %2  %3").arg(rest / whole * 100, 6, 'f', 2).arg(seconds(rest, 4), -9).arg(tr("%1 more").arg(functions.size() - kMost));
    }
    return lines;
}

}  // namespace bramix::app
