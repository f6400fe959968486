#!/usr/bin/env bash
# Times filter against perl and sed on the same dump and prints ratios from one
# run. perl and sed replace letters and break serialized lengths; filter does not.
# Usage: bench/filter.sh [MEGABYTES] [RUNS] [few|common|dense]
set -euo pipefail
cd "$(dirname "$0")/.."
mb=${1:-1000} runs=${2:-3} shape=${3:-few}
dir=$(mktemp -d -p "${BENCH_DIR:-/tmp}") # best a folder in memory, so that the disk plays no part
trap 'rm -rf "$dir"' EXIT
make -s build
# few: 25 references in a megabyte; common: 780, most of them permanent identifiers; dense: 800, in small rows
as=(); limit=2.00 sedlimit=""
case "$shape" in
few) as=(-few) limit=1.00 sedlimit=0.50 ;;
common) ;;
dense) as=(-dense) ;;
*) echo "no such shape: $shape" >&2; exit 2 ;;
esac
go run ./bench/makedump -mb "$mb" "${as[@]}" >"$dir/dump.sql"
ls -l "$dir/dump.sql" | awk '{printf "dump: %.0f MB", $5 / 1048576}'
echo ", $(( $(grep -o "http://ternrock" "$dir/dump.sql" | wc -l) / mb )) references a megabyte"
best() { # the fastest of some runs, in seconds
	local least=
	for _ in $(seq "$runs"); do
		local t0=$EPOCHREALTIME
		"$@"
		local t=$(echo "$EPOCHREALTIME - $t0" | bc)
		[ -n "$least" ] && [ "$(echo "$t >= $least" | bc)" = 1 ] || least=$t
	done
	echo "$least"
}
do_cat() { cat "$dir/dump.sql" >/dev/null; }
do_perl() { perl -pe 's#http://ternrock\.example#https://ternrock.example#g' "$dir/dump.sql" >/dev/null; }
do_sed() { LC_ALL=C sed 's#http://ternrock\.example#https://ternrock.example#g' "$dir/dump.sql" >/dev/null; }
do_filter() { ./trimlantern filter --quiet --site https://ternrock.example "$dir/dump.sql" >/dev/null || [ $? = 1 ]; }
do_cat
filter=$(best do_filter) perl=$(best do_perl) sed=$(best do_sed)
memory=$(/usr/bin/env python3 - "$dir/dump.sql" <<'P'
import resource, subprocess, sys
subprocess.run(["./trimlantern", "filter", "--quiet", "--site", "https://ternrock.example", sys.argv[1]], stdout=subprocess.DEVNULL)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024)
P
)
printf 'filter %.2f s, perl %.2f s, sed %.2f s, peak memory of filter %s MB\n' "$filter" "$perl" "$sed" "$memory"
echo "filter / perl: $(echo "scale=2; $filter / $perl" | bc)   (at most $limit)"
if [ -n "$sedlimit" ]; then echo "filter / sed:  $(echo "scale=2; $filter / $sed" | bc)   (at most $sedlimit)"; fi
