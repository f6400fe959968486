#!/usr/bin/env bash
# Times preview against the dump program of the same tables, and apply (journal and
# closing check included) against one plain UPDATE ... REPLACE() per column, on a
# private MariaDB, PostgreSQL and SQLite. The plain updates break serialized lengths.
# Usage: bench/stores.sh [MEGABYTES] [RUNS] [SYSTEM]...
set -euo pipefail
cd "$(dirname "$0")/.."
mb=${1:-1000} runs=${2:-3}
shift $(($# < 2 ? $# : 2))
systems=("${@:-mariadb}")
[ $# -gt 0 ] || systems=(mariadb postgres sqlite)
dir=$(mktemp -d -p "${BENCH_DIR:-/tmp}") # best a folder in memory, so that the disk plays no part
chmod 755 "$dir"
stop=:
trap '$stop; rm -rf "$dir"' EXIT
make -s build
go build -o "$dir/makedump" ./bench/makedump
tool=$PWD/trimlantern
now() { echo "$EPOCHREALTIME"; }
seconds() { echo "scale=2; ($(now) - $1) / 1" | bc; }
least() { [ -z "$1" ] || [ "$(echo "$2 < $1" | bc)" = 1 ] && echo "$2" || echo "$1"; }

columns="m_options.option_name m_options.option_value m_postmeta.meta_key m_postmeta.meta_value m_posts.post_title m_posts.post_content"
updates() { # a plain UPDATE for each column
	for c in $columns; do
		echo "UPDATE ${c%.*} SET ${c#*.} = REPLACE(${c#*.}, 'http://ternrock.example', 'https://ternrock.example');"
	done
}

measure() { # name, URL of the database; load, dump_all and client are functions
	local name=$1 url=$2
	load
	mkdir "$dir/site-$name"
	cd "$dir/site-$name"
	"$tool" init --quiet --site https://ternrock.example --layout wordpress --prefix m_ --database "$url" >/dev/null
	local dump= preview= apply= undo= t memory=0
	for _ in $(seq "$runs"); do
		t=$(now); dump_all >/dev/null; dump=$(least "$dump" "$(seconds "$t")")
		t=$(now); "$tool" preview --offline --quiet >/dev/null || [ $? = 1 ]; preview=$(least "$preview" "$(seconds "$t")")
	done
	for _ in $(seq "$runs"); do
		t=$(now); /usr/bin/env python3 -c 'import resource, subprocess, sys
code = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode
assert code in (0, 1), code
open("memory", "w").write(str(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024))' "$tool" apply --offline --quiet
		apply=$(least "$apply" "$(seconds "$t")")
		memory=$(cat memory)
		t=$(now); "$tool" undo --quiet >/dev/null; undo=$(least "$undo" "$(seconds "$t")")
	done
	t=$(now); updates | client >/dev/null
	local update; update=$(seconds "$t")
	cd "$OLDPWD"
	printf '%s: dump %s s, preview %s s, UPDATE %s s, apply %s s, undo %s s, peak memory of apply %s MB\n' "$name" "$dump" "$preview" "$update" "$apply" "$undo" "$memory"
	echo "  preview / dump:  $(echo "scale=2; $preview / $dump" | bc)   (at most 1.00 on MariaDB)"
	echo "  apply / UPDATE:  $(echo "scale=2; $apply / $update" | bc)   (at most 1.50 on MariaDB)"
}

for system in "${systems[@]}"; do
	case $system in
	mariadb)
		mariadb-install-db --no-defaults --user="$(id -un)" --datadir="$dir/data" --auth-root-authentication-method=normal --skip-test-db >/dev/null 2>&1
		mariadbd --no-defaults --user="$(id -un)" --datadir="$dir/data" --socket="$dir/s" --skip-networking --pid-file="$dir/pid" \
			--innodb-buffer-pool-size=2G --innodb-log-file-size=512M --max-allowed-packet=64M >"$dir/log" 2>&1 &
		stop="kill $!"
		client() { mariadb --no-defaults --socket="$dir/s" -uroot --max-allowed-packet=64M museum; }
		dump_all() { mariadb-dump --no-defaults --socket="$dir/s" -uroot museum; }
		load() { "$dir/makedump" -mb "$mb" | client; }
		for _ in $(seq 100); do mariadb-admin --no-defaults --socket="$dir/s" -uroot ping >/dev/null 2>&1 && break; sleep 0.1; done
		mariadb --no-defaults --socket="$dir/s" -uroot -e 'CREATE DATABASE museum CHARACTER SET utf8mb4'
		measure mariadb "mysql://root@/museum?socket=$dir/s"
		$stop; wait; stop=: ;;
	postgres)
		bin=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
		mkdir "$dir/pg"
		as() { "$@"; }
		if [ "$(id -u)" = 0 ]; then
			chown nobody "$dir/pg"
			as() { setpriv --reuid=nobody --clear-groups "$@"; }
		fi
		as "$bin/initdb" -D "$dir/pg/d" -U keeper -A trust -E UTF8 --locale=C.UTF-8 --no-sync >/dev/null
		chmod 755 "$dir/pg"
		as "$bin/pg_ctl" -D "$dir/pg/d" -w -l "$dir/pg/log" -o "-c listen_addresses='' -c unix_socket_permissions=0777 -c shared_buffers=1GB -c max_wal_size=4GB -k $dir/pg" start >/dev/null
		stop="as $bin/pg_ctl -D $dir/pg/d -m immediate stop"
		client() { "$bin/psql" -q -h "$dir/pg" -U keeper -d museum; }
		dump_all() { "$bin/pg_dump" -h "$dir/pg" -U keeper museum; }
		load() { "$dir/makedump" -mb "$mb" -for postgres | client && echo 'VACUUM ANALYZE' | client; }
		"$bin/psql" -q -h "$dir/pg" -U keeper -d postgres -c 'CREATE DATABASE museum'
		measure postgres "postgres://keeper@/museum?socket=$dir/pg"
		$stop >/dev/null; stop=: ;;
	sqlite)
		client() { sqlite3 "$dir/site.db"; }
		dump_all() { sqlite3 "$dir/site.db" .dump; }
		load() { "$dir/makedump" -mb "$mb" -for sqlite | client; }
		measure sqlite "sqlite:$dir/site.db" ;;
	*) echo "unknown system $system" >&2; exit 2 ;;
	esac
done
