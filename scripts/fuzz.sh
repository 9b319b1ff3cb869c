#!/usr/bin/env bash
# Runs every fuzz target for FUZZTIME, two at a time; fails with the output of those that do. What a
# run for a time finds of interest is kept where `go test -fuzz` keeps it; one for a number of inputs
# begins with the seeds.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$(mktemp -d)
trap 'rm -rf "$out"' EXIT
mkdir -p bin/fuzz
GO=${GO:-go}
kept=$($GO env GOCACHE)/fuzz
export out GO kept
one() {
  dir=$1
  name=${dir//\//-}
  binary=$PWD/bin/fuzz/$name.test
  if ! $GO test -c -fuzz=. -o "$binary" "./$dir" >"$out/$name" 2>&1; then cat "$out/$name"; exit 1; fi
  [[ $FUZZTIME == *x ]] && corpus=$out/$name.corpus || corpus=$kept/gavrix.org/gavrix/$dir
  cd "$dir"
  for target in $(git grep -ho '^func Fuzz[A-Za-z0-9]*' -- './*_test.go' ':!./*/*' | cut -c6-); do
    log=$out/$name-$target
    if "$binary" -test.run '^$' -test.fuzz "^$target\$" -test.fuzztime "$FUZZTIME" -test.fuzzcachedir "$corpus" -test.parallel 1 >"$log" 2>&1; then
      echo "ok  ./$dir $target"
    else
      cat "$log"; echo "FAIL  ./$dir $target"; exit 1
    fi
  done
}
export -f one
git grep -l '^func Fuzz' -- '*_test.go' | xargs -n 1 dirname | sort -u | xargs -P 2 -n 1 bash -c 'one "$0"'
