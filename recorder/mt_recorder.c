/* The Mindful Trail recorder. Layout of packets and events: the file `metadata` beside this one. */
#include "mt_recorder.h"

#define HEADER 80u /* magic 4, uuid 16, stream 4, six times 8, cpu 4, 4 unused */

struct packet {
    uint8_t bytes[MT_PACKET_BYTES];
    uint32_t used;   /* 0: none is open */
    uint32_t events; /* in the open packet */
    uint32_t discarded, sequence;
    uint64_t begin, last;
    uint32_t counter; /* the time function's value at `last` */
    uint8_t timed;    /* `counter` is valid */
};

static struct packet packets[MT_CORES];
static mt_time_fn now_fn;
static mt_write_fn write_fn;

static const uint8_t uuid[16] = {0x4D, 0x54, 0x72, 0x61, 0x69, 0x6C, 0x52, 0x65,
                                 0x80, 0x01, 0x63, 0x6F, 0x72, 0x64, 0x65, 0x72};

#if MT_RING
static uint8_t ring_bytes[MT_RING_BYTES];
struct mt_ring mt_ring;

static int ring_write(const uint8_t *packet, uint32_t bytes) {
    uint32_t at = mt_ring.written % MT_RING_BYTES, i;
    if (bytes > MT_RING_BYTES) return 0;
    if (!MT_RING_OVERWRITES && mt_ring.written - mt_ring.taken > MT_RING_BYTES - bytes) {
        mt_ring.lost += bytes;
        return 0;
    }
    for (i = 0; i < bytes; ++i) {
        ring_bytes[at] = packet[i];
        if (++at == MT_RING_BYTES) at = 0;
    }
    mt_ring.written += bytes; /* only now: the reader must find the bytes there */
    return 1;
}
#endif

static void put(uint8_t *to, uint64_t value, unsigned bytes) {
    while (bytes-- > 0) {
        *to++ = (uint8_t)value;
        value >>= 8;
    }
}

static void close_packet(struct packet *p, unsigned core) {
    int done = 0;
    uint32_t i;
    if (p->used == 0) return;
    put(p->bytes, 0xC1FC1FC1u, 4);
    for (i = 0; i < 16; ++i) p->bytes[4 + i] = uuid[i];
    put(p->bytes + 20, 0, 4);
    put(p->bytes + 24, p->begin, 8);
    put(p->bytes + 32, p->last, 8);
    put(p->bytes + 40, (uint64_t)p->used * 8, 8);
    put(p->bytes + 48, (uint64_t)p->used * 8, 8);
    put(p->bytes + 56, p->discarded, 8);
    put(p->bytes + 64, p->sequence, 8);
    put(p->bytes + 72, core, 4);
    put(p->bytes + 76, 0, 4);
#if MT_RING
    done = ring_write(p->bytes, p->used);
#endif
    if (write_fn != 0) done = write_fn(p->bytes, p->used) != 0;
    if (!done) p->discarded += p->events;
    ++p->sequence;
    p->used = p->events = 0;
}

/* Room for an event of so many bytes behind its header; writes the header. Interrupts are masked. */
static uint8_t *begin_event(struct packet *p, unsigned core, unsigned id, uint32_t bytes) {
    const uint32_t counter = now_fn();
    uint64_t now = p->last;
    uint8_t *to;
    if (p->timed)
        now += (uint32_t)(counter - p->counter);
    else
        now = counter;
    if (p->used + 13 + bytes > MT_PACKET_BYTES) close_packet(p, core);
    if (p->used == 0) {
        p->used = HEADER;
        p->begin = p->last = now;
    }
    to = p->bytes + p->used;
    if (now - p->last < (1u << 27)) {
        put(to, id | ((uint32_t)now & 0x7FFFFFFu) << 5, 4);
        to += 4;
    } else { /* too long ago for 27 bits */
        put(to, 31, 1);
        put(to + 1, id, 4);
        put(to + 5, now, 8);
        to += 13;
    }
    p->last = now;
    p->counter = counter;
    p->timed = 1;
    ++p->events;
    p->used = (uint32_t)(to - p->bytes) + bytes;
    return to;
}

void mt_init(mt_time_fn time, mt_write_fn write) {
    unsigned c;
    now_fn = time;
    write_fn = write;
    for (c = 0; c < MT_CORES; ++c) {
        packets[c].used = packets[c].events = packets[c].discarded = packets[c].sequence = 0;
        packets[c].begin = packets[c].last = 0;
        packets[c].timed = 0;
    }
#if MT_RING
    mt_ring.version = 1;
    mt_ring.flags = MT_RING_OVERWRITES;
    mt_ring.data = (uint32_t)(uintptr_t)ring_bytes;
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
        put(to, a, a_bytes);
        put(to + a_bytes, b, b_bytes);
        put(to + a_bytes + b_bytes, c, c_bytes);
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
        uint32_t n = 0, i;
        uint8_t *to;
        while (text[n] != 0 && n < 63) ++n; /* longer names are cut */
        to = begin_event(&packets[core], core, id, a_bytes + b_bytes + n + 1);
        put(to, a, a_bytes);
        put(to + a_bytes, b, b_bytes);
        to += a_bytes + b_bytes;
        for (i = 0; i < n; ++i) to[i] = (uint8_t)text[i];
        to[n] = 0;
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
