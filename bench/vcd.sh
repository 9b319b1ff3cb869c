#!/usr/bin/env bash
# Compares reading and decoding a value change dump with counting its words:
# `LC_ALL=C.UTF-8 wc -w` on the same file in the same run. Prints seconds of
# processor time and their ratio, and the peak memory of the decoder.
#
#   bench/vcd.sh [MEGABYTES]     (200)
#
# Needs GNU time (apt-get install time) for the memory.
set -euo pipefail
cd "$(dirname "$0")/.."
size=${1:-200}
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
go build -o "$dir/gavrix" ./cmd/gavrix
go build -o "$dir/make" ./bench/makevcd

seconds() { # COMMAND...: user and system time
  local TIMEFORMAT='%U %S'
  { time "$@" >/dev/null 2>"$dir/err"; } 2>&1 | awk '{print $1 + $2}'
}

for signals in 1 200; do
  "$dir/make" -signals "$signals" -megabytes "$size" >"$dir/levels.vcd"
  cat "$dir/levels.vcd" >/dev/null
  words=$(seconds env LC_ALL=C.UTF-8 wc -w "$dir/levels.vcd")
  ours=$(seconds "$dir/gavrix" decode "$dir/levels.vcd" --link 'gauge uart device=rx rate=1M' --csv)
  echo "$signals signals, $size MB: wc -w $words s, decode $ours s, ratio $(awk "BEGIN { printf \"%.2f\", $ours / $words }")"
  if [ -x /usr/bin/time ]; then
    /usr/bin/time -v "$dir/gavrix" decode "$dir/levels.vcd" --link 'gauge uart device=rx rate=1M' --csv 2>&1 >/dev/null | grep 'Maximum resident'
  fi
done
