#!/usr/bin/env bash
# Installs what the tests need and is not there yet, and says so.
set -euo pipefail
want=()
command -v gcc >/dev/null || want+=(gcc)
[ -e /usr/include/stdio.h ] || want+=(libc6-dev)
command -v tmux >/dev/null || want+=(tmux)
command -v pdftotext >/dev/null || want+=(poppler-utils)
[ ${#want[@]} -eq 0 ] && exit 0
echo "installing for the tests: ${want[*]}"
sudo=
[ "$(id -u)" = 0 ] || sudo=sudo
command -v apt-get >/dev/null || { echo "there is no apt-get here: install ${want[*]} by hand" >&2; exit 1; }
$sudo apt-get update -q
DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -q --no-install-recommends "${want[@]}"
