#include "app/canvas/part_art.h"

#include <QHash>
#include <QRegularExpression>
#include <QStaticText>
#include <QFile>
#include <QPainterPath>
#include <cmath>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

const session::LightPicture* lightOf(const session::Picture& picture, const std::string& part, const std::string& inner)
{
    for (const session::LightPicture& light : picture.lights)
        if (light.part == part && light.inner == inner)
            return &light;
    return nullptr;
}

bool controlOn(const session::Picture& picture, const std::string& part, const char* name, bool standard = false)
{
    const auto found = picture.controls.find(part + "." + name);
    return found == picture.controls.end() ? standard : found->second != 0;
}

// A place on the sheet, in the units of the part's drawing.
QPointF onDrawing(const bench::PartItem& part, QPointF sheet)
{
    QTransform turn;
    turn.translate(part.at.x * kStep, part.at.y * kStep);
    turn.rotate(90.0 * part.turn);
    return turn.inverted().map(sheet);
}

void applyTurn(QPainter& painter, int turn) { painter.rotate(90.0 * turn); }

// The same few words stand on hundreds of parts: shaped once.
const QStaticText& shaped(const QString& text, const QFont& font)
{
    static QHash<QString, QStaticText> known;
    if (known.size() > 4000)
        known.clear();
    QStaticText& entry = known[font.key() + QChar(0) + text];
    if (entry.text().isEmpty()) {
        entry.setTextFormat(Qt::PlainText);
        entry.setText(text);
        entry.prepare({}, font);
    }
    return entry;
}

// Text that stays upright although the part is turned.
void uprightText(QPainter& painter, QPointF at, int turn, const QString& text)
{
    painter.save();
    painter.translate(at);
    painter.rotate(-90.0 * turn);
    const QStaticText& words = shaped(text, painter.font());
    painter.drawStaticText(QPointF(-words.size().width() / 2, -words.size().height() / 2), words);
    painter.restore();
}

// A value beside a part. On the dark paper it may lie over the light body of a breadboard: an edge of paper keeps it legible.
void valueText(QPainter& painter, QPointF at, int turn, const QString& text)
{
    if (theme::look() == theme::Look::dark) {
        constexpr double kEdge = 1;
        painter.setPen(theme::paper());
        for (const QPointF off : {QPointF(-kEdge, 0), QPointF(kEdge, 0), QPointF(0, -kEdge), QPointF(0, kEdge)})
            uprightText(painter, at + off, turn, text);
    }
    painter.setPen(theme::ink());
    uprightText(painter, at, turn, text);
}

// The one setting by which a part is known, written above it.
struct KnownBy {
    const char* behaviour;
    const char* setting;
    double x, y;
};
constexpr KnownBy kKnownBy[] = {{"capacitor", "capacitance", 16, -19}, {"inductor", "inductance", 32, -18}, {"battery", "voltage", 32, -10}, {"potentiometer", "resistance", 32, -14},
                                {"diode", "breakdown", 32, -14}, {"current-source", "current", 32, -10}};

bool isKnownBy(const bench::PartKind& kind, const KnownBy& k) { return kind.behaviour == k.behaviour && (kind.behaviour != "diode" || kind.id == "zener"); }

void drawValue(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part)
{
    for (const KnownBy& k : kKnownBy) {
        if (!isKnownBy(kind, k))
            continue;
        const bench::SettingKind* setting = kind.setting(k.setting);
        const kernel::Unit unit = kernel::unitNamed(setting->type);
        const double value = kernel::parseQuantity(settingOf(kind, part, k.setting), unit).value_or(0);
        const double lift = part.turn % 2 == 0 ? 0 : -8;
        painter.setFont(theme::figures(6.8));
        valueText(painter, {k.x, (kind.id == "electrolytic" ? k.y - 6 : k.y) + lift}, part.turn, QString::fromStdString(kernel::formatQuantity(value, unit)));
    }
}

QPainterPath ledDome()
{
    QPainterPath dome;
    dome.moveTo(3, 22);
    dome.lineTo(3, 12);
    dome.arcTo(QRectF(3, -1, 26, 26), 180, -180);
    dome.lineTo(29, 22);
    dome.closeSubpath();
    return dome;
}

// Soot, and the crack that it came from.
void drawBurnt(QPainter& painter, const QRectF& box)
{
    const QPointF c = box.center();
    QRadialGradient soot(c, 15);
    soot.setColorAt(0, QColor(20, 14, 16, 235));
    soot.setColorAt(0.55, QColor(20, 14, 16, 150));
    soot.setColorAt(1, QColor(20, 14, 16, 0));
    painter.setPen(Qt::NoPen);
    painter.setBrush(soot);
    painter.drawEllipse(c, 15, 15);
    painter.setPen(QPen(theme::kArtRust, 2, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
    const QPointF crack[] = {c + QPointF(-8, -7), c + QPointF(-1, -2), c + QPointF(-3, 2), c + QPointF(8, 7)};
    painter.drawPolyline(crack, 4);
}

constexpr QRectF kButtonCap{16, 16, 32, 32};
constexpr QRectF kSlider{6, 8, 52, 22};
constexpr QPointF kKnobCentre{32, 24};  // of a potentiometer
constexpr double kKnobRadius = 20;

QRectF resetOf(const bench::PartKind& kind)
{
    return kind.resetButton ? QRectF(kind.resetButton->first.x, kind.resetButton->first.y, kind.resetButton->second.x, kind.resetButton->second.y) : QRectF();
}

QPointF lampOf(const bench::PartKind& kind) { return kind.lamp ? QPointF(kind.lamp->x, kind.lamp->y) : QPointF(); }

}  // namespace

std::string settingOf(const bench::PartKind& kind, const bench::PartItem& part, const char* name)
{
    const auto given = part.set.find(name);
    if (given != part.set.end())
        return given->second;
    const bench::SettingKind* known = kind.setting(name);
    return known == nullptr ? std::string() : known->standard;
}

std::array<QColor, 4> resistorBands(double ohms)
{
    static const std::array<QColor, 10> digits{QColor(0x1F, 0x1B, 0x1E), QColor(0x7A, 0x4A, 0x21), QColor(0xC2, 0x32, 0x2A), QColor(0xDD, 0x7A, 0x1C), QColor(0xE2, 0xC2, 0x2E),
                                               QColor(0x3C, 0x8A, 0x43), QColor(0x2F, 0x66, 0xB0), QColor(0x7B, 0x4F, 0xA0), QColor(0x86, 0x86, 0x86), QColor(0xF2, 0xEE, 0xE4)};
    static const QColor gold(0xC9, 0xA1, 0x5A);
    static const QColor silver(0xB4, 0xB4, 0xBA);
    int exponent = ohms > 0 ? static_cast<int>(std::floor(std::log10(ohms))) - 1 : 0;
    auto value = static_cast<int>(std::lround(ohms / std::pow(10.0, exponent)));
    if (value >= 100) {
        value /= 10;
        ++exponent;
    }
    const QColor multiplier = exponent >= 0 && exponent <= 9 ? digits[static_cast<std::size_t>(exponent)] : exponent == -1 ? gold : silver;
    return {digits[static_cast<std::size_t>(std::clamp(value / 10, 0, 9))], digits[static_cast<std::size_t>(std::clamp(value % 10, 0, 9))], multiplier, gold};
}

namespace {

// Black bodies and leads would be lost on the dark paper: greys that are darker than the middle are lifted there, in the same order.
QByteArray liftedDarks(const QByteArray& svg)
{
    constexpr float kLeast = 0.27F, kSlope = 0.35F, kMostGrey = 0.3F;
    static const QRegularExpression hex("#[0-9A-Fa-f]{6}");
    const QString text = QString::fromUtf8(svg);
    QString out;
    qsizetype done = 0;
    for (auto found = hex.globalMatch(text); found.hasNext();) {
        const auto match = found.next();
        const QColor c(match.captured());
        const float lightness = c.hslSaturationF() > kMostGrey ? c.lightnessF() : std::max(c.lightnessF(), kLeast + kSlope * c.lightnessF());
        out += text.mid(done, match.capturedStart() - done) + QColor::fromHslF(std::max(0.0F, c.hslHueF()), c.hslSaturationF(), lightness).name();
        done = match.capturedEnd();
    }
    return (out + text.mid(done)).toUtf8();
}

}  // namespace

QSvgRenderer& PartArt::renderer(const bench::PartKind& kind, const QString& tint)
{
    const bool dark = theme::look() == theme::Look::dark;
    const QString key = QString::fromStdString(kind.id) + tint + (dark ? "/dark" : "");
    auto& entry = renderers_[key];
    if (entry == nullptr) {
        QFile file(QString::fromStdString(kind.folder) + "/body.svg");
        QByteArray svg;
        if (!kind.folder.empty() && file.open(QIODevice::ReadOnly))
            svg = file.readAll().replace("\"tint\"", "\"" + tint.toLatin1() + "\"");
        entry = std::make_shared<QSvgRenderer>(dark ? liftedDarks(svg) : svg);
    }
    return *entry;
}

QRectF PartArt::bodyBox(const bench::PartKind& kind)
{
    const QString key = QString::fromStdString(kind.id);
    if (!boxes_.contains(key)) {
        QSvgRenderer& r = renderer(kind, "#888888");
        boxes_[key] = r.isValid() ? r.viewBoxF() : QRectF(0, 0, std::max(1, kind.size.x) * kStep, std::max(1, kind.size.y) * kStep);
    }
    return boxes_[key];
}

QRectF PartArt::sheetBox(const bench::PartKind& kind, const bench::PartItem& part)
{
    QTransform turn;
    turn.translate(part.at.x * kStep, part.at.y * kStep);
    turn.rotate(90.0 * part.turn);
    return turn.mapRect(bodyBox(kind));
}

std::string PartArt::controlAt(const bench::PartKind& kind, const bench::PartItem& part, QPointF sheet) const
{
    const QPointF at = onDrawing(part, sheet);
    if (kind.behaviour == "push-button" && kButtonCap.contains(at))
        return "pressed";
    if (kind.behaviour == "slide-switch" && kSlider.contains(at))
        return "position";
    if (kind.resetButton && resetOf(kind).contains(at))
        return "RESET";
    for (const bench::ControlKind& control : kind.controls)
        if (control.box && QRectF(control.box->first.x, control.box->first.y, control.box->second.x, control.box->second.y).contains(at))
            return control.name;
    return {};
}

namespace {

// The knob that turns a dial, on the drawing: its centre and radius.
std::optional<std::pair<QPointF, double>> knobOf(const bench::PartKind& kind)
{
    if (kind.behaviour == "potentiometer")
        return std::pair(kKnobCentre, kKnobRadius);
    if (!kind.shaft || kind.shaft->second.y != 0)
        return std::nullopt;
    return std::pair(QPointF(kind.shaft->first.x, kind.shaft->first.y), static_cast<double>(kind.shaft->second.x));
}

}  // namespace

std::string PartArt::dialAt(const bench::PartKind& kind, const bench::PartItem& part, QPointF sheet) const
{
    const auto knob = knobOf(kind);
    if (!knob)
        return {};
    const QPointF away = onDrawing(part, sheet) - knob->first;
    if (std::hypot(away.x(), away.y()) > knob->second + 3)
        return {};
    for (const bench::ControlKind& control : kind.controls)
        if (control.type == "dial")
            return control.name;
    return {};
}

bool PartArt::hasValueAbove(const bench::PartKind& kind)
{
    return std::any_of(std::begin(kKnownBy), std::end(kKnownBy), [&](const KnownBy& k) { return isKnownBy(kind, k); });
}

QPointF PartArt::shaftAt(const bench::PartKind& kind, const bench::PartItem& part) const
{
    QTransform turn;
    turn.translate(part.at.x * kStep, part.at.y * kStep);
    turn.rotate(90.0 * part.turn);
    return turn.map(knobOf(kind).value_or(std::pair(QPointF(), 0.0)).first);
}

void PartArt::drawBody(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, double scale)
{
    const QString tint = kind.behaviour == "led" ? theme::lampColor(settingOf(kind, part, "color")).name() : QStringLiteral("#888888");
    const QRectF box = bodyBox(kind);
    QSvgRenderer& svg = renderer(kind, tint);
    painter.save();
    applyTurn(painter, part.turn);
    // Of two leads that stand the other way round on the real part, its marks do too.
    if (kind.pins.size() == 2 && part.order.size() == 2 && part.order[0] != kind.pins[0].name) {
        const bench::GridPoint a = kind.pins[0].at, b = kind.pins[1].at;
        const bool across = a.x != b.x;
        painter.translate(across ? QPointF((a.x + b.x) * kStep, 0) : QPointF(0, (a.y + b.y) * kStep));
        painter.scale(across ? -1 : 1, across ? 1 : -1);
    }
    if (!svg.isValid()) {
        painter.setPen(QPen(theme::kArtInk, 1));
        painter.setBrush(theme::kArtPanel);
        painter.drawRoundedRect(box, 4, 4);
        painter.restore();
        return;
    }
    if (scale == 0) {
        svg.render(&painter, box);
        painter.restore();
        return;
    }
    // Drawn once for each scale; a sheet of hundreds of resistors is then a sheet of copies.
    const QString key = QString("%1/%2/%3/%4").arg(QString::fromStdString(kind.id), tint).arg(scale, 0, 'f', 3).arg(theme::look() == theme::Look::dark);
    if (pixmaps_.size() > 200)
        pixmaps_.clear();
    QPixmap& pixmap = pixmaps_[key];
    if (pixmap.isNull()) {
        pixmap = QPixmap((box.size() * scale).toSize().expandedTo({1, 1}));
        pixmap.fill(Qt::transparent);
        QPainter inner(&pixmap);
        inner.setRenderHint(QPainter::Antialiasing);
        svg.render(&inner, QRectF(QPointF(0, 0), box.size() * scale));
    }
    painter.setRenderHint(QPainter::SmoothPixmapTransform);
    painter.drawPixmap(box, pixmap, QRectF(pixmap.rect()));
    painter.restore();
}

void PartArt::drawGlow(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture)
{
    const bool board = kind.chip != nullptr;
    const session::LightPicture* light = lightOf(picture, part.id, board ? "lamp" : "");
    if (light == nullptr || light->brightness < 0.02)
        return;
    const QPointF at = board ? lampOf(kind) : QPointF(16, 14);
    const double radius = board ? 16 : 34;
    QColor color = theme::lampColor(light->color);
    painter.save();
    applyTurn(painter, part.turn);
    QRadialGradient glow(at, radius);
    color.setAlphaF(static_cast<float>(0.75 * light->brightness));
    glow.setColorAt(0, color);
    color.setAlphaF(static_cast<float>(0.30 * light->brightness));
    glow.setColorAt(0.45, color);
    color.setAlphaF(0);
    glow.setColorAt(1, color);
    painter.setPen(Qt::NoPen);
    painter.setBrush(glow);
    painter.drawEllipse(at, radius, radius);
    painter.restore();
}

void PartArt::drawStill(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part)
{
    painter.save();
    applyTurn(painter, part.turn);
    if (kind.id == "note") {
        // The card is as large as its words.
        painter.setFont(theme::words(8.6));
        const QString words = QString::fromStdString(settingOf(kind, part, "text"));
        const double width = settingOf(kind, part, "width") == "wide" ? 300 : 142;
        const QRectF text = painter.boundingRect(QRectF(10, 6, width, 1000), Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap, words);
        const QRectF card(0, 0, width + 18, std::max(32.0, text.bottom() + 6));
        painter.setPen(QPen(QColor(0xB9, 0xAE, 0x9C), 1));
        painter.setBrush(theme::kArtCard);
        painter.drawPolygon(QPolygonF{card.topLeft(), card.topRight() - QPointF(10, 0), card.topRight() + QPointF(0, 10), card.bottomRight(), card.bottomLeft()});
        painter.fillRect(QRectF(0, 0, 3, card.height()), theme::kArtBramble);
        painter.setPen(theme::kArtInk);
        painter.drawText(QRectF(10, 6, width, 1000), Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap, words);
    } else if (kind.behaviour == "led") {
        painter.setPen(Qt::NoPen);
        painter.setBrush(QColor(30, 20, 30, 70));
        painter.drawPath(ledDome());
        painter.drawRect(QRectF(0, 22, 28, 7));
    } else if (kind.behaviour == "resistor") {
        const double ohms = kernel::parseQuantity(settingOf(kind, part, "resistance"), kernel::Unit::ohm).value_or(0);
        const auto bands = resistorBands(ohms);
        for (std::size_t i = 0; i < bands.size(); ++i)
            painter.fillRect(QRectF(18 + static_cast<double>(i) * 7 + (i == 3 ? 4 : 0), -6.5, 3.2, 13), bands[i]);
        painter.setFont(theme::figures(6.8));
        valueText(painter, part.turn % 2 == 0 ? QPointF(32, -16) : QPointF(32, part.turn == 1 ? -27 : 27), part.turn, QString::fromStdString(kernel::formatQuantity(ohms, kernel::Unit::ohm)));
    } else if (kind.behaviour == "bipolar" || kind.behaviour == "mosfet") {
        painter.setPen(QColor(0xEC, 0xE5, 0xD8));
        painter.setFont(theme::figures(7, QFont::DemiBold));
        uprightText(painter, {16, kind.behaviour == "bipolar" ? 13.0 : 18.0}, part.turn, QString::fromStdString(settingOf(kind, part, "polarity")));
    }
    drawValue(painter, kind, part);
    painter.restore();
}

void PartArt::drawFace(QPainter& painter, const bench::PartKind& kind, const bench::PartItem& part, const session::Picture& picture)
{
    painter.save();
    applyTurn(painter, part.turn);
    if (kind.behaviour == "led") {
        // Dark it is drawn with what stands still.
        const session::LightPicture* light = lightOf(picture, part.id, "");
        const double b = light == nullptr ? 0 : light->brightness;
        if (b > 0.02) {
            const QRectF box = bodyBox(kind);
            renderer(kind, theme::lampColor(settingOf(kind, part, "color")).name()).render(&painter, box);
            QColor core = QColor::fromRgbF(1.0F, 1.0F, 0.94F, static_cast<float>(0.85 * b));
            QRadialGradient shine(QPointF(16, 12), 12);
            shine.setColorAt(0, core);
            core.setAlphaF(0);
            shine.setColorAt(1, core);
            painter.setPen(Qt::NoPen);
            painter.setBrush(shine);
            painter.drawPath(ledDome());
        }
    } else if (kind.behaviour == "push-button") {
        const bool pressed = controlOn(picture, part.id, "pressed");
        painter.setPen(QPen(QColor(0x5E, 0x1A, 0x3A), 1.2));
        painter.setBrush(pressed ? QColor(0x6E, 0x20, 0x44) : theme::kArtBramble);
        painter.drawEllipse(QPointF(32, 32), pressed ? 13.5 : 15.0, pressed ? 13.5 : 15.0);
        if (!pressed) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(QColor(255, 255, 255, 60));
            painter.drawEllipse(QPointF(27, 26), 4.5, 3.5);
        }
        if (!part.key.empty()) {
            painter.setPen(Qt::white);
            painter.setFont(theme::words(8, QFont::DemiBold));
            uprightText(painter, QPointF(32, 32), part.turn, QString::fromStdString(part.key));
        }
    } else if (kind.behaviour == "slide-switch") {
        const bool b = controlOn(picture, part.id, "position");
        painter.setPen(QPen(theme::kArtInk, 1));
        painter.setBrush(QColor(0xCF, 0xC8, 0xD2));
        painter.drawRoundedRect(QRectF(b ? 36 : 8, 9, 20, 20), 4, 4);
        painter.setPen(QPen(QColor(0x8E, 0x87, 0x94), 1.2));
        const double x = b ? 46 : 18;
        painter.drawLine(QPointF(x - 3, 14), QPointF(x - 3, 24));
        painter.drawLine(QPointF(x + 3, 14), QPointF(x + 3, 24));
    } else if (kind.behaviour == "bench-supply") {
        const auto volts = picture.controls.find(part.id + ".volts");
        painter.setPen(QColor(0xE9, 0xA5, 0x8F));
        painter.setFont(theme::figures(7.6, QFont::DemiBold));
        if (volts != picture.controls.end())
            painter.drawText(QRectF(6, 2, 40, 20), Qt::AlignCenter, QString::number(volts->second, 'f', 2));
    } else if (kind.behaviour == "multimeter") {
        const auto now = picture.parts.find(part.id);
        painter.setPen(QColor(0x22, 0x2E, 0x22));
        painter.setFont(theme::figures(9.6, QFont::DemiBold));
        painter.drawText(QRectF(8, 7, 80, 34), Qt::AlignCenter, now != picture.parts.end() ? QString::fromStdString(now->second.face) : QString());
        const auto mode = picture.controls.find(part.id + ".mode");
        constexpr const char* kModes[] = {"V", "A", "Ω", "⌁"};
        painter.setPen(QColor(0xEE, 0xF2, 0xE4));
        painter.setFont(theme::figures(11, QFont::DemiBold));
        painter.drawText(QRectF(6, 50, 26, 24), Qt::AlignCenter, QString::fromUtf8(kModes[mode == picture.controls.end() ? 0 : std::clamp(static_cast<int>(mode->second), 0, 3)]));
    } else if (kind.behaviour == "potentiometer") {
        const auto position = picture.controls.find(part.id + ".position");
        const double angle = (-140 + 280 * (position != picture.controls.end() ? position->second : 0.5)) * 3.14159265 / 180;
        painter.setPen(QPen(theme::kArtBramble, 3, Qt::SolidLine, Qt::RoundCap));
        painter.drawLine(QPointF(32 + 6 * std::sin(angle), 24 - 6 * std::cos(angle)), QPointF(32 + 17 * std::sin(angle), 24 - 17 * std::cos(angle)));
    } else if (kind.chip != nullptr && kind.resetButton) {
        if (const session::LightPicture* light = lightOf(picture, part.id, "lamp"); light != nullptr && light->brightness > 0.02) {
            QColor c(0xFF, 0xD9, 0x7A);
            c.setAlphaF(static_cast<float>(light->brightness));
            painter.setPen(Qt::NoPen);
            painter.setBrush(c);
            painter.drawEllipse(lampOf(kind), 4.5, 4.5);
        }
        if (!controlOn(picture, part.id, "RESET", true)) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(theme::kArtBramble);
            painter.drawEllipse(resetOf(kind).center(), 7, 7);
        }
    }
    drawShown(painter, kind, part, picture);
    if (const auto now = picture.parts.find(part.id); now != picture.parts.end() && now->second.dead)
        drawBurnt(painter, bodyBox(kind));
    painter.restore();
}

QPixmap PartArt::thumbnail(const bench::PartKind& kind, QSize size, double ratio)
{
    QPixmap pixmap(size * ratio);
    pixmap.setDevicePixelRatio(ratio);
    pixmap.fill(Qt::transparent);
    const QRectF box = bodyBox(kind).adjusted(-4, -4, 4, 4);
    const double scale = std::min({size.width() / box.width(), size.height() / box.height(), 1.0});
    QPainter painter(&pixmap);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(size.width() / 2.0, size.height() / 2.0);
    painter.scale(scale, scale);
    painter.translate(-box.center());
    bench::PartItem part;
    part.kind = kind.id;
    drawBody(painter, kind, part, scale * ratio);
    drawStill(painter, kind, part);
    drawFace(painter, kind, part, session::Picture{});
    return pixmap;
}

std::optional<PartArt::BodyBehind> PartArt::bodyBehind(const bench::PartKind& kind, bench::GridPoint pin, QPoint inward)
{
    constexpr int kFarthest = 28, kBeside = 5;  // wider than any lead
    const QRectF box = bodyBox(kind);
    QImage& body = plain_[QString::fromStdString(kind.id)];
    if (body.isNull()) {
        body = QImage(box.size().toSize().expandedTo({1, 1}), QImage::Format_ARGB32);
        body.fill(Qt::transparent);
        QPainter painter(&body);
        if (QSvgRenderer& svg = renderer(kind, QStringLiteral("#888888")); svg.isValid())
            svg.render(&painter, QRectF(QPointF(0, 0), box.size()));
    }
    const auto at = [&](QPointF units) {
        const QPoint p = (units - box.topLeft()).toPoint();
        return body.rect().contains(p) ? body.pixelColor(p) : QColor(Qt::transparent);
    };
    const QPointF across(inward.y(), inward.x());
    for (int d = 1; d <= kFarthest; ++d) {
        const QPointF here = toUnits(pin) + QPointF(inward) * d;
        const QColor a = at(here + across * kBeside), b = at(here - across * kBeside);
        if (a.alpha() > 200 && b.alpha() > 200) {
            const QColor within = at(here + across * kBeside + QPointF(inward) * 3);  // past its outline
            return BodyBehind{static_cast<double>(d), within.alpha() > 200 && within.lightness() > 150};
        }
    }
    return std::nullopt;
}

void drawBead(QPainter& painter, QPointF at, double r, const session::PinPicture& pin, const QColor& ink, const QColor& ground)
{
    using circuit::NetState;
    painter.save();
    painter.setPen(QPen(ink, r * 0.42));
    painter.setBrush(ground);
    if (pin.busy && pin.state != NetState::conflict) {
        painter.drawEllipse(at, r, r);
        QPainterPath filled;
        filled.addEllipse(at, r, r);
        QPainterPath level;
        level.addRect(QRectF(at.x() - r, at.y() + r - 2 * r * pin.duty, 2 * r, 2 * r));
        painter.fillPath(filled.intersected(level), ink);
    } else {
        switch (pin.state) {
        case NetState::high:
            painter.setBrush(ink);
            painter.drawEllipse(at, r, r);
            break;
        case NetState::low: painter.drawEllipse(at, r, r); break;
        case NetState::between:
            painter.drawEllipse(at, r, r);
            painter.setBrush(ink);
            painter.drawPie(QRectF(at.x() - r, at.y() - r, 2 * r, 2 * r), 90 * 16, 180 * 16);
            break;
        case NetState::floating:
            painter.setPen(QPen(ink, r * 0.6, Qt::SolidLine, Qt::RoundCap));
            painter.drawLine(at - QPointF(r, 0), at + QPointF(r, 0));
            break;
        case NetState::conflict: {
            painter.setPen(QPen(theme::kArtRust, r * 0.6, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
            const QPointF zigzag[] = {at + QPointF(-1.6 * r, r), at + QPointF(-0.5 * r, -r), at + QPointF(0.5 * r, r), at + QPointF(1.6 * r, -r)};
            painter.drawPolyline(zigzag, 4);
            break;
        }
        }
    }
    painter.restore();
}

}  // namespace bramix::app
