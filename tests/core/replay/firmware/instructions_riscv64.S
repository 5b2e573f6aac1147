# What RV64 has beyond RV32, for a hart with RV64 IMAC and for the machine of the past: both execute it, step by step, and
# what the machine says it knows must be what the hart holds. Chapters are of the unprivileged ISA.
    .option norelax
    .text
    .globl start, trapped, done
start:
    # Every register is given something, so that from here on nothing need be unknown.
    la sp, words + 4096
    la gp, words + 1024
    li tp, -65536
    li t0, 5
    li t1, -5
    li t2, 0x7fffffffffffffff
    li s0, 0x8000000000000000
    li s1, 0x123456789abcdef0
    li a0, 0x89abcdef01234567
    li a1, 33
    li a2, 1
    li a3, 0xff
    li a4, -1
    li a5, 0
    li a6, 0x6666666666
    li a7, 65
    .irp n, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11
    li s\n, \n + 10
    .endr
    li t3, 0x3333
    li t4, 0x4444
    li t5, 0x5555
    li t6, 0x80000000
    la ra, trapped
    csrw mtvec, ra

    # Chapter 5.2: of 64 bits, and on words.
    addi t0, a0, -2048
    slti t0, a0, 0
    sltiu t0, a0, -1
    xori t0, a0, -1
    andi t0, a0, -16
    slli t0, a0, 40
    srli t0, a0, 40
    srai t0, a0, 40
    addiw t0, t6, -1
    addiw t0, a0, 1
    slliw t0, a0, 31
    srliw t0, a0, 4
    sraiw t0, t6, 4
    lui t0, 0x80000
    auipc t0, 0x80000
    add t0, a0, s1
    sub t0, a0, s1
    sll t0, a0, a7
    srl t0, a0, a1
    sra t0, a0, a1
    slt t0, a0, s1
    sltu t0, a0, s1
    addw t0, a0, s1
    subw t0, a0, s1
    sllw t0, a0, a1
    srlw t0, a0, a1
    sraw t0, t6, a1
    xor t0, a0, a0

    # Chapter 7.
    mul t0, a0, s1
    mulh t0, a0, s1
    mulhsu t0, a0, s1
    mulhsu t0, s1, a0
    mulhu t0, a0, s1
    div t0, a0, s1
    div t0, s0, a4
    div t0, a0, a5
    divu t0, a0, a1
    divu t0, a0, a5
    rem t0, a0, a1
    rem t0, s0, a4
    rem t0, a0, a5
    remu t0, a0, a1
    mulw t0, a0, s1
    divw t0, a0, s1
    divw t0, t6, a4
    divw t0, a0, a5
    divuw t0, a0, a1
    divuw t0, t6, a4
    remw t0, a0, a1
    remw t0, t6, a4
    remuw t0, a0, a5
    remuw t0, a0, a1

    # Chapter 5.3: memory.
    sd a0, 0(gp)
    sw s1, 8(gp)
    sh a0, 12(gp)
    sb a0, 14(gp)
    ld t0, 0(gp)
    ld t0, -8(gp)
    lw t0, 8(gp)
    lwu t0, 8(gp)
    lwu t0, 0(gp)
    lw t0, 4(gp)
    lh t0, 6(gp)
    lhu t0, 6(gp)
    lb t0, 7(gp)
    lbu t0, 7(gp)
    ld t0, 8(gp)
    sb a2, 1(gp)
    ld t0, 0(gp)

    # Chapter 8.
    addi s2, gp, 16
    sd a0, 0(s2)
    amoadd.d t0, s1, (s2)
    ld t0, 0(s2)
    amoswap.d t0, a0, (s2)
    amomin.d t0, s1, (s2)
    amomaxu.d t0, a4, (s2)
    ld t0, 0(s2)
    amoadd.w t0, a0, (s2)
    ld t0, 0(s2)
    amomin.w t0, t6, (s2)
    ld t0, 0(s2)
    amomaxu.w t0, a4, (s2)
    amoxor.w t0, s1, (s2)
    ld t0, 0(s2)
    lr.d t0, (s2)
    sc.d t1, a2, (s2)
    ld t0, 0(s2)
    sd a0, 0(s2)
    ld t0, 0(s2)

    # Chapter 9.
    csrw mscratch, a0
    csrrs t0, mscratch, s1
    csrrc t0, mscratch, a3
    csrrw t0, mscratch, t0
    csrr t0, mscratch
    csrr t0, mstatus

    # Chapter 16: short ones of RV64.
    mv s0, gp
    c.addi4spn a0, sp, 16
    c.li a1, -7
    c.sd a1, 8(s0)
    c.ld a2, 8(s0)
    c.addiw a1, 5
    c.addi16sp sp, -64
    c.sdsp a1, 24(sp)
    c.ldsp a3, 24(sp)
    c.swsp a1, 12(sp)
    c.lwsp a4, 12(sp)
    c.addi16sp sp, 64
    c.lui a4, 0x1f
    c.slli a4, 36
    c.srli a4, 33
    c.srai a4, 2
    c.subw a4, a1
    c.addw a4, a2
    c.li a0, 3
    c.bnez a0, 1f
    c.li a5, 3
1:  call doubles

    # Traps (privileged ISA 3.1.14, 3.1.15).
    li t5, 1
    ecall
    mv t0, t3

    # What a device says is not known.
    li s2, 0x10000000
    lbu a0, 5(s2)
    andi t0, a0, 0
    mul t0, a0, zero
    xor t0, a0, a0
    addi t1, a0, 1
    sd t1, 24(gp)
    ld t1, 24(gp)
    lbu a1, 5(s2)
    bne a1, a0, 2f
    mv t1, a1
2:  la t1, done
    jr t1

doubles:
    add a6, a6, a6
    ret

    .p2align 2
trapped:
    csrr t3, mcause
    csrr t3, mepc
    addi t3, t3, 4
    csrw mepc, t3
    mret

done:
    nop
    j done

    .section .data
    .p2align 3
words:
    .space 8192
