#!/usr/bin/env bash
# Installs what the tests need and is missing, from Debian's packages. Services
# of the machine are neither started nor changed: the tests run private ones.
set -euo pipefail

missing=()
need() { # command or file, package
	command -v "$1" >/dev/null 2>&1 || [ -e "$1" ] || missing+=("$2")
}
need mariadbd mariadb-server
need mariadb-dump mariadb-client
need php php-cli
modules=$(php -m 2>/dev/null || true) # not through a pipe, which breaks when grep has seen enough
grep -qx mysqli <<<"$modules" || missing+=(php-mysql)
grep -qx xml <<<"$modules" || missing+=(php-xml)
grep -qx mbstring <<<"$modules" || missing+=(php-mbstring)
need apache2 apache2
need nginx nginx-light
compgen -G '/usr/sbin/php-fpm*' >/dev/null || missing+=(php-fpm)
compgen -G '/usr/lib/apache2/modules/libphp*.so' >/dev/null || missing+=(libapache2-mod-php)
need /usr/share/wordpress/wp-load.php wordpress
need /usr/share/wordpress/wp-content/themes/twentytwentyone/style.css wordpress-theme-twentytwentyone

grep -qx pgsql <<<"$modules" || missing+=(php-pgsql)
need sqlite3 sqlite3
need chromium chromium
need openssl openssl
need certutil libnss3-tools
need ss iproute2
need /usr/sbin/named bind9
need pebble pebble
need nsupdate bind9-dnsutils
need curl curl
need /usr/lib/galera/libgalera_smm.so galera-4
need rsync rsync
need ikiwiki ikiwiki
need fossil fossil
need /usr/share/phpmyadmin/index.php phpmyadmin
grep -qx zip <<<"$modules" || missing+=(php-zip)
grep -qx bz2 <<<"$modules" || missing+=(php-bz2)
compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || missing+=(postgresql)

if [ ${#missing[@]} -eq 0 ]; then
	exit 0
fi
if [ "$(id -u)" -ne 0 ]; then
	echo "These packages are missing: ${missing[*]}" >&2
	echo "Install them as root: apt-get install ${missing[*]}" >&2
	exit 1
fi
echo "Installing: ${missing[*]}"
policy=/usr/sbin/policy-rc.d
if [ ! -e "$policy" ]; then # Debian's way to install services without starting them
	printf '#!/bin/sh\nexit 101\n' >"$policy"
	chmod 755 "$policy"
	trap 'rm -f "$policy"' EXIT
fi
export DEBIAN_FRONTEND=noninteractive
apt-get update -q
apt-get install -y -q --no-install-recommends "${missing[@]}"
