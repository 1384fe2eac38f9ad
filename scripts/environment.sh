# Sets up the virtual environment from the lock file, once; quick when nothing changed. Sourced by start and check.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
stamp=.venv/.locked
wanted=$(cat requirements.lock pyproject.toml | sha256sum | cut -d' ' -f1)

python_of() {
  local p
  for p in python3.11 python3.12 python3.13 python3; do
    if command -v "$p" >/dev/null && "$p" -c 'import sys, venv, ensurepip; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
      echo "$p"; return
    fi
  done
  return 1
}

system_packages() { # package:command-or-library pairs that are missing
  local missing=() pair libraries
  libraries=$(ldconfig -p 2>/dev/null || true)
  for pair in "$@"; do
    local package=${pair%%:*} thing=${pair#*:}
    case $thing in
      lib*) [[ $libraries == *"$thing"* ]] || missing+=("$package");;
      *) command -v "$thing" >/dev/null || missing+=("$package");;
    esac
  done
  ((${#missing[@]})) || return 0
  if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    echo "Installing system packages: ${missing[*]}" >&2
    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
  else
    echo "Some system packages are missing. Type this, then try again:" >&2
    echo "  sudo apt-get install ${missing[*]}" >&2
    exit 1
  fi
}

window_packages=(libegl1:libEGL.so.1 libgl1:libGL.so.1 libxkbcommon-x11-0:libxkbcommon-x11 libxcb-cursor0:libxcb-cursor
  libxcb-icccm4:libxcb-icccm libxcb-keysyms1:libxcb-keysyms libxcb-shape0:libxcb-shape libxcb-image0:libxcb-image
  libxcb-render-util0:libxcb-render-util libxcb-randr0:libxcb-randr libxcb-xinerama0:libxcb-xinerama libdbus-1-3:libdbus-1.so
  libfontconfig1:libfontconfig libglib2.0-0:libglib-2.0 util-linux:lsblk)

environment() {
  if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
    local python
    python=$(python_of) || { echo "Python 3.11 or later with venv is needed: sudo apt-get install python3 python3-venv" >&2; exit 1; }
    echo "Setting up the environment (once) ..." >&2
    rm -rf .venv
    "$python" -m venv .venv
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
    echo "$wanted" > "$stamp"
  fi
  # Translations that changed since, or were never compiled here.
  .venv/bin/python scripts/catalogs.py
  # Helpers and commands start quicker; where this cannot be written, they start all the same.
  .venv/bin/python -m compileall -q src 2>/dev/null || true
}
