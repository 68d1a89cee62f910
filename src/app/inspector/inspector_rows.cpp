#include "app/inspector/inspector_rows.h"

#include <algorithm>
#include <cmath>
#include <utility>

#include <QApplication>
#include <QDrag>
#include <QMimeData>
#include <QMouseEvent>
#include <QPainter>

#include "app/canvas/part_art.h"
#include "app/shell/theme.h"
#include "app/tape/tape_view.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

// Lanes, a line each, in the hand of whoever has begun to draw them.
void drawToTape(QWidget& from, const QByteArray& lanes)
{
    auto* drag = new QDrag(&from);
    auto* what = new QMimeData;
    what->setData(kLanesMime, lanes);
    drag->setMimeData(what);
    drag->exec(Qt::CopyAction);
}

}  // namespace

QString quantity(double value, kernel::Unit unit) { return QString::fromStdString(kernel::formatQuantity(value, unit, 3)); }

DragTitle::DragTitle(const QString& words, QByteArray lanes) : QLabel(words), lanes_(std::move(lanes))
{
    if (lanes_.isEmpty())
        return;
    setCursor(Qt::OpenHandCursor);
    setToolTip(tr("Drag it to the tape: its pins become lanes"));
}

void DragTitle::mousePressEvent(QMouseEvent* event)
{
    if (!lanes_.isEmpty())
        pressAt_ = event->position().toPoint();
}

void DragTitle::mouseMoveEvent(QMouseEvent* event)
{
    if (!pressAt_ || (event->position().toPoint() - *pressAt_).manhattanLength() < QApplication::startDragDistance())
        return;
    pressAt_.reset();
    drawToTape(*this, lanes_);
}

void DragTitle::mouseReleaseEvent(QMouseEvent*) { pressAt_.reset(); }

PinRow::PinRow(Editor& editor, bench::PinRef ref, QString about) : editor_(editor), ref_(std::move(ref)), about_(std::move(about))
{
    setFixedHeight(24);
    setCursor(Qt::PointingHandCursor);
    setToolTip(tr("%1\nClick: on the tape, or off it").arg(about_));
}

void PinRow::mousePressEvent(QMouseEvent* event) { pressAt_ = event->position().toPoint(); }

void PinRow::mouseMoveEvent(QMouseEvent* event)
{
    if (!pressAt_ || (event->position().toPoint() - *pressAt_).manhattanLength() < QApplication::startDragDistance())
        return;
    pressAt_.reset();
    drawToTape(*this, QByteArray::fromStdString(ref_.text()));
}

void PinRow::mouseReleaseEvent(QMouseEvent*)
{
    if (std::exchange(pressAt_, std::nullopt))
        editor_.toggleLane(ref_);
}

void PinRow::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    if (underMouse())
        painter.fillRect(rect(), theme::hover());
    const auto& pins = editor_.picture().pins;
    const auto found = pins.find(ref_);
    const bool onTape = std::find(editor_.lanes().begin(), editor_.lanes().end(), ref_) != editor_.lanes().end();
    painter.setPen(onTape ? theme::bramble() : theme::ink());
    painter.setFont(theme::figures(8.5, QFont::DemiBold));
    painter.drawText(QRectF(18, 0, 44, height()), Qt::AlignVCenter, QString::fromStdString(ref_.pin));
    painter.setFont(theme::words(8));
    painter.setPen(theme::muted());
    const double room = width() - 60 - 104;
    painter.drawText(QRectF(60, 0, room, height()), Qt::AlignVCenter, QFontMetrics(painter.font()).elidedText(about_, Qt::ElideRight, static_cast<int>(room)));
    if (found == pins.end())
        return;
    drawBead(painter, QPointF(8, height() / 2.0), 4, found->second, theme::ink(), theme::card());
    painter.setFont(theme::figures(8.2));
    painter.setPen(theme::ink());
    painter.drawText(QRectF(width() - 108, 0, 54, height()), Qt::AlignVCenter | Qt::AlignRight,
                     found->second.state == circuit::NetState::floating ? QString("–") : QString::number(found->second.volts, 'f', 2) + " V");
    painter.setPen(theme::muted());
    painter.drawText(QRectF(width() - 54, 0, 54, height()), Qt::AlignVCenter | Qt::AlignRight, std::abs(found->second.amps) < 1e-7 ? QString() : quantity(found->second.amps, kernel::Unit::ampere));
    painter.setPen(QPen(theme::rule(), 1));
    painter.drawLine(0, height() - 1, width(), height() - 1);
}

Swatch::Swatch(const std::string& color, bool chosen) : color_(theme::wireColor(color)), chosen_(chosen)
{
    setFixedSize(26, 26);
    setToolTip(QString::fromStdString(color));
}

void Swatch::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(chosen_ ? QPen(theme::ink(), 2) : QPen(Qt::NoPen));
    painter.setBrush(color_);
    painter.drawRoundedRect(QRectF(3, 3, 20, 20), 5, 5);
}

}  // namespace bramix::app
