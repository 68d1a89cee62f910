// Colours, type and icons: the one place where the look is defined. There are two looks, light and dark, as a
// person sets it or as the desktop has it (system_look.h); the dock below is dark in both, and parts are drawn as the
// things they are in both. A change of look shows at once.
#pragma once

#include <QColor>
#include <QFont>
#include <QIcon>
#include <QObject>
#include <QString>

class QLabel;
class QWidget;

namespace bramix::app::theme {

enum class Look { light, dark };

// A colour by what it is for. In style sheets and rich text its name stands behind an @: "color: @muted".
struct Tone {
    const char* name;
    QRgb light;
    QRgb dark;
    QColor operator()() const;
};

// Grounds.
inline constexpr Tone paper{"paper", 0xFFF6F2EA, 0xFF2B2431}, panel{"panel", 0xFFECE5D8, 0xFF332A39}, card{"card", 0xFFFDFBF6, 0xFF3A3041}, quiet{"quiet", 0xFFF4EEE2, 0xFF352C3B};
inline constexpr Tone hover{"hover", 0xFFE2D8C8, 0xFF4A3E52}, chosen{"chosen", 0xFFF0DFE6, 0xFF5C2A48}, changed{"changed", 0xFFF3DBE6, 0xFF5A3049}, selected{"selected", 0xFFE6C4D4, 0xFF743A5A};
inline constexpr Tone warningGround{"warningGround", 0xFFF6E3C5, 0xFF553D1C}, errorGround{"errorGround", 0xFFF3D9D2, 0xFF5A2A20}, goodGround{"goodGround", 0xFFE3EBDC, 0xFF33452C};
inline constexpr Tone go{"go", 0xFF4B7B3F, 0xFF4B7B3F}, goHover{"goHover", 0xFF3F6935, 0xFF568A48}, goFaint{"goFaint", 0xFFA9B8A2, 0xFF4A5545}, accent{"accent", 0xFF8A2B57, 0xFF9A3566};
// Lines.
inline constexpr Tone rule{"rule", 0xFFD5CBBA, 0xFF54485C}, edge{"edge", 0xFFC9BEAD, 0xFF66586F}, dot{"dot", 0xFFDDD4C5, 0xFF3F3646};
// Text and marks, at 4.5:1 or better on paper, panel and card.
inline constexpr Tone ink{"ink", 0xFF2A2230, 0xFFEDE4D7}, muted{"muted", 0xFF6A6072, 0xFFB5A9BC}, faint{"faint", 0xFF978D97, 0xFF857A8C};
inline constexpr Tone bramble{"bramble", 0xFF8A2B57, 0xFFE79ABD}, leaf{"leaf", 0xFF4B7B3F, 0xFF9CC98C}, amber{"amber", 0xFFC0730D, 0xFFE8A94A}, rust{"rust", 0xFFA83A22, 0xFFF09880}, sky{"sky", 0xFF2D6A9E, 0xFF8DBFE8};
inline constexpr Tone warningInk{"warningInk", 0xFF8A5206, 0xFFF2C987}, errorInk{"errorInk", 0xFF8E2F1B, 0xFFF7B9A8}, goodInk{"goodInk", 0xFF33562A, 0xFFBFDDB2};
// Of source text.
inline constexpr Tone comment{"comment", 0xFF647350, 0xFFA3B18A}, quoted{"quoted", 0xFF8C5224, 0xFFE0AE82}, number{"number", 0xFF2D5F94, 0xFF92C0EA}, directive{"directive", 0xFF6E4A92, 0xFFC5A7E6}, count{"count", 0xFF8A5C12, 0xFFDDB469};
// Of memory: what holds variables, what the heap has, what the stack has.
inline constexpr Tone dataGround{"dataGround", 0xFFE4EAD9, 0xFF38452F}, heapGround{"heapGround", 0xFFF2F3E6, 0xFF3A3F33}, stackGround{"stackGround", 0xFFF3ECDF, 0xFF463A2C};
// On a coloured ground.
inline constexpr Tone white{"white", 0xFFFFFFFF, 0xFFFFFFFF};

// Of the dock, which is dark in both looks.
inline const QColor kTapeGround{0x22, 0x1A, 0x26}, kTapeGrid{0x3A, 0x30, 0x40}, kTapeText{0xD9, 0xCF, 0xC2}, kTapeMuted{0x9A, 0x8E, 0xA0}, kTapeWarning{0xC0, 0x73, 0x0D};
// Of parts, which look alike in both.
inline const QColor kArtInk{0x2A, 0x22, 0x30}, kArtBramble{0x8A, 0x2B, 0x57}, kArtRust{0xA8, 0x3A, 0x22}, kArtPanel{0xEC, 0xE5, 0xD8}, kArtCard{0xFD, 0xFB, 0xF6};

[[nodiscard]] Look look();
// Everything that is shown takes the look up at once: style sheets, icons and palette here, what is painted at its next painting.
void setLook(Look look);

class Changes : public QObject {
    Q_OBJECT
signals:
    void changed();
};
// For whoever keeps colours elsewhere than in a style sheet or a painting.
[[nodiscard]] Changes& changes();

// The same colour, of which the ground shows through: 0 is nothing of it, 255 all.
QColor clear(QColor color, int alpha);

// The tones of a style sheet or a rich text put in.
QString sheet(const QString& text);
// The style sheet of a widget, which follows a change of look.
void dress(QWidget* widget, const QString& sheet);
// The rich text of a label, which does so, too.
void write(QLabel* label, const QString& richText);

QColor wireColor(const std::string& name);
// The same colour, light enough for the dark ground of the tape.
QColor laneColor(const std::string& name);
// Of an LED's body and light.
QColor lampColor(const std::string& name);

// Sizes in points.
QFont words(double points, int weight = QFont::Normal);
QFont figures(double points, int weight = QFont::Normal);

// Our own line drawings, one stroke width: "run", "pause", "step", "restart", "parts", "files", "findings", "search", "close", "berry".
// Sharp at every scale; they follow a change of look.
QIcon icon(const QString& name, const Tone& tone = ink);

// Of the whole application, in the look that is set.
QString styleSheet();
// Of the dark dock below, with the menus, lists and dialogs that open out of it; for dress().
QString darkStyleSheet();

}  // namespace bramix::app::theme
