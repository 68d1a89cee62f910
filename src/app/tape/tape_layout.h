// What the tape's view and its painting agree on: where things lie, and how figures are written. For tape_view.cpp, tape_paint.cpp and tape_menus.cpp alone.
#pragma once

#include <QColor>
#include <QString>

#include "kernel/time.h"
#include "kernel/units.h"

namespace bramix::app::tape_layout {

inline constexpr double kLabels = 150;  // width of the lane names
inline constexpr double kRuler = 24;
inline constexpr double kTallestLane = 34;
inline constexpr double kLowestLane = 15;
inline constexpr double kPresentMargin = 26;  // room to the right of the present
inline constexpr double kSnap = 7;
inline constexpr kernel::Duration kShortest = std::chrono::nanoseconds(50);  // less than a cycle of any chip that there is, at 20 MHz
inline constexpr kernel::Duration kLongest = std::chrono::minutes(30);
inline constexpr double kWaveShare = 2;  // a voltage takes the room of so many lanes
inline constexpr double kMeaningShare = 1.6; // a bus with what it says to its parts above it
inline constexpr double kGroupShare = 0.7;
inline constexpr double kFunctionShare = 0.6;  // and each function that stands on another
inline constexpr std::size_t kMostDepth = 8;    // of them are drawn apart

inline const QColor kMark(0xE8, 0xA3, 0x2B);
inline const QColor kPresent(0xD0, 0x5C, 0x8C);

inline QString text(const std::string& s) { return QString::fromStdString(s); }
inline QString seconds(double s, int digits = 4) { return text(kernel::formatQuantity(s, kernel::Unit::second, digits)); }

}  // namespace bramix::app::tape_layout
