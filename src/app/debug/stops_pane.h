// Where the firmware stops: a list with hits and what is wrong with each, and one field that takes any stop in words.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QLabel>
#include <QLineEdit>
#include <QTreeWidget>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class StopsPane : public QWidget {
    Q_OBJECT

public:
    explicit StopsPane(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    [[nodiscard]] QLineEdit& field() { return *field_; }
    [[nodiscard]] QTreeWidget& list() { return *list_; }

signals:
    void placeChosen(const QString& file, int line);

private:
    void menu(const QPoint& at);
    void change(int row, const std::function<void(bench::StopItem&)>& edit);
    void ask(int row, const QString& title, const QString& hint, const QString& now, const std::function<void(bench::StopItem&, const QString&)>& set);

    Editor& editor_;
    QTreeWidget* list_;
    QLineEdit* field_;
    std::vector<session::StopPicture> shown_;
};

}  // namespace bramix::app
