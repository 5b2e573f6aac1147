/* QEMU's mps2-an386: a Cortex-M4 at 25 MHz. */
#include "board.h"

#define REG(address) (*(volatile uint32_t *)(address))
#define SYST_CSR REG(0xE000E010)
#define SYST_RVR REG(0xE000E014)
#define SYST_CVR REG(0xE000E018)
#define COUNTER REG(0x40028018) /* counts the 25 MHz clock */

uint32_t board_time(void) { return COUNTER; }
uint32_t board_count(void) { return COUNTER; }
const uint32_t board_instructions_each = 40; /* of 1 ns each */

void board_start_timer(void) {
    SYST_RVR = 25000 - 1;
    SYST_CVR = 0;
    SYST_CSR = 7;
}
void board_wait(void) { __asm volatile("wfi"); }

extern uint32_t stack_top, bss_start, bss_end, data_start, data_end, data_image;
void reset(void);
void reset(void) {
    uint32_t *to, *from = &data_image;
    for (to = &data_start; to < &data_end; ++to) *to = *from++;
    for (to = &bss_start; to < &bss_end; ++to) *to = 0;
    main();
}
static void hang(void) {
    for (;;) {
    }
}
__attribute__((section(".vectors"), used)) static void *const vectors[16] = {
    &stack_top, reset, hang, hang, hang, hang, hang, 0, 0, 0, 0, hang, hang, 0, hang, timer_interrupt};
