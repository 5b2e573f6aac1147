/* A small preemptive scheduler: fixed priorities, timed waits, locks. */
#include "larkspur.h"

volatile uint32_t current_task;
static struct { uint32_t *sp; uint32_t wake; volatile uint32_t *waits_for; } tasks[TASK_COUNT];
static uint32_t stacks[TASK_COUNT][192] __attribute__((aligned(8)));
static volatile uint32_t now_ms;
static const uint8_t order[TASK_COUNT] = { TRACK, GUIDE, CLOCK, FOCUS, IDLE };

void say(const char *text) { while (*text) REG8(STIMULUS(0)) = (uint8_t)*text++; }

void task_add(enum task id, void (*entry)(void)) {
    uint32_t *sp = &stacks[id][192];
    *--sp = 0x01000000u;
    *--sp = (uint32_t)entry;
    for (int i = 0; i < 14; i++) *--sp = 0;
    tasks[id].sp = sp;
}
/* Whoever calls goes on as the idle task, on its stack; the tasks begin. */
void start_tasks(void) {
    __asm volatile("msr psp, %0\n msr control, %1\n isb\n cpsie i\n svc #1" ::"r"(&stacks[IDLE][192]), "r"(2) : "memory");
}
static int ready(unsigned id) { return (int32_t)(now_ms - tasks[id].wake) >= 0 && (!tasks[id].waits_for || !*tasks[id].waits_for); }
static unsigned choose(void) {
    for (unsigned i = 0; i < TASK_COUNT; i++) if (order[i] == IDLE || ready(order[i])) return order[i];
    return IDLE;
}
static void pend_switch(void) { REG32(0xE000ED04u) = 1u << 28; }
void scheduler_tick(void) { now_ms++; if (choose() != current_task) pend_switch(); }
void task_wait(uint32_t milliseconds) { tasks[current_task].wake = now_ms + milliseconds; __asm volatile("svc #1" ::: "memory"); }
void wait_until_clear(volatile uint32_t *word) {
    while (*word) { tasks[current_task].waits_for = word; __asm volatile("svc #1" ::: "memory"); }
    tasks[current_task].waits_for = 0;
}
void lock_take(volatile uint32_t *lock) {
    while (*lock) { tasks[current_task].waits_for = lock; __asm volatile("svc #1" ::: "memory"); }
    tasks[current_task].waits_for = 0;
    *lock = current_task + 1;
}
void lock_give(volatile uint32_t *lock) { *lock = 0; __asm volatile("svc #1" ::: "memory"); }

__attribute__((used)) uint32_t *switch_stack(uint32_t *sp) {
    tasks[current_task].sp = sp;
    current_task = choose();
    return tasks[current_task].sp;
}
void SVC_Handler(void) { pend_switch(); }
__attribute__((naked)) void PendSV_Handler(void) {
    __asm volatile("mrs r0, psp\n stmdb r0!, {r4-r11}\n push {r3, lr}\n bl switch_stack\n pop {r3, lr}\n"
                   "ldmia r0!, {r4-r11}\n msr psp, r0\n bx lr\n");
}
