#!/usr/bin/env bash
# Tries the README's two commands as on a fresh machine: a minimal Debian with Go, make, git
# and ca-certificates, without caches. Needs root and debootstrap; MIRROR and SUITE choose
# what is installed, GOROOT which Go.
set -euo pipefail
cd "$(dirname "$0")/.."
mirror=${MIRROR:-http://deb.debian.org/debian}
suite=${SUITE:-trixie}
go=$(go env GOROOT)
proxy=$(go env GOPROXY)
root=$(mktemp -d "${TMPDIR:-/var/tmp}/gavrix-fresh.XXXXXX")
ended() {
	umount -q "$root/proc" "$root/dev/pts" "$root/dev" 2>/dev/null || true
	rm -rf --one-file-system "$root"
}
trap ended EXIT
[ "$(id -u)" = 0 ] || { echo "fresh: run it as root" >&2; exit 1; }
command -v debootstrap >/dev/null || { echo "fresh: debootstrap is missing: apt-get install debootstrap" >&2; exit 1; }

echo "== a minimal $suite"
debootstrap --variant=minbase --include=make,git,ca-certificates "$suite" "$root" "$mirror" >"$root.log" 2>&1 || { tail -20 "$root.log" >&2; exit 1; }
rm -f "$root.log"
mount -t proc proc "$root/proc"
mount --bind /dev "$root/dev"
mount --bind /dev/pts "$root/dev/pts"
cp -L /etc/resolv.conf /etc/hosts "$root/etc/" 2>/dev/null || true
for f in /etc/apt/apt.conf.d/*proxy* /etc/apt/sources.list; do [ -e "$f" ] && cp "$f" "$root$f"; done
cp -a /usr/local/share/ca-certificates/. "$root/usr/local/share/ca-certificates/" 2>/dev/null || true
chroot "$root" update-ca-certificates >/dev/null 2>&1 || true
mkdir -p "$root/usr/local" && cp -a "$go" "$root/usr/local/go"
git clone -q --no-hardlinks . "$root/root/gavrix"

inside() {
	env -i HOME=/root PATH=/usr/local/go/bin:/usr/bin:/bin:/usr/sbin:/sbin TERM=xterm-256color LANG=C.UTF-8 \
		GOPROXY="$proxy" ${https_proxy:+https_proxy=$https_proxy} ${http_proxy:+http_proxy=$http_proxy} \
		${GOFLAGS:+GOFLAGS=$GOFLAGS} ${GONOSUMDB:+GONOSUMDB=$GONOSUMDB} ${GONOSUMCHECK:+GONOSUMCHECK=$GONOSUMCHECK} ${GOSUMDB:+GOSUMDB=$GOSUMDB} \
		chroot "$root" sh -c "cd /root/gavrix && $1"
}
echo "== go run ./cmd/gavrix demo"
# Its screen is not looked at here: it starts, draws, and leaves at a key.
inside '(sleep 60; printf q) | timeout 300 script -qec "go run ./cmd/gavrix demo" /dev/null | head -c 200000 | grep -a -q "Lock 7" && echo "the demo came up"'
echo "== make test"
inside 'make test'
echo "== both commands work on a fresh machine"
