// The tape: lanes of pins, of what decoders read, of voltages, numbers and interrupts; time to the right, the present at the right edge while it follows.
//
// Wheel zooms at the pointer, drag scrolls; the present itself can be dragged back into the past, and forward again. A click sets the first mark and a click with Shift the second: what
// lies between them is measured. A click on a lane's name chooses it: arrow keys go from edge to edge of it, a search looks for its pulses; the other button on it adds, moves and
// removes lanes. The ruler has what was done and noticed, and bookmarks. The session draws the lanes up (session::LanePicture, ReadLane); this only paints them.
// Tested by tests/app/window_test.cpp and tests/app/tape_test.cpp.
#pragma once

#include <optional>

#include <QElapsedTimer>
#include <QLineEdit>
#include <QWidget>

#include "app/shell/editor.h"
#include "app/shell/pick_list.h"

namespace bramix::app {

// What is dragged to the tape: lanes as texts, a line each.
inline constexpr const char* kLanesMime = "application/x-bramix-lanes";

class TapeView : public QWidget {
    Q_OBJECT

public:
    explicit TapeView(Editor& editor, QWidget* parent = nullptr);

    // Shows this much time, the present at the right.
    void follow(kernel::Duration span);
    // Shows this moment in the middle, with the first mark on it.
    void goTo(kernel::Time at);
    void showSpan(kernel::Time from, kernel::Time to);
    // Stays where it is, whatever becomes of the present.
    void rest();
    [[nodiscard]] bool following() const { return follow_; }
    [[nodiscard]] kernel::Duration span() const { return span_; }
    // What is shown, or will be as soon as the session has drawn it up.
    [[nodiscard]] std::pair<kernel::Time, kernel::Time> shownSpan() const { return {to_ - span_, to_}; }
    [[nodiscard]] std::optional<kernel::Duration> betweenMarks() const;
    [[nodiscard]] std::optional<kernel::Time> firstMark() const { return markA_; }
    void setMarks(std::optional<kernel::Time> a, std::optional<kernel::Time> b);

    // The lane that keys and searches mean, by its text; empty for none.
    [[nodiscard]] const std::string& chosen() const { return chosen_; }
    void choose(const std::string& lane);
    // To the next or the last edge of the chosen lane.
    void toEdge(bool forward);
    // Goes on by itself through however much there is, until it has found something, is at the end, or is stopped.
    void search(const QString& words, bool forward);
    void stopSearch();
    [[nodiscard]] bool searching() const { return looking_.has_value(); }
    // What a lane may show, for a person to choose from; `typed` narrows it, or is a lane itself.
    [[nodiscard]] std::vector<PickList::Entry> offers(const QString& typed);
    void addBookmark(const QString& name);
    // The visible part: PNG or SVG by the file's ending.
    [[nodiscard]] bool savePicture(const QString& file);
    [[nodiscard]] QLineEdit& searchLine() { return *search_; }
    // A value change dump of something else: its signals as lanes.
    bool readCapture(const QString& file);
    // The whole run into one file, whose name a person gives.
    void askSaveRecording();
    // Moves the capture so that what is at the first mark comes to the second.
    void alignCapture();

    // Marks an edge and says why it came, as a click on it does.
    void explain(const bench::PinRef& pin, kernel::Time at);
    // Where what it says stands, after the picture that shows it; empty where it says nothing.
    [[nodiscard]] QRectF storyPlace() const { return storyCard_; }
    // Finds what a line of code ("lock.c:42") or a function has done to lines, the first of it, and says how much there is.
    void showMadeBy(const QString& place);

signals:
    // The code behind an edge.
    void codeWanted(QString chip, QString place);
    void lanesWanted(QPoint at);
    void tableWanted();

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void leaveEvent(QEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    // A row of the view: which lane it shows, and where it lies.
    struct Row {
        enum class Kind : std::uint8_t { pin, read, serial, group } kind;
        std::size_t index;
        std::string text;
        double top, height;
    };

    void request();
    void lookOn(session::TapeQuery query, const QString& words, std::uint64_t number);
    bool event(QEvent* event) override;
    [[nodiscard]] bool laneKey(const QKeyEvent& event);
    void takeOff(const Row& row);
    [[nodiscard]] std::vector<Row> rows() const;
    [[nodiscard]] std::optional<Row> rowAt(double y) const;
    [[nodiscard]] bool overPresent(QPointF at) const;
    void paint(QPainter& painter);
    void drawRuler(QPainter& painter);
    void drawEvents(QPainter& painter);
    void drawHeading(QPainter& painter, const Row& row, const QString& name, const QString& behind);
    void drawPinLane(QPainter& painter, const Row& row);
    void drawLevels(QPainter& painter, const session::LanePicture& lane, const Row& row, const QColor& color);
    void drawRead(QPainter& painter, const Row& row);
    void drawItems(QPainter& painter, const session::ReadLane& lane, const Row& row);
    void drawCrowd(QPainter& painter, const session::ReadLane& lane, const Row& row);
    void drawMeaning(QPainter& painter, const std::vector<tape::Decoded>& items, const Row& row);
    void drawWave(QPainter& painter, const session::ReadLane& lane, const Row& row);
    static void drawBound(QPainter& painter, const QString& words, double top);
    void drawSerialLane(QPainter& painter, const Row& row);
    void drawGroup(QPainter& painter, const Row& row);
    void drawFunctions(QPainter& painter, const session::ReadLane& lane, const Row& row);
    void drawShares(QPainter& painter, const session::ReadLane& lane, const Row& row);
    [[nodiscard]] static QString named(const session::FunctionShare& f);
    [[nodiscard]] QStringList sharesAt(const session::ReadLane& lane, double x) const;
    [[nodiscard]] QStringList functionMeasures() const;
    void drawPresent(QPainter& painter);
    void drawMarks(QPainter& painter);
    void drawMeasures(QPainter& painter);
    void drawCause(QPainter& painter);
    void drawStory(QPainter& painter);
    void askWhy(const std::string& pin, kernel::Time at);
    void drawCard(QPainter& painter, QPointF near, const QStringList& lines);
    [[nodiscard]] std::pair<QString, QString> nameOf(const bench::PinRef& pin) const;
    [[nodiscard]] QString pluggedAt(const bench::PinRef& pin) const;
    [[nodiscard]] double xOf(kernel::Time t) const;
    [[nodiscard]] kernel::Time timeAt(double x) const;
    [[nodiscard]] QColor colorOf(const bench::PinRef& pin) const;
    [[nodiscard]] kernel::Time snapped(double x, double y) const;
    [[nodiscard]] double plotWidth() const;
    void openLaneMenu(const Row& row, QPoint at);
    void openPlotMenu(QPoint at);
    void adoptCapture();
    void askName(const std::string& groupFrom);
    void foldGroup(const std::string& heading);
    [[nodiscard]] const bench::BookmarkItem* bookmarkAt(double x) const;

    Editor& editor_;
    bool follow_ = true;
    kernel::Duration span_ = std::chrono::seconds(2);
    kernel::Time to_{};
    std::optional<kernel::Time> markA_, markB_;
    std::string chosen_;
    std::uint64_t searches_ = 0;              // begun so far
    std::optional<kernel::Time> looking_;     // how far the one that goes on has come,
    kernel::Time lookedFrom_{};               // and where it began
    QElapsedTimer lookingTold_;
    QPointF pressAt_, pointer_{-1, -1};
    kernel::Time toAtPress_{};
    bool dragged_ = false;
    bool pressed_ = false;
    bool grabbed_ = false;  // the present is being dragged
    struct Story {
        std::string pin;
        kernel::Time at{};
        session::EdgeStory story;
    };
    std::optional<Story> story_;  // of the edge that was clicked
    QRectF storyCard_;            // where it stands
    std::shared_ptr<const tape::Capture> capture_;
    std::pair<std::string, std::string> captureIs_;  // file and place in time, as the bench has them
    QLineEdit* search_;
    QLineEdit* naming_;     // of a bookmark, or of a group:
    std::string groupFrom_; // the lane over which its heading comes
};

}  // namespace bramix::app
