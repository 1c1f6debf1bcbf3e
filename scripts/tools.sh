#!/bin/sh
# Installs Debian packages that are missing, as root; says what to do otherwise.
set -eu
want=""
need() { command -v "$1" >/dev/null 2>&1 || want="$want $2"; }
need python3 python3
need node nodejs
need npm npm
need make make
python3 -c 'import venv, ensurepip' >/dev/null 2>&1 || want="$want python3-venv"
if [ "${1:-}" = browser ]; then
  test -x /usr/bin/chromium || want="$want chromium fonts-dejavu-core fonts-noto-color-emoji"
fi
if [ "${1:-}" = browser ] && ! test -x /usr/sbin/dovecot && [ "$(id -u)" = 0 ]; then
  # A mail server for tests of mailboxes; without it they are left out.
  (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends dovecot-imapd) >/dev/null 2>&1 ||
    echo "Dovecot could not be installed; tests of mailboxes will be left out." >&2
fi
[ -z "$want" ] && exit 0
if [ "$(id -u)" != 0 ]; then
  echo "Please install these packages first:$want" >&2
  exit 1
fi
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $want >/dev/null
