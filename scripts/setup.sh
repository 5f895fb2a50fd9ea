#!/bin/sh
# Makes .venv with everything Rundlet needs, and installs the system libraries that Qt wants where that is allowed.
# Usage: scripts/setup.sh [display | pictures | packaging]
#   display: a virtual screen for the tests is wanted too
#   packaging: and so is what packages are made and tried with
#   pictures: and so are letters for all the names of the demo data
set -eu
cd "$(dirname "$0")/.."
venv=.venv
wanted=${1:-}

say() { printf '%s\n' "$*" >&2; }

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then sudo -n "$@"
  else return 1
  fi
}

apt_install() { # packages …
  if command -v apt-get >/dev/null 2>&1 &&
     as_root env DEBIAN_FRONTEND=noninteractive sh -c \
       'apt-get update -qq && apt-get -o DPkg::Lock::Timeout=300 install -y -qq --no-install-recommends "$@"' sh "$@" >/dev/null; then
    return 0
  fi
  say "Some system packages are missing. Run this line, then the same make again:"
  say "  sudo apt-get install --no-install-recommends $*"
  exit 1
}

find_python() {
  for name in python3 python3.14 python3.13 python3.12 python3.11; do
    if command -v "$name" >/dev/null 2>&1 &&
       "$name" -c 'import sys; raise SystemExit(sys.version_info < (3, 11))' 2>/dev/null; then
      printf '%s' "$name"; return 0
    fi
  done
  return 1
}

python=$(find_python) || { apt_install python3 python3-venv; python=$(find_python) || { say "Python 3.11 or newer is needed."; exit 1; }; }
"$python" -c 'import ensurepip, venv' 2>/dev/null || apt_install python3-venv

stamp=$venv/.installed
state=$(cat pyproject.toml constraints.txt scripts/setup.sh | cksum)
if [ ! -x $venv/bin/rundlet ] || [ "$(cat $stamp 2>/dev/null || true)" != "$state" ]; then
  [ -x $venv/bin/python ] || "$python" -m venv $venv
  say "Installing the Python packages into $venv …"
  $venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes --requirement constraints.txt
  $venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --editable .
  printf '%s' "$state" > $stamp
fi

# What Qt's plugins miss is asked of the loader, not guessed from a list of distributions.
plugins=$($venv/bin/python -c 'import PySide6, pathlib; print(pathlib.Path(PySide6.__file__).parent / "Qt" / "plugins" / "platforms")')
missing=$(ldd "$plugins"/libqxcb.so "$plugins"/libqoffscreen.so 2>/dev/null | grep 'not found' | grep -v 'libQt6\|libpyside\|libshiboken' || true)
packages=
if [ -n "$missing" ]; then
  packages=$($venv/bin/python -m rundlet.integration.system_libraries)
fi
if ! command -v fc-list >/dev/null 2>&1 || [ -z "$(fc-list 2>/dev/null | head -n 1)" ]; then
  packages="$packages fontconfig fonts-noto-core"
fi
if [ "$wanted" = pictures ] && [ -z "$(fc-list :lang=ja 2>/dev/null | head -n 1)" ]; then packages="$packages fonts-vlgothic"; fi
if [ "$wanted" = display ] && ! command -v Xvfb >/dev/null 2>&1; then packages="$packages xvfb"; fi
# The library that lets jobs fail at any step is built by the tests.
if [ "$wanted" = display ] && ! command -v cc >/dev/null 2>&1; then packages="$packages gcc libc6-dev"; fi
# What is made for the desktop is held against the desktop's own checkers.
if [ "$wanted" = display ] && ! command -v desktop-file-validate >/dev/null 2>&1; then
  packages="$packages desktop-file-utils shared-mime-info appstream mandoc libxml2-utils shellcheck zsh fish"
fi
# And what speaks to the desktop with a bus, mocks of the desktop's services, and a keyring.
if [ "$wanted" = display ] && ! command -v gnome-keyring-daemon >/dev/null 2>&1; then
  packages="$packages dbus python3-dbusmock gnome-keyring libglib2.0-bin"
fi
if [ "$wanted" = packaging ] && ! { command -v debootstrap && command -v lintian; } >/dev/null 2>&1; then packages="$packages debootstrap lintian dpkg-dev binutils"; fi
# shellcheck disable=SC2086 -- a list of words on purpose
if [ -n "$packages" ]; then say "Installing system packages …"; apt_install $packages; fi
