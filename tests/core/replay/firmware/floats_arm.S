// Exceptions of a Cortex-M4 whose program uses floating point, for the core and for the machine of the past: frames are longer
// then (DDI 0403E, B1.5.7), and what the machine says it knows must be what the core holds.
#include "vectors_arm.inc"
    .fpu fpv4-sp-d16

    .thumb_func
start:
    movw r0, #0x1111
    movw r1, #0x2222
    movw r2, #0x3333
    movw r3, #0x4444
    ldr r4, =0x20001000
    movs r5, #5
    movs r6, #6
    movs r7, #7
    mov r8, #8
    mov r9, #9
    mov r10, #10
    mov r11, #11
    mov r12, #12
    movw lr, #0x5555
    ldr r4, =0x20002000
    msr psp, r4
    svc #1                          // no floating point yet: a short frame
    ldr r4, =0xe000ed88             // CPACR (B3.2.20)
    movw r5, #0
    movt r5, #0xf0
    str r5, [r4]
    dsb
    isb
    ldr r4, =0x20001000
    svc #2
    vmov s0, r0                     // from here on a long one
    svc #3
    vstr s0, [r4]
    vldr s1, [r4]
    vmov r1, s1
    push {r5, r6, r7}               // and one that is not aligned
    svc #4
    pop {r5, r6, r7}
    vpush {s0-s3}
    svc #5
    vpop {s0-s3}
    mov r3, #6                      // a process, with the context still active (SPSEL, FPCA)
    msr control, r3
    isb
    movs r1, #1
    svc #6
    push {r1, r3}
    svc #7
    pop {r1, r3}
    mov r3, #2                      // without it
    msr control, r3
    isb
    svc #8
    vadd.f32 s2, s0, s1
    svc #9
    mov r3, #0
    msr control, r3
    isb
    ldr r4, =0xe000ef34             // FPCCR: nothing is saved by itself (ASPEN and LSPEN off)
    movs r5, #0
    str r5, [r4]
    dsb
    isb
    vadd.f32 s2, s0, s1
    svc #10
    ldr r4, =0x20001000
    movs r5, #5
    mov r6, sp
    b done

    // Every second time it uses floating point itself: then what was put off is saved.
    .thumb_func
supervisor:
    push {r4, lr}
    ldr r4, =0x20001100
    ldr r1, [r4]
    adds r1, #1
    str r1, [r4]
    lsls r2, r1, #31
    bne plain
    mrs r0, control
    vmov s5, r1
    vadd.f32 s6, s5, s5
plain:
    movs r0, #0
    movs r3, #3
    mrs r12, psp
    pop {r4, pc}

    .thumb_func
done:
    nop
    b done

    .section .data
    .p2align 2
    .space 8192
