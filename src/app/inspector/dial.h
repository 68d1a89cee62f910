// One live control that takes any value: its number, to be typed over; a slider; and, unfolded, what it follows by itself: a curve drawn with the
// mouse or read from a file, with noise and drift (bench/follow.h). Curve and number change while the bench runs.
//
// On the curve: a click puts a point, a drag moves it, the right button takes it away.
// Tested by tests/app/dial_test.cpp.
#pragma once

#include <QLineEdit>
#include <QSlider>
#include <QToolButton>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class CurveSheet : public QWidget {
    Q_OBJECT

public:
    CurveSheet(const bench::ControlKind& control, bench::FollowItem item);

    [[nodiscard]] const bench::FollowItem& item() const { return item_; }
    // Seconds across.
    [[nodiscard]] double span() const { return span_; }
    void setSpan(double seconds);
    // Where the present lies in the curve; below 0: nowhere.
    void setPresent(double seconds);
    [[nodiscard]] QPointF place(std::pair<double, double> point) const;

signals:
    void changed();  // a person has changed the curve, and has let go

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

private:
    [[nodiscard]] std::pair<double, double> pointAt(QPointF at) const;
    [[nodiscard]] double share(double value) const;  // 0 at the least, 1 at the most
    [[nodiscard]] int nearest(QPointF at) const;
    void later();

    const bench::ControlKind control_;
    bench::FollowItem item_;
    double span_ = 10;
    double present_ = -1;
    int held_ = -1;
};

class Dial : public QWidget {
    Q_OBJECT

public:
    Dial(Editor& editor, const std::string& part, const bench::ControlKind& control, bool unfolded);

    void refresh();

signals:
    void unfoldedChanged(bool unfolded);

protected:
    bool event(QEvent* event) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    void unfold(bool on);
    void buildFollow();
    void apply(const std::function<void(bench::FollowItem&)>& edit);
    [[nodiscard]] bench::FollowItem followed() const;
    [[nodiscard]] QLineEdit* field(const QString& text, const QString& tip);
    [[nodiscard]] double toDial(int step) const;
    [[nodiscard]] int toStep(double value) const;

    Editor& editor_;
    const std::string part_;
    const bench::ControlKind control_;
    const kernel::Unit unit_;
    QLineEdit* number_;
    QSlider* slider_;
    QToolButton* fold_;
    QWidget* follow_ = nullptr;
    CurveSheet* sheet_ = nullptr;
};

}  // namespace bramix::app
