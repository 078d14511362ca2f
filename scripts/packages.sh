#!/bin/sh
# Installs the Debian packages that are missing: a database server for the service and the tests,
# a file server for the demo and the tests, a browser, an SSH server, sudo, a Kerberos realm, a
# directory, a monitoring server and Wine for the tests. Only root can install; anybody else is told
# what to install.
set -eu
want=""
[ -x /usr/sbin/mariadbd ] || want="$want mariadb-server-core mariadb-client-core"
[ -x /usr/sbin/smbd ] && [ -d /usr/lib/*/samba/vfs ] || want="$want samba samba-vfs-modules"
if [ "${1:-}" = tests ]; then
  [ -x /usr/bin/setfacl ] || want="$want acl"
  [ -x /usr/bin/setfattr ] || want="$want attr"
  [ -x /usr/lib/chromium/chromium-headless-shell ] || want="$want chromium-headless-shell"
  [ -x /usr/sbin/krb5kdc ] && [ -x /usr/sbin/kadmin.local ] || want="$want krb5-kdc krb5-admin-server"
  [ -x /usr/sbin/sshd ] && [ -x /usr/bin/ssh-keygen ] || want="$want openssh-server openssh-client"
  [ -x /usr/bin/sudo ] || want="$want sudo"
  [ -x /usr/bin/strace ] || want="$want strace"
  [ -x /usr/sbin/slapd ] || want="$want slapd"
  [ -x /usr/sbin/mkfs.btrfs ] || want="$want btrfs-progs"
  [ -x /usr/sbin/mkfs.xfs ] || want="$want xfsprogs"
  [ -x /usr/bin/promtool ] || want="$want prometheus"
  [ -x /usr/lib/wine/wine64 ] || want="$want wine64"
  [ -d /usr/share/fonts/truetype/dejavu ] || want="$want fonts-dejavu-core"
fi
if [ "${1:-}" = cluster ]; then
  [ -x /usr/bin/wsrep_sst_rsync ] || want="$want mariadb-server"
  [ -e /usr/lib/galera/libgalera_smm.so ] || want="$want galera-4"
  [ -x /usr/bin/rsync ] || want="$want rsync"
fi
if [ "${1:-}" = race ]; then
  [ -x /usr/bin/gcc ] && [ -e /usr/include/stdlib.h ] || want="$want gcc libc6-dev"
fi
# The database runs as an account of its own where its starter is root.
if [ "$(id -u)" = 0 ] && ! id idletally-db >/dev/null 2>&1 && ! id mysql >/dev/null 2>&1; then
  useradd --system --no-create-home --home-dir /nonexistent --shell /usr/sbin/nologin idletally-db
fi
[ -n "$want" ] || exit 0
if [ "$(id -u)" != 0 ]; then
  echo "These Debian packages are missing:$want" >&2
  echo "Install them as root: apt-get install --no-install-recommends$want" >&2
  exit 1
fi
echo "Installing$want …"
apt-get update -q >/dev/null
# No server of the system's is to start: ours are private.
if [ ! -e /usr/sbin/policy-rc.d ]; then
  printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d
  chmod 755 /usr/sbin/policy-rc.d
  trap 'rm -f /usr/sbin/policy-rc.d' EXIT
fi
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $want >/dev/null
