#!/usr/bin/env bash
# How long a scan takes, held against only fetching the same pages with the same
# parallelism: a plain Go loop, in pairs, and wget as an outside figure.
#   bench/scan.sh [PAGES [PAIRS [PARALLEL]]]
set -euo pipefail
cd "$(dirname "$0")/.."
pages=${1:-20000} pairs=${2:-5} parallel=${3:-4}
dir=$(mktemp -d -p "${BENCH_DIR:-/tmp}")
trap 'kill $server 2>/dev/null || true; rm -rf "$dir"' EXIT
CGO_ENABLED=0 go build -o "$dir/trimlantern" ./cmd/trimlantern
CGO_ENABLED=0 go build -o "$dir/manypages" ./bench/manypages
"$dir/manypages" serve "$pages" "$dir/ca.pem" "$dir/addr" &
server=$!
until [ -s "$dir/addr" ]; do sleep 0.1; done
addr=$(cat "$dir/addr")
export TRIMLANTERN_HOME=$dir/home

run() { # the seconds that a command takes
	local t0=$EPOCHREALTIME
	"$@" >/dev/null 2>&1
	echo "$EPOCHREALTIME $t0" | awk '{ printf "%.2f", $1 - $2 }'
}
fetch() { run "$dir/manypages" fetch "$pages" "$dir/ca.pem" "$addr" "$parallel"; }
scanning=("$dir/trimlantern" scan --site https://ternrock.example --ca "$dir/ca.pem" --resolve "ternrock.example:443:$addr"
	--pages 1000000 --depth 100000 --parallel "$parallel" --quiet --fail-on none)
scan() { run "${scanning[@]}"; }

echo "$pages pages, $parallel at once"
printf '%14s %8s %8s\n' "plain Go loop" scan ratio
fetch >/dev/null # the server's first answers are slower
for _ in $(seq "$pairs"); do
	f=$(fetch) s=$(scan)
	awk -v f="$f" -v s="$s" 'BEGIN { printf "%12.2f s %6.2f s %8.2f\n", f, s, s/f }'
done | tee "$dir/pairs"
sort -n -k5 "$dir/pairs" | awk '{ r[NR] = $5 } END { printf "scan/fetch: median %.2f, least %.2f, most %.2f (at most 1.30 wanted)\n", r[int((NR+1)/2)], r[1], r[NR] }'
/usr/bin/env python3 - "${scanning[@]}" <<'P'
import resource, subprocess, sys
subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, check=True)
print("peak memory of scan: %d MB" % (resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024))
P
if command -v wget >/dev/null; then
	seq -f "https://$addr/page/%.0f" 0 $((pages - 1)) >"$dir/list"
	echo "wget, one after the other: $(run wget -q --no-check-certificate --header 'Host: ternrock.example' -i "$dir/list" -O /dev/null) s"
fi
