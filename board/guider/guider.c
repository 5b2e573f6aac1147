/* The guide camera of Larkspur as a load for long recordings: it finds stars in a frame, follows them, and writes what
   it did as text. Runs on a Cortex-M4 without any device but the system timer; never ends. */
#include <stdint.h>

uint32_t interpolate(uint32_t ticks);

enum { SIDE = 48, MOST_STARS = 12 };
struct star {
    int32_t x, y; /* 1/256 pixels */
    uint32_t light;
};

static uint8_t frame[SIDE][SIDE];
static struct star stars[MOST_STARS];
static uint32_t count, chance = 20261126;
static char text[160];
static volatile uint32_t millis, frames, axis_angle, sent;
static uint32_t checksum[256];

static uint32_t random_bits(void) {
    chance ^= chance << 13;
    chance ^= chance >> 17;
    chance ^= chance << 5;
    return chance;
}

static void expose(int32_t shift) {
    for (int y = 0; y < SIDE; ++y)
        for (int x = 0; x < SIDE; x += 4) {
            const uint32_t noise = random_bits();
            for (int i = 0; i < 4; ++i) frame[y][x + i] = (uint8_t)(noise >> (8 * i) & 15);
        }
    for (int i = 0; i < 8; ++i) {
        const int x = 4 + (i * 11 + shift) % (SIDE - 8), y = 4 + (i * 17) % (SIDE - 8);
        for (int dy = -2; dy <= 2; ++dy)
            for (int dx = -2; dx <= 2; ++dx) frame[y + dy][x + dx] += (uint8_t)(90 - 10 * (dx * dx + dy * dy));
    }
}

static int brightest_near(int x, int y) {
    const uint8_t here = frame[y][x];
    for (int dy = -1; dy <= 1; ++dy)
        for (int dx = -1; dx <= 1; ++dx)
            if (frame[y + dy][x + dx] > here) return 0;
    return 1;
}

static struct star centre_of(int x, int y) {
    uint32_t light = 0, along = 0, down = 0;
    for (int dy = -3; dy <= 3; ++dy)
        for (int dx = -3; dx <= 3; ++dx) {
            const uint32_t v = frame[y + dy][x + dx];
            light += v;
            along += v * (uint32_t)(dx + 3);
            down += v * (uint32_t)(dy + 3);
        }
    const struct star s = {(x - 3) * 256 + (int32_t)(along * 256 / light), (y - 3) * 256 + (int32_t)(down * 256 / light),
                           light};
    return s;
}

static void find(void) {
    count = 0;
    for (int y = 3; y < SIDE - 3; ++y)
        for (int x = 3; x < SIDE - 3; ++x)
            if (frame[y][x] > 60 && count < MOST_STARS && brightest_near(x, y)) stars[count++] = centre_of(x, y);
}

static int brighter(const struct star *a, const struct star *b) { return a->light > b->light; }
static int more_left(const struct star *a, const struct star *b) { return a->x < b->x; }

static void sort(int (*before)(const struct star *, const struct star *)) {
    for (uint32_t i = 1; i < count; ++i) {
        const struct star s = stars[i];
        uint32_t j = i;
        while (j > 0 && before(&s, &stars[j - 1])) {
            stars[j] = stars[j - 1];
            --j;
        }
        stars[j] = s;
    }
}

static char *put_text(char *to, const char *from) {
    while (*from) *to++ = *from++;
    return to;
}

static char *put_number(char *to, int32_t value) {
    char digits[12];
    int n = 0;
    if (value < 0) {
        *to++ = '-';
        value = -value;
    }
    do digits[n++] = (char)('0' + value % 10);
    while ((value /= 10) != 0);
    while (n > 0) *to++ = digits[--n];
    return to;
}

static uint32_t sum_of(const char *from, const char *to) {
    uint32_t c = 0xFFFFFFFFu;
    while (from != to) c = checksum[(c ^ (uint8_t)*from++) & 255] ^ c >> 8;
    return ~c;
}

enum { TRACK, CENTRE, LOST, REPORT };
static int32_t drift_x, drift_y;

static int step(int state, uint32_t event) {
    switch (state) {
        case TRACK: return event < 3 ? LOST : event & 1 ? CENTRE : REPORT;
        case CENTRE: drift_x = drift_x * 7 / 8; return TRACK;
        case LOST: drift_x = drift_y = 0; return event > 2 ? TRACK : REPORT;
        case REPORT: drift_y = drift_y * 7 / 8; return TRACK;
        default: return LOST;
    }
}

/* The kernel's part: a service call takes the line away. */
void service_call(void) { ++sent; }
static void send(void) { __asm volatile("svc 1" ::: "memory"); }

void system_tick(void) {
    ++millis;
    axis_angle = interpolate(millis);
}

int main(void) {
    *(volatile uint32_t *)0xE000ED1Cu = 0xE0u << 24;              /* service calls: lowest */
    *(volatile uint32_t *)0xE000E014u = 24999;                    /* system timer: 1 ms of 25 MHz */
    *(volatile uint32_t *)0xE000E018u = 0;
    *(volatile uint32_t *)0xE000E010u = 7;
    for (uint32_t i = 0; i < 256; ++i) {
        uint32_t c = i;
        for (int k = 0; k < 8; ++k) c = c & 1 ? 0xEDB88320u ^ c >> 1 : c >> 1;
        checksum[i] = c;
    }
    for (int state = LOST;;) {
        expose((int32_t)(axis_angle >> 10));
        find();
        sort(brighter);
        const int32_t first = count > 0 ? stars[0].x : 0;
        sort(more_left);
        for (uint32_t i = 0; i < count; ++i) {
            state = step(state, count + (stars[i].light & 1));
            drift_x += stars[i].x - first;
            drift_y += stars[i].y - 2048;
            char *end = put_text(text, "star ");
            end = put_number(end, (int32_t)i);
            end = put_text(end, " at ");
            end = put_number(end, stars[i].x);
            end = put_text(end, ", ");
            end = put_number(end, stars[i].y);
            *end++ = '*';
            end = put_number(end, (int32_t)sum_of(text, end));
            *end = 0;
            send();
        }
        ++frames;
    }
}

extern char stack_top[];
static void stuck(void) {
    for (;;) {
    }
}
void start(void) { main(); }
__attribute__((section(".vectors"), used)) static const void *const vectors[16] = {
    stack_top, start, stuck, stuck, stuck, stuck, stuck, 0, 0, 0, 0, service_call, stuck, 0, stuck, system_tick};
