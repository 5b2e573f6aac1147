/* Settings of the Mindful Trail recorder. Copy this file into your firmware and change it there. */
#ifndef MT_RECORDER_CONFIG_H
#define MT_RECORDER_CONFIG_H

/* Bytes of one packet. An event takes 4 bytes and its fields; a packet is handed over when it is full. */
#ifndef MT_PACKET_BYTES
#define MT_PACKET_BYTES 512
#endif

/* How many cores record; each has a packet of its own. */
#ifndef MT_CORES
#define MT_CORES 1
#endif

/* 1: packets go into a ring in RAM (docs/formats/ring-buffer.md); 0: only to the function given to mt_init. */
#ifndef MT_RING
#define MT_RING 1
#endif
#ifndef MT_RING_BYTES
#define MT_RING_BYTES (16 * 1024)
#endif
/* 1: keep the newest and overwrite; 0: keep the oldest and count what is lost. */
#ifndef MT_RING_OVERWRITES
#define MT_RING_OVERWRITES 0
#endif

/* Names and priorities are written again now and then, one behind each event, so that who begins to listen late gets to
 * know them too: how many are kept (0: none; else names must stay where they are), and after how many packets. */
#ifndef MT_NAMES
#define MT_NAMES 32
#endif
#ifndef MT_NAMES_EVERY
#define MT_NAMES_EVERY 32
#endif

/* Leave out what you do not need; the macros then cost nothing. */
#ifndef MT_WITH_INTERRUPTS
#define MT_WITH_INTERRUPTS 1
#endif
#ifndef MT_WITH_LOCKS
#define MT_WITH_LOCKS 1
#endif
#ifndef MT_WITH_QUEUES
#define MT_WITH_QUEUES 1
#endif
#ifndef MT_WITH_MARKS
#define MT_WITH_MARKS 1
#endif

/* Masks interrupts and gives back what was before; must also keep the other core out if both share a ring. */
#ifndef MT_MASK
#if defined(__ARM_ARCH_6M__) || defined(__ARM_ARCH_7M__) || defined(__ARM_ARCH_7EM__) || defined(__ARM_ARCH_8M_MAIN__)
static inline unsigned mt_mask_now(void) {
    unsigned before;
    __asm volatile("mrs %0, primask\n cpsid i" : "=r"(before) : : "memory");
    return before;
}
static inline void mt_mask_back(unsigned before) { __asm volatile("msr primask, %0" : : "r"(before) : "memory"); }
#elif defined(__riscv)
static inline unsigned mt_mask_now(void) {
    unsigned before;
    __asm volatile("csrrci %0, mstatus, 8" : "=r"(before) : : "memory");
    return before & 8u;
}
static inline void mt_mask_back(unsigned before) { __asm volatile("csrs mstatus, %0" : : "r"(before) : "memory"); }
#else
static inline unsigned mt_mask_now(void) { return 0; }
static inline void mt_mask_back(unsigned before) { (void)before; }
#endif
#define MT_MASK() mt_mask_now()
#define MT_UNMASK(before) mt_mask_back(before)
#endif

/* Which core this is, 0 to MT_CORES - 1. */
#ifndef MT_THIS_CORE
#define MT_THIS_CORE() 0u
#endif

#endif
