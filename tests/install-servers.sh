#!/bin/sh
# The servers that tests talk to. As root on Debian they are installed; elsewhere this says what to install,
# and the tests that need them are reported as skipped.
set -eu
PATH="$PATH:/usr/sbin:/usr/local/sbin"
if command -v nginx >/dev/null 2>&1; then
    exit 0
fi
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
    echo "Installing nginx for the tests."
    if (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends nginx-light) >/dev/null 2>&1; then
        exit 0
    fi
    echo "nginx could not be installed; the tests that need it will be skipped."
    exit 0
fi
echo "nginx is not installed: install it (on Debian: apt-get install nginx-light) to run the tests that need it."
