/*
 * Withy Lock: signal lamps, the keeper's button, two gate switches, paddle, level, display and horn, and a log to the lock office.
 *
 *   PB2 stop lamp    PB1 moving lamp    PB0 go lamp       (high is lit)
 *   PD2 keeper's button, to ground      INT0
 *   PD3 upper gate, PD4 lower gate      closed pulls to ground; pin change
 *   and what panel.c has
 *
 * The keeper asks for a passage. While the gates move, the middle lamp blinks; then boats may go for a while. A gate that opens while
 * boats wait or go puts the signal back to stop. Everything happens in interrupts and on a 1 kHz tick; in between the core sleeps.
 */
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>

#include "panel.h"
#include "serial.h"

enum aspect { STOP, MOVING, GO };

#define LAMP_STOP (1 << PB2)
#define LAMP_MOVING (1 << PB1)
#define LAMP_GO (1 << PB0)
#define LAMPS (LAMP_STOP | LAMP_MOVING | LAMP_GO)
#define UPPER_GATE (1 << PD3)
#define LOWER_GATE (1 << PD4)

#define MOVING_TICKS 1500
#define GO_TICKS 3000
#define BLINK_TICKS 250
#define QUIET_TICKS 30 /* contacts have settled when no edge has come for so long */

static volatile uint16_t ticks;
static volatile uint8_t keeper_edge, gate_edge;

ISR(TIMER1_COMPA_vect)
{
    ticks++;
    panel_tick();
}
ISR(INT0_vect) { keeper_edge = 1; }
ISR(PCINT2_vect) { gate_edge = 1; }

static uint16_t now(void)
{
    cli();
    const uint16_t t = ticks;
    sei();
    return t;
}

static void show_lamps(enum aspect aspect)
{
    static const uint8_t pattern[] = { LAMP_STOP, LAMP_MOVING, LAMP_GO };
    PORTB = (PORTB & ~LAMPS) | pattern[aspect];
}

static void show_state(enum aspect aspect)
{
    panel_row(0, aspect == STOP ? PSTR("boats stop") : aspect == MOVING ? PSTR("paddle opens") : PSTR("boats go"), "");
}

static void show_level(uint8_t decimetres)
{
    const char text[] = { (char)('0' + decimetres / 10), '.', (char)('0' + decimetres % 10), ' ', 'm', 0 };
    panel_row(1, PSTR("chamber "), text);
}

static uint8_t gates_closed(void) { return (PIND & (UPPER_GATE | LOWER_GATE)) == 0; }

static void log_gates(void)
{
    serial_text(PSTR("upper gate "));
    serial_text(PIND & UPPER_GATE ? PSTR("open") : PSTR("closed"));
    serial_text(PSTR(", lower gate "));
    serial_text(PIND & LOWER_GATE ? PSTR("open\r\n") : PSTR("closed\r\n"));
}

static void begin(void)
{
    DDRB = LAMPS | (1 << PB5);
    DDRD = (1 << PD6) | (1 << PD7);
    PORTD = (1 << PD2) | UPPER_GATE | LOWER_GATE; /* pull-ups */
    EICRA = 1 << ISC01;                           /* INT0 on the falling edge */
    EIMSK = 1 << INT0;
    PCICR = 1 << PCIE2;
    PCMSK2 = (1 << PCINT19) | (1 << PCINT20);
    TCCR1B = (1 << WGM12) | (1 << CS11) | (1 << CS10); /* CTC, 16 MHz / 64 */
    OCR1A = 249;                                       /* 1 kHz */
    TIMSK1 = 1 << OCIE1A;
    serial_begin();
    set_sleep_mode(SLEEP_MODE_IDLE);
    sleep_enable();
    sei();
}

int main(void)
{
    enum aspect aspect = STOP;
    uint16_t since = 0, edge_at = 0, passages = 0;
    uint8_t settling = 0, level = 255;
    uint16_t measured = 0;

    begin();
    show_lamps(STOP);
    serial_text(PSTR("Withy Lock, boats stop\r\n"));
    log_gates();
    panel_begin();
    show_state(STOP);

    for (;;) {
        sleep_cpu();
        const uint16_t t = now();

        if (keeper_edge) {
            keeper_edge = 0;
            settling = 1;
            edge_at = t;
        }
        if (settling && (uint16_t)(t - edge_at) > QUIET_TICKS) {
            settling = 0;
            if (!(PIND & (1 << PD2))) { /* still pressed: not the bounce of letting go */
                serial_text(PSTR("keeper rings\r\n"));
                if (aspect == STOP && gates_closed()) {
                    aspect = MOVING;
                    since = t;
                    serial_text(PSTR("paddles moving\r\n"));
                    panel_paddle(90);
                    panel_horn(400);
                    show_state(MOVING);
                } else if (aspect == STOP) {
                    panel_horn(80);
                    serial_text(PSTR("refused: "));
                    log_gates();
                }
            }
        }

        if (gate_edge) {
            gate_edge = 0;
            if (!gates_closed() && aspect != STOP) {
                aspect = STOP;
                show_lamps(STOP);
                serial_text(PSTR("gate opened, boats stop\r\n"));
                panel_paddle(0);
                show_state(STOP);
            }
        }

        const uint16_t elapsed = t - since;
        if (aspect == MOVING) {
            if (elapsed >= MOVING_TICKS) {
                aspect = GO;
                since = t;
                show_lamps(GO);
                serial_text(PSTR("boats go, passage "));
                serial_number(++passages);
                serial_text(PSTR("\r\n"));
                show_state(GO);
            } else if (elapsed / BLINK_TICKS % 2 == 0) {
                show_lamps(MOVING);
            } else {
                PORTB &= ~LAMPS;
            }
        } else if (aspect == GO && elapsed >= GO_TICKS) {
            aspect = STOP;
            show_lamps(STOP);
            serial_text(PSTR("boats stop\r\n"));
            panel_paddle(0);
            show_state(STOP);
        }

        if ((uint16_t)(t - measured) >= 250) {
            measured = t;
            const uint8_t now_level = panel_level();
            if (now_level != level)
                show_level(level = now_level);
        }

        /* The board's own lamp beats once a second while the program is alive. */
        if (t % 1000 < 60)
            PORTB |= 1 << PB5;
        else
            PORTB &= ~(1 << PB5);

        switch (serial_take()) {
        case '?': log_gates(); break;
        case 'l':
            serial_text(PSTR("level "));
            serial_number(level);
            serial_text(PSTR(" dm\r\n"));
            break;
        case 'n':
            serial_text(PSTR("passages "));
            serial_number(passages);
            serial_text(PSTR("\r\n"));
            break;
        default: break;
        }
    }
}
