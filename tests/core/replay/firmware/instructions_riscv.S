# One of each kind of instruction, for a hart with RV32 IMAC and for the machine of the past: both execute it, step by
# step, and what the machine says it knows must be what the hart holds. Chapters are of the unprivileged ISA.
    .option norelax
    .text
    .globl start, trapped, done
start:
    # Every register is given something, so that from here on nothing need be unknown.
    lui sp, 0x80110
    lui gp, 0x80100
    lui tp, 0xffff0
    li t0, 5
    li t1, -5
    li t2, 0x7fffffff
    lui s0, 0x80000
    li s1, 0x12345678
    li a0, 0x89abcdef
    li a1, 33
    li a2, 1
    li a3, 0xff
    li a4, -1
    li a5, 0
    li a6, 0x66
    li a7, 7
    li s2, 12
    li s3, 13
    li s4, 14
    li s5, 15
    li s6, 16
    li s7, 17
    li s8, 18
    li s9, 19
    li s10, 20
    li s11, 21
    li t3, 0x3333
    li t4, 0x4444
    li t5, 0x5555
    li t6, 0x6666
    la ra, trapped
    csrw mtvec, ra

    # Chapter 2.4: with a number.
    addi t0, a0, 2047
    addi t0, a0, -2048
    slti t0, a0, 0
    slti t0, t2, -1
    sltiu t0, a0, -1
    sltiu t0, a5, 1
    xori t0, a0, -1
    xori t0, a0, 0x555
    ori t0, a0, 0x70f
    andi t0, a0, -16
    andi t0, a0, 0x70f
    slli t0, a0, 1
    slli t0, a0, 31
    srli t0, a0, 1
    srli t0, a0, 31
    srai t0, a0, 1
    srai t0, a0, 31
    srai t0, t2, 4
    lui t0, 0xfffff
    auipc t0, 0
    auipc t0, 0xfffff

    # Chapter 2.4: of two registers; of shifts, five bits of the number count.
    add t0, a0, s1
    add t0, t2, a2
    sub t0, a0, s1
    sub t0, s0, a2
    sll t0, a0, a1
    srl t0, a0, a1
    sra t0, a0, a1
    slt t0, a0, s1
    slt t0, s1, a0
    sltu t0, a0, s1
    sltu t0, s1, a0
    xor t0, a0, s1
    or t0, a0, s1
    and t0, a0, s1
    xor t0, a0, a0
    sub t0, a0, a0
    add zero, a0, s1

    # Chapter 7: products; quotients with what is told of division by nothing and of what does not fit.
    mul t0, a0, s1
    mulh t0, a0, s1
    mulh t0, a0, t1
    mulhsu t0, a0, s1
    mulhsu t0, s1, a0
    mulhsu t0, a0, a0
    mulhu t0, a0, s1
    mulhu t0, a4, a4
    div t0, a0, s1
    div t0, s1, a0
    div t0, a0, a5
    div t0, s0, a4
    divu t0, a0, a1
    divu t0, a0, a5
    rem t0, a0, s1
    rem t0, a0, a1
    rem t0, a0, a5
    rem t0, s0, a4
    remu t0, a0, a1
    remu t0, a0, a5

    # Chapter 2.6: memory.
    sw a0, 0(gp)
    sh a0, 6(gp)
    sb a0, 11(gp)
    sw s1, -4(gp)
    lw t0, 0(gp)
    lw t0, -4(gp)
    lh t0, 0(gp)
    lh t0, 2(gp)
    lhu t0, 2(gp)
    lb t0, 3(gp)
    lbu t0, 3(gp)
    lb t0, 1(gp)
    lhu t0, 6(gp)
    lbu t0, 11(gp)
    lw t0, 4(gp)
    lw t0, 8(gp)
    sb a2, 1(gp)
    lw t0, 0(gp)
    sw zero, 0(gp)
    lw zero, 0(gp)
    lw t0, 0(gp)
    la t0, words
    lw t1, 0(t0)
    lh t1, 4(t0)

    # Chapter 8: atomic ones.
    sw a0, 16(gp)
    addi s2, gp, 16
    amoadd.w t0, s1, (s2)
    lw t0, 16(gp)
    amoswap.w t0, a0, (s2)
    lw t0, 16(gp)
    amoxor.w t0, s1, (s2)
    lw t0, 16(gp)
    amoor.w t0, a3, (s2)
    lw t0, 16(gp)
    amoand.w t0, a0, (s2)
    lw t0, 16(gp)
    amomin.w t0, s1, (s2)
    lw t0, 16(gp)
    amomax.w t0, s1, (s2)
    lw t0, 16(gp)
    amominu.w t0, a6, (s2)
    lw t0, 16(gp)
    amomaxu.w t0, a0, (s2)
    lw t0, 16(gp)
    amoadd.w.aqrl zero, a2, (s2)
    lw t0, 16(gp)
    lr.w t0, (s2)
    sc.w t1, a2, (s2)
    lw t0, 16(gp)
    sw a0, 16(gp)
    lw t0, 16(gp)
    fence
    fence.i

    # Chapter 9: CSRs that a program keeps values in, and others.
    csrw mscratch, a0
    csrr t0, mscratch
    csrrs t0, mscratch, s1
    csrr t0, mscratch
    csrrc t0, mscratch, a3
    csrr t0, mscratch
    csrrwi t0, mscratch, 21
    csrrsi t0, mscratch, 10
    csrrci t0, mscratch, 3
    csrr t0, mscratch
    csrw mepc, a6
    csrr t0, mepc
    csrr t0, mstatus
    csrr t0, mtvec
    csrr t0, misa
    csrrw a0, mscratch, a0
    csrrw a0, mscratch, a0

    # Chapter 2.5: jumps and branches, each taken and not taken.
    j 1f
    li t0, 99
1:  jal ra, doubles
    la t1, doubles
    jalr ra, 0(t1)
    auipc t1, 0
    jalr t0, 12(t1)
    addi t0, s1, 99
    beq a2, a5, 2f
    beq a5, zero, 3f
2:  li t0, 98
3:  bne a5, zero, 4f
    bne a2, a5, 5f
4:  li t0, 97
5:  blt s1, a0, 6f
    blt a0, s1, 7f
6:  li t0, 96
7:  bge a0, s1, 8f
    bge s1, a0, 9f
8:  li t0, 95
9:  bltu a0, s1, 10f
    bltu s1, a0, 11f
10: li t0, 94
11: bgeu s1, a0, 12f
    bgeu a0, s1, 13f
12: li t0, 93
13: li t1, 3
14: addi t1, t1, -1
    bnez t1, 14b

    # Chapter 16: short ones.
    mv s0, gp
    c.addi4spn a0, sp, 16
    c.li a1, -7
    c.sw a1, 4(s0)
    c.lw a2, 4(s0)
    c.nop
    c.addi a1, 5
    c.addi16sp sp, -64
    c.swsp a1, 12(sp)
    c.lwsp a3, 12(sp)
    c.addi16sp sp, 64
    c.lui a4, 0x1f
    c.srli a4, 3
    c.srai a4, 2
    c.andi a4, -4
    c.sub a4, a1
    c.xor a4, a2
    c.or a4, a1
    c.and a4, a2
    c.slli a4, 4
    c.mv a5, a4
    c.add a5, a1
    c.j 15f
    c.li a5, 1
15: c.li a0, 0
    c.beqz a0, 16f
    c.li a5, 2
16: c.li a0, 3
    c.bnez a0, 17f
    c.li a5, 3
17: la t1, doubles
    c.jalr t1
    call doubles
    la t1, 18f
    c.jr t1
    c.li a5, 4

    # Traps: what the registers for them hold (privileged ISA 3.1.14 to 3.1.16).
18: li t5, 1
    ecall
    mv t0, t3
    li t5, 2
    csrw 0x7c0, a0
    mv t0, t3
    li t5, 3
    li t1, 0x13
    lw t0, 0(zero)
    mv t0, t3

    # What a device says is not known. What is the same whatever it says, or within bounds, may be.
    lui s2, 0x10000
    lbu a0, 5(s2)
    lb a1, 5(s2)
    andi t0, a1, 0
    and t0, a1, zero
    mul t0, a1, zero
    ori t0, a1, -1
    xor t0, a1, a1
    sub t0, a1, a1
    slti t0, a1, 3
    sltu t0, a1, s1
    andi t0, a1, 0x3c
    addi t1, t0, 4
    slli t1, t0, 3
    srli t1, a1, 28
    srl t1, a1, a7
    remu t1, a1, a7
    addi t1, a0, -1
    divu t1, a1, a7
    lui s3, 0x80101
    sw s1, 0x80(s3)
    add t0, s3, t0
    sw a7, 0(t0)
    lw t1, 0x80(s3)
    lw t1, 0(t0)
    sw a1, 0x84(s3)
    lw t1, 0x84(s3)
    lw t1, 0x80(s3)
    beq a1, a0, 19f
19: li t0, 1
    lui s3, 0x10000
    lbu a1, 5(s3)
    lbu a0, 5(s3)
    bne a1, a0, 20f
    mv t1, a1
20: la t1, done
    jr t1

doubles:
    add a6, a6, a6
    ret

    .p2align 2
trapped:
    csrr t3, mcause
    csrr t3, mtval
    csrr t3, mepc
    lw t4, 0(t3)
    andi t4, t4, 3
    addi t4, t4, -3
    seqz t4, t4
    slli t4, t4, 1
    addi t3, t3, 2
    add t3, t3, t4
    csrw mepc, t3
    mret

done:
    nop
    j done
    .p2align 2
words:
    .word 0x8badf00d, 0x0000f00d

    .section .data
    .p2align 2
    .space 8192
