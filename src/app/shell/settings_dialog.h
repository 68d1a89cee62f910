// What a person sets once for all benches. Kept by QSettings; read by settings::… wherever it matters.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QDialog>

namespace bramix::app {

namespace settings {

[[nodiscard]] int textPercent();         // 80 to 160; from the next start
[[nodiscard]] bool startsAtFullSpeed();
[[nodiscard]] int tapeMegabytes();       // 8 to 16384
[[nodiscard]] int autosaveSeconds();     // 1 to 60
[[nodiscard]] QString benchFolder();     // where new benches and copies of examples go

}  // namespace settings

class SettingsDialog : public QDialog {
    Q_OBJECT

public:
    explicit SettingsDialog(QWidget* parent);

signals:
    // What can be taken up at once has changed.
    void applied();
};

}  // namespace bramix::app
