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
if [ "${1:-}" = browser ] && [ "$(id -u)" = 0 ]; then
  # Servers for tests against what people run; without them those are left out, and in CI and with PEERS=1 they fail.
  peers=""
  test -x /usr/sbin/dovecot || peers="$peers dovecot-imapd"
  test -x /usr/sbin/postfix || peers="$peers postfix"
  test -x /usr/sbin/apache2 || peers="$peers apache2"
  test -x /usr/bin/prosody || peers="$peers prosody"
  test -x /usr/bin/redis-server || peers="$peers redis-server"
  if [ -n "$peers" ]; then
    # They are installed, not begun: tests begin their own, on loopback ports.
    policy=/usr/sbin/policy-rc.d
    test -e $policy || { printf '#!/bin/sh\nexit 101\n' >$policy && chmod +x $policy && ours=1; }
    (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $peers) >/dev/null 2>&1 ||
      echo "Could not install:$peers; their tests will be left out." >&2
    [ -z "${ours:-}" ] || rm -f $policy
  fi
fi
if [ "${1:-}" = office ]; then
  need soffice libreoffice-calc-nogui
  need ssconvert gnumeric
fi
[ -z "$want" ] && exit 0
if [ "$(id -u)" != 0 ]; then
  echo "Please install these packages first:$want" >&2
  exit 1
fi
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $want >/dev/null
