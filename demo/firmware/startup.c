/* Vector table, reset and fault handlers. */
#include "larkspur.h"

extern uint32_t stack_top, data_start, data_end, data_load, bss_start, bss_end;
int main(void);

void Reset_Handler(void) {
    uint32_t *from = &data_load;
    for (uint32_t *to = &data_start; to < &data_end;) *to++ = *from++;
    for (uint32_t *to = &bss_start; to < &bss_end;) *to++ = 0;
    main();
    for (;;) { }
}
void NMI_Handler(void) { for (;;) { } }
void HardFault_Handler(void) { mark(0xF3); for (;;) { } }
void BusFault_Handler(void) { mark(0xF5); for (;;) { } }
void Unused_Handler(void) { mark(0xFF); for (;;) { } }
void SVC_Handler(void);
void PendSV_Handler(void);
void SysTick_Handler(void);
void encoder_index_handler(void);
void step_timer_handler(void);
void guide_uart_handler(void);

__attribute__((section(".vectors"), used)) void *const vectors[16 + 8] = {
    &stack_top, Reset_Handler, NMI_Handler, HardFault_Handler, Unused_Handler, BusFault_Handler, Unused_Handler, 0, 0, 0, 0,
    SVC_Handler, Unused_Handler, 0, PendSV_Handler, SysTick_Handler,
    encoder_index_handler, step_timer_handler, Unused_Handler, guide_uart_handler,
    Unused_Handler, Unused_Handler, Unused_Handler, Unused_Handler,
};
