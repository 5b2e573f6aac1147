/* The Mindful Trail recorder: what an operating system does, as a Common Trace Format stream. C99, no library needed.
 *
 * Call the macros from the hooks of your operating system. They are safe in interrupts. The vocabulary and the order
 * in which events are expected stand in docs/formats/os-events.md; how to build it in, in docs/recorder.md. */
#ifndef MT_RECORDER_H
#define MT_RECORDER_H

#include <stddef.h>
#include <stdint.h>

#include "mt_recorder_config.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Why a task stops being ready. */
enum { MT_ACTIVATION, MT_DELAY, MT_MUTEX, MT_SEMAPHORE, MT_QUEUE_EMPTY, MT_QUEUE_FULL, MT_ENDED };
/* What MT_NAME names. */
enum { MT_KIND_MUTEX, MT_KIND_SEMAPHORE, MT_KIND_QUEUE, MT_KIND_RESOURCE, MT_KIND_SIGNAL, MT_KIND_INTERRUPT,
       MT_KIND_MARKER_PORT };
/* What went wrong. */
enum { MT_BAD_INSTRUCTION, MT_MISALIGNED_ACCESS, MT_ACCESS_VIOLATION, MT_DIVIDE_BY_ZERO, MT_STACK_OVERFLOW, MT_WATCHDOG };

/* Takes a whole packet; returns 0 if there is no room, and the packet is lost. Called with interrupts masked. */
typedef int (*mt_write_fn)(const void *packet, size_t bytes);
/* The present time in ticks of the clock that the metadata names; must never step back. A counter of 32 bits may wrap,
 * if an event is recorded at least once in each turn of it. */
typedef uint32_t (*mt_time_fn)(void);

/* Sets everything up; call it before the first task is created. `write` may be null if MT_RING is 1. */
void mt_init(mt_time_fn time, mt_write_fn write);
/* Hands over the open packets, full or not: before the processor stops, in a fault handler, at the end. */
void mt_flush(void);
/* Events lost so far on a core, because packets could not be handed over. */
uint32_t mt_lost(unsigned core);

void mt_event0(unsigned id);
void mt_event1(unsigned id, uint32_t a, unsigned a_bytes);
void mt_event2(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes);
void mt_event3(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes, uint32_t c, unsigned c_bytes);
/* `text` is kept where MT_NAMES is not 0: it must stay where it is. */
void mt_event_text(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes, const char *text);

/* Tasks. A higher priority is more urgent; the idle task of each core has priority 0. */
#define MT_TASK_CREATE(task, priority, name) mt_event_text(19, (task), 2, (priority), 1, (name))
#define MT_TASK_SWITCH_IN(task) mt_event1(0, (task), 2)
#define MT_TASK_READY(task) mt_event1(1, (task), 2)
#define MT_TASK_BLOCK(task, reason, object) mt_event3(2, (task), 2, (reason), 1, (object), 2)
#define MT_TASK_PRIORITY(task, priority) mt_event2(17, (task), 2, (priority), 1)
/* Names of everything else. */
#define MT_NAME(kind, id, name) mt_event_text(20, (kind), 1, (id), 2, (name))

#if MT_WITH_INTERRUPTS
#define MT_ISR_ENTER(number) mt_event1(3, (number), 2)
#define MT_ISR_EXIT(number) mt_event1(4, (number), 2)
#define MT_CRITICAL_ENTER() mt_event0(15)
#define MT_CRITICAL_EXIT() mt_event0(16)
#else
#define MT_ISR_ENTER(number) ((void)0)
#define MT_ISR_EXIT(number) ((void)0)
#define MT_CRITICAL_ENTER() ((void)0)
#define MT_CRITICAL_EXIT() ((void)0)
#endif
#if MT_WITH_LOCKS
#define MT_MUTEX_TAKE(object) mt_event1(5, (object), 2)
#define MT_MUTEX_TAKE_BLOCKED(object) mt_event1(6, (object), 2)
#define MT_MUTEX_GIVE(object) mt_event1(7, (object), 2)
#define MT_SEM_GIVE(object) mt_event1(11, (object), 2)
#define MT_SEM_TAKE(object) mt_event1(12, (object), 2)
#else
#define MT_MUTEX_TAKE(object) ((void)0)
#define MT_MUTEX_TAKE_BLOCKED(object) ((void)0)
#define MT_MUTEX_GIVE(object) ((void)0)
#define MT_SEM_GIVE(object) ((void)0)
#define MT_SEM_TAKE(object) ((void)0)
#endif
#if MT_WITH_QUEUES
#define MT_QUEUE_SEND(object, fill) mt_event2(8, (object), 2, (fill), 2)
#define MT_QUEUE_RECEIVE(object, fill) mt_event2(9, (object), 2, (fill), 2)
#define MT_QUEUE_SEND_FAILED(object, fill) mt_event2(10, (object), 2, (fill), 2)
#else
#define MT_QUEUE_SEND(object, fill) ((void)0)
#define MT_QUEUE_RECEIVE(object, fill) ((void)0)
#define MT_QUEUE_SEND_FAILED(object, fill) ((void)0)
#endif
#if MT_WITH_MARKS
#define MT_MARK(port, value) mt_event2(13, (port), 1, (uint32_t)(value), 4)
#define MT_VALUE(id, value) mt_event2(14, (id), 1, (uint32_t)(value), 4)
#else
#define MT_MARK(port, value) ((void)0)
#define MT_VALUE(id, value) ((void)0)
#endif
/* The last event before the system stops; hands the packets over. */
#define MT_FAULT(kind, pc, address) (mt_event3(18, (kind), 1, (pc), 4, (address), 4), mt_flush())

#if MT_RING
/* The ring that a debug server reads; docs/formats/ring-buffer.md. */
extern struct mt_ring {
    volatile uint32_t magic;
    volatile uint16_t version, flags;
    volatile uint32_t data, size, written, taken, lost, reserved;
} mt_ring;
#endif

#ifdef __cplusplus
}
#endif
#endif
