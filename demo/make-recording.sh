#!/bin/sh
# Makes the demonstration data again: builds the firmware (needs gcc-arm-none-eabi and
# gcc-riscv64-unknown-elf) and lets the simulated
# board record. The results are committed, so users need neither.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
board=${BOARD:-$here/../build/release/board/mtrail-board}
cd "$here/firmware"
arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -Og -g3 -gdwarf-5 -ffreestanding -nostdlib -Wall -Wextra \
    -fdebug-prefix-map="$here/firmware"=firmware -T larkspur.ld ./*.c -lgcc -o ../larkspur.elf
cd "$here/cop"
riscv64-unknown-elf-gcc -march=rv32imac_zicsr -mabi=ilp32 -Og -g3 -gdwarf-5 -ffreestanding -nostdlib -Wall -Wextra \
    -fdebug-prefix-map="$here/cop"=cop -T cop.ld start.S ./*.c -lgcc -o ../larkspur-cop.elf
cd "$here"
rm -rf larkspur-night-os larkspur-repaired-os
"$board" --image larkspur.elf --write larkspur-night.swo --write-events larkspur-night-os \
    --write-etm larkspur-night.etm4 --seconds 20 --seed 3
"$board" --image larkspur.elf --write-probe larkspur-night.current --write-logic larkspur-night.vcd --seconds 20 --seed 3
xz -f larkspur-night.current larkspur-night.vcd
"$board" --image larkspur.elf --write-events larkspur-repaired-os --inherit --seconds 20 --seed 3
"$board" --cop larkspur-cop.elf --write-cop larkspur-cop.etrace --seconds 20 --seed 3
ls -l larkspur.elf larkspur-cop.elf larkspur-night.swo larkspur-cop.etrace
