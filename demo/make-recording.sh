#!/bin/sh
# Makes the demonstration data again: builds the firmware (needs gcc-arm-none-eabi) and lets the
# simulated board record. The results are committed, so users need neither.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
board=${BOARD:-$here/../build/release/board/mtrail-board}
cd "$here/firmware"
arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -Og -g3 -gdwarf-5 -ffreestanding -nostdlib -Wall -Wextra \
    -fdebug-prefix-map="$here/firmware"=firmware -T larkspur.ld ./*.c -lgcc -o ../larkspur.elf
cd "$here"
"$board" --image larkspur.elf --write larkspur-night.swo --seconds 20 --seed 3
ls -l larkspur.elf larkspur-night.swo
