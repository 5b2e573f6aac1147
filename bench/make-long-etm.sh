#!/bin/sh
# Makes an ETMv4 capture of about 10^9 instructions (some 80 MB, five minutes, two cores) in the folder given: the guide
# camera's firmware on a Cortex-M4 as QEMU executes it, with what was executed beside it. Needs clang-14, lld-14,
# llvm-14 and qemu-system-arm. Then: build/release/bench/mtrail-long-bench FOLDER/long.target.toml
#   make-long-etm.sh FOLDER [INSTRUCTIONS]
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
to=${1:?name a folder}
"$here/board/guider/build.sh" "$to"
llvm-strip-14 -o "$to/stripped.elf" "$to/guider.elf"  # or each line of the log names a symbol
mkfifo "$to/log"
qemu-system-arm -M mps2-an386 -display none -monitor none -serial none -icount shift=5 -kernel "$to/stripped.elf" \
    -d exec,nochain,int,in_asm -D "$to/log" > /dev/null 2>&1 &
emulator=$!
trap 'kill $emulator; rm -f "$to/log" "$to/stripped.elf"' EXIT
"${CONVERTER:-$here/build/release/bench/mtrail-emulator-etm}" "$to/guider.elf" "$to/long.etm4" "$to/long.executed" \
    --instructions "${2:-1000000000}" < "$to/log"
cat > "$to/long.target.toml" <<'TOML'
format = "mindful-trail-target/1"
name   = "a thousand million instructions"
[[core]]
name     = "main"
isa      = "armv7e-m"
clock_hz = 31_250_000
image    = "guider.elf"
[[stream]]
file     = "long.etm4"
protocol = "etm4"
core     = "main"
[stream.etm4]
timestamp_hz = 31_250_000
TOML
