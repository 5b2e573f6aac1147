/* The recorder in a firmware: a scheduler that runs each job to its end, a timer interrupt that makes tasks ready, a
 * queue from one task to the other. Three tasks of a telescope mount. */
#include "board.h"
#include "mt_recorder.h"

enum { IDLE, POINTING, SKY_LOG, TASKS };
enum { LOG_QUEUE = 9, BUS = 7, AXIS_ERROR = 1, COST_PORT = 5 };
static const uint32_t every_ms[TASKS] = {0, 2, 10};
static volatile uint32_t ready_tasks, now_ms;
static volatile uint32_t waiting_lines;

/* Instructions that one event costs, the interrupt masking included: of no field, one, three, and a name. A debugger
 * may read them. */
volatile uint32_t recorder_cost[4];
/* So that a test can compare: how often each task was started and came to its end. */
volatile uint32_t jobs_done[TASKS];

void timer_interrupt(void) {
    uint32_t t;
    MT_ISR_ENTER(BOARD_TIMER_INTERRUPT);
    ++now_ms;
    for (t = POINTING; t < TASKS; ++t)
        if (now_ms % every_ms[t] == 0 && (ready_tasks & 1u << t) == 0) {
            MT_TASK_READY(t);
            ready_tasks |= 1u << t;
        }
    MT_ISR_EXIT(BOARD_TIMER_INTERRUPT);
}

static void spend(uint32_t loops) {
    volatile uint32_t n = loops;
    while (n > 0) n = n - 1;
}

static void job(uint32_t task) {
    MT_TASK_SWITCH_IN(task);
    MT_MUTEX_TAKE(BUS);
    spend(task == POINTING ? 2000 : 6000);
    MT_MUTEX_GIVE(BUS);
    if (task == POINTING) {
        MT_VALUE(AXIS_ERROR, (int32_t)(now_ms % 41) - 20);
        ++waiting_lines;
        MT_QUEUE_SEND(LOG_QUEUE, waiting_lines);
    } else {
        while (waiting_lines > 0) {
            --waiting_lines;
            MT_QUEUE_RECEIVE(LOG_QUEUE, waiting_lines);
        }
    }
    ++jobs_done[task];
    {   /* the job's end and the task's being ready no more must not be torn apart by the timer */
        const unsigned before = MT_MASK();
        MT_TASK_BLOCK(task, MT_ACTIVATION, 0);
        ready_tasks &= ~(1u << task);
        MT_UNMASK(before);
    }
}

/* What an event costs: many of them, less the loop around them. */
enum { ROUNDS = 1024 };
static uint32_t loop_only(void) {
    const uint32_t from = board_count();
    volatile uint32_t i;
    for (i = 0; i < ROUNDS; ++i) __asm volatile("" : : : "memory");
    return board_count() - from;
}
#define COST_OF(event)                                                     \
    do {                                                                   \
        const uint32_t from = board_count();                               \
        volatile uint32_t i;                                               \
        for (i = 0; i < ROUNDS; ++i) event;                                \
        spent = board_count() - from;                                      \
    } while (0)
static uint32_t per_event(uint32_t spent, uint32_t empty) {
    return ((spent - empty) * board_instructions_each + ROUNDS / 2) / ROUNDS;
}
static void measure_cost(void) {
    const uint32_t empty = loop_only();
    uint32_t spent;
    COST_OF(mt_event0(15));
    recorder_cost[0] = per_event(spent, empty);
    COST_OF(MT_MUTEX_TAKE(BUS));
    recorder_cost[1] = per_event(spent, empty);
    COST_OF(MT_TASK_BLOCK(SKY_LOG, MT_DELAY, 0));
    recorder_cost[2] = per_event(spent, empty);
    COST_OF(MT_NAME(MT_KIND_MUTEX, BUS, "bus"));
    recorder_cost[3] = per_event(spent, empty);
}

int main(void) {
    uint32_t running = IDLE;
    mt_init(board_time, 0);
    measure_cost();
    mt_init(board_time, 0); /* forget what was recorded meanwhile */
    MT_TASK_CREATE(IDLE, 0, "idle");
    MT_TASK_CREATE(POINTING, 2, "pointing");
    MT_TASK_CREATE(SKY_LOG, 1, "sky log");
    MT_NAME(MT_KIND_QUEUE, LOG_QUEUE, "log lines");
    MT_NAME(MT_KIND_MUTEX, BUS, "bus");
    MT_NAME(MT_KIND_SIGNAL, AXIS_ERROR, "axis error");
    MT_NAME(MT_KIND_INTERRUPT, BOARD_TIMER_INTERRUPT, "timer");
    MT_TASK_BLOCK(POINTING, MT_ACTIVATION, 0);
    MT_TASK_BLOCK(SKY_LOG, MT_ACTIVATION, 0);
    MT_TASK_SWITCH_IN(IDLE);
    board_start_timer();
    for (;;) {
        if (ready_tasks != 0) {
            running = ready_tasks & 1u << POINTING ? POINTING : SKY_LOG;
            job(running);
        } else {
            unsigned before;
            if (running != IDLE) MT_TASK_SWITCH_IN(IDLE);
            running = IDLE;
            before = MT_MASK(); /* or the timer may come between the look and the wait */
            if (ready_tasks == 0) board_wait();
            MT_UNMASK(before);
        }
    }
}
