/* Star positions near the meridian. The pointer for the west side is set when its page is loaded. */
#include "larkspur.h"

static const int16_t east[16] = { 3, 1, 4, 1, 5, 9, 2, 6, 5, 3, 5, 8, 9, 7, 9, 3 };
static const int16_t *pages[2] = { east, (const int16_t *)0x0A4011F8u };

__attribute__((noinline)) const int16_t *star_table_at(uint32_t hour) { return pages[hour & 1]; }

/* Refraction near the horizon: a series in fixed point. */
__attribute__((noinline)) int32_t refraction(int32_t height) {
    int32_t term = (height & 0x3FFF) | 0x4000, sum = 0;
    for (int32_t i = 1; i < 1800; i++) {
        term -= term >> 7;
        sum += term / i;
    }
    return sum >> 24;
}
