// The first steps: a small card over the bench with one thing to do at a time, on the bench that is open. Each step goes on by itself when it has been done.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QFrame>
#include <QLabel>
#include <QPushButton>

#include <functional>
#include <vector>

namespace bramix::app {

class Tour : public QFrame {
    Q_OBJECT

public:
    struct Step {
        QString text;
        std::function<bool()> done;  // looked at a few times a second
    };

    Tour(std::vector<Step> steps, QWidget* parent);

    [[nodiscard]] std::size_t step() const { return step_; }
    [[nodiscard]] std::size_t count() const { return steps_.size(); }
    void look();

signals:
    void ended();

private:
    void show(std::size_t step);
    void next();

    std::vector<Step> steps_;
    std::size_t step_ = 0;
    QLabel* head_;
    QLabel* text_;
    QPushButton* next_;
};

}  // namespace bramix::app
