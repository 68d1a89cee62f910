// Curves of numbers over simulated time: those that a serial line prints, and variables of the firmware.
//
// The latest `span` seconds, as long as it follows; dragged or zoomed, it stays. The pointer reads values off, two marks measure between them, and beside each name stand the least,
// the most and the mean of what is seen.
// Tested by tests/app/serial_test.cpp.
#pragma once

#include <map>

#include <QTimer>
#include <QWidget>

#include "app/shell/editor.h"
#include "session/serial/serial_numbers.h"

class QCustomPlot;
class QCPItemLine;
class QLabel;
class QLineEdit;
class QPushButton;
class QVBoxLayout;

namespace bramix::app {

class NumberPlot : public QWidget {
    Q_OBJECT

public:
    explicit NumberPlot(Editor& editor, QWidget* parent = nullptr);

    void add(const std::string& name, kernel::Time at, double value);
    void rewind(kernel::Time t);
    void clear();
    // A variable or expression of the firmware, plotted from now on.
    void addVariable(const QString& expression);
    [[nodiscard]] QStringList names() const;
    [[nodiscard]] std::size_t points(const QString& name) const;
    [[nodiscard]] bool saveCsv(const QString& file);
    [[nodiscard]] bool savePicture(const QString& file);
    void setFollow(bool follow);

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;
    void showEvent(QShowEvent*) override;

private:
    struct Curve {
        int graph = -1;
        QPushButton* label = nullptr;
        bool on = true;
    };

    Curve& curve(const std::string& name);
    void takeSamples();
    void draw();
    void readOut(std::optional<double> x);
    void sendVariables();

    Editor& editor_;
    QCustomPlot* plot_;
    QCPItemLine* cursor_;
    QCPItemLine* marks_[2];
    QVBoxLayout* list_;
    QLabel* between_;
    QLineEdit* variable_;
    QPushButton* follow_;
    std::map<std::string, Curve> curves_;
    std::vector<std::string> variables_;
    std::optional<double> markAt_[2];
    double span_ = 10;
    double latest_ = 0;
    bool dirty_ = false;
    QTimer redraw_;
};

}  // namespace bramix::app
