#!/usr/bin/env bash
# Times preview against the dump program of the same tables, and apply (journal and
# closing preview included) against one plain UPDATE ... REPLACE() per column, on a
# private MariaDB, PostgreSQL and SQLite. Each round has two fresh, warm copies
# of the same database: one for the tool, one for the plain updates (which break
# serialized lengths).
# Usage: bench/stores.sh [MEGABYTES] [ROUNDS] [SYSTEM]...
set -euo pipefail
cd "$(dirname "$0")/.."
mb=${1:-1000} rounds=${2:-3}
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

columns="m_options.option_name m_options.option_value m_postmeta.meta_key m_postmeta.meta_value m_posts.post_title m_posts.post_content"
updates() { # a plain UPDATE for each column
	for c in $columns; do
		echo "UPDATE ${c%.*} SET ${c#*.} = REPLACE(${c#*.}, 'http://ternrock.example', 'https://ternrock.example');"
	done
}
update() { updates | client; }
timed() { # the seconds that a command takes; the tool's exit code may say that something remains
	local t0=$EPOCHREALTIME code=0
	"$@" >/dev/null || code=$?
	[ $code -le 1 ] || { echo "$* ended with $code" >&2; return $code; }
	echo "$EPOCHREALTIME $t0" | awk '{ printf "%.2f", $1 - $2 }'
}
measured() { # the same, and the peak memory goes into the file memory
	timed python3 -c 'import resource, subprocess, sys
code = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode
open("memory", "a").write("%d\n" % (resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024))
sys.exit(code)' "$@"
}
spread() { # of the ratios in a column
	sort -n -k"$1" "$dir/rounds" | awk -v c="$1" '{ r[NR] = $c } END { printf "median %.2f, least %.2f, most %.2f", r[int((NR + 1) / 2)], r[1], r[NR] }'
}

measure() { # name, URL of the database; begin, halt, load, dump_all and client are functions, $data is a path
	local name=$1 url=$2
	begin
	load
	halt
	mv "$data" "$data.made"
	fresh() {
		halt
		rm -rf "$data"
		cp -a "$data.made" "$data"
		begin
		dump_all >/dev/null
	}
	mkdir "$dir/site-$name"
	cd "$dir/site-$name"
	export TRIMLANTERN_HOME=$dir/home-$name
	fresh
	"$tool" init --quiet --site https://ternrock.example --system wordpress --prefix m_ --database "$url" >/dev/null
	echo "$name, $mb MB"
	printf '%8s %8s %8s %8s %8s %13s %13s %13s\n' dump preview UPDATE apply undo preview/dump apply/UPDATE PHP/preview
	: >"$dir/rounds"
	for _ in $(seq "$rounds"); do
		fresh
		local d p j u a b # no pipe around this loop: only this shell can wait for the server
		d=$(timed dump_all)
		p=$(timed "$tool" preview --offline --quiet --judge none)
		j=$(timed "$tool" preview --offline --quiet) # PHP loads each serialized value too
		a=$(measured "$tool" apply --offline --quiet)
		b=$(timed "$tool" undo --quiet)
		fresh
		u=$(timed update)
		awk -v d="$d" -v p="$p" -v u="$u" -v a="$a" -v b="$b" -v j="$j" 'BEGIN { printf "%6.2f s %6.2f s %6.2f s %6.2f s %6.2f s %13.2f %13.2f %13.2f\n", d, p, u, a, b, p/d, a/u, j/p }' >>"$dir/rounds"
		tail -1 "$dir/rounds"
	done
	halt
	cd "$OLDPWD"
	echo "preview/dump: $(spread 11) (on MariaDB at most 1.00 wanted)"
	echo "apply/UPDATE: $(spread 12) (on MariaDB at most 1.50 wanted)"
	echo "preview with PHP as a second opinion/without: $(spread 13) (at most 1.30 wanted)"
	echo "peak memory of apply: $(sort -n "$dir/site-$name/memory" | tail -1) MB (at most 150 MB wanted)"
}

for system in "${systems[@]}"; do
	case $system in
	mariadb)
		data=$dir/data
		mariadb-install-db --no-defaults --user="$(id -un)" --datadir="$data" --auth-root-authentication-method=normal --skip-test-db >/dev/null 2>&1
		begin() {
			mariadbd --no-defaults --user="$(id -un)" --datadir="$data" --socket="$dir/s" --skip-networking --pid-file="$dir/pid" \
				--innodb-buffer-pool-size=2G --innodb-log-file-size=512M --max-allowed-packet=64M >"$dir/log" 2>&1 &
			stop="kill $!"
			for _ in $(seq 100); do mariadb-admin --no-defaults --socket="$dir/s" -uroot ping >/dev/null 2>&1 && break; sleep 0.1; done
		}
		halt() { $stop; wait; stop=:; }
		client() { mariadb --no-defaults --socket="$dir/s" -uroot --max-allowed-packet=64M museum; }
		dump_all() { mariadb-dump --no-defaults --socket="$dir/s" -uroot museum; }
		load() {
			mariadb --no-defaults --socket="$dir/s" -uroot -e 'CREATE DATABASE museum CHARACTER SET utf8mb4'
			"$dir/makedump" -mb "$mb" | client
		}
		measure mariadb "mysql://root@/museum?socket=$dir/s" ;;
	postgres)
		bin=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
		mkdir "$dir/pg"
		as() { "$@"; }
		if [ "$(id -u)" = 0 ]; then
			chown nobody "$dir/pg"
			as() { setpriv --reuid=nobody --clear-groups "$@"; }
		fi
		data=$dir/pg/d
		as "$bin/initdb" -D "$data" -U keeper -A trust -E UTF8 --locale=C.UTF-8 --no-sync >/dev/null
		chmod 755 "$dir/pg"
		begin() {
			as "$bin/pg_ctl" -D "$data" -w -l "$dir/pg/log" -o "-c listen_addresses='' -c unix_socket_permissions=0777 -c shared_buffers=1GB -c max_wal_size=4GB -k $dir/pg" start >/dev/null
			stop="as $bin/pg_ctl -D $data -m fast stop"
		}
		halt() { $stop >/dev/null; stop=:; }
		client() { "$bin/psql" -q -h "$dir/pg" -U keeper -d museum; }
		dump_all() { "$bin/pg_dump" -h "$dir/pg" -U keeper museum; }
		load() {
			"$bin/psql" -q -h "$dir/pg" -U keeper -d postgres -c 'CREATE DATABASE museum'
			"$dir/makedump" -mb "$mb" -for postgres | client
			echo 'VACUUM ANALYZE' | client
		}
		measure postgres "postgres://keeper@/museum?socket=$dir/pg" ;;
	sqlite)
		data=$dir/site.db
		begin() { :; }
		halt() { :; }
		client() { sqlite3 "$data"; }
		dump_all() { sqlite3 "$data" .dump; }
		load() { "$dir/makedump" -mb "$mb" -for sqlite | client; }
		measure sqlite "sqlite:$data" ;;
	*) echo "unknown system $system" >&2; exit 2 ;;
	esac
done
