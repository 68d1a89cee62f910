// Where a person sets what settings.h keeps.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QDialog>

namespace bramix::app {

class SettingsDialog : public QDialog {
    Q_OBJECT

public:
    explicit SettingsDialog(QWidget* parent);

signals:
    // What can be taken up at once has changed.
    void applied();
};

}  // namespace bramix::app
