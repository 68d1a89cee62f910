// What the bench looks like. Order: paper and dots, wires, bodies (all in the static pixmap); glow, faces, flags, labels, beads,
// selection, what is being drawn, the hover card.
#include <algorithm>
#include <cmath>

#include <QPaintEvent>
#include <QPainter>
#include <QPainterPath>

#include "app/canvas/bench_view.h"
#include "bench/pin_functions.h"
#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

using bench::GridPoint;
using bench::PinRef;

namespace {

constexpr double kNear = 0.55; // zoom
constexpr int kMargin = 96;  // pixels around the widget that are drawn too

// A right-angled path with its corners rounded.
constexpr QColor kRibbon(0xE9, 0xDF, 0xCC);

QPainterPath roundedPath(const QPolygonF& points)
{
    constexpr double kRadius = 6;
    QPainterPath path;
    if (points.isEmpty())
        return path;
    path.moveTo(points[0]);
    for (qsizetype i = 1; i + 1 < points.size(); ++i) {
        const QPointF corner = points[i];
        const auto toward = [&](QPointF other) {
            const QPointF d = other - corner;
            const double length = std::hypot(d.x(), d.y());
            return length == 0 ? corner : corner + d / length * std::min(kRadius, length / 2);
        };
        path.lineTo(toward(points[i - 1]));
        path.quadTo(corner, toward(points[i + 1]));
    }
    path.lineTo(points.back());
    return path;
}

// One by one: right-angled lines are rectangles to the painter, a whole polyline is a path, which takes many times as long.
void drawSegments(QPainter& painter, const QPolygonF& line)
{
    for (qsizetype k = 1; k < line.size(); ++k)
        painter.drawLine(line[k - 1], line[k]);
}

const char* stateWord(const session::PinPicture& pin)
{
    using circuit::NetState;
    switch (pin.state) {
    case NetState::low: return "low";
    case NetState::high: return "high";
    case NetState::floating: return "floating";
    case NetState::between: return "between thresholds";
    case NetState::conflict: return "two outputs fight";
    }
    return "";
}

QString quantity(double value, kernel::Unit unit) { return QString::fromStdString(kernel::formatQuantity(value, unit, 3)); }

// What a voltage did over a while, in two lines; one where it stood still.
QStringList measured(const tape::WaveMeasures& m, kernel::Duration span)
{
    const QString over = QString::fromStdString(kernel::formatQuantity(kernel::seconds(span), kernel::Unit::second));
    if (m.most - m.least < 2e-3)
        return {QObject::tr("steady for %1").arg(over)};
    return {QObject::tr("%1 … %2 in %3").arg(quantity(m.least, kernel::Unit::volt), quantity(m.most, kernel::Unit::volt), over),
            QObject::tr("mean %1, rms %2").arg(quantity(m.mean, kernel::Unit::volt), quantity(m.rms, kernel::Unit::volt))};
}

const char* roleWord(const session::PinPicture& pin)
{
    return pin.supply ? "supply" : pin.drives ? "output" : pin.pullsUp ? "input with pull-up" : "input";
}

}  // namespace

void BenchView::paintEvent(QPaintEvent*)
{
    // While a hand pans or zooms, what has been drawn is shifted and stretched; it is drawn anew when the hand rests, or has gone beyond its margin.
    const bool hasty = (doing_ == Doing::panning || settling_.isActive()) && !static_.isNull() && !contentDirty_;
    const double stretch = zoom_ / staticZoom_;
    const QRectF shown(offset_ - (staticOffset_ + QPointF(kMargin, kMargin)) * stretch, QSizeF(width() + 2 * kMargin, height() + 2 * kMargin) * stretch);
    const bool covers = shown.contains(QRectF(rect()));
    if ((staticDirty_ && !(hasty && covers)) || static_.size() != (size() + QSize(2 * kMargin, 2 * kMargin)) * devicePixelRatioF()) {
        drawStatic();
        return paintDynamic(QRectF(QPointF(-kMargin, -kMargin), QSizeF(width() + 2 * kMargin, height() + 2 * kMargin)));
    }
    paintDynamic(staticDirty_ ? shown : QRectF(QPointF(-kMargin, -kMargin), QSizeF(width() + 2 * kMargin, height() + 2 * kMargin)));
}

void BenchView::paintDynamic(const QRectF& ground)
{
    QPainter painter(this);
    painter.drawPixmap(ground, static_, QRectF(static_.rect()));
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(offset_);
    painter.scale(zoom_, zoom_);
    const session::Picture& picture = editor_.picture();
    for (const bool glow : {true, false})
        for (const bench::PartItem& part : editor_.document().parts)
            if (const bench::PartKind* kind = editor_.catalogue().find(part.kind)) {
                painter.save();
                painter.translate(toUnits(part.at));
                if (glow)
                    art_.drawGlow(painter, *kind, part, picture);
                else
                    art_.drawFace(painter, *kind, part, picture);
                painter.restore();
            }
    drawSelection(painter);  // no name is hidden by a frame
    flags_.clear();
    for (const bench::NetItem& net : editor_.document().nets)
        for (const PinRef& pin : net.pins)
            for (const PinSpot& spot : spots_)
                if (spot.ref == pin)
                    drawFlag(painter, spot, QString::fromStdString(net.name));
    drawLabels(painter);
    drawFunctions(painter);
    drawBeads(painter);
    drawNetUnderPointer(painter);
    drawWireInProgress(painter);
    drawBand(painter);
    painter.resetTransform();
    drawEmptyHint(painter);
    drawProbes(painter);
    drawNotBuilt(painter);
    drawHoverCard(painter);
}

// For as long as what is drawn is not what is there, across the top of the bench.
void BenchView::drawNotBuilt(QPainter& painter) const
{
    const std::string& reason = editor_.picture().notBuilt;
    if (reason.empty())
        return;
    const QFont headFont = theme::words(10, QFont::DemiBold), font = theme::words(9.4);
    const QString head = tr("The bench stands still: it cannot be built as it is drawn.");
    const double room = width() - 48;
    const QRectF text = QFontMetricsF(font).boundingRect(QRectF(0, 0, room, 200), Qt::TextWordWrap, QString::fromStdString(reason));
    const QRectF strip(12, 10, width() - 24, 40 + text.height());
    painter.setPen(Qt::NoPen);
    painter.setBrush(theme::rust());
    painter.drawRoundedRect(strip, 6, 6);
    painter.setPen(Qt::white);
    painter.setFont(headFont);
    painter.drawText(QPointF(strip.left() + 12, strip.top() + 20), head);
    painter.setFont(font);
    painter.drawText(QRectF(strip.left() + 12, strip.top() + 28, room, text.height() + 4), Qt::TextWordWrap, QString::fromStdString(reason));
}

// A dark tag on a stalk beside each probed pin, in the colours of the instruments.
void BenchView::drawProbes(QPainter& painter)
{
    probeTags_.clear();
    const QFont bigFont = theme::figures(9.6, QFont::DemiBold);
    const QFont smallFont = theme::words(7.8);
    for (const PinRef& ref : editor_.probes())
        for (const PinSpot& spot : spots_) {
            const auto now = editor_.picture().pins.find(ref);
            if (spot.ref != ref || now == editor_.picture().pins.end())
                continue;
            const auto over = editor_.picture().probes.find(ref);
            const QStringList lines = over == editor_.picture().probes.end() ? QStringList() : measured(over->second, editor_.picture().probeSpan);
            const QString big = now->second.state == circuit::NetState::floating ? tr("floating") : quantity(now->second.volts, kernel::Unit::volt);
            double width = QFontMetricsF(bigFont).horizontalAdvance(big);
            for (const QString& line : lines)
                width = std::max(width, QFontMetricsF(smallFont).horizontalAdvance(line));
            const QPointF root = toWidget(spot.at);
            QRectF tag(root.x() + 14, root.y() + 16, width + 18, 24 + 14.0 * static_cast<double>(lines.size()));
            tag.moveLeft(std::clamp(tag.left(), 4.0, std::max(4.0, this->width() - tag.width() - 4)));
            tag.moveTop(std::clamp(tag.top(), 4.0, std::max(4.0, this->height() - tag.height() - 4)));
            // Beside a tag that is there already.
            for (const auto& [other, box] : probeTags_)
                if (box.adjusted(-3, -3, 3, 3).intersects(tag))
                    tag.moveTop(box.bottom() + 4);
            painter.setPen(QPen(theme::kTapeGround, 1.6));
            painter.drawLine(root, QPointF(std::clamp(root.x(), tag.left() + 4, tag.right() - 4), root.y() > tag.center().y() ? tag.bottom() : tag.top()));
            painter.setPen(Qt::NoPen);
            painter.setBrush(theme::kTapeGround);
            painter.drawRoundedRect(tag, 5, 5);
            painter.setPen(QColor(0xF0, 0xB4, 0x5A));
            painter.setFont(bigFont);
            painter.drawText(QPointF(tag.left() + 9, tag.top() + 17), big);
            painter.setPen(theme::kTapeText);
            painter.setFont(smallFont);
            for (qsizetype i = 0; i < lines.size(); ++i)
                painter.drawText(QPointF(tag.left() + 9, tag.top() + 31 + 14.0 * static_cast<double>(i)), lines[i]);
            probeTags_.emplace_back(ref, tag);
        }
}

std::optional<PinRef> BenchView::probeAt(QPointF widget) const
{
    for (const auto& [ref, tag] : probeTags_)
        if (tag.contains(widget))
            return ref;
    return std::nullopt;
}

void BenchView::drawStatic()
{
    staticDirty_ = contentDirty_ = false;
    staticZoom_ = zoom_;
    staticOffset_ = offset_;
    const QSize whole = size() + QSize(2 * kMargin, 2 * kMargin);
    static_ = QPixmap(whole * devicePixelRatioF());
    static_.setDevicePixelRatio(devicePixelRatioF());
    static_.fill(theme::paper());
    QPainter painter(&static_);
    painter.translate(kMargin, kMargin);
    const QTransform widget = painter.transform();
    // Dots grow sparse when they would run together.
    int every = 1;
    while (kStep * zoom_ * every < 11)
        every *= 2;
    const double step = kStep * every * zoom_;
    const double dot = zoom_ > 1.4 ? 2.0 : 1.4;
    for (double y = std::fmod(offset_.y(), step) - std::ceil(kMargin / step) * step; y < height() + kMargin; y += step)
        for (double x = std::fmod(offset_.x(), step) - std::ceil(kMargin / step) * step; x < width() + kMargin; x += step)
            painter.fillRect(QRectF(x - dot / 2, y - dot / 2, dot, dot), theme::dot());
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(offset_);
    painter.scale(zoom_, zoom_);
    // On paper wires pass over each other with a gap; where they run onto a body they have none.
    const auto drawBodies = [&](bool boards) {
        for (const bench::PartItem& part : editor_.document().parts)
            if (const bench::PartKind* kind = editor_.catalogue().find(part.kind); kind != nullptr && kind->plugs == boards) {
                painter.save();
                painter.translate(toUnits(part.at));
                art_.drawBody(painter, *kind, part, zoom_ * devicePixelRatioF());
                art_.drawStill(painter, *kind, part);
                painter.restore();
            }
    };
    drawBodies(true);
    drawWires(painter, true);
    drawBodies(false);
    QRegion bodies;
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind)) {
            if (kind->chip != nullptr) {
                const QRectF box = art_.sheetBox(*kind, part);
                bodies += QRectF(toWidget(box.topLeft()), box.size() * zoom_).toAlignedRect();
            }
        }
    if (bodies.isEmpty())
        return;
    painter.setTransform(widget);
    painter.setClipRegion(bodies);
    painter.translate(offset_);
    painter.scale(zoom_, zoom_);
    const QRect over = bodies.boundingRect();
    drawWires(painter, false, QRectF(toSheet(over.topLeft()), toSheet(over.bottomRight())));
}

void BenchView::drawWires(QPainter& painter, bool withGaps, const QRectF& within)
{
    for (const Ribbon& ribbon : wires_.ribbons) {
        const QPainterPath band = roundedPath(ribbon.spine);
        if (!within.isNull() && !band.controlPointRect().adjusted(-ribbon.width, -ribbon.width, ribbon.width, ribbon.width).intersects(within))
            continue;
        painter.strokePath(band, QPen(theme::rule(), ribbon.width + 2, Qt::SolidLine, Qt::FlatCap, Qt::RoundJoin));
        painter.strokePath(band, QPen(kRibbon, ribbon.width, Qt::SolidLine, Qt::FlatCap, Qt::RoundJoin));
    }
    for (std::size_t i = 0; i < wires_.lines.size(); ++i) {
        const QPolygonF& line = wires_.lines[i];
        const bool strand = wires_.isStrand(i);
        const QPainterPath path = zoom_ > kNear || !within.isNull() ? roundedPath(line) : QPainterPath();
        if (!within.isNull() && !path.controlPointRect().adjusted(-4, -4, 4, 4).intersects(within))
            continue;
        const QColor color = theme::wireColor(editor_.document().wires[i].color);
        if (withGaps && !strand) {
            // Straight stretches are enough: wires cross there.
            painter.setPen(QPen(theme::paper(), 5.4, Qt::SolidLine, Qt::FlatCap));
            painter.setRenderHint(QPainter::Antialiasing, false);
            drawSegments(painter, line);
            painter.setRenderHint(QPainter::Antialiasing);
        }
        // From afar nobody sees rounded corners.
        if (zoom_ > kNear) {
            painter.strokePath(path, QPen(color, 2.6, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
            continue;
        }
        painter.setPen(QPen(color, 2.6, Qt::SolidLine, Qt::SquareCap));
        painter.setRenderHint(QPainter::Antialiasing, strand);  // only the fans of a ribbon lie aslant
        drawSegments(painter, line);
        painter.setRenderHint(QPainter::Antialiasing);
    }
}

// Flags hang where nothing else leaves the pin: below by default, above at an upper edge, beside at the sides.
QPointF BenchView::flagDirection(const PinSpot& spot) const
{
    const bench::PartItem* part = editor_.document().part(spot.ref.part);
    const bench::PartKind* kind = editor_.catalogue().find(part->kind);
    const bench::GridRect body = bodyRect(*part, *kind);
    const QPointF middle((body.left + body.right) / 2.0 * kStep, (body.top + body.bottom) / 2.0 * kStep);
    const bench::PinKind* pin = kind->pin(spot.ref.pin);
    const GridPoint at = bench::pinPlace(*part, *kind, *pin);
    if (at.y <= body.top + 1 && !(at.x == body.left || at.x == body.right))
        return {0, -1};
    if (at.y >= body.bottom - 1 || body.top == body.bottom)
        return {0, 1};
    return {at.x * kStep < middle.x() ? -1.0 : 1.0, 0};
}

void BenchView::drawFlag(QPainter& painter, const PinSpot& spot, const QString& name)
{
    const QPointF direction = flagDirection(spot);
    const QPointF root = spot.onBoard ? spot.bead : spot.at;
    const QFont font = theme::words(6.8, QFont::DemiBold);
    const QFontMetricsF metrics(font);
    const double width = std::max(26.0, metrics.horizontalAdvance(name) + 12);
    constexpr double kHeight = 15;
    const bool upright = direction.x() == 0;
    // On a longer stalk where a neighbour's flag hangs already.
    double stalk = 7;
    QRectF box;
    for (int attempt = 0; attempt < 6; ++attempt, stalk += upright ? kHeight + 5 : width) {
        const QPointF center = root + direction * (stalk + (upright ? kHeight / 2 + 2 : width / 2 + 2));
        box = QRectF(center.x() - width / 2, center.y() - kHeight / 2, width, kHeight);
        if (std::none_of(flags_.begin(), flags_.end(), [&](const Flag& other) { return other.box.intersects(box.adjusted(-1, -1, 1, 1)); }))
            break;
    }
    flags_.push_back({box, spot.ref});
    painter.setPen(QPen(theme::ink(), 2.2));
    painter.drawLine(root, root + direction * (stalk + 2));
    QPainterPath flag;
    const double tip = 4.5;
    if (upright) {
        const double far = direction.y() > 0 ? box.bottom() : box.top();
        const double near = direction.y() > 0 ? box.top() : box.bottom();
        flag.moveTo(box.left(), near);
        flag.lineTo(box.right(), near);
        flag.lineTo(box.right(), far - direction.y() * tip);
        flag.lineTo(box.center().x(), far + direction.y() * tip * 0.4);
        flag.lineTo(box.left(), far - direction.y() * tip);
    } else {
        flag.addRoundedRect(box, 3, 3);
    }
    flag.closeSubpath();
    const bool supply = name == "5V" || name == "3V3";
    painter.fillPath(flag, name == "GND" ? theme::ink() : supply ? theme::rust() : theme::card());
    if (name != "GND" && !supply)
        painter.strokePath(flag, QPen(theme::ink(), 1.2));
    painter.setPen(name == "GND" || supply ? theme::paper() : theme::ink());
    painter.setFont(font);
    painter.drawText(box.translated(0, upright ? -direction.y() * 1.2 : 0), Qt::AlignCenter, name);
}

void BenchView::drawLabels(QPainter& painter)
{
    painter.setFont(theme::words(8.2, QFont::Medium));
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr || part.label.empty())
            continue;
        const QRectF box = art_.sheetBox(*kind, part);
        const double lift = PartArt::hasValueAbove(*kind) ? 14 : kind->behaviour == "resistor" && part.turn % 2 == 0 ? 10 : 0;
        const QRectF place(box.center().x() - 100, box.top() - 21 - lift, 200, 16);
        const auto write = [&](const QColor& color, QPointF off) {
            painter.setPen(color);
            painter.drawText(place.translated(off), Qt::AlignHCenter | Qt::AlignBottom, QString::fromStdString(part.label));
        };
        if (theme::look() == theme::Look::dark)  // it may lie over a breadboard
            for (const QPointF off : {QPointF(-1, 0), QPointF(1, 0), QPointF(0, -1), QPointF(0, 1)})
                write(theme::paper(), off);
        write(theme::ink(), {});
    }
    if (zoom_ < 0.75)
        return;
    for (const PinSpot& spot : spots_) {
        const auto name = nameOf(spot);
        if (!name)
            continue;
        painter.setFont(theme::figures(name->points));
        painter.setPen(name->ink == PinName::Ink::beside ? theme::muted() : name->ink == PinName::Ink::onLight ? theme::kArtInk : theme::kTapeText);
        painter.save();
        painter.translate(name->box.center());
        if (name->upright)
            painter.rotate(-90);
        const QSizeF size = name->upright ? name->box.size().transposed() : name->box.size();
        painter.drawText(QRectF(-size.width() / 2, -size.height() / 2, size.width(), size.height()), Qt::AlignCenter | Qt::TextDontClip, name->text);
        painter.restore();
    }
}

std::vector<BenchView::PinName> BenchView::pinNames()
{
    std::vector<PinName> out;
    for (const PinSpot& spot : spots_)
        if (auto name = nameOf(spot))
            out.push_back(std::move(*name));
    return out;
}

std::optional<BenchView::PinName> BenchView::nameOf(const PinSpot& spot)
{
    const bench::PartItem* part = editor_.document().part(spot.ref.part);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    const bench::PinKind* pin = kind == nullptr ? nullptr : kind->pin(spot.ref.pin);  // none of a part that has just become another
    if (spot.onBoard || spot.hole || pin == nullptr || kind->chip != nullptr || kind->pins.size() < 2 || kind->behaviour == "resistor")
        return std::nullopt;
    constexpr double kUsual = 6.8, kNarrow = 5.2;
    PinName out{spot.ref, QString::fromStdString(spot.ref.pin), {}, false, kUsual, PinName::Ink::beside};
    const auto extent = [&] {
        const QFontMetricsF metrics(theme::figures(out.points));
        return QSizeF(metrics.horizontalAdvance(out.text), metrics.capHeight() + 2);
    };
    // Beside the lead where they are short and few.
    const bool isShort = std::all_of(kind->pins.begin(), kind->pins.end(), [](const bench::PinKind& p) { return p.name.size() <= 2; });
    if ((kind->pins.size() < 4 && isShort) || kind->behaviour == "color-led" || kind->behaviour == "dip-switch" || kind->behaviour == "bar-graph") {
        if (out.text.size() + (kind->pins.size() > 8 ? 1 : 0) > 2)  // between two leads
            out.points = kNarrow;
        out.box = QRectF(QPointF(0, 0), extent());
        out.box.moveCenter(spot.label);
        return out;
    }
    // Many pins: their names stand inside, along the leads.
    const bench::GridRect body = bodyRect(*part, *kind);
    const double left = body.left * kStep, right = body.right * kStep, top = body.top * kStep, bottom = body.bottom * kStep;
    const double gaps[] = {spot.at.x() - left, right - spot.at.x(), spot.at.y() - top, bottom - spot.at.y()};
    // A corner belongs to the side with more pins.
    const auto along = [&](int GridPoint::* axis, int low, int high) { return std::count_if(kind->pins.begin(), kind->pins.end(), [&](const bench::PinKind& p) { const GridPoint at = bench::pinPlace(*part, *kind, p); return at.*axis == low || at.*axis == high; }); };
    const bool upright = along(&GridPoint::x, body.left, body.right) >= along(&GridPoint::y, body.top, body.bottom);
    const auto near = [&](int a, int b) { return gaps[a] <= gaps[b] ? a : b; };
    const int beside = near(0, 1), above = near(2, 3);
    const int side = gaps[beside] == gaps[above] ? (upright ? beside : above) : gaps[beside] < gaps[above] ? beside : above;
    // Behind the edge of the body, however long its leads are drawn; a symbol, an outline mostly, has them beside the leads.
    static constexpr QPoint kInward[] = {{1, 0}, {-1, 0}, {0, 1}, {0, -1}};
    const QPointF in = kInward[side];
    QPoint inward = kInward[side];
    for (int i = 0; i < part->turn % 4; ++i)
        inward = {inward.y(), -inward.x()};
    const auto behind = art_.bodyBehind(*kind, pin->at, inward);
    const bool light = behind && behind->light;
    if (light && (side < 2 || out.text.size() <= 2)) {
        if (out.text == "+" || out.text == "-")
            return std::nullopt;  // the symbol has these itself
        out.box = QRectF(QPointF(0, 0), extent());
        out.box.moveCenter(spot.label + QPointF(side < 2 ? 12 : -5 + out.box.width() / 2, 0));
        return out;
    }
    out.ink = light ? PinName::Ink::onLight : PinName::Ink::onDark;
    out.upright = side >= 2;
    const QSizeF size = extent();
    const double off = std::max(13.0, behind ? behind->begins + 3 : 0.0) + size.width() / 2;
    out.box = QRectF(QPointF(0, 0), out.upright ? size.transposed() : size);
    out.box.moveCenter(spot.at + in * off);
    return out;
}

// What each pin of the chip that is selected can do, outward from its bead.
void BenchView::drawFunctions(QPainter& painter)
{
    if (editor_.selection().parts.size() != 1 || !editor_.selection().wires.empty() || zoom_ < 0.75)
        return;
    const bench::PartItem* part = editor_.document().part(*editor_.selection().parts.begin());
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    if (kind == nullptr || kind->chip == nullptr)
        return;
    const bench::GridRect body = bodyRect(*part, *kind);
    const QPointF middle((body.left + body.right) / 2.0 * kStep, (body.top + body.bottom) / 2.0 * kStep);
    painter.setFont(theme::figures(6.2));
    const QFontMetricsF metrics(painter.font());
    constexpr double kOff = 8, kHigh = 10.5;
    for (const PinSpot& spot : spots_) {
        if (spot.ref.part != part->id || spot.about.empty())
            continue;
        const QString words = QString::fromStdString(spot.about);
        const QPointF away = spot.at - middle;
        const bool sideways = body.right - body.left < body.bottom - body.top || std::abs(away.x()) >= (body.right - body.left) * kStep / 2.0;
        painter.save();
        painter.translate(spot.onBoard ? spot.bead : spot.at);
        bool fromLeft = away.x() > 0;
        if (!sideways) {
            painter.rotate(-90);
            fromLeft = away.y() < 0;
        }
        const double wide = metrics.horizontalAdvance(words) + 6;
        const QRectF tag(fromLeft ? kOff : -kOff - wide, -kHigh / 2, wide, kHigh);
        painter.setPen(Qt::NoPen);
        painter.setBrush(theme::clear(theme::card(), 225));
        painter.drawRoundedRect(tag, 3, 3);
        painter.setPen(theme::bramble());
        painter.drawText(tag, Qt::AlignCenter, words);
        painter.restore();
    }
}

// Most beads are one of three shapes, and are copied.
void BenchView::drawBeadFast(QPainter& painter, QPointF at, const session::PinPicture& pin)
{
    constexpr double kRadius = 3.4;
    const auto index = static_cast<std::size_t>(pin.state);
    if (pin.busy || index >= beads_.size()) {
        drawBead(painter, at, kRadius, pin, theme::ink(), theme::paper());
        return;
    }
    const double scale = zoom_ * devicePixelRatioF();
    if (beadScale_ != scale) {
        beads_.fill({});
        beadScale_ = scale;
    }
    QPixmap& bead = beads_[index];
    constexpr double kReach = kRadius * 1.6;
    if (bead.isNull()) {
        bead = QPixmap((QSizeF(2 * kReach, 2 * kReach) * scale).toSize().expandedTo({1, 1}));
        bead.fill(Qt::transparent);
        QPainter inner(&bead);
        inner.setRenderHint(QPainter::Antialiasing);
        inner.scale(bead.width() / (2 * kReach), bead.height() / (2 * kReach));
        drawBead(inner, {kReach, kReach}, kRadius, pin, theme::ink(), theme::paper());
    }
    painter.drawPixmap(QRectF(at - QPointF(kReach, kReach), QSizeF(2 * kReach, 2 * kReach)), bead, QRectF(bead.rect()));
}

void BenchView::drawBeads(QPainter& painter)
{
    const auto& pins = editor_.picture().pins;
    for (const PinSpot& spot : spots_) {
        const auto found = pins.find(spot.ref);
        if (found == pins.end())
            continue;
        // An unconnected pin that nothing drives has nothing to tell.
        if (!spot.wired && (found->second.supply || found->second.state == circuit::NetState::floating))
            continue;
        if ((spot.onBoard && found->second.supply) || (spot.hole && !spot.wired))
            continue;
        drawBeadFast(painter, spot.bead, found->second);
    }
    if (hoverPin_)
        for (const PinSpot& spot : spots_)
            if (spot.ref == *hoverPin_) {
                painter.setPen(QPen(theme::bramble(), 1.6));
                painter.setBrush(Qt::NoBrush);
                painter.drawEllipse(spot.at, 7, 7);
            }
}

void BenchView::drawSelection(QPainter& painter)
{
    painter.setBrush(Qt::NoBrush);
    for (const std::string& id : editor_.selection().parts)
        if (const bench::PartItem* part = editor_.document().part(id))
            if (const bench::PartKind* kind = editor_.catalogue().find(part->kind)) {
                painter.setPen(QPen(theme::bramble(), 1.8 / std::min(zoom_, 1.5)));
                // Around its label and its value too, so that the frame crosses neither.
                QRectF frame = art_.sheetBox(*kind, *part).adjusted(-5, -5, 5, 5);
                constexpr double kLabel = 17, kValue = 14, kValueBeside = 38;
                double above = (part->label.empty() ? 0 : kLabel) + (PartArt::hasValueAbove(*kind) ? kValue : 0);
                if (kind->behaviour == "resistor" && part->turn % 2 == 0)
                    above += kValue - 4;
                frame.setTop(frame.top() - above);
                if (kind->behaviour == "resistor" && part->turn % 2 != 0)
                    frame.setRight(frame.right() + kValueBeside);
                painter.drawRoundedRect(frame, 7, 7);
            }
    for (const std::size_t wire : editor_.selection().wires)
        if (wire < wires_.lines.size()) {
            painter.strokePath(roundedPath(wires_.lines[wire]), QPen(theme::clear(theme::bramble(), 90), 9, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
            painter.strokePath(roundedPath(wires_.lines[wire]), QPen(theme::wireColor(editor_.document().wires[wire].color), 3, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
        }
}

// All of the net under the pointer: its wires, and a ring around each of its pins.
void BenchView::drawNetUnderPointer(QPainter& painter)
{
    painter.setBrush(Qt::NoBrush);
    const PinRef* under = hoverPin_ ? &*hoverPin_ : hoverWire_ && *hoverWire_ < editor_.document().wires.size() ? &editor_.document().wires[*hoverWire_].from : nullptr;
    const auto& pins = editor_.picture().pins;
    if (const auto here = under == nullptr ? pins.end() : pins.find(*under); here != pins.end() && doing_ == Doing::nothing) {
        const auto same = [&](const PinRef& ref) {
            const auto found = pins.find(ref);
            return found != pins.end() && found->second.net == here->second.net;
        };
        // A net of hundreds of wires shows by its pins alone: to paint them all would hold the pointer up.
        constexpr std::size_t kMostWires = 80;
        std::vector<std::size_t> wires;
        for (std::size_t i = 0; i < wires_.lines.size() && wires.size() <= kMostWires; ++i)
            if (same(editor_.document().wires[i].from))
                wires.push_back(i);
        if (wires.size() <= kMostWires)
            for (const std::size_t i : wires)
                painter.strokePath(roundedPath(wires_.lines[i]), QPen(theme::clear(theme::bramble(), 60), 7, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
        painter.setPen(QPen(theme::bramble(), 1.2));
        for (const PinSpot& spot : spots_)
            if ((!spot.hole || spot.wired) && same(spot.ref))
                painter.drawEllipse(spot.at, 5.6, 5.6);
    }
    if (hoverWire_ && *hoverWire_ < wires_.lines.size())
        painter.strokePath(roundedPath(wires_.lines[*hoverWire_]), QPen(theme::clear(theme::bramble(), 50), 8, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
}

void BenchView::drawBand(QPainter& painter)
{
    if (doing_ != Doing::banding)
        return;
    painter.setPen(QPen(theme::bramble(), 1 / zoom_, Qt::DashLine));
    painter.setBrush(theme::clear(theme::bramble(), 22));
    painter.drawRect(QRectF(toSheet(pressAt_), toSheet(pointer_)).normalized());
}

void BenchView::drawWireInProgress(QPainter& painter)
{
    if (doing_ != Doing::wiring || !wireFrom_)
        return;
    const auto from = bench::pinPlace(editor_.document(), editor_.catalogue(), *wireFrom_);
    if (!from)
        return;
    drawServingPins(painter);
    const std::vector<GridPoint> path = bench::rightAngled(*from, wireVia_, gridAt(pointer_));
    QPolygonF line;
    for (const GridPoint p : path)
        line << toUnits(p);
    painter.strokePath(roundedPath(line), QPen(theme::bramble(), 2.4, Qt::DashLine, Qt::RoundCap, Qt::RoundJoin));
}

// The pins of chips that can serve the lead that a wire is drawn from.
void BenchView::drawServingPins(QPainter& painter)
{
    const bench::PartItem* part = editor_.document().part(wireFrom_->part);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    const bench::PinKind* pin = kind == nullptr || kind->chip != nullptr ? nullptr : kind->pin(wireFrom_->pin);
    if (pin == nullptr)
        return;
    const std::vector<std::string> wanted = bench::functionsFor(*kind, *pin);
    for (const PinSpot& spot : spots_) {
        const bench::PartItem* other = editor_.document().part(spot.ref.part);
        const bench::PartKind* chip = other == nullptr ? nullptr : editor_.catalogue().find(other->kind);
        if (chip == nullptr || chip->chip == nullptr)
            continue;
        const std::string serves = bench::servingFunction(spot.about, wanted);
        if (serves.empty())
            continue;
        painter.setPen(QPen(theme::bramble(), 1.8));
        painter.setBrush(theme::clear(theme::bramble(), 40));
        painter.drawEllipse(spot.at, 8, 8);
        const QString name = QString::fromStdString(serves);
        painter.setFont(theme::figures(6.4, QFont::DemiBold));
        const double width = QFontMetricsF(painter.font()).horizontalAdvance(name) + 6;
        const QPointF away = spot.bead - spot.at;
        const QPointF middle = spot.at + (away.isNull() ? QPointF(0, -16) : away * 1.25);
        painter.setPen(Qt::NoPen);
        painter.setBrush(theme::bramble());
        painter.save();
        painter.translate(middle);
        if (away.x() == 0)
            painter.rotate(-90);
        painter.drawRoundedRect(QRectF(-width / 2, -6, width, 12), 3, 3);
        painter.setPen(Qt::white);
        painter.drawText(QRectF(-width / 2, -6, width, 12), Qt::AlignCenter, name);
        painter.restore();
    }
}

void BenchView::drawEmptyHint(QPainter& painter)
{
    if (!editor_.document().parts.empty())
        return;
    painter.setPen(theme::ink());
    painter.setFont(theme::words(15, QFont::DemiBold));
    painter.drawText(QRectF(0, height() / 2.0 - 60, width(), 30), Qt::AlignCenter, tr("An empty bench"));
    painter.setFont(theme::words(10));
    painter.setPen(theme::muted());
    painter.drawText(QRectF(16, height() / 2.0 - 24, width() - 32, height() / 2.0 + 24), Qt::AlignHCenter | Qt::AlignTop | Qt::TextWordWrap,
                     tr("Press  /  and type a part's name, a board first.\nDrag from pin to pin to wire. Drop a firmware file onto the board."));
}

// Name, functions and electrical state of the pin, or the net of the wire, under the pointer.
void BenchView::drawHoverCard(QPainter& painter)
{
    if (doing_ == Doing::panning || doing_ == Doing::moving || doing_ == Doing::banding)
        return;
    QString title;
    QStringList lines;
    QPointF at = pointer_;
    const auto& pins = editor_.picture().pins;
    const auto describe = [&](const session::PinPicture& pin) {
        // Only a chip's pin is an input or an output; a lead is where current goes.
        const bool lead = pin.limitAmps == 0 && !pin.drives && !pin.pullsUp && !pin.supply;
        QString text = lead ? QString(stateWord(pin)) : QString("%1, %2").arg(roleWord(pin), stateWord(pin));
        if (pin.state != circuit::NetState::floating)
            text += QString(", %1").arg(QString::fromStdString(kernel::formatQuantity(pin.volts, kernel::Unit::volt, 3)));
        lines << text;
        if (pin.busy)
            lines << tr("changing, %1 % of the time high").arg(std::lround(pin.duty * 100));
        if (pin.drives && pin.limitAmps > 0)
            lines << tr("%1 out of the pin, of %2; the chip's pins %3 of %4").arg(quantity(pin.amps, kernel::Unit::ampere), quantity(pin.limitAmps, kernel::Unit::ampere), quantity(pin.togetherAmps, kernel::Unit::ampere),
                                                                          quantity(pin.togetherLimit, kernel::Unit::ampere));
        else if (pin.into && std::abs(*pin.into) > 5e-8)
            lines << (*pin.into > 0 ? tr("%1 into it by this lead, %2") : tr("%1 out of it by this lead, %2"))
                         .arg(quantity(std::abs(*pin.into), kernel::Unit::ampere), quantity(std::abs(*pin.into * pin.volts), kernel::Unit::watt));
        else if (!pin.into && std::abs(pin.amps) > 1e-7)
            lines << tr("%1 out of the pin").arg(quantity(pin.amps, kernel::Unit::ampere));
        if (pin.adcCount >= 0 && !pin.drives)
            lines << tr("converts to %1 of 1023, against %2").arg(pin.adcCount).arg(quantity(pin.adcReference, kernel::Unit::volt));
        lines << tr("net %1").arg(QString::fromStdString(pin.net));
    };
    const auto describeSpan = [&](const PinRef& ref) {
        if (const auto found = editor_.picture().probes.find(ref); found != editor_.picture().probes.end())
            lines << measured(found->second, editor_.picture().probeSpan);
    };
    if (hoverPin_) {
        for (const PinSpot& spot : spots_)
            if (spot.ref == *hoverPin_) {
                title = QString::fromStdString(spot.ref.text());
                if (!spot.about.empty())
                    lines << QString::fromStdString(spot.about);
                if (!spot.aliases.empty())
                    lines << tr("also %1").arg(QString::fromStdString(spot.aliases));
                at = toWidget(spot.at);
            }
        if (const auto found = pins.find(*hoverPin_); found != pins.end())
            describe(found->second);
        describeSpan(*hoverPin_);
    } else if (hoverWire_ && *hoverWire_ < editor_.document().wires.size()) {
        const bench::WireItem& wire = editor_.document().wires[*hoverWire_];
        title = QString::fromStdString(wire.from.text() + " – " + wire.to.text());
        if (const auto found = pins.find(wire.from); found != pins.end())
            lines << QString("%1, %2").arg(stateWord(found->second), QString::fromStdString(kernel::formatQuantity(found->second.volts, kernel::Unit::volt, 3)))
                  << tr("net %1").arg(QString::fromStdString(found->second.net));
        describeSpan(wire.from);
    } else {
        return;
    }
    const QFont titleFont = theme::figures(9, QFont::Medium);
    const QFont lineFont = theme::words(8.5);
    const QFontMetricsF titleMetrics(titleFont);
    const QFontMetricsF lineMetrics(lineFont);
    double width = titleMetrics.horizontalAdvance(title);
    for (const QString& line : lines)
        width = std::max(width, lineMetrics.horizontalAdvance(line));
    QRectF card(at.x() + 14, at.y() + 14, width + 22, 28 + 17.0 * static_cast<double>(lines.size()));
    if (card.right() > this->width() - 6)
        card.moveRight(at.x() - 12);
    if (card.bottom() > height() - 6)
        card.moveBottom(at.y() - 12);
    painter.setPen(QPen(theme::rule(), 1));
    painter.setBrush(theme::card());
    painter.drawRoundedRect(card, 7, 7);
    painter.setPen(theme::ink());
    painter.setFont(titleFont);
    painter.drawText(QPointF(card.left() + 11, card.top() + 19), title);
    painter.setFont(lineFont);
    painter.setPen(theme::muted());
    for (qsizetype i = 0; i < lines.size(); ++i)
        painter.drawText(QPointF(card.left() + 11, card.top() + 37 + 17.0 * static_cast<double>(i)), lines[i]);
}

}  // namespace bramix::app
