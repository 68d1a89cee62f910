// The rows of the inspector that are drawn by hand: a title that can be drawn to the tape, a pin with its voltage, a colour for wires.
#pragma once

#include <optional>

#include <QLabel>
#include <QPushButton>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

// A name that can be drawn to the tape: what it has to show there becomes lanes.
class DragTitle : public QLabel {
public:
    DragTitle(const QString& words, QByteArray lanes);

protected:
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

private:
    const QByteArray lanes_;
    std::optional<QPoint> pressAt_;
};

// One pin: bead, name, what it does, volts and amps. A click puts it on the tape or takes it off; it can be drawn there by hand, too.
class PinRow : public QWidget {
public:
    PinRow(Editor& editor, bench::PinRef ref, QString about);

protected:
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void paintEvent(QPaintEvent*) override;

private:
    std::optional<QPoint> pressAt_;
    Editor& editor_;
    bench::PinRef ref_;
    QString about_;
};

// One of ten colours for wires.
class Swatch : public QPushButton {
public:
    Swatch(const std::string& color, bool chosen);

protected:
    void paintEvent(QPaintEvent*) override;

private:
    QColor color_;
    bool chosen_;
};

// With three figures and its unit.
[[nodiscard]] QString quantity(double value, kernel::Unit unit);

}  // namespace bramix::app
