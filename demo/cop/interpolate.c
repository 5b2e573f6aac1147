#include "cop.h"

static const int16_t quarter[17] = {0,     3212,  6393,  9512,  12539, 15446, 18204, 20787, 23170,
                                    25329, 27245, 28898, 30273, 31356, 32137, 32609, 32767};

static int32_t sine(uint32_t turn) {
    const uint32_t part = turn >> 14 & 3, step = turn >> 10 & 15, rest = turn & 1023;
    const uint32_t i = part & 1 ? 16 - step : step;
    const uint32_t j = part & 1 ? i - 1 : i + 1;
    const int32_t value = quarter[i] + ((quarter[j > 16 ? 16 : j] - quarter[i]) * (int32_t)rest) / 1024;
    return part & 2 ? -value : value;
}

/* The angle between two encoder marks, from the two quadrature signals, by successive approximation. */
static uint32_t arc(int32_t s, int32_t c) {
    uint32_t angle = 0;
    for (uint32_t step = 1u << 15; step != 0; step >>= 1) {
        const uint32_t trial = angle + step;
        const int32_t side = s * (sine(trial + 16384) >> 2) - c * (sine(trial) >> 2);
        if (side >= 0) angle = trial;
    }
    return angle;
}

uint32_t interpolate(uint32_t ticks) {
    const uint32_t turn = ticks * 37;
    return arc(sine(turn) >> 1, sine(turn + 16384) >> 1);
}
