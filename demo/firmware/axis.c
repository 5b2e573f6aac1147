/* Step pulses, encoder index and the control loop that closes on axis_error. */
#include "larkspur.h"

volatile int16_t axis_error;
static int32_t position, wanted, integral;
static volatile uint32_t index_count;

void step_timer_handler(void) {
    REG32(STEP_BASE + 12) = 1;
    position += wanted > position ? 1 : wanted < position ? -1 : 0;
    REG32(STEP_BASE + 16) = (uint32_t)position;
}
void encoder_index_handler(void) {
    REG32(ENCODER_BASE + 12) = 1;
    index_count++;
    position = (int32_t)REG32(ENCODER_BASE + 16);
}
__attribute__((noinline)) static void track_loop(void) {
    const int16_t *table = star_table_at((uint32_t)wanted >> 20);
    int32_t error = wanted - position + table[wanted & 15] + refraction(wanted);
    axis_error = (int16_t)error;
    integral += (error >> 3) - (integral >> 4);
    wanted += 17 + (integral >> 8);
}
void track_task(void) { for (;;) { track_loop(); task_wait(10); } }
void SysTick_Handler(void) { scheduler_tick(); }
