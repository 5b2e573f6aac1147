/* Focuser and time receiver share the sensor bus. */
#include "larkspur.h"

volatile uint32_t bus_lock;
static uint8_t reply[8];

__attribute__((noinline)) static uint32_t poll_status(void) { return REG32(BUS_BASE + 4) & 1u; }
__attribute__((noinline)) static void wait_ready(void) { while (!poll_status()) { } }

/* The slave wants time between bytes. Interrupts are masked from the start bit on: the bus has a time-out. */
void bus_transfer(const uint8_t *out, uint8_t *in, uint32_t count) {
    for (uint32_t i = 0; i < count; i++) {
        wait_ready();
        uint32_t mask = irq_save();
        REG8(BUS_BASE) = out[i];
        wait_ready();
        in[i] = REG8(BUS_BASE);
        irq_restore(mask);
    }
}
__attribute__((noinline)) static int read_temperature(void) {
    static const uint8_t ask[4] = { 0x90, 0x00, 0x00, 0x05 };
    lock_take(&bus_lock);
    bus_transfer(ask, reply, 4);
    lock_give(&bus_lock);
    return reply[1] << 8 | reply[2];
}
void focus_task(void) {
    for (int last = 0;;) {
        int now = read_temperature();
        if (now - last > 12) { say("refocus\n"); last = now; }
        task_wait(250);
    }
}
__attribute__((noinline)) static void read_receiver(void) {
    static const uint8_t ask[2] = { 0xA4, 0x01 };
    lock_take(&bus_lock);
    bus_transfer(ask, reply, 2);
    lock_give(&bus_lock);
}
void clock_task(void) { for (;;) { read_receiver(); task_wait(1000); } }
