/* What the example needs of a board; one file for each of QEMU's machines. */
#ifndef BOARD_H
#define BOARD_H

#include <stdint.h>

enum { BOARD_TIMER_INTERRUPT = 1 };

/* A counter that never steps back but wraps at 32 bits. */
uint32_t board_time(void);
/* A count that grows with the instructions executed; BOARD_INSTRUCTIONS_EACH of them make one. Only exact when QEMU
 * counts instructions (-icount shift=0). */
uint32_t board_count(void);
extern const uint32_t board_instructions_each;
/* From now on `timer_interrupt` is called a thousand times a second. */
void board_start_timer(void);
/* Until an interrupt is pending; called with interrupts masked. */
void board_wait(void);
void timer_interrupt(void);
int main(void);

#endif
