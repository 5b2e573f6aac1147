#!/bin/sh
# Builds the guide camera for QEMU's mps2-an386 into the folder given: clang and lld of Debian are enough.
#   build.sh OUT [CLANG]
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=$1
clang=${2:-clang-14}
mkdir -p "$out"
$clang --target=thumbv7em-none-eabi -mcpu=cortex-m4 -mfloat-abi=soft -std=c11 -O1 -fno-inline -g -gdwarf-5 -ffreestanding \
    -fno-builtin -nostdlib -Wall -Wextra -fuse-ld=lld -I"$here/../../demo/cop" -T "$here/guider.ld" \
    "$here/guider.c" "$here/../../demo/cop/interpolate.c" -o "$out/guider.elf"
