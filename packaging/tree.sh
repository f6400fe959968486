#!/usr/bin/env bash
# Lays the program, its manual pages and completions out below a prefix: tree.sh PROGRAM PREFIX [THE PROGRAM TO INSTALL]
set -euo pipefail
run=$1 prefix=$2 program=${3:-$1}
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
"$run" man "$work"
install -D -m 755 "$program" "$prefix/bin/trimlantern"
for page in "$work"/*.1; do
	gzip -9n "$page"
	install -D -m 644 "$page.gz" "$prefix/share/man/man1/$(basename "$page").gz"
done
for shell in bash:bash-completion/completions/trimlantern zsh:zsh/site-functions/_trimlantern fish:fish/vendor_completions.d/trimlantern.fish; do
	"$run" completion "${shell%%:*}" >"$work/completion"
	install -D -m 644 "$work/completion" "$prefix/share/${shell#*:}"
done
install -D -m 644 LICENSE "$prefix/share/doc/trimlantern/copyright"
install -D -m 644 cli/notices/licences.txt.gz "$prefix/share/doc/trimlantern/licences.txt.gz"
gzip -9nc CHANGELOG.md >"$work/changelog.gz"
install -D -m 644 "$work/changelog.gz" "$prefix/share/doc/trimlantern/changelog.gz"
