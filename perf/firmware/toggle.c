/* A pin toggled as fast as a loop of the compiler's can: four cycles an edge. */
#include <avr/io.h>

int main(void)
{
    DDRB = 1 << PB5;
    for (;;)
        PINB |= 1 << PB5;
}
