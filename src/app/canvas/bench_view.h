// The bench: boards, parts and wires on a dot grid.
//
// Mouse: drag a part to move it, from a pin to wire it (or click pin, bends, pin); drag the paper to select, with the right or middle
// button to pan; wheel zooms at the pointer. Live controls on a part's face are worked by pressing them.
// What stays the same between two edits is drawn once into a pixmap; a frame draws that and, over it, what the picture says.
// Tested by tests/app/window_test.cpp.
#pragma once

#include <optional>
#include <set>

#include <QPixmap>
#include <QElapsedTimer>
#include <QTimer>
#include <QTimer>
#include <QWidget>

#include "app/canvas/part_art.h"
#include "app/canvas/ribbon.h"
#include "app/shell/editor.h"

namespace bramix::app {

class BenchView : public QWidget {
    Q_OBJECT

public:
    BenchView(Editor& editor, PartArt& art, QWidget* parent = nullptr);

    void fitAll();
    void zoomBy(double factor, QPointF about);
    [[nodiscard]] double zoom() const { return zoom_; }

    // Where a place on the sheet lies in the widget, and back.
    [[nodiscard]] QPointF toWidget(QPointF units) const { return units * zoom_ + offset_; }
    [[nodiscard]] QPointF toSheet(QPointF widget) const { return (widget - offset_) / zoom_; }
    // Centre of a pin in the widget; for tests and for pointing things out.
    [[nodiscard]] std::optional<QPointF> pinInWidget(const bench::PinRef& pin) const;

    // From now on the sheet stays where it is on the screen, whatever opens beside it, until it is fitted again.
    void holdStill();
    // What lies in the middle stays there when the view gets another size next.
    void keepMiddle();

    // Adds a part where the pointer is, or in the middle where it is elsewhere, beside what stands there.
    void addPartAtPointer(const bench::PartKind& kind, const std::map<std::string, std::string>& set = {});
    void turnSelection();
    void duplicateSelection();
    void copySelection();
    void pasteAtPointer();
    void alignSelection(bench::Edge edge);
    void distributeSelection(bool across);
    void removeSelection();
    void selectAll();
    // Wires of a large bench still look for their ways, piece by piece; Esc leaves them as they are.
    // Where a pin's name stands on the sheet: beside its lead, or on the body along it.
    struct PinName {
        enum class Ink : std::uint8_t { beside, onLight, onDark };
        bench::PinRef pin;
        QString text;
        QRectF box;        // in units
        bool upright = false;
        double points = 0;
        Ink ink = Ink::beside;
    };
    [[nodiscard]] std::vector<PinName> pinNames();
    [[nodiscard]] bool layingWires() const { return laying_.isActive(); }
    void askNetFlag();
    void recolorSelection();
    // The selected wires as a ribbon, or apart again.
    void toggleRibbon();
    // A hundredth of its way for each step, one stop of a dial with stops.
    void turnDialByKey(double steps);
    // The whole sheet into a file: SVG, PDF (in true size), or PNG, by its suffix. False where it cannot be written.
    [[nodiscard]] bool exportSheet(const QString& file);
    // Brings a part into view and selects it.
    void reveal(const std::string& part);

    [[nodiscard]] std::optional<bench::PinRef> hoveredPin() const { return hoverPin_; }

    // What lies at a place: at most one of pin, wire and part. A net flag is its pin.
    struct Target {
        std::optional<bench::PinRef> pin;
        std::optional<std::size_t> wire;
        std::string part;
    };
    [[nodiscard]] Target targetAt(QPointF widget);
    // The pin, or nothing, counts as under the pointer, for what is chosen in a menu.
    void pointAt(const std::optional<bench::PinRef>& pin) { hoverPin_ = pin; }
    // A wire from this pin follows the pointer.
    void beginWire(const bench::PinRef& pin);
    void wireBetween(const bench::PinRef& from, const bench::PinRef& to);
    void colourSelection(const std::string& colour);
    // The selected parts a quarter back.
    void turnSelectionBack();

signals:
    // The right button, without a move; or the menu key.
    void menuWanted(const bramix::app::BenchView::Target& target, QPoint global);
    void firmwareDropped(const std::string& part, const QString& file);
    void benchDropped(const QString& file);
    void otherDropped(const QString& file);

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void moveEvent(QMoveEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void leaveEvent(QEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;

private:
    enum class Doing { nothing, panning, banding, moving, wiring, holding, turning };

    struct PinSpot {
        bench::PinRef ref;
        QPointF at;            // on the sheet
        QPointF bead;          // where its bead is drawn
        QPointF label;         // where its name is drawn, for kinds without silk
        bool onBoard = false;
        bool wired = false;
        bool hole = false;     // of a breadboard
        std::string about;
        std::string aliases;
    };

    void rebuild();
    void layOn();
    void drawStatic();
    [[nodiscard]] QRectF sheetBounds();
    void drawSheet(QPainter& painter);
    void paintDynamic(const QRectF& ground);
    void drawBeadFast(QPainter& painter, QPointF at, const session::PinPicture& pin);
    void drawWires(QPainter& painter, bool withGaps, const QRectF& within = {});
    void drawFlag(QPainter& painter, const PinSpot& spot, const QString& name);
    void drawLabels(QPainter& painter);
    void drawFunctions(QPainter& painter);
    void drawBeads(QPainter& painter);
    void drawSelection(QPainter& painter);
    void drawNetUnderPointer(QPainter& painter);
    void drawBand(QPainter& painter);
    void drawWireInProgress(QPainter& painter);
    void drawServingPins(QPainter& painter);
    void drawHoverCard(QPainter& painter);
    void drawProbes(QPainter& painter);
    void drawNotBuilt(QPainter& painter) const;
    [[nodiscard]] std::optional<bench::PinRef> probeAt(QPointF widget) const;
    void drawEmptyHint(QPainter& painter);
    [[nodiscard]] std::optional<bench::PinRef> flagAt(QPointF widget) const;
    [[nodiscard]] QPointF flagDirection(const PinSpot& spot) const;

    [[nodiscard]] const PinSpot* pinAt(QPointF widget) const;
    [[nodiscard]] std::optional<PinName> nameOf(const PinSpot& spot);
    [[nodiscard]] bool isWorkedAt(QPointF widget) const;
    [[nodiscard]] const bench::PartItem* partAt(QPointF widget);
    [[nodiscard]] std::optional<std::size_t> wireAt(QPointF widget) const;
    [[nodiscard]] bench::GridPoint gridAt(QPointF widget) const;
    void beginHold(const bench::PartItem& part, const bench::PartKind& kind, const std::string& control);
    bool turnDial(QPointF widget, double steps);
    void turnShaft(QPointF widget);
    void endHold();
    void bringIntoView(const QRectF& box);
    [[nodiscard]] std::optional<std::size_t> endOfSelectedWire(const bench::PinRef& pin) const;
    void finishWire(const bench::PinRef& to);
    void cancelDoing();
    void applyBand();
    void moveSelection(bench::GridPoint by);

    Editor& editor_;
    PartArt& art_;
    double zoom_ = 1;
    QPointF offset_{20, 10};
    bool fitted_ = false;   // once, so that the first parts do not move under the hand
    QPoint place_;          // in the window, when it was looked at last
    bool middleStays_ = false;
    bool autoFit_ = false;  // a bench just opened fits the window until a person pans, zooms or edits

    QPixmap static_;
    bool staticDirty_ = true;   // zoom, place or content is another now
    bool contentDirty_ = true;  // and so is what it shows
    double staticZoom_ = 1;
    QPointF staticOffset_;
    QTimer settling_;           // runs until the wheel has rested
    std::array<QPixmap, 4> beads_;
    double beadScale_ = 0;
    bench::WirePaths wirePaths_;
    QTimer laying_;             // runs while wires of a large bench still look for their ways
    QElapsedTimer layingTold_;
    WireLines wires_;
    std::vector<PinSpot> spots_;

    Doing doing_ = Doing::nothing;
    QPointF pressAt_;
    QPointF pointer_;
    QPointF offsetAtPress_;
    bench::GridPoint moved_;
    bool movedAny_ = false;
    bool thinOut_ = false;   // a click on what is selected, if it does not become a drag, selects it alone
    std::string turnedPart_, turnedControl_;
    QPointF shaft_;          // of the dial that is turned, in the widget
    std::optional<std::size_t> movedEnd_;  // the wire whose end is being drawn to another pin
    std::optional<bench::PinRef> wireFrom_;
    std::vector<bench::GridPoint> wireVia_;
    bool wireByDrag_ = false;
    std::string heldPart_, heldControl_;
    double heldRelease_ = 0;
    struct Flag {
        QRectF box;  // on the sheet
        bench::PinRef pin;
    };
    std::vector<Flag> flags_;  // as drawn in this frame
    std::vector<std::pair<bench::PinRef, QRectF>> probeTags_;  // as last drawn, in the widget
    std::optional<bench::PinRef> hoverPin_;
    std::optional<std::size_t> hoverWire_;
    bench::Selection bandBase_;
};

}  // namespace bramix::app
