#!/bin/sh
# Builds the example for both of QEMU's machines into the folder given: clang and lld of Debian are enough.
#   build.sh OUT [CLANG]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=$1
clang=${2:-clang-14}
common="-std=c99 -O2 -g -ffreestanding -fno-builtin -nostdlib -Wall -Wextra -fuse-ld=lld -DMT_RING_BYTES=16384 -I$here/.. -I$here"
mkdir -p "$out"
$clang --target=thumbv7em-none-eabi -mcpu=cortex-m4 -mfloat-abi=soft $common -T "$here/arm.ld" \
    "$here/main.c" "$here/board_arm.c" "$here/../mt_recorder.c" -o "$out/recorder-arm.elf"
$clang --target=riscv32-unknown-elf -march=rv32imac -mabi=ilp32 -mno-relax $common -T "$here/riscv.ld" \
    "$here/main.c" "$here/board_riscv.c" "$here/../mt_recorder.c" -o "$out/recorder-riscv.elf"
