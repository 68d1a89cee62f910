// The serial view: what a UART says, with the simulated time of each line, and a line to answer with.
// Tested by tests/app/window_test.cpp.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class SerialView : public QWidget {
    Q_OBJECT

public:
    explicit SerialView(Editor& editor, QWidget* parent = nullptr);

    [[nodiscard]] QString text() const { return view_->toPlainText(); }

private:
    void receive(const std::vector<session::SerialByte>& bytes);
    void write(const std::vector<session::SerialByte>& bytes);
    void writeAgain();
    void refresh();
    void send();
    void append(const QString& text, const QColor& color, bool stamp, kernel::Time at);

    Editor& editor_;
    QComboBox* uart_;
    QLabel* format_;
    QPlainTextEdit* view_;
    QLineEdit* line_;
    QComboBox* ending_;
    QStringList history_;
    qsizetype historyAt_ = 0;
    std::vector<session::SerialByte> kept_;  // what has come, so that it can be written again after going back
    bool atLineStart_ = true;
    bool lastSent_ = false;

    bool eventFilter(QObject* watched, QEvent* event) override;
};

}  // namespace bramix::app
