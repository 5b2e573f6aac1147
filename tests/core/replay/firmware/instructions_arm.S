// One of each kind of instruction, for a Cortex-M4 and for the machine of the past: both execute it, step by step, and
// what the machine says it knows must be what the core holds. Sections are of DDI 0403E.
#include "vectors_arm.inc"

    .thumb_func
start:
    // Every register is given something, so that from here on nothing need be unknown.
    movw r0, #0x1234
    movt r0, #0x89ab
    movw r1, #0xffff
    movt r1, #0x7fff
    mov r2, #-1
    movs r3, #0
    ldr r4, =0x20001000
    movs r5, #5
    movs r6, #0x66
    ldr r7, =0x80000000
    mov r8, #0x88
    mov r9, #0x00990099
    mov r10, #0xaa00aa00
    mov r11, #0xbbbbbbbb
    mov r12, #0xc00
    mov lr, r1

    // A5.2.1: shifts by a number, and what they leave in the carry (adc tells).
    lsls r1, r0, #1
    adc r1, r1, #0
    lsls r1, r0, #31
    adc r1, r1, #0
    lsrs r1, r0, #3
    adc r1, r1, #0
    lsrs r1, r0, #32
    adc r1, r1, #0
    asrs r1, r0, #4
    adc r1, r1, #0
    asrs r1, r0, #32
    adc r1, r1, #0
    movs r1, r0
    adds r1, r0, r2
    adcs r1, r3
    subs r1, r3, r5
    sbcs r1, r3
    adds r1, r0, #7
    subs r1, r0, #7
    adds r1, #200
    subs r1, #201
    cmp r1, #3
    sbcs r1, r5

    // A5.2.2: on two registers.
    ands r1, r0
    mov r1, r0
    eors r1, r6
    lsls r1, r5
    lsrs r1, r5
    asrs r1, r5
    adcs r1, r0
    sbcs r1, r5
    mov r1, r0
    rors r1, r5
    adc r1, r1, #0
    tst r0, r7
    rsbs r1, r5, #0
    cmp r5, r6
    sbcs r1, r6
    cmn r2, r5
    adcs r1, r6
    orrs r1, r0
    muls r1, r5, r1
    bics r1, r6
    mvns r1, r5
    eors r1, r1

    // Shifts by a register, of whose number the lowest byte counts (A7.7.68 and others).
    movs r1, #33
    mov r3, r0
    lsls r3, r1
    adc r3, r3, #0
    mov r3, r0
    lsrs r3, r1
    adc r3, r3, #0
    mov r3, r0
    asrs r3, r1
    adc r3, r3, #0
    mov r3, r0
    rors r3, r1
    adc r3, r3, #0
    movs r1, #32
    mov r3, r0
    lsls r3, r1
    adc r3, r3, #0
    mov r3, r0
    lsrs r3, r1
    adc r3, r3, #0
    mov r3, r0
    rors r3, r1
    adc r3, r3, #0
    mov r1, #0x100
    mov r3, r0
    lsls r3, r1
    adc r3, r3, #0

    // A5.2.3: high registers.
    add r8, r0
    add r1, r8
    cmp r8, r9
    mov r8, r9
    mov r1, r8
    add r1, sp
    add r1, pc
    adr r1, pool

    // A5.2.4, A5.3.7 to A5.3.10: memory, by each way to say where.
    str r0, [r4]
    str r0, [r4, #4]
    strh r0, [r4, #8]
    strb r0, [r4, #10]
    ldr r1, [r4, #8]
    ldrb r1, [r4, #7]
    ldrh r1, [r4, #6]
    movs r3, #6
    ldrsb r1, [r4, r3]
    ldrsh r1, [r4, r3]
    ldrb r1, [r4, r3]
    ldrh r1, [r4, r3]
    strb r5, [r4, r3]
    strh r5, [r4, r3]
    movs r3, #4
    str r6, [r4, r3]
    ldr r1, [r4, r3]
    str r0, [sp, #-8]!
    ldr r1, [sp]
    str r5, [sp, #4]
    ldr r1, [sp, #4]
    add r1, sp, #4
    add sp, #8
    sub sp, #8
    add sp, sp, #8
    ldr.w r1, [r4, #4]
    ldr r1, [r4, #-4]
    str r6, [r4, #-4]
    ldr r1, [r4, #-4]
    ldr r1, [r4], #4
    ldr r1, [r4, #-4]!
    str r1, [r4], #8
    strb r1, [r4, #-1]!
    strh r1, [r4, #-3]!
    ldrsb.w r1, [r4, #1]
    ldrsh.w r1, [r4, #1]
    ldrb r1, [r4], #-3
    ldrh r1, [r4, #3]!
    ldrsb r1, [r4], #1
    ldrsh r1, [r4, #-1]!
    ldr r4, =0x20001000
    movs r3, #2
    ldr.w r1, [r4, r3, lsl #1]
    str.w r0, [r4, r3, lsl #3]
    ldrb.w r1, [r4, r3, lsl #3]
    ldrsh.w r1, [r4, r3, lsl #3]
    ldr.w r1, pool
    ldrb.w r1, pool + 3
    ldrsb.w r1, pool + 3
    ldrh.w r1, pool + 2
    ldrsh.w r1, pool + 2
    ldrd r1, r3, pool
    strd r5, r6, [r4, #32]
    ldrd r1, r3, [r4, #32]
    strd r6, r5, [r4, #40]!
    ldrd r3, r1, [r4], #-40
    ldrt r1, [r4, #32]
    strt r0, [r4, #32]
    ldr r1, [r4, #32]
    pld [r4]

    // Several at once (A7.7.40 and others).
    push {r0, r5, r6, lr}
    pop {r1, r3}
    pop {r1, r3}
    push.w {r8, r9, r10}
    ldmia sp!, {r1, r3, r8}
    stmia r4!, {r0, r5, r6}
    ldr r4, =0x20001000
    ldmia r4, {r1, r3}
    ldmia r4!, {r1, r3}
    stmdb r4!, {r5, r6}
    ldmia r4!, {r3, r8}
    ldmdb r4!, {r1, r9}
    ldmia r4, {r4}
    ldr r4, =0x20001000
    stmia.w r4!, {r0, r11, r12}
    ldmdb r4, {r3, r8, r9}
    ldr r4, =0x20001000

    // A5.2.5: extensions, bytes the other way round.
    sxth r1, r0
    sxtb r1, r0
    uxth r1, r0
    uxtb r1, r0
    rev r1, r0
    rev16 r1, r0
    revsh r1, r0
    nop
    cpsid i
    cpsie i
    sxth.w r1, r0, ror #8
    sxtb.w r1, r0, ror #24
    uxth.w r1, r0, ror #16
    uxtb.w r1, r0, ror #8
    sxtah r1, r5, r0
    sxtab r1, r5, r0, ror #24
    uxtah r1, r5, r0
    uxtab r1, r5, r0, ror #16
    uxtb16 r1, r0
    sxtab16 r1, r5, r0
    rev.w r1, r8
    rev16.w r1, r8
    rbit r1, r0
    clz r1, r5
    clz r1, r0
    mvn r3, #0
    mov r3, #0
    clz r1, r3

    // A5.3.1: an operand that is a number spread out (A5.3.2); carry of those that are turned.
    and r1, r0, #0xff
    and r1, r0, #0x00ff00ff
    ands r1, r0, #0xff000000
    adc r1, r1, #0
    bic r1, r0, #0xff00ff00
    bics r1, r0, #0x80000000
    adc r1, r1, #0
    orr r1, r0, #0x45454545
    orrs r1, r0, #0x3fc
    orn r1, r0, #0x1fe00000
    mvn r1, #0xab
    mvns r1, #0x80000000
    mov r1, #0xab000000
    movs.w r1, #0x80000000
    adc r1, r1, #0
    eor r1, r0, #0xff00
    eors r1, r0, #0xff000000
    teq r0, #0x80000000
    adc r1, r1, #0
    tst r0, #0x80000000
    add r1, r0, #0xff0
    adds.w r1, r0, #0x80000000
    adc r1, r0, #0x10
    adcs r1, r0, #0xff000000
    sbc r1, r0, #1
    sbcs r1, r0, #0x89000000
    sub r1, r0, #0x89000000
    subs.w r1, r0, #0x89000000
    rsb r1, r0, #3
    rsbs.w r1, r0, #0
    cmp.w r0, #0x89000000
    adc r1, r1, #0
    cmn r0, #0x77000000
    adc r1, r1, #0

    // A5.3.3: plain numbers, bit fields.
    addw r1, r0, #0xabc
    subw r1, r0, #0xabc
    adr.w r1, vectors
    movw r1, #0xbeef
    movt r1, #0xdead
    sbfx r1, r0, #4, #8
    sbfx r1, r0, #0, #32
    sbfx r1, r0, #31, #1
    ubfx r1, r0, #28, #4
    ubfx r1, r0, #0, #32
    mov r1, #-1
    bfc r1, #4, #8
    bfc r1, #31, #1
    bfi r1, r0, #8, #16
    bfi r1, r0, #0, #32
    ssat r1, #8, r0
    ssat r1, #16, r0, lsl #2
    usat r1, #7, r0
    usat r1, #0, r5
    usat r1, #9, r6, asr #1
    ssat16 r1, #5, r0
    usat16 r1, #6, r6
    ldr r3, =0x00ff00ff
    usat16 r1, #6, r3

    // A5.3.11: an operand that is shifted.
    and r1, r0, r6, lsl #4
    ands.w r1, r0, r6, lsr #1
    adc r1, r1, #0
    bic r1, r0, r6, asr #2
    orr r1, r0, r6, ror #8
    orn r1, r0, r6
    mov r1, r0, lsl #3
    lsls.w r1, r0, #5
    adc r1, r1, #0
    asrs.w r1, r0, #32
    lsrs.w r1, r0, #32
    rors.w r1, r0, #12
    rrx r1, r0
    rrxs r1, r0
    adc r1, r1, #0
    mvn r1, r0, lsl #1
    mvns.w r1, r0, asr #3
    eor r1, r0, r6, lsl #24
    teq r0, r6, lsl #24
    tst.w r0, r6, ror #1
    add r1, r0, r6, lsl #2
    adds.w r1, r0, r7
    adc r1, r0, r6, lsr #3
    adcs.w r1, r0, r7
    sbc r1, r0, r6, asr #1
    sbcs.w r1, r0, r7
    sub r1, r0, r6, lsl #6
    subs.w r1, r7, r0
    rsb r1, r0, r6, lsl #1
    cmp.w r0, r6, lsl #25
    adc r1, r1, #0
    cmn.w r0, r6, lsl #25
    adc r1, r1, #0
    sub.w r1, sp, r5
    pkhbt r1, r0, r6, lsl #16
    pkhtb r1, r0, r11, asr #4
    pkhtb r1, r0, r11, asr #32

    // A5.3.12: shifts by a register.
    movs r3, #12
    lsl.w r1, r0, r3
    lsls.w r1, r0, r3
    adc r1, r1, #0
    lsr.w r1, r0, r3
    asr.w r1, r0, r3
    asrs.w r1, r0, r3
    adc r1, r1, #0
    ror.w r1, r0, r3
    rors.w r1, r0, r3
    adc r1, r1, #0

    // A5.3.13 to A5.3.15: on parts of a register side by side. Nothing need be known of these, but nothing wrong.
    sadd16 r1, r0, r6
    uadd8 r1, r0, r11
    qadd r1, r0, r7
    qsub16 r1, r0, r6
    uhsub8 r1, r0, r11
    sel r1, r0, r6

    // A5.3.16 and A5.3.17: products and quotients.
    mul r1, r0, r6
    mla r1, r0, r6, r5
    mls r1, r0, r6, r5
    smulbb r1, r0, r6
    smlabt r1, r0, r6, r5
    smulwb r1, r0, r6
    smmul r1, r0, r7
    smlad r1, r0, r6, r5
    usad8 r1, r0, r6
    smull r1, r3, r0, r7
    umull r1, r3, r0, r7
    smlal r1, r3, r0, r6
    umlal r1, r3, r0, r6
    umaal r1, r3, r0, r6
    smlald r1, r3, r0, r6
    mov r3, #0
    mov r1, #10
    sdiv r1, r0, r5
    udiv r1, r0, r5
    sdiv r1, r7, r2
    udiv r1, r0, r7
    sdiv r1, r0, r3
    udiv r1, r0, r3

    // A7.3: conditions, in IT blocks.
    cmp r5, #5
    ite eq
    moveq r1, #1
    movne r1, #2
    cmp r5, r6
    ittee lt
    movlt r1, #3
    addlt r1, #1
    movge r1, #4
    subge r1, #1
    cmp r0, r5
    itt hi
    movhi r1, #11
    lslhi r1, r1, #3
    ite vs
    movvs r1, #12
    movvc r1, #13
    subs r3, r7, #1
    ite vs
    movvs r1, #14
    movvc r1, #15
    ite gt
    movgt r1, #16
    movle r1, #17
    ite mi
    movmi r1, #18
    movpl r1, #19
    ite cs
    movcs r1, #20
    movcc r1, #21
    it ls
    strls r5, [r4]
    ldr r1, [r4]
    it hi
    ldrhi r1, [r4, #4]

    // Branches, calls and tables (A5.2.6, A7.7.12, A7.7.185).
    b 1f
    movs r1, #99
1:  cmp r5, #6
    beq 2f
    bne.w 3f
2:  movs r1, #98
3:  cbz r5, 4f
    cbnz r5, 5f
4:  movs r1, #97
5:  bl double_it
    ldr r3, =double_it
    blx r3
    bl pushes_and_pops
    movs r3, #1
    tbb [pc, r3]
table:
    .byte (6f - table) / 2, (7f - table) / 2
6:  movs r1, #96
7:  movs r3, #1
    tbh [pc, r3, lsl #1]
wide_table:
    .hword (8f - wide_table) / 2, (9f - wide_table) / 2
8:  movs r1, #95
9:  ldr pc, =after_jump
    movs r1, #94
    .thumb_func
after_jump:
    ldr r3, =10f + 1
    bx r3
    movs r1, #93
10: nop
    .p2align 2
    b.w special_ones
    .p2align 2
pool:
    .word 0x8badf00d, 0x600df00d
    .ltorg

    .thumb_func
double_it:
    adds r1, r1, r1
    bx lr

    .thumb_func
pushes_and_pops:
    push {r4, r5, r6, lr}
    movs r4, #1
    movs r5, #2
    sub sp, #16
    str r4, [sp, #12]
    ldr r6, [sp, #12]
    add sp, #16
    pop {r4, r5, r6, pc}

    // A5.3.5: special registers; exclusive accesses; an exception on either stack (B1.5.6).
    .thumb_func
special_ones:
    mrs r1, msp
    ldr r3, =0x20006000
    msr psp, r3
    mrs r1, psp
    mrs r1, control
    mrs r1, primask
    mov r3, #0x80000000
    msr apsr_nzcvq, r3
    ite mi
    movmi r1, #31
    movpl r1, #32
    dmb
    dsb
    isb
    clrex
    ldrex r1, [r4]
    strex r3, r5, [r4]
    ldr r1, [r4]
    ldrexb r1, [r4]
    strexb r3, r5, [r4]
    str r0, [r4]
    ldr r1, [r4]
    svc #1
    adds r1, r0, #1
    mov r3, #2
    msr control, r3
    isb
    push {r5, r6}
    svc #2
    pop {r1, r3}
    sub sp, #4
    svc #3
    add sp, #4
    mov r3, #0
    msr control, r3
    isb
    mov r1, sp

    // What a device says is not known. What is the same whatever it says, or within bounds, may be.
    ldr r8, =0x40004000
    ldr r0, [r8]
    ands r1, r0, #0xff
    and r3, r0, #0
    orr r1, r0, #0xffffffff
    bic r1, r0, #0xffffffff
    lsrs r1, r0, #24
    lsls r1, r1, #2
    uxtb r1, r0
    uxth r1, r0
    sxth r1, r0
    ubfx r1, r0, #3, #5
    usat r1, #4, r0
    usat16 r1, #4, r0
    ldrb r1, [r8]
    ldrh r1, [r8]
    adds r3, r1, #1
    uxtb.w r1, r0, ror #8
    cmp r0, #3
    ite eq
    moveq r1, #41
    movne r1, #42
    movs r1, #43
    it lo
    movlo r1, #43
    it lo
    addlo sp, #0
    and r3, r0, #0x3c
    ldr r4, =0x20001100
    movs r1, #7
    str r1, [r4, #0x40]
    str r1, [r4, r3]
    ldr r1, [r4, #0x40]
    ldr r1, [r4, r3]
    b done

    // Uses what it likes: what is not stacked it gives back itself.
    .thumb_func
supervisor:
    push {r4, lr}
    movs r0, #0
    movs r1, #1
    movs r2, #2
    movs r3, #3
    movs r4, #4
    mrs r12, psp
    adds r0, r1, r2
    pop {r4, pc}

    .thumb_func
done:
    nop
    b done

    .section .data
    .p2align 2
    .space 8192
