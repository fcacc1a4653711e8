#!/usr/bin/env bash
# Builds the pump head and the receivers with mistakes for this machine, from the C that is emitted; holds the dialogue
# of the sheet with the pump head; and tries all receivers under damage. Needs Lark Reader and a C compiler.
set -euo pipefail
cd "$(dirname "$0")"
if ! command -v "${CC:-cc}" > /dev/null; then
  echo "a C compiler is missing; CC=... names another" >&2
  exit 2
fi
built=$(mktemp -d)
trap 'rm -rf "$built"' EXIT
larkreader emit bench.toml -o "$built" --quiet
for program in pump_head bad_receivers; do
  "${CC:-cc}" -std=c99 -D_POSIX_C_SOURCE=200809L -O2 -Wall -Wextra -Wconversion -I"$built" "$built/bench.c" "$program.c" \
    -o "$built/$program"
done
cp bench.toml "$built"
cd "$built"
larkreader --version > /dev/null
larkreader dialogue bench.toml
larkreader loopback bench.toml pump_head --torture --trials 5
for mistake in no-look-back trusts-length no-time-out; do
  printf '\n%s:\n' "$mistake"
  status=0
  larkreader loopback bench.toml "exec:./bad_receivers $mistake" --torture --trials 3 --limit 0.05 || status=$?
  [ "$status" = 1 ] || { echo "$mistake was not caught: status $status"; exit 1; }
done
printf '\nThe pump head passes, and all three mistakes are caught.\n'
