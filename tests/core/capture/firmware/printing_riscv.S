# The same on RISC-V ("RISC-V Semihosting" 0.4, chapter 2: the three instructions of a call must not be compressed and
# stand in one page).
    .option norelax
    .text
    .globl start, printed
start:
    la a1, whole
    li a0, 4                # SYS_WRITE0
    call ask
    la a1, mark
    li a0, 3                # SYS_WRITEC
    call ask
printed:
    li t0, 200000
1:  addi t0, t0, -1
    bnez t0, 1b
    j start

    .balign 16
    .option push
    .option norvc
ask:
    slli zero, zero, 0x1f
    ebreak
    srai zero, zero, 7
    .option pop
    ret

    .data
whole:
    .asciz "grating read\n"
mark:
    .ascii "\n"
