/* Larkspur, a telescope mount controller: what the parts of the firmware share. */
#ifndef LARKSPUR_H
#define LARKSPUR_H
#include <stdint.h>

#define REG32(a) (*(volatile uint32_t *)(a))
#define REG16(a) (*(volatile uint16_t *)(a))
#define REG8(a) (*(volatile uint8_t *)(a))
#define STIMULUS(port) (0xE0000000u + 4u * (port))
#define STEP_BASE 0x40010000u
#define ENCODER_BASE 0x40011000u
#define GUIDE_BASE 0x40012000u
#define BUS_BASE 0x40013000u
#define CLOCK_BASE 0x40014000u

#define FRAME_PIXELS 96u

enum task { IDLE, TRACK, GUIDE, CLOCK, FOCUS, TASK_COUNT };

extern volatile uint32_t current_task;
extern volatile int16_t axis_error;
extern volatile uint32_t bus_lock;

static inline uint32_t irq_save(void) {
    uint32_t mask;
    __asm volatile("mrs %0, primask\n cpsid i" : "=r"(mask)::"memory");
    return mask;
}
static inline void irq_restore(uint32_t mask) { __asm volatile("msr primask, %0" ::"r"(mask) : "memory"); }
static inline void mark(uint8_t what) { REG8(STIMULUS(31)) = what; }

void say(const char *text);
void task_add(enum task id, void (*entry)(void));
void start_tasks(void);
void task_wait(uint32_t milliseconds);
void wait_until_clear(volatile uint32_t *word);
void lock_take(volatile uint32_t *lock);
void lock_give(volatile uint32_t *lock);
void scheduler_tick(void);

void track_task(void);
void guide_task(void);
void clock_task(void);
void focus_task(void);
void guide_byte(uint8_t byte);
void bus_transfer(const uint8_t *out, uint8_t *in, uint32_t count);
const int16_t *star_table_at(uint32_t hour);
int32_t refraction(int32_t height);
#endif
