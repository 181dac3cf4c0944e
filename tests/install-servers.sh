#!/bin/sh
# The servers that tests talk to: five web servers, and PostgreSQL for a team's ledger; and a C compiler. As root on Debian they are installed;
# elsewhere this says what to install, and the tests that need them are reported as skipped.
set -eu
PATH="$PATH:/usr/sbin:/usr/local/sbin"
missing=""
for pair in nginx:nginx-light apache2:apache2 httxt2dbm:apache2-utils haproxy:haproxy caddy:caddy lighttpd:lighttpd; do
    command -v "${pair%%:*}" >/dev/null 2>&1 || missing="$missing ${pair#*:}"
done
ls /usr/lib/lighttpd/mod_magnet.so >/dev/null 2>&1 || missing="$missing lighttpd-modules-lua"
ls -d /usr/share/doc/apache2-doc/manual >/dev/null 2>&1 || missing="$missing apache2-doc"
ls -d /usr/share/doc/nginx/examples >/dev/null 2>&1 || missing="$missing nginx-doc"
command -v cc >/dev/null 2>&1 || missing="$missing gcc libc6-dev"
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing="$missing postgresql"
[ -n "$missing" ] || exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
    echo "Installing for the tests:$missing."
    # shellcheck disable=SC2086
    if (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing) >/dev/null 2>&1; then
        exit 0
    fi
    echo "That did not work; the tests that need them will be skipped."
    exit 0
fi
echo "Not installed:$missing. Install them (on Debian: apt-get install$missing) to run the tests that need them."
