// The lines of one UART, drawn as far as they are seen: ten million of them scroll like ten.
//
// Shows text or bytes in hex; only lines that hold a word, if one is given; finds the next line with another. What is selected by the mouse can be copied. A click on the time of
// a line asks to be led to its place on the tape, and with Ctrl to its code.
// Invariant: shown_ holds the numbers of the lines that match, up to scanned_; lines of the text's last page are looked at anew each time.
// Tested by tests/app/serial_test.cpp.
#pragma once

#include <QAbstractScrollArea>
#include <QTimer>

#include "session/serial/serial_text.h"

namespace bramix::app {

class SerialPane : public QAbstractScrollArea {
    Q_OBJECT

public:
    explicit SerialPane(QWidget* parent = nullptr);

    // What is shown; it must stay alive. Null: nothing.
    void setText(const session::SerialText* text);
    // Something has been added, or taken back.
    void refresh();
    void setHex(bool hex);
    void setStamps(bool stamps);
    void setEcho(bool echo);
    // Stays as it is, whatever comes.
    void setPaused(bool paused);
    void setFilter(const QString& words);
    // Marks what is found in the lines that are seen; find() goes to the next line with it, or the one before; false where there is none.
    void setSought(const QString& words);
    bool find(bool forward);

    [[nodiscard]] std::size_t rows() const;
    // Numbers of the lines from the top of the view, as many as are seen.
    [[nodiscard]] std::vector<std::uint64_t> visibleLines() const;
    [[nodiscard]] QString selected() const;
    void selectAll();
    void copy() const;
    // Everything that passes the filter.
    [[nodiscard]] QString allText(bool stamps) const;
    [[nodiscard]] QRect stampRect(std::size_t visibleRow) const;

signals:
    void placeWanted(bramix::kernel::Time at, quint32 code, bool toCode);

protected:
    bool event(QEvent*) override;
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void contextMenuEvent(QContextMenuEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

private:
    struct Spot {
        std::uint64_t line = 0;
        int column = 0;
        auto operator<=>(const Spot&) const = default;
    };

    [[nodiscard]] bool filters() const { return !filter_.isEmpty() || !echo_; }
    [[nodiscard]] bool passes(std::uint64_t line) const;
    void scan();
    void updateBars();
    [[nodiscard]] std::uint64_t lineOf(std::size_t row) const;
    [[nodiscard]] std::optional<std::size_t> rowOf(std::uint64_t line) const;
    [[nodiscard]] int rowHeight() const;
    [[nodiscard]] int left() const;
    [[nodiscard]] Spot spotAt(QPoint at) const;
    void drawLine(QPainter& painter, std::uint64_t line, int y);
    void drawHexRow(QPainter& painter, std::size_t row, int y);
    [[nodiscard]] QString stampOf(kernel::Time at) const;
    void reveal(std::uint64_t line);

    const session::SerialText* text_ = nullptr;
    bool hex_ = false, stamps_ = true, echo_ = true, paused_ = false;
    QByteArray filter_, sought_;
    std::vector<std::uint64_t> shown_;
    std::vector<std::uint64_t> shownPage_;
    std::uint64_t scanned_ = 0, generation_ = 0, firstSeen_ = 0;
    std::uint64_t pausedEnd_ = 0;
    QTimer scanning_;
    bool atEnd_ = true;
    std::optional<Spot> anchor_, cursor_;
    bool selecting_ = false;
    int longest_ = 0;  // of the lines seen so far, in columns
};

}  // namespace bramix::app
