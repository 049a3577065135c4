#!/usr/bin/env bash
# What the tests need of the system: a real LDAP server to gather from, what python-ldap is built with, a real
# spreadsheet program, a real PostgreSQL server, a browser, and the shells whose completion is tried. Installs it on Debian as
# root; elsewhere says in one line what to install.
set -euo pipefail
missing=()
[ -x /usr/sbin/slapd ] || missing+=(slapd)
[ -e /usr/include/ldap.h ] || missing+=(libldap2-dev)
[ -e /usr/include/sasl/sasl.h ] || missing+=(libsasl2-dev)
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=(postgresql)
[ -x /usr/bin/zsh ] || missing+=(zsh)
[ -x /usr/bin/fish ] || missing+=(fish)
[ -x /usr/bin/soffice ] || missing+=(libreoffice-calc)
[ -x /usr/bin/chromium ] || missing+=(chromium)
[ -x /usr/bin/chromedriver ] || missing+=(chromium-driver)
command -v gcc >/dev/null || missing+=(gcc libc6-dev)
[ ${#missing[@]} -eq 0 ] && exit 0
python_header=$("${PYTHON:-python3}" -c 'import sysconfig; print(sysconfig.get_path("include") + "/Python.h")')
[ -e "$python_header" ] || missing+=(python3-dev)
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
  echo "installing for the tests (once): ${missing[*]}"
  { apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends "${missing[@]}"; } >/dev/null 2>/tmp/usher-gate-apt.$$ \
    || { cat /tmp/usher-gate-apt.$$; exit 1; }
  rm -f /tmp/usher-gate-apt.$$
else
  echo "make: the tests need these of the system: ${missing[*]} (on Debian, as root: apt-get install ${missing[*]})"
  exit 1
fi
