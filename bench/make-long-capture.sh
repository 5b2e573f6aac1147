#!/bin/sh
# Makes a capture of about 10^9 instructions (some 80 MB, two minutes) in the folder given: the co-processor's E-Trace,
# executed by the board. Then: build/release/bench/mtrail-long-bench FOLDER/long.target.toml
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
to=${1:?name a folder}
mkdir -p "$to"
cp "$here/demo/larkspur-cop.elf" "$to"
"${BOARD:-$here/build/release/board/mtrail-board}" --cop "$to/larkspur-cop.elf" --write-cop "$to/long.etrace" --seconds "${2:-417}" --seed 3
cat > "$to/long.target.toml" <<'TOML'
format = "mindful-trail-target/1"
name   = "a thousand million instructions"
[[core]]
name     = "cop"
isa      = "rv32imac"
clock_hz = 10_000_000
image    = "larkspur-cop.elf"
[[stream]]
file     = "long.etrace"
protocol = "etrace"
core     = "cop"
[stream.etrace]
return_stack_size = 4
time_width        = 40
timestamp_hz      = 10_000_000
TOML
