#!/usr/bin/env bash
# Runs every fuzz target for a while. Usage: test/fuzz.sh 10m
set -euo pipefail
cd "$(dirname "$0")/.."
for where in $(grep -rlE '^func Fuzz' --include='*_test.go' . | sort); do
	for target in $(sed -nE 's/^func (Fuzz[A-Za-z]+).*/\1/p' "$where"); do
		echo "== $target in $(dirname "$where") for ${1:-1m}"
		# A minute for making each new input shorter would leave little time for others.
		go test -run '^$' -fuzzminimizetime 1s -fuzz "^$target\$" -fuzztime "${1:-1m}" "$(dirname "$where")"
	done
done
