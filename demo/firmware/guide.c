/* Guide camera link: bytes come in by interrupt, a frame is refined in the task. */
#include "larkspur.h"

static uint8_t frame[256] __attribute__((aligned(16)));
static volatile uint32_t fill;
static volatile uint32_t frame_open = 1;                        /* until its last byte is in */
static uint32_t centroid_x = 8000;                              /* in 1/256 of a pixel */

void guide_uart_handler(void) { guide_byte(REG8(GUIDE_BASE)); }
void guide_byte(uint8_t byte) {
    frame[fill++ & 255] = byte;
    if (fill == FRAME_PIXELS) frame_open = 0;
}

/* The middle of what is within eight pixels of `start`, which is moved by fractions of a pixel. */
__attribute__((noinline)) static uint32_t refine_centroid(uint32_t start) {
    uint32_t sum = 0, weight = 0;
    for (uint32_t moved = 0; moved < 1024; moved++)
        for (uint32_t i = 0; i < FRAME_PIXELS; i++)
            if ((i << 8) + 1536 + moved - start < 4096) { sum += frame[i] * i; weight += frame[i]; }
    return sum / ((weight >> 8) + 1);
}
void guide_task(void) {
    for (;;) {
        uint32_t last;
        wait_until_clear(&frame_open);
        mark(2);
        do { last = centroid_x; centroid_x = refine_centroid(last); } while (centroid_x - last + 4 > 8);
        REG16(STIMULUS(9)) = (uint16_t)centroid_x;
        fill = 0;
        frame_open = 1;
    }
}
