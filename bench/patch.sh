#!/usr/bin/env bash
# Times apply --patch against filter, which writes the whole new dump, and prints the ratio of one run.
# Usage: bench/patch.sh [MEGABYTES] [RUNS]
set -euo pipefail
cd "$(dirname "$0")/.."
mb=${1:-1000} runs=${2:-3}
dir=$(mktemp -d -p "${BENCH_DIR:-/tmp}") # best a folder in memory, so that the disk plays no part
trap 'rm -rf "$dir"' EXIT
make -s build
export TRIMLANTERN_HOME="$dir/home"
go run ./bench/makedump -mb "$mb" -one-in 9 >"$dir/dump.sql"
./trimlantern init --site https://ternrock.example --database "dump:$dir/dump.sql" >/dev/null
./trimlantern preview --quiet >/dev/null
best() { # the fastest of some runs, in seconds
	local least=
	for _ in $(seq "$runs"); do
		rm -f "$dir"/out.sql "$dir"/patch.*
		local t0=$EPOCHREALTIME
		"$@" >/dev/null
		local t=$(echo "$EPOCHREALTIME - $t0" | bc)
		[ -n "$least" ] && [ "$(echo "$t >= $least" | bc)" = 1 ] || least=$t
	done
	echo "$least"
}
do_filter() { ./trimlantern filter --quiet --site https://ternrock.example "$dir/dump.sql" "$dir/out.sql" || [ $? = 1 ]; }
do_patch() { ./trimlantern apply --quiet --patch "$dir/patch.sql"; }
filter=$(best do_filter) patch=$(best do_patch)
printf 'filter %.2f s, patch %.2f s\n' "$filter" "$patch"
echo "patch / filter: $(echo "scale=2; $patch / $filter" | bc)   (at most 1.20)"
