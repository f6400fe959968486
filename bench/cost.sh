#!/usr/bin/env bash
# What the costliest input of each reader costs, in seconds of one processor for a megabyte: fragments of its language,
# repeated in each of its surroundings. With an argument: of the readers whose names match it.
set -euo pipefail
cd "$(dirname "$0")/.."
go test ./test/cost -run "TestScaling/(${1:-.*})" -count=1 -v | awk '
	/^=== RUN.*TestScaling\// { name = $3; sub(".*/", "", name); gsub("_", " ", name) }
	/worst: / { sub(".*worst: ", ""); seconds = $1; sub("^[0-9.]+ s a MB, ", ""); printf "%-24s %6s  %s\n", name, seconds, $0 }
	/^(FAIL|---.*FAIL)/ { failed = 1 }
	END { exit failed }'
