// What the keeper sees and hears: the display on the two-wire bus, the chamber's level, the paddle, the horn.
#pragma once

#include <avr/pgmspace.h>
#include <stdint.h>

void panel_begin(void);
// Sixteen characters into a row; the rest of the row is cleared. Gives up at once where no display answers.
void panel_row(uint8_t row, const char *text, const char *more);
// Decimetres of water in the chamber, 0 to 20.
uint8_t panel_level(void);
// The paddle: 0 closed, 90 open.
void panel_paddle(uint8_t degrees);
// To be called every millisecond.
void panel_tick(void);
void panel_horn(uint16_t milliseconds);
