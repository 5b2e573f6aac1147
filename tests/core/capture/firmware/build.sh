#!/bin/sh
# Builds the programs that print into the folder given.
#   build.sh OUT [CLANG]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=$1
clang=${2:-clang-14}
mkdir -p "$out"
$clang --target=thumbv7em-none-eabi -mcpu=cortex-m4 -nostdlib -fuse-ld=lld -Wl,-Ttext=0,-Tdata=0x20000000,-e,start \
    "$here/printing_arm.S" -o "$out/printing-arm.elf"
$clang --target=riscv32-unknown-elf -march=rv32imac -mabi=ilp32 -mno-relax -nostdlib -fuse-ld=lld \
    -Wl,-Ttext=0x80000000,-Tdata=0x80100000,-e,start "$here/printing_riscv.S" -o "$out/printing-riscv.elf"
