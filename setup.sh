#!/bin/sh
# Installs Debian packages for commands that are missing: setup.sh COMMAND:PACKAGE …
set -eu
missing=
for pair in "$@"; do
  command -v "${pair%%:*}" >/dev/null || missing="$missing ${pair##*:}"
done
[ -n "$missing" ] || exit 0
echo "installing:$missing"
apt-get -o DPkg::Lock::Timeout=300 update -qq
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=300 install -y -qq --no-install-recommends $missing
