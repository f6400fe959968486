#!/usr/bin/env bash
# Takes the pictures of this folder anew, on the made-up site. Needs Debian's
# xvfb, xterm, imagemagick, fonts-dejavu, sqlite3 and chromium.
set -euo pipefail
cd "$(dirname "$0")/../.."
make -s build
out=$PWD/docs/screenshots
dir=$(mktemp -d)
PATH=$PWD:$PATH
export DISPLAY=:97 PAGER=cat
Xvfb :97 -screen 0 1280x1700x24 >/dev/null 2>&1 &
xvfb=$!
trimlantern demo --stay "$dir/ternrock" >"$dir/stay.txt" &
stay=$!
trap 'kill $xvfb $stay 2>/dev/null; wait; rm -rf "$dir"' EXIT
until grep -q 'https://ternrock.example/$' "$dir/stay.txt"; do sleep 0.1; done
export TRIMLANTERN_HOME=$dir/home
cd "$dir/ternrock"
eval "$(sed -n 's/^  trimlantern init/trimlantern init/p' "$dir/stay.txt")" >/dev/null

shot() { # NAME ROWS COMMAND
	local done="$dir/done"
	rm -f "$done"
	printf 'cd %q; clear; printf "$ %s\\n"; %s; touch %q; sleep 30\n' "$dir/ternrock" "$3" "$3" "$done" >"$dir/cmd.sh"
	xterm -tn xterm-256color -fa 'DejaVu Sans Mono' -fs 9 -bg '#10181f' -fg '#e6e1d3' -geometry "92x$2+0+0" -b 10 -e bash "$dir/cmd.sh" &
	local term=$!
	until [ -e "$done" ]; do sleep 0.1; done
	sleep 0.7
	import -window "$(xwininfo -root -children | sed -nE 's/^ +(0x[0-9a-f]+) .*xterm.*/\1/p' | head -1)" "$out/$1.png"
	kill $term
	wait $term 2>/dev/null || true
}
sqlite3 "$dir/ternrock/site.db" .dump >"$dir/ternrock/site.sql"
shot filter 37 'trimlantern filter --site https://ternrock.example site.sql secure.sql'
shot mend 22 'trimlantern mend'
shot cert-obtain 24 "$(sed -nE 's/^  (trimlantern cert obtain)/\1/p' "$dir/stay.txt")"
shot cert-panel 44 'trimlantern cert obtain --show'
shot ready 25 'trimlantern ready'
trimlantern init --config dump.yaml --site https://ternrock.example --also www.ternrock.example --database dump:site.sql --prefix tr_ >/dev/null
trimlantern preview --config dump.yaml --offline >/dev/null || true
shot patch 22 'trimlantern apply --config dump.yaml --patch patch.sql'
shot scan-before 50 'trimlantern scan'
shot trace 25 'trimlantern trace http://ternrock.example/media/map.svg'
trimlantern scan --trace --quiet --report "$dir/report.html" >/dev/null || true
chromium --headless --no-sandbox --disable-gpu --no-first-run --hide-scrollbars --user-data-dir="$dir/profile" --window-size=1280,900 --screenshot="$out/report.png" "file://$dir/report.html" >/dev/null 2>&1
trimlantern backup --quiet >/dev/null
shot preview 78 'trimlantern preview'
shot show 28 'trimlantern show'
shot apply 30 'trimlantern apply'
shot redirect-install 8 'trimlantern redirect install apache .htaccess'
shot redirect-test 60 'trimlantern redirect test --all'
shot status 24 'trimlantern status'
https=$(sed -nE 's/^HTTP at .*, HTTPS at ([0-9.:]+),.*/\1/p' "$dir/stay.txt")
chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update \
	--user-data-dir="$dir/profile" --ignore-certificate-errors --window-size=1280,800 --hide-scrollbars \
	--host-resolver-rules="MAP *.example:443 $https" --screenshot="$out/site.png" https://ternrock.example/visit/ >/dev/null 2>&1
trimlantern undo >/dev/null # the redirect
shot undo 20 'trimlantern undo'
shot checkup 72 'trimlantern checkup --quiet'
# The guided run, on a site of its own, up to its first decision.
trimlantern undo >/dev/null 2>&1 || true
trimlantern demo --stay "$dir/second" >"$dir/second.txt" &
second=$!
until grep -q 'https://ternrock.example/$' "$dir/second.txt"; do sleep 0.1; done
cd "$dir/second"
export TRIMLANTERN_HOME=$dir/second.home TRIMLANTERN_CHROMIUM=none # a question sooner
eval "$(sed -n 's/^  trimlantern init/trimlantern init/p' "$dir/second.txt")" >/dev/null
eval "$(sed -nE 's/^  (trimlantern cert obtain)/\1/p' "$dir/second.txt")" >/dev/null
trimlantern backup --quiet >/dev/null
printf 'cd %q; clear; trimlantern switch; sleep 30\n' "$dir/second" >"$dir/cmd.sh"
xterm -tn xterm-256color -fa 'DejaVu Sans Mono' -fs 9 -bg '#10181f' -fg '#e6e1d3' -geometry "92x52+0+0" -b 10 -e bash "$dir/cmd.sh" &
term=$!
sleep 30
import -window "$(xwininfo -root -children | sed -nE 's/^ +(0x[0-9a-f]+) .*xterm.*/\1/p' | head -1)" "$out/switch.png"
kill $term $second
