// How well two colours can be told apart, by WCAG 2.1, section 1.4.3: 4.5 and more for text.
#pragma once

#include <cmath>

#include <QColor>

namespace bramix::test {

inline double luminance(const QColor& c)
{
    const auto linear = [](double v) { return v <= 0.03928 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
    return 0.2126 * linear(c.redF()) + 0.7152 * linear(c.greenF()) + 0.0722 * linear(c.blueF());
}

inline double contrast(const QColor& a, const QColor& b)
{
    const double one = luminance(a), other = luminance(b);
    return (std::max(one, other) + 0.05) / (std::min(one, other) + 0.05);
}

}  // namespace bramix::test
