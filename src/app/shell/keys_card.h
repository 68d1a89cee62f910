// The list of keys, over the window: all commands that have one, by where they act, and what the mouse does.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QFrame>

#include "app/shell/commands.h"

namespace bramix::app {

class KeysCard : public QFrame {
    Q_OBJECT

public:
    KeysCard(const std::vector<Command>& commands, QWidget* parent);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
};

}  // namespace bramix::app
