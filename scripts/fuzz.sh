#!/usr/bin/env bash
# Runs every fuzz target for FUZZTIME, two at a time; fails with the output of those that do.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$(mktemp -d)
trap 'rm -rf "$out"' EXIT
export out
one() {
  dir=$(dirname "$1") name=$2
  log=$out/${dir//\//-}-$name
  if ${GO:-go} test -run '^$' -fuzz "^$name\$" -fuzztime "$FUZZTIME" -parallel 1 "./$dir" >"$log" 2>&1; then
    echo "ok  ./$dir $name"
  else
    cat "$log"; echo "FAIL  ./$dir $name"; exit 1
  fi
}
export -f one
git grep -o '^func Fuzz[A-Za-z0-9]*' -- '*_test.go' | sed 's/:func / /' | xargs -P 2 -n 2 bash -c 'one "$0" "$1"'
