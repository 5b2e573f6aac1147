#include "cop.h"

volatile uint32_t axis_angle, edges, doorbells, millis;
static uint32_t depth;

static void timer_set(uint64_t when) {
    REG32(TIMER_COMPARE + 4) = 0xFFFFFFFFu;
    REG32(TIMER_COMPARE) = (uint32_t)when;
    REG32(TIMER_COMPARE + 4) = (uint32_t)(when >> 32);
}
static uint64_t timer_now(void) {
    uint32_t high, low;
    do {
        high = REG32(TIMER_NOW + 4);
        low = REG32(TIMER_NOW);
    } while (high != REG32(TIMER_NOW + 4));
    return (uint64_t)high << 32 | low;
}

static uint64_t next_tick;

static void tick(void) {
    next_tick += 10000; /* 1 ms of a 10 MHz timer */
    const uint64_t now = timer_now();
    if (next_tick < now) next_tick = now + 10000; /* halted by a debugger meanwhile */
    timer_set(next_tick);
    ++millis;
    /* An encoder edge may cut in: nothing else may. */
    __asm volatile("csrc mie, %0\n csrsi mstatus, 8" ::"r"(1u << TIMER | 1u << SOFTWARE) : "memory");
    axis_angle = interpolate(millis);
    __asm volatile("csrci mstatus, 8\n csrs mie, %0" ::"r"(1u << TIMER | 1u << SOFTWARE) : "memory");
    if (millis % 10 == 0) trace_value(9, axis_angle);
    if (millis % 100 == 0) trace_sync();
}

static void encoder_edge(void) {
    const uint32_t line = REG32(PLIC + 0x200004u);
    if (line == ENCODER_LINE) {
        ++edges;
        axis_angle += 7;
    }
    REG32(PLIC + 0x200004u) = line;
}

static void doorbell(void) {
    REG32(MSIP) = 0;
    ++doorbells;
    for (volatile unsigned i = 0; i < 60 + (doorbells % 5) * 20; ++i) {
    }
}

static uint32_t nest[8];

void trap(uint32_t cause) {
    const uint32_t number = (cause >> 31) != 0 ? 16 + (cause & 0xFF) : 256 + (cause & 0xFF);
    trace_exception(number, 1);
    if (depth < 8) nest[depth] = number;
    ++depth;
    switch (number) {
        case 16 + TIMER: tick(); break;
        case 16 + SOFTWARE: doorbell(); break;
        case 16 + EXTERNAL: encoder_edge(); break;
        default:
            for (;;) __asm volatile("wfi"); /* a fault: stands until somebody looks */
    }
    --depth;
    trace_exception(number, 2);
    trace_exception(depth == 0 ? 0 : nest[depth - 1], 3);
}

int main(void) {
    trace_start();
    REG32(PLIC + 4 * ENCODER_LINE) = 1;
    REG32(PLIC + 0x2000u) = 1u << ENCODER_LINE;
    REG32(PLIC + 0x200000u) = 0;
    next_tick = timer_now() + 10000;
    timer_set(next_tick);
    trace_exception(0, 3);
    __asm volatile("csrs mie, %0" ::"r"(1u << SOFTWARE | 1u << TIMER | 1u << EXTERNAL));
    __asm volatile("csrsi mstatus, 8");
    for (;;) __asm volatile("wfi");
}
