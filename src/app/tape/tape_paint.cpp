// How the tape is drawn as a whole: ruler, names, the present, pictures for a file. Lanes are in tape_lanes.cpp, what stands over them in tape_marks.cpp; what a
// hand does to it is in tape_view.cpp.
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
            // On a breadboard, what is plugged in there.
            if (const bench::PartKind* kind = editor_.catalogue().find(other->kind); kind != nullptr && kind->plugs)
                if (const QString plugged = pluggedAt(pin); !plugged.isEmpty())
                    name = plugged;
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

// The part on the net of a pin that is neither a breadboard nor the pin's own; what is more than a resistor first.
QString TapeView::pluggedAt(const bench::PinRef& pin) const
{
    const auto& pins = editor_.picture().pins;
    const auto own = pins.find(pin);
    if (own == pins.end())
        return {};
    QString resistor;
    for (const auto& [ref, shown] : pins) {
        const bench::PartItem* part = shown.net == own->second.net && ref.part != pin.part ? editor_.document().part(ref.part) : nullptr;
        const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
        if (kind == nullptr || kind->plugs)
            continue;
        const QString name = text(part->label.empty() ? part->id : part->label);
        if (kind->behaviour != "resistor")
            return name;
        resistor = name;
    }
    return resistor;
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
        if (x < width() - kPresentMargin - 90)
            painter.drawText(QRectF(x + 4, 0, 120, kRuler), Qt::AlignVCenter, QString::number(std::abs(t), 'f', decimals) + " s");
    }
    painter.fillRect(QRectF(0, 0, kLabels - 1, kRuler), theme::kTapeGround);
    if (hasFocus())  // keys act here
        painter.fillRect(QRectF(0, 0, 3, height()), kPresent);
    painter.setPen(follow_ ? theme::kTapeText : QColor(0xE0, 0x8A, 0xB0));
    painter.setFont(theme::words(8.2, QFont::DemiBold));
    painter.drawText(QRectF(14, 0, kLabels - 14, kRuler), Qt::AlignVCenter, follow_ ? tr("at the present") : tr("back to the present"));
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
