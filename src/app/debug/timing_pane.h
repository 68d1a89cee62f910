// Where the time goes: cycles and calls by function, sleep, and how promptly each interrupt is served.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QLabel>
#include <QPushButton>
#include <QTreeWidget>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

// How deep the stack was over the time counted.
class StackDepthView : public QWidget {
    Q_OBJECT

public:
    StackDepthView() { setFixedHeight(52); }
    void show(const session::CountPicture& counts, std::uint64_t clockHz);
    [[nodiscard]] const std::vector<std::uint32_t>& depth() const { return depth_; }

protected:
    void paintEvent(QPaintEvent*) override;

private:
    std::vector<std::uint32_t> depth_;  // bytes
    QString text_, span_;
};

class TimingPane : public QWidget {
    Q_OBJECT

public:
    explicit TimingPane(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug, std::uint64_t clockHz);
    [[nodiscard]] QTreeWidget& table() { return *table_; }
    [[nodiscard]] QPushButton& count() { return *count_; }

private:
    Editor& editor_;
    QPushButton* count_;
    QLabel* summary_;
    StackDepthView* stack_;
    QTreeWidget* table_;
    QTreeWidgetItem *functions_, *interrupts_;
};

}  // namespace bramix::app
