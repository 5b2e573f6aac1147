/* Writes trace packets into a ring buffer in memory: instrumentation and exception packets with local
   timestamps, in the encoding of the Armv7-M ITM (DDI 0403E, D4.2 and D4.3), counted by the machine timer. */
#include "cop.h"

static uint8_t buffer[8192];
volatile struct trail_ring trail_ring;
static uint32_t last_stamp, overflowed;

static uint32_t irq_off(void) {
    uint32_t before;
    __asm volatile("csrrci %0, mstatus, 8" : "=r"(before)::"memory");
    return before;
}
static void irq_back(uint32_t before) { __asm volatile("csrs mstatus, %0" ::"r"(before & 8) : "memory"); }

/* Puts a packet and its timestamp in whole, or drops both. */
static void put(const uint8_t *bytes, unsigned n, int stamped) {
    uint8_t all[16];
    unsigned k = 0;
    if (overflowed) all[k++] = 0x70;
    for (unsigned i = 0; i < n; ++i) all[k++] = bytes[i];
    const uint32_t now = REG32(TIMER_NOW);
    if (stamped) {
        uint32_t ticks = now - last_stamp;
        if (ticks >= 1 && ticks <= 6) {
            all[k++] = (uint8_t)(ticks << 4);
        } else {
            all[k++] = 0xC0;
            do {
                all[k++] = (uint8_t)((ticks & 0x7F) | (ticks > 0x7F ? 0x80 : 0));
                ticks >>= 7;
            } while (ticks != 0 && k < sizeof all);
        }
    }
    const uint32_t used = trail_ring.written - trail_ring.taken;
    if (used + k > trail_ring.size) {
        trail_ring.lost += n;
        overflowed = 1;
        return;
    }
    if (stamped) last_stamp = now;
    overflowed = 0;
    uint32_t at = trail_ring.written % sizeof buffer;
    for (unsigned i = 0; i < k; ++i) {
        buffer[at] = all[i];
        at = at + 1 == sizeof buffer ? 0 : at + 1;
    }
    __asm volatile("fence w, w" ::: "memory");
    trail_ring.written += k;
}

void trace_sync(void) {
    static const uint8_t mark[6] = {0, 0, 0, 0, 0, 0x80};
    const uint32_t before = irq_off();
    put(mark, sizeof mark, 0);
    irq_back(before);
}

void trace_exception(unsigned number, unsigned function) {
    const uint8_t packet[3] = {0x0E, (uint8_t)number, (uint8_t)(function << 4 | number >> 8)};
    const uint32_t before = irq_off();
    put(packet, sizeof packet, 1);
    irq_back(before);
}

void trace_value(unsigned port, uint32_t value) {
    const uint8_t packet[5] = {(uint8_t)(port << 3 | 3), (uint8_t)value, (uint8_t)(value >> 8), (uint8_t)(value >> 16),
                               (uint8_t)(value >> 24)};
    const uint32_t before = irq_off();
    put(packet, sizeof packet, 1);
    irq_back(before);
}

void trace_start(void) {
    trail_ring.data = (uint32_t)(uintptr_t)buffer;
    trail_ring.size = sizeof buffer;
    trail_ring.version = 1;
    trail_ring.flags = 0;
    last_stamp = REG32(TIMER_NOW);
    trail_ring.magic = 0x4252544Du;
    trace_sync();
}
