// What parts show while they run: screens of dots, digits, keys, pixels, and whatever turns. Places come from the manifest.
#include <cmath>

#include <QImage>
#include <QPainterPath>

#include "app/canvas/part_art.h"
#include "app/shell/theme.h"

namespace bramix::app {

namespace {

QRectF boxOf(const std::pair<bench::GridPoint, bench::GridPoint>& box) { return {static_cast<double>(box.first.x), static_cast<double>(box.first.y), static_cast<double>(box.second.x), static_cast<double>(box.second.y)}; }

double brightnessOf(const session::Picture& picture, const std::string& part, const std::string& inner)
{
    for (const session::LightPicture& light : picture.lights)
        if (light.part == part && light.inner == inner)
            return light.brightness;
    return 0;
}

// Between what is dark and what shines.
QColor lit(const QColor& off, const QColor& on, double share)
{
    return QColor::fromRgbF(static_cast<float>(off.redF() + (on.redF() - off.redF()) * share), static_cast<float>(off.greenF() + (on.greenF() - off.greenF()) * share),
                            static_cast<float>(off.blueF() + (on.blueF() - off.blueF()) * share));
}

void drawDots(QPainter& painter, const QRectF& box, const parts::Part::Dots& dots)
{
    QImage image(dots.columns, dots.rows, QImage::Format_RGB32);
    for (int y = 0; y < dots.rows; ++y)
        for (int x = 0; x < dots.columns; ++x)
            image.setPixel(x, y, 0xFF000000U | dots.colors[static_cast<std::size_t>(y * dots.columns + x)]);
    painter.setRenderHint(QPainter::SmoothPixmapTransform, false);
    painter.drawImage(box, image);
}

// Each pixel a round window in its white body; a ring goes round.
void drawPixels(QPainter& painter, const QRectF& box, const parts::Part::Dots& dots, bool ring)
{
    const auto count = static_cast<int>(dots.colors.size());
    const double cell = ring ? 0 : std::min(box.width() / dots.columns, box.height() / dots.rows);
    const double size = ring ? std::min(20.0, std::min(box.width(), box.height()) * 2.2 / count) : cell * 0.82;
    for (int i = 0; i < count; ++i) {
        QPointF at;
        if (ring) {
            const double angle = 2 * 3.14159265358979 * i / count;
            const double radius = std::min(box.width(), box.height()) / 2 - size / 2 - 2;
            at = box.center() + QPointF(std::sin(angle), -std::cos(angle)) * radius;
        } else {
            at = QPointF(box.center().x() + (i % dots.columns - (dots.columns - 1) / 2.0) * cell, box.center().y() + (i / dots.columns - (dots.rows - 1) / 2.0) * cell);
        }
        const QColor color(QRgb(0xFF000000U | dots.colors[static_cast<std::size_t>(i)]));
        painter.setPen(Qt::NoPen);
        painter.setBrush(QColor(0xE9, 0xE4, 0xE0));
        painter.drawRoundedRect(QRectF(at - QPointF(size, size) / 2, QSizeF(size, size)), size * 0.12, size * 0.12);
        painter.setBrush(color.value() < 12 ? QColor(0xB9, 0xB2, 0xA8) : color);
        painter.drawEllipse(at, size * 0.36, size * 0.36);
    }
}

// A slanted digit of seven bars.
void drawDigit(QPainter& painter, const QRectF& box, const bench::PartItem& part, int digit, const session::Picture& picture, const QColor& on)
{
    const double w = box.width() * 0.62, h = box.height(), t = std::min(w * 0.2, 7.0);
    const QPointF o(box.left() + box.width() * 0.12, box.top());
    const auto slant = [&](double x, double y) { return o + QPointF(x + (h - y) * 0.08, y); };
    const auto bar = [&](const char* name, std::initializer_list<QPointF> points) {
        QPainterPath path;
        bool first = true;
        for (const QPointF& p : points) {
            first ? path.moveTo(slant(p.x(), p.y())) : path.lineTo(slant(p.x(), p.y()));
            first = false;
        }
        path.closeSubpath();
        painter.setBrush(lit(QColor(0x3A, 0x32, 0x3A), on, brightnessOf(picture, part.id, std::to_string(digit) + name)));
        painter.drawPath(path);
    };
    const double g = 0.8, m = h / 2;
    painter.setPen(Qt::NoPen);
    bar("a", {{t * 0.6 + g, 0}, {w - t * 0.6 - g, 0}, {w - t - g, t}, {t + g, t}});
    bar("d", {{t + g, h - t}, {w - t - g, h - t}, {w - t * 0.6 - g, h}, {t * 0.6 + g, h}});
    bar("g", {{t * 0.5 + g, m}, {t + g, m - t / 2}, {w - t - g, m - t / 2}, {w - t * 0.5 - g, m}, {w - t - g, m + t / 2}, {t + g, m + t / 2}});
    bar("f", {{0, t * 0.6 + g}, {t, t + g}, {t, m - t / 2 - g}, {t * 0.4, m - g}, {0, m - t / 2}});
    bar("b", {{w, t * 0.6 + g}, {w - t, t + g}, {w - t, m - t / 2 - g}, {w - t * 0.4, m - g}, {w, m - t / 2}});
    bar("e", {{0, h - t * 0.6 - g}, {t, h - t - g}, {t, m + t / 2 + g}, {t * 0.4, m + g}, {0, m + t / 2}});
    bar("c", {{w, h - t * 0.6 - g}, {w - t, h - t - g}, {w - t, m + t / 2 + g}, {w - t * 0.4, m + g}, {w, m + t / 2}});
    painter.setBrush(lit(QColor(0x3A, 0x32, 0x3A), on, brightnessOf(picture, part.id, std::to_string(digit) + "dp")));
    painter.drawEllipse(slant(w + t * 0.9, h - t / 2), t * 0.5, t * 0.5);
}

void drawShaft(QPainter& painter, const bench::PartKind& kind, double degrees)
{
    painter.save();
    painter.translate(kind.shaft->first.x, kind.shaft->first.y);
    painter.rotate(degrees);
    const double r = kind.shaft->second.x;
    painter.setPen(QPen(theme::kArtInk, 1));
    if (kind.shaft->second.y == 1) {
        // A horn with its hub.
        painter.setBrush(QColor(0xF4, 0xEF, 0xE6));
        QPainterPath horn;
        horn.moveTo(-6, 0);
        horn.lineTo(-3, -r);
        horn.lineTo(3, -r);
        horn.lineTo(6, 0);
        horn.closeSubpath();
        painter.drawPath(horn);
        painter.drawEllipse(QPointF(0, 0), 7, 7);
    } else {
        painter.setBrush(kind.shaft->second.y == 2 ? QColor(0x8E, 0x87, 0x94) : QColor(0x4A, 0x46, 0x50));
        painter.drawEllipse(QPointF(0, 0), r, r);
        painter.setPen(QPen(kind.shaft->second.y == 2 ? theme::kArtInk : theme::kArtBramble, 3, Qt::SolidLine, Qt::RoundCap));
        painter.drawLine(QPointF(0, -r * 0.3), QPointF(0, -r * 0.82));
    }
    painter.restore();
}

void drawKeys(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture)
{
    for (const bench::ControlKind& control : kind.controls) {
        if (!control.box)
            continue;
        const QRectF box = boxOf(*control.box);
        const auto now = picture.controls.find(part.id + "." + control.name);
        const bool down = now != picture.controls.end() && now->second != 0;
        if (control.type == "toggle") {
            painter.setPen(Qt::NoPen);
            painter.setBrush(QColor(0x5E, 0x1A, 0x3A));
            painter.drawRoundedRect(box, 2, 2);
            painter.setBrush(QColor(0xF4, 0xEF, 0xE6));
            painter.drawRoundedRect(QRectF(box.left() + 1, down ? box.top() + 1 : box.center().y(), box.width() - 2, box.height() / 2 - 1), 2, 2);
        } else if (kind.behaviour == "keypad") {
            painter.setPen(QPen(theme::kArtInk, 1));
            painter.setBrush(down ? theme::kArtBramble : QColor(0xEC, 0xE5, 0xD8));
            painter.drawRoundedRect(box.translated(0, down ? 1 : 0), 4, 4);
            painter.setPen(down ? QColor(Qt::white) : theme::kArtInk);
            painter.setFont(theme::words(9, QFont::DemiBold));
            painter.drawText(box, Qt::AlignCenter, QString::fromStdString(control.label));
        } else if (down) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(QColor(0x8A, 0x2B, 0x57, 150));
            painter.drawRoundedRect(box, 6, 6);
        }
    }
}

}  // namespace

void drawShown(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture)
{
    const auto found = picture.parts.find(part.id);
    const session::PartPicture* now = found == picture.parts.end() ? nullptr : &found->second;
    drawKeys(painter, kind, part, picture);
    if (kind.shaft)
        drawShaft(painter, kind, now == nullptr || !now->angle ? 0 : *now->angle - (kind.behaviour == "servo" ? 90 : 0));  // a servo's middle points up
    if (kind.behaviour == "joystick") {
        const auto axis = [&](const char* name) {
            const auto at = picture.controls.find(part.id + "." + name);
            return at == picture.controls.end() ? 0.0 : at->second;
        };
        const QPointF middle(48, 38);
        painter.setPen(QPen(theme::kArtInk, 1));
        painter.setBrush(QColor(0x4A, 0x46, 0x50));
        painter.drawEllipse(middle + QPointF(axis("x"), -axis("y")) * 12, 15, 15);
    } else if (kind.behaviour == "color-led") {
        const double r = brightnessOf(picture, part.id, "red"), g = brightnessOf(picture, part.id, "green"), b = brightnessOf(picture, part.id, "blue");
        const double most = std::max({r, g, b});
        if (most > 0.02) {
            const QPointF at(kind.size.x * kStep / 2, 20);
            const double radius = kind.size.x * kStep / 2;
            QRadialGradient glow(at, radius);
            QColor color = QColor::fromRgbF(static_cast<float>(r), static_cast<float>(g), static_cast<float>(b));
            glow.setColorAt(0, color);
            glow.setColorAt(0.55, color);
            color.setAlphaF(0);
            glow.setColorAt(1, color);
            painter.setPen(Qt::NoPen);
            painter.setBrush(glow);
            painter.drawEllipse(at, radius, radius);
        }
    } else if (kind.behaviour == "bar-graph") {
        painter.setPen(Qt::NoPen);
        for (int i = 1; i <= 10; ++i)
            if (const double b = brightnessOf(picture, part.id, std::to_string(i)); b > 0.02) {
                painter.setBrush(lit(QColor(0x4A, 0x40, 0x48), theme::lampColor(settingOf(kind, part, "color")), b));
                painter.drawRoundedRect(QRectF((i - 1) * kStep - 5, 18, 10, 28), 2, 2);
            }
    } else if (kind.behaviour == "seven-segment" && kind.screen) {
        const QRectF box = boxOf(*kind.screen);
        const int digits = settingOf(kind, part, "digits") == "4" ? 4 : 1;
        const QColor on = theme::lampColor(settingOf(kind, part, "color")).lighter(125);
        for (int i = 0; i < digits; ++i)
            drawDigit(painter, QRectF(box.left() + box.width() / digits * i, box.top(), box.width() / digits, box.height()), part, i + 1, picture, on);
    } else if (kind.screen && now != nullptr && now->dots.columns > 0) {
        const QRectF box = boxOf(*kind.screen);
        if (kind.behaviour == "one-wire-pixels" || kind.behaviour == "clocked-pixels")
            drawPixels(painter, box, now->dots, settingOf(kind, part, "shape") == "ring");
        else
            drawDots(painter, box, now->dots);
    } else if (kind.screen && now != nullptr && !now->face.empty()) {
        const QRectF box = boxOf(*kind.screen);
        painter.setPen(kind.behaviour == "sd-card" ? theme::kArtInk : QColor(0xF0, 0xB4, 0x5A));
        painter.setFont(theme::figures(std::clamp(box.height() * 0.48, 5.5, 9.0), QFont::DemiBold));
        painter.drawText(box, Qt::AlignCenter | Qt::TextDontClip, QString::fromStdString(now->face));
    }
}

}  // namespace bramix::app
