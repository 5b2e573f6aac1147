#!/bin/sh
# fields.elf and fields-dwarf3.elf out of fields.c (clang 14, lld 14).
set -e
cd "$(dirname "$0")"
for version in 5 3; do
    out=fields.elf tuned=-glldb
    [ "$version" = 5 ] || out=fields-dwarf3.elf tuned=-ggdb
    clang-14 --target=armv7em-none-eabi -mcpu=cortex-m4 -gdwarf-$version $tuned -ffile-prefix-map="$PWD"=. -O1 -ffreestanding -nostdlib -fuse-ld=lld-14 \
        -Wl,-n,-Ttext=0x08000000,-Tdata=0x20000000 fields.c -o "$out"
done
