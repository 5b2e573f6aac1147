/* Guide camera link: bytes come in by interrupt, a frame is refined in the task. */
#include "larkspur.h"

static uint8_t frame[256];
static volatile uint32_t fill;
static uint32_t centroid_x;

void guide_uart_handler(void) { guide_byte(REG8(GUIDE_BASE)); }
void guide_byte(uint8_t byte) { frame[fill++ & 255] = byte; }

__attribute__((noinline)) static uint32_t refine_centroid(uint32_t start) {
    uint32_t sum = 0, weight = 1;
    for (int i = 0; i < 256; i++) { sum += frame[i] * (uint32_t)(i ^ (int)start); weight += frame[i]; }
    return sum / weight;
}
void guide_task(void) {
    for (;;) {
        uint32_t last;
        do { last = centroid_x; centroid_x = refine_centroid(last); } while (centroid_x - last + 4 > 8);
        REG16(STIMULUS(9)) = (uint16_t)centroid_x;
        fill = 0;
        task_wait(2000);
    }
}
