/* The Mindful Trail recorder. Layout of packets and events: the file `metadata` beside this one. */
#include "mt_recorder.h"

#ifdef __GNUC__
#define MT_APART __attribute__((noinline))
#else
#define MT_APART
#endif

#define HEADER 80u /* magic 4, uuid 16, stream 4, six times 8, cpu 4, 4 unused */

struct packet {
    union {
        uint8_t bytes[MT_PACKET_BYTES];
        uint32_t words[MT_PACKET_BYTES / 4];
    } u;
    uint32_t used;   /* 0: none is open */
    uint32_t events; /* in the open packet */
    uint32_t discarded, sequence;
    uint64_t begin, last;
    uint32_t counter; /* the time function's value at `last` */
    uint8_t timed;    /* `counter` is valid */
};

static struct packet packets[MT_CORES];
#if MT_NAMES
struct name {
    const char *text;
    uint16_t a, b;
    uint8_t id, a_bytes, b_bytes;
};
static struct name names[MT_NAMES];
static uint32_t names_kept, names_due, packets_since; /* the last `names_due` of them are still to be written again */
#endif

static mt_time_fn now_fn;
static mt_write_fn write_fn;

static const uint8_t uuid[16] = {0x4D, 0x54, 0x72, 0x61, 0x69, 0x6C, 0x52, 0x65,
                                 0x80, 0x01, 0x63, 0x6F, 0x72, 0x64, 0x65, 0x72};

#if MT_RING
static uint32_t ring_words[MT_RING_BYTES / 4];
struct mt_ring mt_ring;

static int ring_write(const uint32_t *packet, uint32_t bytes) { /* a multiple of 4, as the ring's size is */
    uint32_t at = mt_ring.written % MT_RING_BYTES / 4, i;
    if (bytes > MT_RING_BYTES) return 0;
    if (!MT_RING_OVERWRITES && mt_ring.written - mt_ring.taken > MT_RING_BYTES - bytes) {
        mt_ring.lost += bytes;
        return 0;
    }
    for (i = 0; i < bytes / 4; ++i) {
        ring_words[at] = packet[i];
        if (++at == MT_RING_BYTES / 4) at = 0;
    }
    mt_ring.written += bytes; /* only now: the reader must find the bytes there */
    return 1;
}
#endif

#if MT_PACKET_BYTES % 4 != 0 || MT_PACKET_BYTES < 256
#error "MT_PACKET_BYTES must be a multiple of 4, at least 256"
#endif
#if MT_RING && MT_RING_BYTES % 4 != 0
#error "MT_RING_BYTES must be a multiple of 4"
#endif

/* Little-endian, of 0, 1, 2 or 4 bytes; `to` need not be aligned. */
static inline uint8_t *put(uint8_t *to, uint32_t value, unsigned bytes) {
    if (bytes == 0) return to;
    *to++ = (uint8_t)value;
    if (bytes == 1) return to;
    *to++ = (uint8_t)(value >> 8);
    if (bytes == 2) return to;
    *to++ = (uint8_t)(value >> 16);
    *to++ = (uint8_t)(value >> 24);
    return to;
}
static uint8_t *put64(uint8_t *to, uint64_t value) {
    return put(put(to, (uint32_t)value, 4), (uint32_t)(value >> 32), 4);
}

static void close_packet(struct packet *p, unsigned core) {
    int done = 0;
    uint32_t i, size;
    uint8_t *to = p->u.bytes;
    if (p->used == 0) return;
    size = (p->used + 3) & ~3u;
    for (i = p->used; i < size; ++i) p->u.bytes[i] = 0;
    to = put(to, 0xC1FC1FC1u, 4);
    for (i = 0; i < 16; ++i) *to++ = uuid[i];
    to = put(to, 0, 4);
    to = put64(to, p->begin);
    to = put64(to, p->last);
    to = put64(to, (uint64_t)p->used * 8);
    to = put64(to, (uint64_t)size * 8);
    to = put64(to, p->discarded);
    to = put64(to, p->sequence);
    to = put(to, core, 4);
    put(to, 0, 4);
#if MT_RING
    done = ring_write(p->u.words, size);
#endif
    if (write_fn != 0) done = write_fn(p->u.bytes, size) != 0;
    if (!done) p->discarded += p->events;
    ++p->sequence;
#if MT_NAMES
    if (++packets_since >= MT_NAMES_EVERY && names_due == 0) {
        packets_since = 0;
        names_due = names_kept;
    }
#endif
    p->used = p->events = 0;
}

/* Room for an event of so many bytes behind its header; writes the header. Interrupts are masked. */
static inline uint8_t *begin_event(struct packet *p, unsigned core, unsigned id, uint32_t bytes) {
    const uint32_t counter = now_fn();
    const uint32_t passed = counter - p->counter;
    const uint64_t now = p->timed ? p->last + passed : counter;
    uint8_t *to;
    if (p->used + 13 + bytes > MT_PACKET_BYTES) close_packet(p, core);
    if (p->used == 0) {
        p->used = HEADER;
        p->begin = p->last = now;
    }
    to = p->u.bytes + p->used;
    if (now - p->last < (1u << 27)) {
        to = put(to, id | ((uint32_t)now & 0x7FFFFFFu) << 5, 4);
    } else { /* too long ago for 27 bits */
        *to++ = 31;
        to = put64(put(to, id, 4), now);
    }
    p->last = now;
    p->counter = counter;
    p->timed = 1;
    ++p->events;
    p->used = (uint32_t)(to - p->u.bytes) + bytes;
    return to;
}

/* An event with a text. Interrupts are masked. */
static MT_APART void put_text(unsigned core, unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes,
                     const char *text) {
    uint32_t n = 0, i;
    uint8_t *to;
    while (text[n] != 0 && n < 63) ++n; /* longer names are cut */
    to = begin_event(&packets[core], core, id, a_bytes + b_bytes + n + 1);
    to = put(put(to, a, a_bytes), b, b_bytes);
    for (i = 0; i < n; ++i) to[i] = (uint8_t)text[i];
    to[n] = 0;
}

#if MT_NAMES
static void keep_name(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes, const char *text) {
    uint32_t i = 0;
    /* a task by its number, an object by its kind and number */
    while (i < names_kept && (names[i].id != id || names[i].a != a || (id == 20 && names[i].b != b))) ++i;
    if (i == MT_NAMES) return;
    if (i == names_kept) ++names_kept;
    names[i].text = text;
    names[i].a = (uint16_t)a;
    names[i].b = (uint16_t)b;
    names[i].id = (uint8_t)id;
    names[i].a_bytes = (uint8_t)a_bytes;
    names[i].b_bytes = (uint8_t)b_bytes;
}
static void repeat_name(unsigned core) {
    const struct name *n;
    if (names_due > names_kept) names_due = names_kept;
    if (names_due == 0) return;
    n = &names[names_kept - names_due--];
    put_text(core, n->id, n->a, n->a_bytes, n->b, n->b_bytes, n->text);
}
/* Seldom: apart from what every event goes through. */
static MT_APART void after_event(unsigned core, unsigned id, uint32_t a, uint32_t b) {
    uint32_t i;
    if (id == 17) /* a priority */
        for (i = 0; i < names_kept; ++i)
            if (names[i].id == 19 && names[i].a == a) names[i].b = (uint16_t)b;
    repeat_name(core);
}
#endif

void mt_init(mt_time_fn time, mt_write_fn write) {
    unsigned c;
    now_fn = time;
    write_fn = write;
#if MT_NAMES
    names_kept = names_due = packets_since = 0;
#endif
    for (c = 0; c < MT_CORES; ++c) {
        packets[c].used = packets[c].events = packets[c].discarded = packets[c].sequence = 0;
        packets[c].begin = packets[c].last = 0;
        packets[c].timed = 0;
    }
#if MT_RING
    mt_ring.version = 1;
    mt_ring.flags = MT_RING_OVERWRITES;
    mt_ring.data = (uint32_t)(uintptr_t)ring_words;
    mt_ring.size = MT_RING_BYTES;
    mt_ring.written = mt_ring.taken = mt_ring.lost = mt_ring.reserved = 0;
    mt_ring.magic = 0x4252544Du; /* "MTRB", last of all */
#endif
}

void mt_event3(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes, uint32_t c, unsigned c_bytes) {
    const unsigned before = MT_MASK();
    const unsigned core = MT_THIS_CORE();
    if (now_fn != 0 && core < MT_CORES) {
        uint8_t *to = begin_event(&packets[core], core, id, a_bytes + b_bytes + c_bytes);
        put(put(put(to, a, a_bytes), b, b_bytes), c, c_bytes);
#if MT_NAMES
        if (names_due != 0 || id == 17) after_event(core, id, a, b);
#endif
    }
    MT_UNMASK(before);
}
void mt_event2(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes) {
    mt_event3(id, a, a_bytes, b, b_bytes, 0, 0);
}
void mt_event1(unsigned id, uint32_t a, unsigned a_bytes) { mt_event3(id, a, a_bytes, 0, 0, 0, 0); }
void mt_event0(unsigned id) { mt_event3(id, 0, 0, 0, 0, 0, 0); }

void mt_event_text(unsigned id, uint32_t a, unsigned a_bytes, uint32_t b, unsigned b_bytes, const char *text) {
    const unsigned before = MT_MASK();
    const unsigned core = MT_THIS_CORE();
    if (now_fn != 0 && core < MT_CORES) {
        put_text(core, id, a, a_bytes, b, b_bytes, text);
#if MT_NAMES
        keep_name(id, a, a_bytes, b, b_bytes, text);
#endif
    }
    MT_UNMASK(before);
}

void mt_flush(void) {
    unsigned c;
    const unsigned before = MT_MASK();
    for (c = 0; c < MT_CORES; ++c) close_packet(&packets[c], c);
    MT_UNMASK(before);
}

uint32_t mt_lost(unsigned core) { return core < MT_CORES ? packets[core].discarded : 0; }
