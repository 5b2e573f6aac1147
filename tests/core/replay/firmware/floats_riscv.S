# Floating point of RV32 and RV64 with F and D (unprivileged ISA, chapters 20 and 21), for a hart and for the machine of the
# past: what the machine says it knows must be what the hart holds. Values that round, do not round, overflow, are no numbers.
    .option norelax
    .text
    .globl start, trapped, done
start:
    la t0, trapped
    csrw mtvec, t0
    li t0, 0x6000                   # 3.1.6.6: FS, or nothing of it can be executed
    csrs mstatus, t0
    la sp, stack

    # Nobody knows how it rounds yet: what is exact is known all the same, but for the sign of a zero.
    la s0, singles
    flw f0, 0(s0)
    flw f1, 4(s0)
    fadd.s f2, f0, f1
    fadd.s f3, f0, f0
    fsub.s f4, f0, f0
    fdiv.s f5, f0, f1
    fcvt.w.s a0, f0
    fcvt.w.s a1, f0, rtz
    fcvt.d.s f6, f0
    csrr a2, frm

    # 20.2: every mode, set in each way there is.
    li s1, 0
modes:
    fsrm s1
    csrr a0, frm
    flw f1, 4(s0)
    flw f0, 12(s0)
    fadd.s f2, f0, f1
    fsub.s f3, f1, f0
    fmul.s f4, f0, f1
    fdiv.s f5, f0, f1
    fsqrt.s f6, f0
    fmadd.s f7, f0, f1, f2
    fcvt.w.s a1, f0
    fcvt.wu.s a2, f0
    fcvt.d.s f8, f0
    fcvt.s.d f9, f8
    fsub.s f10, f0, f0
    li a3, 0x7ffffff1
    fcvt.s.w f11, a3
    fcvt.s.wu f12, a3
    fcvt.d.w f13, a3
    addi s1, s1, 1
    li a4, 5
    bne s1, a4, modes
    csrwi fcsr, 0
    csrsi frm, 3
    fadd.s f2, f0, f1
    csrci frm, 1
    fadd.s f3, f0, f1
    csrwi frm, 0

    # Each value with each. \f: the precision; \load, \size: of one of them; \other: the other precision.
    .macro each_with_each f, load, size, values, other
    la s0, \values
    la s2, \values\()_end
    mv s3, s0
1:  \load f0, 0(s3)
    fclass.\f a0, f0
    fsqrt.\f f2, f0
    fcvt.w.\f a1, f0, rne
    fcvt.w.\f a2, f0, rup
    fcvt.w.\f a3, f0, rmm
    fcvt.wu.\f a4, f0, rtz
    fcvt.wu.\f a5, f0, rdn
    fcvt.\other\().\f f4, f0
    fcvt.\f\().w f5, a1
    fcvt.\f\().wu f6, a1
    fsgnj.s f7, f0, f0              # of a double no single is boxed in it: no number
#if __riscv_xlen == 64
    fcvt.l.\f a6, f0, rdn
    fcvt.lu.\f a7, f0, rtz
    fcvt.\f\().l f8, a6
    fcvt.\f\().lu f9, a7
#endif
    mv s4, s0
2:  \load f1, 0(s4)
    fadd.\f f2, f0, f1
    fsub.\f f3, f0, f1
    fmul.\f f4, f0, f1
    fdiv.\f f5, f0, f1
    fmin.\f f6, f0, f1
    fmax.\f f7, f0, f1
    fsgnj.\f f8, f0, f1
    fsgnjx.\f f9, f0, f1
    fsgnjn.\f f10, f0, f1
    feq.\f a0, f0, f1
    flt.\f a1, f0, f1
    fle.\f a2, f0, f1
    fmadd.\f f11, f0, f1, f1
    fmsub.\f f12, f0, f1, f0
    fnmsub.\f f13, f0, f1, f1
    fnmadd.\f f14, f0, f1, f0
    addi s4, s4, \size
    bne s4, s2, 2b
    addi s3, s3, \size
    bne s3, s2, 1b
    .endm
    each_with_each s, flw, 4, singles, d
    each_with_each d, fld, 8, doubles, s

    # Between the two sorts of registers, bit by bit.
    la s0, singles
    flw f0, 4(s0)
    fmv.x.w a5, f0
    fmv.w.x f3, a5
#if __riscv_xlen == 64
    la s0, doubles
    fld f0, 8(s0)
    fmv.x.d a5, f0
    fmv.d.x f3, a5
#endif
    la s2, doubles_end

    # Through memory and back, long and short.
    la s0, scratch
    fld f0, -8(s2)
    fsd f0, 0(s0)
    flw f1, 0(s0)
    flw f2, 4(s0)
    fsw f2, 0(s0)
    fsw f1, 4(s0)
    fld f3, 0(s0)
    mv s1, s0
    fld fs1, 0(s1)
    fsd fs1, 8(s1)
    fsd fs1, 8(sp)
    fld f15, 8(sp)
#if __riscv_xlen == 32
    c.flw fa0, 4(s1)
    c.fsw fa0, 8(s1)
    c.fswsp fa0, 16(sp)
    c.flwsp fa1, 16(sp)
#endif
    c.fld fa2, 8(s1)
    c.fsd fa2, 16(s1)
    c.fsdsp fa2, 24(sp)
    c.fldsp fa3, 24(sp)
done:
    j done

    .balign 4
trapped:
    j trapped

    .data
    .balign 8
singles:
    .word 0x3fc00000                # 1.5
    .word 0x3dcccccd                # 0.1
    .word 0x80000000                # minus zero
    .word 0xc0133333                # -2.3
    .word 0x7f7fffff                # the greatest
    .word 0x00000003                # too small to be normal
    .word 0x7f800000                # infinite
    .word 0x7fa00000                # a signalling one that is no number
    .word 0x4f000000                # 2^31
singles_end:
    .balign 8
doubles:
    .dword 0x3ff8000000000000       # 1.5
    .dword 0xbfb999999999999a       # -0.1
    .dword 0x0000000000000000
    .dword 0x7fefffffffffffff       # the greatest
    .dword 0x000000000000000f       # too small to be normal
    .dword 0xfff0000000000000       # infinite, negative
    .dword 0x7ff8000000000001       # no number
    .dword 0x43dfffffffffffff       # next to 2^63
    .dword 0x36a0000000000000       # half of the least single
doubles_end:
scratch:
    .space 64
stack:
    .space 64
