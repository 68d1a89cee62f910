#include "app/shell/theme.h"

#include "app/shell/settings_dialog.h"

#include <QFontDatabase>
#include <QHash>
#include <QPainter>
#include <QPixmap>
#include <QSvgRenderer>

// The library's resources come in where somebody asks for them.
static void useIcons() { Q_INIT_RESOURCE(icons); }

namespace bramix::app::theme {

QColor wireColor(const std::string& name)
{
    static const QHash<QString, QColor> colors{{"ink", kInk},
                                               {"rust", kRust},
                                               {"amber", kAmber},
                                               {"leaf", kLeaf},
                                               {"sky", QColor(0x2D, 0x6A, 0x9E)},
                                               {"violet", QColor(0x7B, 0x4F, 0xA0)},
                                               {"bark", QColor(0x8C, 0x62, 0x39)},
                                               {"slate", QColor(0x5B, 0x7F, 0x86)}};
    return colors.value(QString::fromStdString(name), QColor(0x5B, 0x7F, 0x86));
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

QIcon icon(const QString& name, const QColor& color)
{
    QSvgRenderer renderer(iconSvg(name, color));
    QIcon out;
    for (const int size : {20, 24, 40, 48}) {
        QPixmap pixmap(size, size);
        pixmap.fill(Qt::transparent);
        QPainter painter(&pixmap);
        renderer.render(&painter);
        out.addPixmap(pixmap);
    }
    return out;
}

QString styleSheet()
{
    useIcons();
    return QStringLiteral(R"(
QWidget { color: #2A2230; }
QWidget#inspector, QWidget#inspectorPage { background: #ECE5D8; }
QWidget#shell, QMainWindow { background: #ECE5D8; }
QMenu { background: #FDFBF6; color: #2A2230; border: 1px solid #C9BEAD; padding: 5px; }
QMenu::item { background: transparent; padding: 5px 26px 5px 14px; border-radius: 5px; }
QMenu::item:selected { background: #F0DFE6; color: #2A2230; }
QMenu::item:disabled { color: #7A7080; }
QMenu::separator { height: 1px; background: #E2D8C8; margin: 4px 8px; }
QDialog, QMessageBox { background: #ECE5D8; }
QToolTip { background: #FDFBF6; color: #2A2230; border: 1px solid #D5CBBA; padding: 4px 6px; }
QLineEdit, QPlainTextEdit, QSpinBox { background: #FDFBF6; border: 1px solid #D5CBBA; border-radius: 5px; padding: 4px 7px; selection-background-color: #8A2B57; selection-color: #FFFFFF; }
QLineEdit:focus, QPlainTextEdit:focus { border: 1px solid #8A2B57; }
QComboBox { background: #FDFBF6; border: 1px solid #D5CBBA; border-radius: 5px; padding: 4px 7px; }
QComboBox::drop-down { border: none; width: 20px; }
QComboBox::down-arrow { image: url(:/icons/down-dark.svg); width: 11px; height: 11px; }
QSpinBox::up-button, QSpinBox::down-button { border: none; background: transparent; width: 18px; }
QSpinBox::up-arrow { image: url(:/icons/up-dark.svg); width: 10px; height: 10px; }
QSpinBox::down-arrow { image: url(:/icons/down-dark.svg); width: 10px; height: 10px; }
QComboBox QAbstractItemView { background: #FDFBF6; border: 1px solid #D5CBBA; selection-background-color: #F0DFE6; selection-color: #2A2230; }
QPushButton { background: #FDFBF6; border: 1px solid #D5CBBA; border-radius: 6px; padding: 5px 12px; }
QPushButton:hover { border-color: #8A2B57; }
QPushButton:pressed, QPushButton:checked { background: #F0DFE6; border-color: #8A2B57; color: #8A2B57; }
QPushButton:disabled { color: #A89FA8; }
QPushButton#link { background: transparent; border: none; color: #8A2B57; padding: 2px 0; text-align: left; }
QPushButton#link:hover { text-decoration: underline; }
QToolButton { background: transparent; border: none; border-radius: 6px; padding: 5px; }
QToolButton:hover { background: #E2D8C8; }
QToolButton:checked { background: #F0DFE6; }
QListWidget { background: #FDFBF6; border: none; outline: none; }
QListWidget::item { padding: 5px 8px; border-radius: 5px; }
QListWidget::item:selected { background: #F0DFE6; color: #2A2230; }
QTreeWidget { background: #FDFBF6; border: none; border-radius: 5px; outline: none; }
QTreeWidget::item { padding: 1px 2px; }
QTreeWidget::item:selected { background: #F0DFE6; color: #2A2230; }
QWidget#code { background: #ECE5D8; }
QScrollArea { border: none; background: transparent; }
QScrollBar:vertical { background: transparent; width: 8px; margin: 0; }
QScrollBar::handle:vertical { background: #C9BEAD; border-radius: 4px; min-height: 24px; }
QScrollBar:horizontal { background: transparent; height: 8px; margin: 0; }
QScrollBar::handle:horizontal { background: #C9BEAD; border-radius: 4px; min-width: 24px; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
QSplitter::handle { background: #D5CBBA; }
)");
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
QToolTip { background: #FDFBF6; color: #2A2230; border: 1px solid #D5CBBA; padding: 4px 6px; }
QDialog, QDialog QWidget { background: #ECE5D8; color: #2A2230; }
QDialog QComboBox::down-arrow { image: url(:/icons/down-dark.svg); }
QDialog QLineEdit, QDialog QSpinBox, QDialog QComboBox, QDialog QAbstractItemView, QDialog QPushButton { background: #FDFBF6; color: #2A2230; border: 1px solid #D5CBBA; }
)");
}

}  // namespace bramix::app::theme
