// What the tables of several chips have in common. Included by the tables only.
#pragma once

#include "chip/avr/table.h"

namespace bramix::chip::avr {

// CKSEL of the chips with a 128 kHz oscillator (ATmega328P table 9-1, ATmega2560 table 10-1).
inline constexpr std::array<ClockSource, 16> kUsualClockSources{
    ClockSource::external, ClockSource::reserved, ClockSource::rc8,     ClockSource::rc128k,  ClockSource::watch,   ClockSource::watch,   ClockSource::crystal, ClockSource::crystal,
    ClockSource::crystal,  ClockSource::crystal,  ClockSource::crystal, ClockSource::crystal, ClockSource::crystal, ClockSource::crystal, ClockSource::crystal, ClockSource::crystal,
};

// The 32 settings of the chips with differential inputs (ATmega32 table 84), and the same again for the upper eight pins where
// there are 64 (ATmega2560 table 26-4).
template <std::size_t Size>
constexpr std::array<AdcChannelRow, Size> differentialChannels()
{
    std::array<AdcChannelRow, Size> rows{};
    for (std::size_t half = 0; half < Size / 32; ++half) {
        const auto first = static_cast<std::int8_t>(8 * half);
        AdcChannelRow* const r = rows.data() + 32 * half;
        const auto at = [first](int pin) { return static_cast<std::int8_t>(first + pin); };
        for (int i = 0; i < 8; ++i) {
            r[i] = {at(i), kAdcGround, 1};
            r[8 + i] = {at(i / 4 * 2 + i % 2), at(i / 4 * 2), static_cast<std::uint8_t>(i % 4 < 2 ? 10 : 200)};
            r[16 + i] = {at(i), at(1), 1};
            if (i < 6)
                r[24 + i] = {at(i), at(2), 1};
        }
    }
    rows[30] = {kAdcBandGap};
    rows[31] = {kAdcGround};
    return rows;
}

}  // namespace bramix::chip::avr
