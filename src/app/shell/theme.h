// Colours, type and icons: the one place where the look is defined.
#pragma once

#include <QColor>
#include <QFont>
#include <QIcon>
#include <QString>

namespace bramix::app::theme {

inline const QColor kPaper{0xF6, 0xF2, 0xEA}, kPanel{0xEC, 0xE5, 0xD8}, kRule{0xD5, 0xCB, 0xBA}, kCard{0xFD, 0xFB, 0xF6};
inline const QColor kInk{0x2A, 0x22, 0x30}, kMuted{0x6F, 0x65, 0x77};
inline const QColor kBramble{0x8A, 0x2B, 0x57}, kLeaf{0x4B, 0x7B, 0x3F}, kAmber{0xC0, 0x73, 0x0D}, kRust{0xA8, 0x3A, 0x22};
inline const QColor kDot{0xDD, 0xD4, 0xC5};
inline const QColor kTapeGround{0x22, 0x1A, 0x26}, kTapeGrid{0x3A, 0x30, 0x40}, kTapeText{0xD9, 0xCF, 0xC2}, kTapeMuted{0x9A, 0x8E, 0xA0};

QColor wireColor(const std::string& name);
// The same colour, light enough for the dark ground of the tape.
QColor laneColor(const std::string& name);
// Of an LED's body and light.
QColor lampColor(const std::string& name);

// Sizes in points.
QFont words(double points, int weight = QFont::Normal);
QFont figures(double points, int weight = QFont::Normal);

// Our own line drawings, one stroke width: "run", "pause", "step", "restart", "parts", "files", "findings", "search", "close", "berry".
QIcon icon(const QString& name, const QColor& color = kInk);
QByteArray iconSvg(const QString& name, const QColor& color);

QString styleSheet();
// Of the dark dock below, with the menus, lists and dialogs that open out of it.
QString darkStyleSheet();

}  // namespace bramix::app::theme
