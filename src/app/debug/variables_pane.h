// Variables: what is watched, the locals of the frame that is looked at, and the globals; changes since the last stop stand out, values are edited in
// place.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QLineEdit>
#include <QTreeWidget>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class VariablesPane : public QWidget {
    Q_OBJECT

public:
    explicit VariablesPane(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    [[nodiscard]] QTreeWidget& tree() { return *tree_; }
    [[nodiscard]] QLineEdit& field() { return *field_; }

private:
    void fill(QTreeWidgetItem* parent, const std::vector<session::VariablePicture>& variables);
    void menu(const QPoint& at);

    Editor& editor_;
    QTreeWidget* tree_;
    QLineEdit* field_;
    QTreeWidgetItem *watches_, *locals_, *globals_;
    std::vector<session::VariablePicture> watched_, local_, global_;  // as shown
    bool standing_ = false;
    bool filling_ = false;
};

}  // namespace bramix::app
