#!/usr/bin/env bash
# Installs what is missing on Debian 12, and only that.
#   scripts/install.sh run   the application: MariaDB and the locked Python packages
#   scripts/install.sh dev   the same, plus Chromium and the packages of the tests
#   scripts/install.sh cluster  the same, plus what three databases and a queue for several machines need
#   scripts/install.sh quick what `make quick` needs: Python packages alone, no database, no browser, no compiler
set -euo pipefail
cd "$(dirname "$0")/.."
kind=${1:-run}
case $kind in
  run) lock=requirements/run.txt ;;
  dev|cluster|quick) lock=requirements/dev.txt ;;
  *) echo "usage: scripts/install.sh run|dev|cluster|quick" >&2; exit 2 ;;
esac
export PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"

# mysqlclient is compiled here, hence the compiler and the client headers.
packages=(python3 python3-venv)
[ "$kind" = quick ] || packages+=(mariadb-server libmariadb-dev pkg-config gcc libc6-dev python3-dev)
case $kind in dev|cluster) packages+=(chromium-headless-shell fonts-dejavu-core) ;; esac
# Galera copies state between its nodes by rsync, whose script asks lsof and ss; Redis is the queue of several machines.
[ "$kind" = cluster ] && packages+=(galera-4 rsync lsof iproute2 redis-server) && kind=dev

missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
done
if [ ${#missing[@]} -gt 0 ]; then
  echo "Installing Debian packages: ${missing[*]}"
  sudo=; [ "$(id -u)" = 0 ] || sudo=sudo
  # Nobody wants a system-wide database from this: policy-rc.d keeps dpkg from starting one.
  policy=/usr/sbin/policy-rc.d
  if [ ! -e $policy ]; then
    printf '#!/bin/sh\nexit 101\n' | $sudo tee $policy >/dev/null; $sudo chmod +x $policy
    trap '$sudo rm -f $policy' EXIT
  fi
  log=$(mktemp)
  $sudo apt-get update -q >"$log" 2>&1 &&
    $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends "${missing[@]}" >>"$log" 2>&1 ||
    { tail -n 40 "$log" >&2; echo "apt could not install: ${missing[*]}. The lines above say why." >&2; exit 1; }
  rm -f "$log"
fi

venv=.venv
stamp=$venv/.installed-$kind
# A dev environment holds everything that the others do.
[ "$kind" != dev ] && [ -e "$venv/.installed-dev" ] && { lock=requirements/dev.txt; kind=dev stamp=$venv/.installed-dev; }
wanted=$(cat "$lock" pyproject.toml | sha256sum | cut -d' ' -f1)
if [ "$(cat "$stamp" 2>/dev/null)" != "$wanted" ]; then
  [ -x $venv/bin/python ] || /usr/bin/python3 -m venv $venv
  echo "Installing Python packages from $lock"
  # The database's client is compiled against headers that nobody needs who starts no database.
  [ "$kind" = quick ] && leave='^mysqlclient==' || leave='^$'
  awk -v leave="$leave" '/^[^ ]/ { left = $0 ~ leave && $0 != "" } !left' "$lock" > $venv/wanted.txt
  $venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r $venv/wanted.txt
  # The project itself is linked by a path file: no build step, so no unpinned build tool.
  site=$($venv/bin/python -c 'import sysconfig; print(sysconfig.get_path("purelib"))')
  echo "$PWD/src" > "$site/nimbus_reef.pth"
  printf '#!/bin/sh\nexec "%s/%s/bin/python" -m nimbus_reef "$@"\n' "$PWD" "$venv" > $venv/bin/reef
  chmod +x $venv/bin/reef
  echo "$wanted" > "$stamp"
fi
