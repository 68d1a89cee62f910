// How parts look: the body from catalogue/<kind>/body.svg, and a face drawn over it that shows the part's state.
// One grid step is kStep units of the drawing; at 100 % a unit is a pixel.
#pragma once

#include <QHash>
#include <QPainter>
#include <QPixmap>
#include <QSvgRenderer>

#include "bench/geometry.h"
#include "session/live/picture.h"

namespace bramix::app {

inline constexpr double kStep = 16;

inline QPointF toUnits(bench::GridPoint p) { return {p.x * kStep, p.y * kStep}; }

class PartArt {
public:
    // Draws a part's body with its corner at the painter's origin, turned; `scale` is device pixels a unit, 0 for drawing as lines.
    void drawBody(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, double scale);
    // What is drawn on it by its settings: bands, a value's text, a dark lamp. Same origin and turn.
    void drawStill(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part);
    // What changes while it runs: light, a pressed cap, a slider, a value's text. Same origin and turn.
    void drawFace(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture);
    // Light beyond the body, drawn under everything else that is dynamic.
    void drawGlow(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture);

    // The area that the body covers, in units from the corner, before turning.
    [[nodiscard]] QRectF bodyBox(const bench::PartKind& kind);
    // The same on the sheet.
    [[nodiscard]] QRectF sheetBox(const bench::PartKind& kind, const bench::PartItem& part);
    // The live control that is worked with the mouse at a place of the sheet; empty where there is none.
    [[nodiscard]] std::string controlAt(const bench::PartKind& kind, const bench::PartItem& part, QPointF sheet) const;
    // The dial that the wheel turns there; empty where there is none.
    [[nodiscard]] std::string dialAt(const bench::PartKind& kind, const bench::PartItem& part, QPointF sheet) const;
    // Its value stands above the body, where a label would.
    [[nodiscard]] static bool hasValueAbove(const bench::PartKind& kind);
    // Where that dial's shaft is on the sheet; of a kind that has one.
    [[nodiscard]] QPointF shaftAt(const bench::PartKind& kind, const bench::PartItem& part) const;
    // Along a lead into the body, before turning: how far from the pin the body begins, in units, and whether it is light there. Nothing where it does not begin within a few steps.
    struct BodyBehind {
        double begins = 0;
        bool light = false;
    };
    [[nodiscard]] std::optional<BodyBehind> bodyBehind(const bench::PartKind& kind, bench::GridPoint pin, QPoint inward);
    // Small drawing for lists.
    [[nodiscard]] QPixmap thumbnail(const bench::PartKind& kind, QSize size, double ratio);

private:
    QSvgRenderer& renderer(const bench::PartKind& kind, const QString& tint);

    QHash<QString, std::shared_ptr<QSvgRenderer>> renderers_;
    QHash<QString, QPixmap> pixmaps_;
    QHash<QString, QRectF> boxes_;
    QHash<QString, QImage> plain_;  // bodies at a pixel a unit
};

// A setting as it is given, or as it comes; empty where the kind has none of that name.
[[nodiscard]] std::string settingOf(const bench::PartKind& kind, const bench::PartItem& part, const char* name);

// What a part shows by its own logic or light, and what turns on it: screens, digits, dots, keys, horns. Part of drawFace().
void drawShown(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture);

// The state of a pin, told by shape: filled bead high, ring low, dash floating, half bead between thresholds, zigzag for two outputs that
// fight; a bead filled from below in proportion to its duty where it changes too fast to follow.
void drawBead(QPainter& painter, QPointF at, double radius, const session::PinPicture& pin, const QColor& ink, const QColor& ground);

// Four colour bands (EN 60062) of a resistance: two digits, multiplier, tolerance 5 %.
std::array<QColor, 4> resistorBands(double ohms);

}  // namespace bramix::app
