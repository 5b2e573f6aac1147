#include "larkspur.h"

__attribute__((noreturn)) static void idle_task(void) { for (;;) __asm volatile("wfi"); }

int main(void) {
    say("larkspur 3\n");
    REG8(0xE000ED23u) = 0xF0; REG8(0xE000ED22u) = 0xF0; REG8(0xE000ED1Fu) = 0xF0; /* SysTick, PendSV and SVC last */
    REG32(0xE000ED24u) = 1u << 17;                              /* bus faults have a handler of their own */
    REG8(0xE000E400u) = 0x00; REG8(0xE000E401u) = 0x10; REG8(0xE000E403u) = 0x30;
    REG32(0xE000E100u) = 0x0B;
    task_add(TRACK, track_task); task_add(GUIDE, guide_task);
    task_add(CLOCK, clock_task); task_add(FOCUS, focus_task);
    REG32(0xE000E014u) = 120000 - 1; REG32(0xE000E010u) = 7;    /* 1 ms at 120 MHz */
    start_tasks();
    idle_task();
}
