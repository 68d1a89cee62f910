#include "app/shell/theme.h"

#include "app/shell/settings.h"

#include <QApplication>
#include <QHash>
#include <QIconEngine>
#include <QLabel>
#include <QPainter>
#include <QPalette>
#include <QPixmap>
#include <QRegularExpression>
#include <QSvgRenderer>
#include <algorithm>
#include <array>

// The library's resources come in where somebody asks for them.
static void useIcons() { Q_INIT_RESOURCE(icons); }

namespace bramix::app::theme {

namespace {

Look lookNow = Look::light;

constexpr std::array kTones{&paper, &panel,  &card,  &quiet,  &hover,      &chosen,   &changed, &selected,  &warningGround, &errorGround, &goodGround, &go,         &goHover,   &goFaint, &accent, &rule, &edge,
                            &dot,   &ink,    &muted, &faint,  &bramble,    &leaf,     &amber,   &rust,      &sky,           &warningInk,  &errorInk,   &goodInk,    &white};

const char* const kSheetOf = "look.sheet";
const char* const kTextOf = "look.text";

QString withTones(QString text, const QRegularExpression& place)
{
    QString out;
    qsizetype done = 0;
    for (auto found = place.globalMatch(text); found.hasNext();) {
        const auto match = found.next();
        const auto tone = std::ranges::find_if(kTones, [&](const Tone* t) { return match.captured(1) == QLatin1String(t->name); });
        out += text.mid(done, match.capturedStart(1) - 1 - done);
        // Arrows are drawings: light ones on dark grounds.
        out += tone != kTones.end() ? (**tone)().name() : match.captured(1) == "arrow" ? QString(lookNow == Look::dark ? "light" : "dark") : "@" + match.captured(1);
        done = match.capturedEnd(1);
    }
    return out + text.mid(done);
}

// What people wrote may stand in rich text: only a colour of ours is put in there.
QString richTextOf(const QString& text)
{
    static const QRegularExpression place("color:@([A-Za-z]+)");
    return withTones(text, place);
}

void dressApplication()
{
    QPalette palette;
    palette.setColor(QPalette::Window, panel());
    palette.setColor(QPalette::WindowText, ink());
    palette.setColor(QPalette::Base, card());
    palette.setColor(QPalette::AlternateBase, quiet());
    palette.setColor(QPalette::ToolTipBase, card());
    palette.setColor(QPalette::ToolTipText, ink());
    palette.setColor(QPalette::Text, ink());
    palette.setColor(QPalette::PlaceholderText, muted());
    palette.setColor(QPalette::Button, panel());
    palette.setColor(QPalette::ButtonText, ink());
    palette.setColor(QPalette::BrightText, white());
    palette.setColor(QPalette::Light, card());
    palette.setColor(QPalette::Midlight, hover());
    palette.setColor(QPalette::Mid, rule());
    palette.setColor(QPalette::Dark, edge());
    palette.setColor(QPalette::Highlight, accent());
    palette.setColor(QPalette::HighlightedText, white());
    palette.setColor(QPalette::Link, bramble());
    palette.setColor(QPalette::LinkVisited, bramble());
    for (const auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText})
        palette.setColor(QPalette::Disabled, role, faint());
    QApplication::setPalette(palette);
    qApp->setStyleSheet(styleSheet());
}

}  // namespace

QColor Tone::operator()() const { return QColor::fromRgba(lookNow == Look::dark ? dark : light); }

Look look() { return lookNow; }

Changes& changes()
{
    static Changes all;
    return all;
}

QColor clear(QColor color, int alpha)
{
    color.setAlpha(alpha);
    return color;
}

void setLook(Look look)
{
    lookNow = look;
    dressApplication();
    for (QWidget* widget : QApplication::allWidgets()) {
        if (const QVariant own = widget->property(kSheetOf); own.isValid())
            widget->setStyleSheet(sheet(own.toString()));
        if (auto* label = qobject_cast<QLabel*>(widget); label != nullptr && label->property(kTextOf).isValid())
            label->setText(richTextOf(label->property(kTextOf).toString()));
        widget->update();
    }
    emit changes().changed();
}

QString sheet(const QString& text)
{
    static const QRegularExpression place("@([A-Za-z]+)");
    return withTones(text, place);
}

void dress(QWidget* widget, const QString& text)
{
    if (widget->property(kSheetOf).toString() == text)
        return;
    widget->setProperty(kSheetOf, text);
    widget->setStyleSheet(sheet(text));
}

void write(QLabel* label, const QString& richText)
{
    if (label->property(kTextOf).toString() == richText)
        return;
    label->setProperty(kTextOf, richText);
    label->setText(richTextOf(richText));
}

QColor wireColor(const std::string& name)
{
    struct Wire {
        const char* name;
        QRgb light, dark;
    };
    // Brighter on the dark paper, the same hue.
    static constexpr std::array kWires{Wire{"ink", 0xFF2A2230, 0xFFCFC4D6}, Wire{"rust", 0xFFA83A22, 0xFFDD6A50}, Wire{"amber", 0xFFC0730D, 0xFFE09A3A}, Wire{"leaf", 0xFF4B7B3F, 0xFF7DB56E}, Wire{"sky", 0xFF2D6A9E, 0xFF63A5DC}, Wire{"violet", 0xFF7B4FA0, 0xFFAF84D6}, Wire{"bark", 0xFF8C6239, 0xFFBE9163}, Wire{"slate", 0xFF5B7F86, 0xFF8AB2B9}};
    const auto found = std::ranges::find_if(kWires, [&](const Wire& w) { return name == w.name; });
    const Wire& wire = found == kWires.end() ? kWires.back() : *found;
    return QColor::fromRgba(lookNow == Look::dark ? wire.dark : wire.light);
}

QColor laneColor(const std::string& name)
{
    const QColor c = wireColor(name);
    if (name == "ink")
        return kTapeText;
    return QColor::fromHslF(c.hslHueF(), std::min(0.62F, c.hslSaturationF() + 0.05F), 0.66F);
}

QColor lampColor(const std::string& name)
{
    static const QHash<QString, QColor> colors{{"red", QColor(0xD6, 0x3A, 0x2C)},   {"amber", QColor(0xE3, 0x9A, 0x1B)}, {"yellow", QColor(0xE5, 0xC5, 0x24)},
                                               {"green", QColor(0x3F, 0xA2, 0x4B)}, {"blue", QColor(0x3A, 0x6F, 0xD0)},  {"white", QColor(0xF4, 0xF1, 0xE6)},
                                               {"infrared", QColor(0x5A, 0x3A, 0x4E)}};
    return colors.value(QString::fromStdString(name), QColor(0xD6, 0x3A, 0x2C));
}

namespace {

// As a person has set it before the start.
double textScale()
{
    static const double scale = settings::textPercent() / 100.0;
    return scale;
}

}  // namespace

QFont words(double points, int weight)
{
    QFont font("Inter");
    font.setPointSizeF(points * textScale());
    font.setWeight(static_cast<QFont::Weight>(weight));
    return font;
}

QFont figures(double points, int weight)
{
    QFont font("JetBrains Mono");
    font.setPointSizeF(points * textScale());
    font.setWeight(static_cast<QFont::Weight>(weight));
    return font;
}

namespace {

QByteArray iconSvg(const QString& name, const QColor& color)
{
    static const QHash<QString, QByteArray> drawings{
        {"run", R"(<path d="M8 5 L19 12 L8 19 Z" fill="C"/>)"},
        {"pause", R"(<path d="M8.5 5.5 V18.5 M15.5 5.5 V18.5" stroke-width="3.2"/>)"},
        {"step", R"(<path d="M7 5 V19 M11.500 6.500 L18 12 L11.500 17.500"/>)"},
        {"back", R"(<path d="M17 5 V19 M12.500 6.500 L6 12 L12.500 17.500"/>)"},
        {"restart", R"(<path d="M18.500 12 A6.500 6.500 0 1 1 15.500 6.500 M15.500 2.800 V7 H11.300"/>)"},
        {"parts", R"(<rect x="4.500" y="4.500" width="6" height="6" rx="1.200"/><circle cx="16.500" cy="7.500" r="3.200"/><path d="M4.500 16.500 H10.500 M7.500 13.500 V19.500"/><rect x="13.500" y="13.500" width="6" height="6" rx="1.200"/>)"},
        {"files", R"(<path d="M6 3.500 H13.500 L18.500 8.500 V20.500 H6 Z M13.500 3.500 V8.500 H18.500 M9 13 H15.500 M9 16.500 H13.500"/>)"},
        {"findings", R"(<path d="M12 4 L21 19.500 H3 Z M12 10 V14.500 M12 16.800 V17.200"/>)"},
        {"search", R"(<circle cx="10.500" cy="10.500" r="6"/><path d="M15 15 L20 20"/>)"},
        {"close", R"(<path d="M7 7 L17 17 M17 7 L7 17"/>)"},
        {"berry", R"(<circle cx="9" cy="11" r="3.600" fill="C" stroke="none"/><circle cx="15.500" cy="11" r="3.600" fill="C" stroke="none"/><circle cx="12.200" cy="16.600" r="3.600" fill="C" stroke="none"/><path d="M12 7.500 C12 5 13.500 3.500 16.500 3.200"/>)"},
    };
    QByteArray svg = R"(<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24"><g fill="none" stroke="C" stroke-width="1.700" stroke-linecap="round" stroke-linejoin="round">)";
    svg += drawings.value(name) + "</g></svg>";
    return svg.replace("\"C\"", "\"" + color.name().toLatin1() + "\"");
}

// Drawn at the size that is wanted, in the colour that its tone has then.
class Drawing : public QIconEngine {
public:
    Drawing(QString name, const Tone& tone) : name_(std::move(name)), tone_(&tone) {}

    void paint(QPainter* painter, const QRect& rect, QIcon::Mode, QIcon::State) override
    {
        QSvgRenderer renderer(iconSvg(name_, (*tone_)()));
        renderer.render(painter, rect);
    }

    QPixmap pixmap(const QSize& size, QIcon::Mode mode, QIcon::State state) override
    {
        QPixmap out(size);
        out.fill(Qt::transparent);
        QPainter painter(&out);
        paint(&painter, QRect(QPoint(0, 0), size), mode, state);
        return out;
    }

    [[nodiscard]] QIconEngine* clone() const override { return new Drawing(name_, *tone_); }

private:
    QString name_;
    const Tone* tone_;
};

}  // namespace

QIcon icon(const QString& name, const Tone& tone) { return QIcon(new Drawing(name, tone)); }

QString styleSheet()
{
    useIcons();
    return sheet(QStringLiteral(R"(
QWidget { color: @ink; }
QWidget#inspector, QWidget#inspectorPage { background: @panel; }
QWidget#shell, QMainWindow { background: @panel; }
QMenu { background: @card; color: @ink; border: 1px solid @edge; padding: 5px; }
QMenu::item { background: transparent; padding: 5px 26px 5px 14px; border-radius: 5px; }
QMenu::item:selected { background: @chosen; color: @ink; }
QMenu::item:disabled { color: @muted; }
QMenu::separator { height: 1px; background: @rule; margin: 4px 8px; }
QDialog, QMessageBox { background: @panel; }
QToolTip { background: @card; color: @ink; border: 1px solid @rule; padding: 4px 6px; }
QLineEdit, QPlainTextEdit, QSpinBox { background: @card; border: 1px solid @rule; border-radius: 5px; padding: 4px 7px; selection-background-color: @accent; selection-color: #FFFFFF; }
QLineEdit:focus, QPlainTextEdit:focus { border: 1px solid @bramble; }
QComboBox { background: @card; border: 1px solid @rule; border-radius: 5px; padding: 4px 7px; }
QComboBox::drop-down { border: none; width: 20px; }
QComboBox::down-arrow { image: url(:/icons/down-@arrow.svg); width: 11px; height: 11px; }
QSpinBox::up-button, QSpinBox::down-button { border: none; background: transparent; width: 18px; }
QSpinBox::up-arrow { image: url(:/icons/up-@arrow.svg); width: 10px; height: 10px; }
QSpinBox::down-arrow { image: url(:/icons/down-@arrow.svg); width: 10px; height: 10px; }
QComboBox QAbstractItemView { background: @card; border: 1px solid @rule; selection-background-color: @chosen; selection-color: @ink; }
QPushButton { background: @card; border: 1px solid @rule; border-radius: 6px; padding: 5px 12px; }
QPushButton:hover { border-color: @bramble; }
QPushButton:pressed, QPushButton:checked { background: @chosen; border-color: @bramble; color: @bramble; }
QPushButton:disabled { color: @faint; }
QPushButton#link { background: transparent; border: none; color: @bramble; padding: 2px 0; text-align: left; }
QPushButton#link:hover { text-decoration: underline; }
QToolButton { background: transparent; border: none; border-radius: 6px; padding: 5px; }
QToolButton:hover { background: @hover; }
QToolButton:checked { background: @chosen; }
QListWidget { background: @card; border: none; outline: none; }
QListWidget::item { padding: 5px 8px; border-radius: 5px; }
QListWidget::item:selected { background: @chosen; color: @ink; }
QTreeWidget { background: @card; border: none; border-radius: 5px; outline: none; }
QTreeWidget::item { padding: 1px 2px; }
QTreeWidget::item:selected { background: @chosen; color: @ink; }
QWidget#code { background: @panel; }
QScrollArea { border: none; background: transparent; }
QScrollBar:vertical { background: transparent; width: 8px; margin: 0; }
QScrollBar::handle:vertical { background: @edge; border-radius: 4px; min-height: 24px; }
QScrollBar:horizontal { background: transparent; height: 8px; margin: 0; }
QScrollBar::handle:horizontal { background: @edge; border-radius: 4px; min-width: 24px; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
QSplitter::handle { background: @rule; }
)"));
}

QString darkStyleSheet()
{
    return QStringLiteral(R"(
QWidget { background: #221A26; }
QMenu { background: #2C2331; color: #EDE4D7; border: 1px solid #5A4C62; padding: 5px; }
QMenu::item { background: transparent; padding: 5px 26px 5px 14px; border-radius: 5px; }
QMenu::item:selected { background: #6A2C50; color: #FFFFFF; }
QMenu::item:disabled { color: #A99DB0; }
QMenu::separator { height: 1px; background: #4A3E52; margin: 4px 8px; }
QMenu::indicator { width: 14px; height: 14px; }
QComboBox { background: #2C2331; color: #EDE4D7; border: 1px solid #4A3E52; border-radius: 5px; padding: 3px 7px; }
QComboBox::drop-down { border: none; width: 20px; }
QComboBox::down-arrow { image: url(:/icons/down-light.svg); width: 11px; height: 11px; }
QComboBox QAbstractItemView { background: #2C2331; color: #EDE4D7; border: 1px solid #5A4C62; selection-background-color: #6A2C50; selection-color: #FFFFFF; }
QToolTip { background: @card; color: @ink; border: 1px solid @rule; padding: 4px 6px; }
QDialog, QDialog QWidget { background: @panel; color: @ink; }
QDialog QComboBox::down-arrow { image: url(:/icons/down-@arrow.svg); }
QDialog QLineEdit, QDialog QSpinBox, QDialog QComboBox, QDialog QAbstractItemView, QDialog QPushButton { background: @card; color: @ink; border: 1px solid @rule; }
)");
}

}  // namespace bramix::app::theme
