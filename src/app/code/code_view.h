// Source text, with where the program stands, where it stops, and the instructions of a line unfolded under it.
//
// It reads by default: then single keys step and run, as everywhere in the window. Enter begins to edit, Escape ends it.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <map>
#include <set>

#include <QTimer>
#include <Qsci/qsciscintilla.h>

namespace bramix::app {

class CodeView : public QsciScintilla {
    Q_OBJECT

public:
    explicit CodeView(QWidget* parent = nullptr);

    // What is shown; `suffix` picks the colouring ("c", "cpp", "S").
    void setSource(const QString& text, const QString& suffix);
    void setEditing(bool editing);
    [[nodiscard]] bool isEditing() const { return !isReadOnly(); }

    // Lines count from 1.
    void setCodeLines(std::set<int> lines);
    void setStops(const std::map<int, bool>& stops);     // line: works (or is switched off, or wrong)
    void setPlace(int line, bool top);                   // where the program stands; top: the innermost frame. 0: not here
    void setCounts(const std::map<int, qint64>& counts);
    // Text under lines: instructions; the one that begins with the mark is the next to run.
    void setUnfolded(const std::map<int, QString>& unfolded);
    void reveal(int line);
    [[nodiscard]] int lineAtCursor() const;

signals:
    void stopClicked(int line);
    void unfoldClicked(int line);
    void editingWanted();
    void editingEnded();
    // While reading: a single letter that is a command, and what looks like typing so far (empty: no more).
    void letterTyped(const QString& letter);
    void typingSeen(const QString& typed);
    void hovered(const QString& expression, const QPoint& at);
    void definitionWanted(const QString& expression, int line);  // a click with Ctrl
    void menuWanted(int line, const QPoint& at);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    bool event(QEvent* event) override;

private:
    enum Margin { kNumbers = 0, kMarks = 1, kCounts = 2 };
    enum Marker { kStop = 1, kStopOff = 2, kCode = 3, kHere = 4, kFrame = 5, kHereLine = 6, kFrameLine = 7 };

    void applyColours();
    [[nodiscard]] QString wordAt(const QPoint& at) const;

    void takeLetter(const QString& letter);
    void offerTyping(const QString& typed);

    // A letter is a command if none follows at once; what follows is a word, which wants to be written.
    QTimer letter_;
    QString pending_, typed_;
    std::set<int> codeLines_;
    std::map<int, QString> unfolded_;
    int place_ = 0;
};

}  // namespace bramix::app
