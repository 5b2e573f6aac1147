// Prints through semihosting (Arm's "Semihosting for AArch32 and AArch64", chapter 5): a line with each of the calls
// that write, again and again.
    .syntax unified
    .cpu cortex-m4
    .thumb
    .text
    .global start, printed
vectors:
    .word 0x20008000
    .word start
    .thumb_func
start:
    movs r0, #0x01          // SYS_OPEN of ":tt" for writing: the console
    ldr r1, =open_console
    bkpt #0xab
    ldr r1, =write_console
    str r0, [r1]
    movs r4, #0
again:
    movs r0, #0x04          // SYS_WRITE0
    ldr r1, =whole
    bkpt #0xab
    movs r0, #0x05          // SYS_WRITE
    ldr r1, =write_console
    bkpt #0xab
    movs r0, #0x03          // SYS_WRITEC
    ldr r1, =mark
    bkpt #0xab
    adds r4, #1
    .thumb_func
printed:
    ldr r2, =200000
wait:
    subs r2, #1
    bne wait
    b again
    .align 2
open_console:
    .word console, 4, 3
console:
    .asciz ":tt"
whole:
    .asciz "axis at rest\n"
piece:
    .ascii "guide star found\n"
mark:
    .ascii "\n"
    .align 2
    .ltorg
    .data
write_console:
    .word 0, piece, 17
