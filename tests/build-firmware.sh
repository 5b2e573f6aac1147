#!/bin/sh
# Builds the programs that the tests run in emulators into the folder given: all instructions, and prints through semihosting.
#   build-firmware.sh OUT [CLANG]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=$1
clang=${2:-clang-14}
mkdir -p "$out"
# arm|a32|a64|riscv|riscv64|floats32|floats64 SOURCE NAME
build() {
    case $1 in
    arm) set -- "$2" "$3" --target=thumbv7em-none-eabi -mcpu=cortex-m4 -Wl,-Ttext=0,-Tdata=0x20000000,-e,start ;;
    a32) set -- "$2" "$3" --target=armv7a-none-eabi -mcpu=cortex-a15 -Wl,--image-base=0x42000000,-Ttext=0x40010000,-Tdata=0x40100000,-e,start ;;
    a64) set -- "$2" "$3" --target=aarch64-none-elf -march=armv8.1-a+crc -Wl,-Ttext=0x40080000,-Tdata=0x40100000,-e,start ;;
    riscv) set -- "$2" "$3" --target=riscv32-unknown-elf -march=rv32imac -mabi=ilp32 -mno-relax \
        -Wl,-Ttext=0x80000000,-Tdata=0x80100000,-e,start ;;
    riscv64) set -- "$2" "$3" --target=riscv64-unknown-elf -march=rv64imac -mabi=lp64 -mno-relax \
        -Wl,-Ttext=0x80000000,-Tdata=0x80100000,-e,start ;;
    floats32) set -- "$2" "$3" --target=riscv32-unknown-elf -march=rv32imafdc -mabi=ilp32 -mno-relax \
        -Wl,-Ttext=0x80000000,-Tdata=0x80100000,-e,start ;;
    floats64) set -- "$2" "$3" --target=riscv64-unknown-elf -march=rv64imafdc -mabi=lp64 -mno-relax \
        -Wl,-Ttext=0x80000000,-Tdata=0x80100000,-e,start ;;
    esac
    source=$1 name=$2
    shift 2
    "$clang" "$@" -nostdlib -fuse-ld=lld "$here/core/$source" -o "$out/$name.elf"
}
build arm replay/firmware/instructions_arm.S instructions-arm
build a32 replay/firmware/instructions_a32.S instructions-a32
build a64 replay/firmware/instructions_a64.S instructions-a64
build riscv replay/firmware/instructions_riscv.S instructions-riscv
build riscv64 replay/firmware/instructions_riscv64.S instructions-riscv64
build arm replay/firmware/floats_arm.S floats-arm
build floats32 replay/firmware/floats_riscv.S floats-riscv
build floats64 replay/firmware/floats_riscv.S floats-riscv64
build arm capture/firmware/printing_arm.S printing-arm
build riscv capture/firmware/printing_riscv.S printing-riscv
