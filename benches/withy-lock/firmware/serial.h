/* The log line to the lock office: 38400 baud, 8N1, sent and received by interrupt through small rings. */
#ifndef SERIAL_H
#define SERIAL_H

#include <avr/pgmspace.h>
#include <stdint.h>

void serial_begin(void);
/* Queues text from flash; waits only while the ring is full. */
void serial_text(PGM_P text);
void serial_number(uint16_t value);
/* The next received character, or 0 when there is none. */
char serial_take(void);

#endif
