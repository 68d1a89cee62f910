// The serial view: what the bench's UARTs say, a tab for each, and what can be done with it: look for words, see bytes, draw numbers as curves, answer by hand, by buttons, or let a
// program of one's own in. Every line leads to its place on the tape and to the code that sent it.
// Tested by tests/app/serial_test.cpp.
#pragma once

#include <memory>

#include <QComboBox>
#include <QFile>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTabBar>
#include <QWidget>

#include "app/serial/number_plot.h"
#include "app/serial/serial_buttons.h"
#include "app/serial/serial_pane.h"
#include "app/serial/serial_port.h"
#include "app/shell/editor.h"

namespace bramix::app {

class SerialView : public QWidget {
    Q_OBJECT

public:
    explicit SerialView(Editor& editor, QWidget* parent = nullptr);

    // All lines of the UART that is shown.
    [[nodiscard]] QString text() const { return pane_->allText(false); }
    [[nodiscard]] SerialPane& pane() { return *pane_; }
    [[nodiscard]] NumberPlot& plot() { return *plot_; }
    [[nodiscard]] SerialButtons& buttons() { return *buttons_; }
    [[nodiscard]] QTabBar& tabs() { return *tabs_; }
    // Of the UART that is shown; null where there is none.
    [[nodiscard]] SerialPort* port();
    void showCurves(bool on);
    // Writes what comes into a file from now on, as it comes; empty: no more.
    bool logTo(const QString& file);

signals:
    // To the tape, or to the code: a byte address of the chip.
    void momentWanted(bramix::kernel::Time at);
    void codeWanted(const std::string& chip, quint32 code);

private:
    // What belongs to one UART.
    struct Line {
        std::string name;
        session::SerialText text;
        session::NumberReader numbers;
        std::uint64_t numbersRead = 0;   // lines that have been looked at for numbers
        std::unique_ptr<SerialPort> port;
        std::unique_ptr<QFile> log;
        bool unseen = false;             // something has come while another tab was shown
    };

    [[nodiscard]] Line* shown();
    void receive(const std::vector<session::SerialByte>& bytes);
    void readNumbers();
    void refresh();
    void syncTabs();
    void send();
    void choose(int tab);
    void openMenu(QPoint at);
    [[nodiscard]] QString bytesHint() const;

    Editor& editor_;
    std::vector<std::unique_ptr<Line>> lines_;
    QTabBar* tabs_;
    QLabel* format_;
    SerialPane* pane_;
    NumberPlot* plot_;
    SerialButtons* buttons_;
    QLineEdit* filter_;
    QLineEdit* find_;
    QPushButton* hex_;
    QPushButton* stamps_;
    QPushButton* echo_;
    QPushButton* pause_;
    QPushButton* curves_;
    QPushButton* more_;
    QPushButton* open_;  // where a program can connect, while it can
    void showOpen();
    QLineEdit* line_;
    QComboBox* way_;
    QComboBox* ending_;
    QStringList history_;
    qsizetype historyAt_ = 0;

    bool eventFilter(QObject* watched, QEvent* event) override;
};

}  // namespace bramix::app
