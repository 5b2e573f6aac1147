// One of each kind of A64 instruction that touches integer registers, flags or memory, for a core of the emulator and for the
// machine of the past: both execute it, step by step, and what the machine says it knows must be what the core holds.
// Sections are of DDI 0487.
    .text
    .global start, supervisor, done
start:
    // Every register is given something, so that from here on nothing need be unknown.
    movz x0, #0x1234
    movk x0, #0x89ab, lsl #16
    movk x0, #0x7654, lsl #32
    movk x0, #0xfedc, lsl #48
    movn x1, #0
    movn w2, #0x7fff, lsl #16
    mov x3, #0
    ldr x4, =words + 4096
    mov x5, #5
    mov x6, #0x66
    mov x7, #0x8000000000000000
    mov w8, #0x80000000
    mov x9, #33
    mov x10, #65
    mov x11, #0xbb
    mov x12, #-12
    .irp n, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29
    mov x\n, #\n + 0x100
    .endr
    adr x30, done
    msr spsel, #1
    ldr x13, =words + 8192
    mov sp, x13
    ldr x13, =words + 6144
    msr sp_el0, x13
    mrs x13, sp_el0
    mrs x13, spsel
    mrs x13, currentel
    ldr x13, =vectors
    msr vbar_el1, x13
    isb
    msr tpidr_el1, x0
    mrs x13, tpidr_el1
    msr tpidr_el0, x6
    mrs x13, tpidr_el0
    mrs x13, vbar_el1
    // Floating point without a trap.
    mov x13, #3 << 20
    msr cpacr_el1, x13
    isb

    // C4.1.65: immediates.
    adr x13, start
    adrp x13, words
    add x13, x0, #0xfff
    add w13, w0, #0xfff, lsl #12
    sub x13, x5, #7
    sub w13, w5, #7
    .macro flags
    adc x14, x3, x3
    cset x15, eq
    cset x16, mi
    cset x17, vs
    cset w18, hi
    csetm x19, lt
    csetm w20, gt
    csinc x21, x0, x1, ge
    csinv x22, x0, x1, le
    csneg x23, x0, x5, ls
    csel w24, w0, w1, cc
    cinc w25, w0, ne
    .endm
    adds x13, x0, #1
    flags
    adds w13, w1, #1
    flags
    subs x13, x5, #5
    flags
    subs w13, w5, #6
    flags
    cmp x7, #1
    flags
    cmn x1, #1
    flags
    cmp w8, #1
    flags
    and x13, x0, #0xff00ff00ff00ff00
    orr x13, x0, #0x7f
    eor w13, w0, #0x80000001
    ands x13, x0, #0xf000000000000000
    flags
    ands w13, w3, #1
    flags
    tst w8, #0x80000000
    flags
    mov x13, x0
    movk x13, #0xffff, lsl #32
    movk w13, #0x1111
    sxtb x13, w0
    sxth w13, w0
    sxtw x13, w2
    uxtb w13, w0
    ubfx x13, x0, #20, #30
    sbfx x13, x0, #40, #24
    sbfiz x13, x0, #8, #12
    ubfiz w13, w0, #8, #12
    bfi x13, x1, #4, #8
    bfxil x13, x0, #32, #16
    bfi w13, w0, #30, #2
    lsl x13, x0, #3
    lsr w13, w0, #3
    asr x13, x0, #60
    asr w13, w2, #1
    ror x13, x0, #9
    extr x13, x0, x1, #17
    extr w13, w0, w2, #31

    // C4.1.69: registers.
    and x13, x0, x1, lsl #5
    bic x13, x0, x6, ror #7
    orr w13, w0, w6, asr #2
    orn x13, x3, x0
    eor x13, x0, x0
    eon w13, w0, w1
    ands x13, x0, x7
    flags
    bics w13, w0, w1
    flags
    mvn x13, x0
    mov w13, w0
    add x13, x0, x1, lsl #63
    sub w13, w0, w5, lsr #1
    adds x13, x0, x0
    flags
    subs x13, x3, x7
    flags
    neg x13, x0
    negs w13, w8
    flags
    subs x13, x13, x13
    flags
    add x13, sp, w2, sxtw #2
    add x13, x0, w0, uxtb
    sub x13, x0, w0, sxth #4
    adds w13, w0, w0, uxth #1
    flags
    cmp x0, w2, sxtw
    flags
    cmp x5, #5
    adcs x13, x1, x3
    flags
    sbcs w13, w5, w6
    flags
    ngc x13, x5
    sbc x13, x0, x1
    cmp x5, #5
    ccmp x0, x1, #5, eq
    flags
    ccmp x0, #3, #9, eq
    flags
    ccmn w1, #1, #0, ne
    flags
    udiv x13, x0, x6
    udiv w13, w0, w6
    udiv x13, x0, x3
    sdiv x13, x0, x12
    sdiv w13, w0, w12
    sdiv x13, x7, x1
    sdiv w13, w8, w1
    lsl x13, x0, x9
    lsl w13, w0, w9
    lsr x13, x0, x10
    asr w13, w2, w10
    ror x13, x0, x9
    ror w13, w0, w9
    rbit x13, x0
    rbit w13, w0
    rev16 x13, x0
    rev16 w13, w0
    rev32 x13, x0
    rev x13, x0
    rev w13, w0
    clz x13, x6
    clz w13, w3
    cls x13, x12
    cls w13, w2
    madd x13, x0, x5, x6
    msub w13, w0, w5, w6
    mul x13, x0, x0
    mneg x13, x0, x6
    smaddl x13, w2, w12, x0
    umaddl x13, w2, w12, x0
    smsubl x13, w2, w12, x0
    umnegl x13, w2, w12
    smulh x13, x0, x12
    umulh x13, x0, x12
    crc32b w13, w0, w1
    crc32cx w13, w0, x1

    // C4.1.68: memory, by each way to say where.
    str x0, [x4]
    str w0, [x4, #8]
    strh w0, [x4, #12]
    strb w0, [x4, #14]
    ldr x13, [x4]
    ldr w13, [x4, #4]
    ldrh w13, [x4, #2]
    ldrb w13, [x4, #7]
    ldrsb x13, [x4, #7]
    ldrsb w13, [x4, #6]
    ldrsh x13, [x4, #6]
    ldrsh w13, [x4, #4]
    ldrsw x13, [x4, #4]
    ldr x13, 1f
    ldr w13, 1f
    ldrsw x13, 1f
    mov x14, x4
    str x5, [x14, #16]!
    str x6, [x14], #8
    ldr x13, [x14, #-8]!
    ldr x13, [x14], #-16
    ldur x13, [x14, #9]
    stur w0, [x14, #-3]
    ldtr x13, [x14]
    mov x15, #2
    ldr x13, [x4, x15, lsl #3]
    ldr w13, [x4, w15, uxtw #2]
    mov w15, #-1
    ldrb w13, [x14, w15, sxtw]
    strh w0, [x14, w15, sxtw #1]
    mov x15, #8
    ldr x13, [x14, x15]
    stp x0, x1, [sp, #-32]!
    stp w5, w6, [sp, #16]
    ldp x13, x14, [sp]
    ldp w13, w14, [sp, #16]
    ldpsw x13, x14, [sp, #16]
    ldp x14, x15, [sp], #32
    stnp x5, x6, [x4, #64]
    ldnp x13, x14, [x4, #64]
    prfm pldl1keep, [x4]
    stlr x0, [x4]
    ldar x13, [x4]
    ldarb w13, [x4]
    ldxr x13, [x4]
    stxr w14, x5, [x4]
    ldaxp x13, x15, [x4]
    stlxp w14, x5, x6, [x4]
    str x0, [x4]
    str x1, [x4, #8]
    ldadd x5, x13, [x4]
    ldclr w6, w13, [x4]
    ldeoral x5, x13, [x4]
    ldset x5, x13, [x4]
    ldsmax x12, x13, [x4]
    ldsmin w12, w13, [x4]
    ldumax x12, x13, [x4]
    ldumin x5, x13, [x4]
    ldaddb w12, w13, [x4]
    swp x0, x13, [x4]
    mov x13, x0
    cas x13, x5, [x4]
    cas x13, x6, [x4]
    mov x14, x5
    mov x15, x1
    casp x14, x15, x6, x7, [x4]
    str x0, [x4]

    // Vectors: what they touch.
    fmov d0, x0
    str q0, [x4, #32]
    ldr q1, [x4, #32]
    stp q0, q1, [sp, #-64]!
    ldp d0, d1, [sp], #64
    st1 {v0.2d, v1.2d}, [x4], #32
    ld1 {v0.b}[3], [x4], #1
    ld1 {v0.2s, v1.2s}, [x4], x5
    ldr x4, =words + 4096
    fmov x13, d0
    fcvtzs w13, d0
    umov w13, v0.h[1]
    smov x13, v0.b[1]
    scvtf d2, x5
    fadd d2, d2, d2
    fcvtzu x13, d2, #4
    fcmp d2, d2
    fccmp d2, d0, #3, eq
    csel x13, x0, x1, ge
    ldr x13, [x4, #200]
    // What is not known but for its bounds: parts of registers, sums, a place within a table.
    fmov x14, d0
    and x15, x14, #7
    and w16, w14, #0xff0
    add x17, x15, #9
    sub x17, x17, #3
    sub w18, w17, #7
    add x19, x15, x17
    add w19, w15, w17, lsl #3
    ubfx x20, x14, #5, #3
    ubfiz x21, x14, #2, #4
    lsl w22, w20, #29
    lsr x23, x14, #40
    lsr w23, w14, #4
    uxtb w24, w14
    add x25, x5, w14, uxth #3
    add x25, x5, w20, sxtw #2
    csel x26, x15, x5, ge
    csel w26, w15, w12, ge
    csinc w26, w15, w5, ge
    clz x27, x14
    str x0, [x4, #2048]
    str x0, [x4, #2200]
    add x16, x4, #2048
    str x5, [x16, x20, lsl #3]
    ldr x17, [x4, #2048]
    ldr x17, [x4, #2200]
    add x16, x16, w20, uxtw #1
    strb w5, [x16]
    strh w5, [x16], #2
    stp x5, x6, [x16]
    ldrb w17, [x16]
    ldr x17, [x4, #2200]
    mov x16, #0x110

    // C4.1.66: branches.
    mov x13, #0
    cbz x13, 2f
    mov x13, #1
2:  cbnz w13, 2f
    add x13, x13, #2
2:  tbz x13, #1, 2f
    add x13, x13, #4
2:  tbnz x0, #63, 2f
    add x13, x13, #8
2:  cmp x13, #2
    b.ne 2f
    add x13, x13, #16
2:  bl called
    adr x13, called
    blr x13
    adr x13, 2f
    br x13
    nop
2:  mrs x13, nzcv
    msr nzcv, x0
    flags
    // A condition that a branch tells.
    ldr x13, [x4, #208]
    fcmp d2, d0
    b.eq 2f
    csel x13, x0, x1, eq
    nop
2:  mov x0, x13

    // D1.10: exceptions of the same level, and with the other stack pointer.
    svc #1
    msr spsel, #0
    add x13, sp, #0
    svc #2
    add x13, sp, #0
    msr spsel, #1
    add x13, sp, #0
    // To a program of level 0, and back.
    adr x13, program
    msr elr_el1, x13
    mov x13, #0xf0000000
    msr spsr_el1, x13
    eret
program:
    add x13, sp, #16
    csel x14, x5, x6, eq
    csel x14, x5, x6, vs
    svc #3
    csel x14, x5, x6, cs
    add x13, sp, #0
    svc #4
    .global back
back:
    // A difference with itself is known of anything.
    ldr x13, [x4, #216]
    sub x14, x13, x13
    eor x14, x13, x13
    and x14, x13, xzr
    dsb sy
    mov x13, #-1
done:
    b done
called:
    mov x15, x30
    mov x30, x15
    ret
    .balign 8
1:  .quad 0xfedcba9876543210
    .ltorg

    // All go to one place, which counts; the fourth goes on behind it, at level 1.
supervisor:
    str x28, [sp, #-16]!
    mrs x28, esr_el1
    mrs x28, elr_el1
    mrs x29, spsr_el1
    str x29, [sp, #8]
    cmp x28, x5
    adds x11, x11, #1
    cmp x11, #0xbf
    b.eq 3f
    ldr x29, [sp, #8]
    msr spsr_el1, x29
    ldr x28, [sp], #16
    eret
3:  add sp, sp, #16
    adr x28, back
    br x28
    .balign 2048
vectors:
    .irp n, 0, 1, 2, 3, 4, 5, 6, 7, 8
    b supervisor
    .balign 128
    .endr
    .data
    .balign 16
words:
    .space 16384
