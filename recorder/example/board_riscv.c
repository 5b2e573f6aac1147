/* QEMU's virt machine with a 32-bit RISC-V core; its timer counts 10 MHz. */
#include "board.h"

#define REG(address) (*(volatile uint32_t *)(address))
#define TIME REG(0x0200BFF8)
#define TIME_HIGH REG(0x0200BFFC)
#define WAKE REG(0x02004000)
#define WAKE_HIGH REG(0x02004004)

uint32_t board_time(void) { return TIME; }
uint32_t board_count(void) {
    uint32_t n;
    __asm volatile("csrr %0, minstret" : "=r"(n));
    return n;
}
const uint32_t board_instructions_each = 1;

static uint64_t wake_at;
static void wake_later(void) {
    wake_at += 10000;
    WAKE_HIGH = 0xFFFFFFFF;
    WAKE = (uint32_t)wake_at;
    WAKE_HIGH = (uint32_t)(wake_at >> 32);
}
__attribute__((interrupt("machine"), aligned(4))) static void trap(void) {
    wake_later();
    timer_interrupt();
}
void board_start_timer(void) {
    wake_at = (uint64_t)TIME_HIGH << 32 | TIME;
    wake_later();
    __asm volatile("csrw mtvec, %0\n csrs mie, %1\n csrs mstatus, %2" : : "r"(&trap), "r"(0x80), "r"(8) : "memory");
}
void board_wait(void) { __asm volatile("wfi"); }

__attribute__((naked, section(".start"), used)) void reset(void);
void reset(void) {
    __asm volatile("la sp, stack_top\n la a0, bss_start\n la a1, bss_end\n"
                   "1: bgeu a0, a1, 2f\n sw zero, 0(a0)\n addi a0, a0, 4\n j 1b\n"
                   "2: call main\n3: j 3b\n");
}
