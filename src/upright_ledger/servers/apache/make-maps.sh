#!/bin/sh
# Upright Ledger: makes the hashed maps that redirects.conf names. Run it in this folder, before Apache is reloaded.
set -eu
cd "$(dirname "$0")"
<<lines>>
