#!/usr/bin/env bash
# Remakes docs/screenshots from the demo: runs the program in an xterm on a
# private X server and photographs it.
# Needs Debian's xvfb xterm xdotool imagemagick fonts-dejavu-core.
set -euo pipefail
cd "$(dirname "$0")/.."
for t in Xvfb xterm xdotool import; do
  command -v "$t" >/dev/null || { echo "screenshots: $t is missing; apt-get install xvfb xterm xdotool imagemagick fonts-dejavu-core" >&2; exit 1; }
done
go build -o bin/gavrix ./cmd/gavrix
out=docs/screenshots
mkdir -p "$out"
tmp=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; rm -rf "$tmp"' EXIT

# photo NAME WIDTHxHEIGHT "KEYS" ARGUMENT...: keys are xdotool names, text:WORD
# types, wait:S pauses. With ONLY=NAME in the environment the others are left as they are.
photo() {
  local name=$1 size=$2 keys=$3 k
  shift 3
  [ -z "${ONLY:-}" ] || [ "$ONLY" = "$name" ] || return 0
  local fd="$tmp/display.$name"
  : >"$fd"
  exec 7>"$fd"
  Xvfb -displayfd 7 -screen 0 "${size}x24" -nolisten tcp >/dev/null 2>&1 &
  local server=$!
  exec 7>&-
  until [ -s "$fd" ]; do sleep 0.05; done
  export DISPLAY=:$(tr -d '\n' <"$fd")
  # A server that has only just begun may turn the terminal away.
  local term win= try
  for try in 1 2 3 4 5; do
    COLORTERM=truecolor xterm -fa 'DejaVu Sans Mono' -fs 10 -bg '#101418' -fg '#d6dde3' -b 0 +sb -tn xterm-256color -geometry 400x120+0+0 -e ./bin/gavrix "$@" >/dev/null 2>&1 &
    term=$!
    until win=$(xdotool search --onlyvisible --class xterm 2>/dev/null | head -1) && [ -n "$win" ]; do
      kill -0 "$term" 2>/dev/null || break
      sleep 0.05
    done
    [ -z "$win" ] || break
    sleep 0.3
  done
  [ -n "$win" ] || { echo "screenshots: no terminal for $name" >&2; exit 1; }
  xdotool windowmove "$win" 0 0 windowsize "$win" "${size%x*}" "${size#*x}" windowfocus "$win"
  sleep 2
  for k in $keys; do
    case $k in
      wait:*) sleep "${k#wait:}" ;;
      text:*) xdotool type --delay 20 -- "${k#text:}" ;;
      *) xdotool key --delay 20 -- "$k"; sleep 0.1 ;;
    esac
  done
  sleep 0.5
  import -silent -window root "$out/$name.png"
  kill "$term" "$server" 2>/dev/null || true
  wait "$term" "$server" 2>/dev/null || true
  echo "$out/$name.png"
}

fault=(demo --set links.lower-gauge.mcu.frame=8N1)
photo traffic 1280x800 "J i text:TEMP Return wait:4 Escape c wait:1.5" demo
photo timing 1280x800 "J 2" "${fault[@]}"
photo unfolded 1280x800 "J i text:TEMP Return wait:1 Escape Up Up Return Right" "${fault[@]}"
photo waves 1280x800 "J wait:3 6 E plus plus plus plus plus plus plus m n n" demo --set links.lower-gauge.mcu.frame=7O1
photo proposals 1280x800 "P wait:2 P" open demo
photo plan 1280x800 "P wait:2 Y wait:2 K K K r plus plus plus plus plus plus plus plus plus plus plus colon wait:0.3 text:plan space text:out space text:83 space text:00 space text:00 space text:00 space text:in space text:40 space text:48 space text:.. space text:.. Return wait:0.5 d m n n n n n n n wait:1" open demo
photo startup 1280x800 "2 s Down x wait:1" demo
photo registers 1280x800 "2 r Down Down Down Down colon text:value space text:0x0119 Return wait:1" demo
photo parts 1280x800 "colon text:link space text:gate Return 3 wait:0.5 R wait:1 p wait:0.6 m colon text:go-to space text:MODE.AVERAGE Return e text:none Return wait:0.3" demo
photo meaning 1280x800 "colon text:link space text:gate Return 5 wait:2 Up Up Up Up Up Return wait:0.5" demo --set links.gate.devices.leaf-angle.mcu.mode=0
photo can 1280x800 "2 colon text:link space text:pump Return Left Left wait:1" demo
photo spi 1280x800 "2 colon text:link space text:gate Return n minus wait:1" demo
photo comb 1280x800 "colon text:link space text:pump Return 5 o wait:4 c wait:2 colon text:power-off space text:pump-drive Return wait:1" demo
photo plots 1280x800 "colon text:link space text:pump Return 7 wait:4 colon text:plot space text:pump-command.wanted+pump-status.aim Return wait:1 greater wait:0.5 greater wait:0.5 greater wait:0.8 e text:101 space text:bar Return wait:1 less wait:0.5 less wait:1 wait:6" demo
photo filter 1280x800 "colon text:link space text:pump Return 5 a wait:3 colon text:filter space text:pump-status.pressure space text:changes, space text:then space text:leaf-angle.angle space text:rises space text:within space text:40 space text:ms Return v wait:5 N wait:1" demo
photo transfers 1280x800 "4 wait:2 space wait:0.6" demo
photo small 660x420 "J 2" "${fault[@]}"
photo help 1280x800 "2 question" demo
./bin/gavrix draw frame "${fault[@]:0:1}" --set links.lower-gauge.mcu.frame=8N1 --link lower-gauge --value 34 --out docs/screenshots/frame.svg
