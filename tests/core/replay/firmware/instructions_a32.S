// One of each kind of A32 instruction, and what modes and exceptions do, for a Cortex-A15 of the emulator and for the machine
// of the past: both execute it, step by step, and what the machine says it knows must be what the core holds. Sections are of
// DDI 0406C.
    .syntax unified
    .arch armv7-a
    .arch_extension idiv
    .fpu neon-vfpv4
    .text
    .arm
    .global start, vectors, done, undefined_arm, undefined_thumb
start:
    // Every register is given something, so that from here on nothing need be unknown.
    cps #0x11
    ldr sp, =words + 0x800
    mov r8, #0x18
    mov r9, #0x19
    mov r10, #0x1a
    mov r11, #0x1b
    mov r12, #0x1c
    mov lr, #0x1e
    cps #0x12
    ldr sp, =words + 0x900
    cps #0x17
    ldr sp, =words + 0xa00
    cps #0x1b
    ldr sp, =words + 0xb00
    cps #0x1f
    ldr sp, =words + 0xc00
    mov lr, #0xee
    mov r8, #0x88
    mov r9, #0x99
    cps #0x13
    ldr sp, =words + 0x2000
    movw r0, #0x1234
    movt r0, #0x89ab
    mvn r1, #0x80000000
    mvn r2, #0
    mov r3, #0
    ldr r4, =words + 0x1000
    mov r5, #5
    mov r6, #0x66
    mov r7, #0x80000000
    mov r10, #0xaa000000
    ldr r11, =0xbbbbbbbb
    mov r12, #0xc00
    mov lr, r1
    ldr r5, =vectors
    mcr p15, 0, r5, c12, c0, 0
    mov r5, #5
    mov r9, #0xf00000
    mcr p15, 0, r9, c1, c0, 2
    isb
    mov r9, #0x40000000
    vmsr fpexc, r9
    mrc p15, 0, r9, c1, c0, 0

    .macro flags
    adc r9, r3, r3
    moveq r9, r5
    movmi r9, r6
    movvs r9, r7
    movhi r9, r8
    movlt r9, r10
    addgt r9, r9, #1
    ldrls r9, [r4]
    .endm
    // A5.2: data processing, with each way of a second operand.
    str r11, [r4]
    ands r1, r0, #0xff
    flags
    eors r1, r0, #0xf000000f
    flags
    subs r1, r5, r6
    flags
    rsbs r1, r5, r6, lsl #3
    flags
    adds r1, r0, r7
    flags
    adcs r1, r0, r0, lsr #31
    flags
    sbcs r1, r5, r6, asr #1
    flags
    rscs r1, r5, r6, ror #4
    flags
    tst r0, r7
    flags
    teq r0, r0
    flags
    cmp r5, #5
    flags
    cmn r2, #1
    flags
    orrs r1, r0, r6, lsl r5
    flags
    movs r1, r0, rrx
    flags
    bics r1, r0, r6, lsr #32
    flags
    mvns r1, r0, asr #32
    flags
    movs r1, r0, lsl r12
    flags
    movs r1, r0, ror r6
    flags
    add r1, pc, #8
    adr r1, start
    add r1, pc, r5, lsl #2
    mov r1, #33
    lsls r9, r0, r1
    lsrs r9, r0, r1
    asrs r9, r0, r1
    clz r1, r6
    clz r1, r3
    // A5.2.5 and A5.4.4: products.
    mul r1, r0, r5
    muls r1, r0, r3
    flags
    mla r1, r0, r5, r6
    mls r1, r0, r5, r6
    umull r1, r9, r0, r11
    umlal r1, r9, r0, r11
    smull r1, r9, r0, r11
    smlals r1, r9, r0, r11
    flags
    umaal r1, r9, r0, r11
    smulbb r1, r0, r5
    mov r1, #1
    smlal r1, r9, r5, r6
    sdiv r1, r0, r5
    udiv r1, r0, r5
    udiv r1, r0, r3
    qadd r1, r0, r0
    mov r1, #1
    // A5.4.3, A5.4: parts of registers.
    sxtb r1, r0
    sxth r1, r0, ror #8
    uxtb r1, r0, ror #24
    uxth r1, r0
    sxtab r1, r5, r0
    uxtah r1, r5, r0
    rev r1, r0
    rev16 r1, r0
    revsh r1, r0
    rbit r1, r0
    ubfx r1, r0, #3, #9
    sbfx r1, r0, #20, #12
    bfi r1, r0, #8, #8
    bfc r1, #4, #4
    pkhbt r1, r0, r5
    mov r1, #1
    // A5.3, A5.2.8, A5.5: memory, by each way to say where.
    str r0, [r4]
    str r5, [r4, #4]!
    str r6, [r4], #-4
    ldr r1, [r4, r5, lsr #2]
    ldr r1, [r4, #4]
    ldrb r1, [r4, #3]
    strb r5, [r4, #9]
    ldr r1, [r4, -r3]
    ldr r9, =words
    ldr r1, [r9, r12, asr #1]!
    ldr r1, [r9], r5
    strh r0, [r4, #12]
    ldrh r1, [r4, #2]
    ldrsb r1, [r4, #2]
    ldrsh r1, [r4, #2]
    strd r6, r7, [r4, #16]
    ldrd r8, r9, [r4, #16]
    mov r8, #0x88
    ldrh r1, [r4], r5
    strh r0, [r4, -r5]!
    ldr r1, 1f
    stmia r4, {r0, r5-r7}
    ldmia r4, {r1, r9}
    stmdb r4!, {r5, r6}
    ldmib r4, {r1}
    ldmia r4!, {r1, r9}
    push {r0, r5, lr}
    pop {r1, r9, lr}
    stmda r4, {r0, r2}
    ldmda r4, {r1, r9}
    ldrex r1, [r4]
    strex r9, r5, [r4]
    str r0, [r4]
    swp r1, r5, [r4]
    // Vectors and floating point: what they touch.
    vmov s0, r0
    vmov r1, s0
    vstr d0, [r4, #32]
    vpush {d0-d3}
    vpop {d0-d3}
    vadd.f32 s1, s0, s0
    vcmp.f32 s1, s0
    vmrs apsr_nzcv, fpscr
    moveq r1, r5
    cmp r5, #5
    vst1.32 {d0, d1}, [r4]!
    vld1.32 {d0, d1}, [r4], r5
    vadd.i32 q0, q0, q1
    ldr r4, =words + 0x1000
    mrrc p15, 0, r1, r9, c2
    mov r1, #1
    mov r9, #1
    // A condition that a branch tells, and what may not have run.
    ldr r1, [r4, #800]
    vcmp.f32 s1, s0
    vmrs apsr_nzcv, fpscr
    bne 2f
    moveq r9, r5
    movne r9, r6
2:  movcs r1, r5
    moveq r5, #5
    vcmp.f32 s1, s0
    vmrs apsr_nzcv, fpscr
    cmpeq r5, #5
    mov r1, #0

    // B1.3, B1.8: modes and exceptions.
    mrs r1, cpsr
    cps #0x1f
    add r9, sp, #0
    mov r9, lr
    msr cpsr_c, r1
    add r9, sp, #0
    cps #0x11
    mov r9, r12
    cps #0x13
    mov r9, r12
    cmp r5, #5
    svc #1
    moveq r9, r6
    msr cpsr_c, #0xdf
    svc #2
    add r9, sp, #0
    msr cpsr_c, #0xd2
    mov lr, #0x77
    svc #3
    mov r9, lr
    cps #0x13
    // A program in User mode, of both instruction sets.
    adr r1, program
    mov r9, #0x80000010
    push {r1, r9}
    rfeia sp!
    .ltorg
program:
    add r9, sp, #0
    movmi r1, r5
    mov r8, #0x8
    svc #4
    movmi r1, r6
undefined_arm:
    udf #1
    cps #0x13
    add r9, sp, #4
    blx thumb
    mov r9, lr
    svc #5
    b last
    .thumb
    .thumb_func
thumb:
    mov r1, lr
    ite mi
    movmi r9, r5
    movpl r9, r6
    movw r12, #0xcccc
    add r12, r12, r1, lsl #3
    svc #6
    itt mi
    movmi r9, r12
    addmi r9, r9, #1
undefined_thumb:
    udf #2
    bx r1
    .arm
    .balign 4
last:
    mov r9, #-1
done:
    b done
    .balign 4
1:  .word 0xfedcba98

    // Calls: as firmware does it that keeps all frames on one stack.
call:
    srsdb sp!, #0x13
    push {r0-r12, lr}
    sub sp, sp, #8
    stmia sp, {sp, lr}^
    mrs r0, spsr
    ldr r1, [sp, #64]
    mov r9, #0
    cmp r9, #1
    ldmia sp, {sp, lr}^
    nop
    add sp, sp, #8
    pop {r0-r12, lr}
    rfeia sp!
none:
    push {r0, r1}
    mrs r0, spsr
    tst r0, #0x20
    addne r1, lr, #0
    subeq r1, lr, #0
    pop {r0, r1}
    movs pc, lr
    .balign 32
vectors:
    b done
    b none
    b call
    b done
    b done
    b done
    b done
    b done
    .ltorg
    .data
    .balign 16
words:
    .space 0x3000
