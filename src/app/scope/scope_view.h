// The oscilloscope: the voltage of up to four pins over a window of time, around a trigger or at the present.
//
// Each channel has a gauge of its own at the left: the wheel over it changes its scale, a drag moves it, a double click fits it, the other
// button lets its ends be typed. Over the plot the wheel changes the
// time, a click sets the first mark and a click with Shift the second. What is measured stands beside each channel's name.
// Tested by tests/app/window_test.cpp.
#pragma once

#include <optional>

#include <QWidget>

#include "app/shell/editor.h"

class QLineEdit;
class QPushButton;

namespace bramix::app {

class ScopeView : public QWidget {
    Q_OBJECT

public:
    explicit ScopeView(Editor& editor, QWidget* parent = nullptr);

    // Puts a pin on the scope, or takes it off; a fifth takes the place of the first.
    void toggle(const bench::PinRef& pin);
    [[nodiscard]] const std::vector<bench::PinRef>& channels() const { return request_.channels; }
    void setSpan(kernel::Duration span);
    // The volts at the bottom and the top of a channel.
    void setScale(std::size_t channel, double low, double high);
    [[nodiscard]] std::pair<double, double> scale(std::size_t channel) const { return {scales_[channel].low, scales_[channel].high}; }
    void setTrigger(std::optional<std::size_t> channel, double level, bool rising);

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;

private:
    struct Scale {
        double low = -0.5, high = 5.5;
        bool fits = true;  // follows what is measured
    };

    void send();
    void offerPins();
    void offerTriggers();
    void typeScale(std::size_t channel, QPoint at);
    void typed(QLineEdit* edit, kernel::Unit unit, const std::function<void(double)>& take);
    void drawChannel(QPainter& painter, std::size_t index, const session::ScopeChannel& channel);
    void drawMarks(QPainter& painter);
    [[nodiscard]] QRectF plot() const;
    [[nodiscard]] QRectF gauge(std::size_t index) const;
    [[nodiscard]] double yOf(std::size_t index, double volts) const;
    [[nodiscard]] std::optional<std::size_t> gaugeAt(QPointF p) const;
    [[nodiscard]] kernel::Time timeAt(double x) const;

    Editor& editor_;
    session::ScopeRequest request_;
    session::ScopePicture shown_;
    std::vector<Scale> scales_;
    bool held_ = false;
    std::optional<kernel::Time> markA_, markB_;
    std::optional<std::size_t> dragging_;
    QPointF dragFrom_;
    Scale dragScale_;
    QPushButton* add_;
    QPushButton* trigger_;
    QLineEdit* level_;
    QLineEdit* span_;
    QPushButton* hold_;
    QPushButton* single_;
};

}  // namespace bramix::app
