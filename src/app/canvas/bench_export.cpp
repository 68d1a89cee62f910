// The bench on paper: the whole sheet as SVG, PNG or PDF, as it stands just now.
#include <QFileInfo>
#include <QPageSize>
#include <QPainter>
#include <QPdfWriter>
#include <QSaveFile>
#include <QSvgGenerator>

#include "app/canvas/bench_view.h"
#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr double kMargin = 24;
constexpr double kPngScale = 2;
constexpr double kPointsAUnit = 72.0 / 160;  // a grid step is a tenth of an inch, so that paper shows true size

}  // namespace

QRectF BenchView::sheetBounds()
{
    QRectF out;
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind))
            out = out.united(art_.sheetBox(*kind, part).adjusted(0, part.label.empty() ? 0 : -22, 0, 0));
    for (const QPolygonF& line : wires_.lines)
        out = out.united(line.boundingRect().adjusted(-3, -3, 3, 3));
    for (const bench::NetItem& net : editor_.document().nets)
        for (const bench::PinRef& pin : net.pins)
            for (const PinSpot& spot : spots_)
                if (spot.ref == pin)
                    out = out.united(QRectF(spot.bead - QPointF(50, 30), QSizeF(100, 60)));
    return out.adjusted(-kMargin, -kMargin, kMargin, kMargin);
}

// In units of the sheet; bodies as lines and areas, not as pixels.
void BenchView::drawSheet(QPainter& painter)
{
    const double zoom = std::exchange(zoom_, 1.0);
    const QPointF offset = std::exchange(offset_, QPointF());
    const session::Picture& picture = editor_.picture();
    const auto each = [&](const std::function<void(const bench::PartKind&, const bench::PartItem&)>& draw) {
        for (const bench::PartItem& part : editor_.document().parts)
            if (const bench::PartKind* kind = editor_.catalogue().find(part.kind)) {
                painter.save();
                painter.translate(toUnits(part.at));
                draw(*kind, part);
                painter.restore();
            }
    };
    painter.setRenderHint(QPainter::Antialiasing);
    each([&](const auto& kind, const auto& part) {
        if (kind.plugs)
            art_.drawBody(painter, kind, part, 0);
    });
    drawWires(painter, true);
    each([&](const auto& kind, const auto& part) {
        if (!kind.plugs)
            art_.drawBody(painter, kind, part, 0);
    });
    each([&](const auto& kind, const auto& part) {
        art_.drawStill(painter, kind, part);
        art_.drawFace(painter, kind, part, picture);
    });
    flags_.clear();
    for (const bench::NetItem& net : editor_.document().nets)
        for (const bench::PinRef& pin : net.pins)
            for (const PinSpot& spot : spots_)
                if (spot.ref == pin)
                    drawFlag(painter, spot, QString::fromStdString(net.name));
    drawLabels(painter);
    zoom_ = zoom;
    offset_ = offset;
}

bool BenchView::exportSheet(const QString& file)
{
    const QRectF bounds = sheetBounds();
    const QString suffix = QFileInfo(file).suffix().toLower();
    QSaveFile out(file);
    if (!out.open(QIODevice::WriteOnly))
        return false;
    if (suffix == "svg") {
        QSvgGenerator svg;
        svg.setOutputDevice(&out);
        svg.setTitle(QString::fromStdString(editor_.document().title));
        svg.setSize(bounds.size().toSize());
        svg.setViewBox(QRectF(QPointF(0, 0), bounds.size()));
        QPainter painter(&svg);
        painter.fillRect(QRectF(QPointF(0, 0), bounds.size()), theme::paper());
        painter.translate(-bounds.topLeft());
        drawSheet(painter);
    } else if (suffix == "pdf") {
        QPdfWriter pdf(&out);
        pdf.setTitle(QString::fromStdString(editor_.document().title));
        pdf.setResolution(720);
        pdf.setPageSize(QPageSize(bounds.size() * kPointsAUnit, QPageSize::Point, {}, QPageSize::ExactMatch));
        pdf.setPageMargins(QMarginsF());
        QPainter painter(&pdf);
        painter.scale(10 * kPointsAUnit, 10 * kPointsAUnit);
        painter.translate(-bounds.topLeft());
        drawSheet(painter);
    } else {
        QImage image((bounds.size() * kPngScale).toSize(), QImage::Format_RGB32);
        image.fill(theme::paper());
        QPainter painter(&image);
        painter.scale(kPngScale, kPngScale);
        painter.translate(-bounds.topLeft());
        drawSheet(painter);
        painter.end();
        if (!image.save(&out, "PNG"))
            return false;
    }
    return out.commit();
}

}  // namespace bramix::app
