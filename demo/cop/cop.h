/* The encoder co-processor of Larkspur: interpolates the two axis encoders. What its parts share. */
#ifndef COP_H
#define COP_H
#include <stdint.h>

#define REG32(a) (*(volatile uint32_t *)(a))
#define MSIP 0x02000000u
#define TIMER_COMPARE 0x02004000u
#define TIMER_NOW 0x0200BFF8u
#define PLIC 0x0C000000u
#define ENCODER_LINE 10u

enum cause { SOFTWARE = 3, TIMER = 7, EXTERNAL = 11 };

/* The trace ring: its header is what a debug probe looks for. */
struct trail_ring {
    uint32_t magic;
    uint16_t version, flags;
    uint32_t data, size, written, taken, lost, reserved;
};
extern volatile struct trail_ring trail_ring;

void trace_start(void);
void trace_sync(void);
void trace_exception(unsigned number, unsigned function); /* 1 entered, 2 left, 3 returned to */
void trace_value(unsigned port, uint32_t value);

uint32_t interpolate(uint32_t ticks);
extern volatile uint32_t axis_angle, edges, doorbells, millis;
#endif
