#!/usr/bin/env bash
# How long a scan takes, held against only fetching the same pages with the same
# parallelism: a plain Go loop, and wget as an outside figure.
#   bench/scan.sh [PAGES [RUNS [PARALLEL]]]
set -euo pipefail
cd "$(dirname "$0")/.."
pages=${1:-20000} runs=${2:-3} parallel=${3:-4}
dir=$(mktemp -d)
trap 'kill $server 2>/dev/null || true; rm -rf "$dir"' EXIT
go build -o "$dir/trimlantern" ./cmd/trimlantern
go build -o "$dir/manypages" ./bench/manypages
"$dir/manypages" serve "$pages" "$dir/ca.pem" "$dir/addr" &
server=$!
until [ -s "$dir/addr" ]; do sleep 0.1; done
addr=$(cat "$dir/addr")

best() { # name, command: the best time of all runs
	local name=$1 t least=
	shift
	for _ in $(seq "$runs"); do
		t=$( { /usr/bin/env bash -c 'TIMEFORMAT=%R; time "$@" >/dev/null 2>/dev/null' _ "$@"; } 2>&1 || true)
		least=$(printf '%s\n%s\n' "$t" "$least" | grep . | sort -n | head -1)
	done
	printf '%-34s %8.2f s\n' "$name" "$least" >&2
	echo "$least"
}

echo "$pages pages, $parallel at once, best of $runs"
fetch=$(best "plain Go loop" "$dir/manypages" fetch "$pages" "$dir/ca.pem" "$addr" "$parallel")
scan=$(best "trimlantern scan" "$dir/trimlantern" scan --site https://ternrock.example --ca "$dir/ca.pem" \
	--resolve "ternrock.example:443:$addr" --pages 1000000 --depth 100000 --parallel "$parallel" --quiet --fail-on none)
if command -v wget >/dev/null; then
	seq -f "https://$addr/page/%.0f" 0 $((pages - 1)) >"$dir/list"
	wget=$(best "wget, one after the other" wget -q --no-check-certificate --header 'Host: ternrock.example' -i "$dir/list" -O /dev/null)
	awk -v a="$scan" -v b="$wget" 'BEGIN { printf "scan/wget  %.2f\n", a/b }'
fi
awk -v a="$scan" -v b="$fetch" 'BEGIN { printf "scan/fetch %.2f (at most 1.30 wanted)\n", a/b }'
