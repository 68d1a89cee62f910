// The tape: one lane a pin, time to the right, the present at the right edge while it follows.
//
// Wheel zooms at the pointer, drag scrolls; the present itself can be dragged back into the past, and forward again. A click sets the first mark and a click with Shift the second; the time between them stands in the
// header. The session draws up the lanes (session::LanePicture); this only paints them.
// Tested by tests/app/window_test.cpp.
#pragma once

#include <optional>

#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class TapeView : public QWidget {
    Q_OBJECT

public:
    explicit TapeView(Editor& editor, QWidget* parent = nullptr);

    // Shows this much time, the present at the right.
    void follow(kernel::Duration span);
    // Shows this moment in the middle, with the first mark on it.
    void goTo(kernel::Time at);
    // Stays where it is, whatever becomes of the present.
    void rest();
    [[nodiscard]] bool following() const { return follow_; }
    [[nodiscard]] kernel::Duration span() const { return span_; }
    [[nodiscard]] std::optional<kernel::Duration> betweenMarks() const;

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void leaveEvent(QEvent*) override;

private:
    void request();
    [[nodiscard]] bool overPresent(QPointF at) const;
    void drawRuler(QPainter& painter);
    void drawLane(QPainter& painter, const session::LanePicture& lane, double top, const QColor& color);
    void drawSerialLane(QPainter& painter, double top);
    void drawBus(QPainter& painter, const session::BusLane& bus, double top);
    void drawMarks(QPainter& painter);
    void drawCause(QPainter& painter);
    [[nodiscard]] double xOf(kernel::Time t) const;
    [[nodiscard]] kernel::Time timeAt(double x) const;
    [[nodiscard]] QColor colorOf(const bench::PinRef& pin) const;
    [[nodiscard]] kernel::Time snapped(double x, double y) const;
    [[nodiscard]] double plotWidth() const;
    [[nodiscard]] double laneHeight() const;

    Editor& editor_;
    bool follow_ = true;
    kernel::Duration span_ = std::chrono::seconds(2);
    kernel::Time to_{};
    std::optional<kernel::Time> markA_, markB_;
    QPointF pressAt_, pointer_{-1, -1};
    kernel::Time toAtPress_{};
    bool dragged_ = false;
    bool pressed_ = false;
    bool grabbed_ = false;  // the present is being dragged
};

}  // namespace bramix::app
