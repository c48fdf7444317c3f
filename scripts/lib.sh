# What demo, test, bench and screenshots share. Sourced, not run.
set -euo pipefail

root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
target=${CARGO_TARGET_DIR:-$root/target}

say() { printf '\033[2m» %s\033[0m\n' "$*" >&2; }
fail() { printf '%s\n' "$*" >&2; exit 1; }

# need_packages NAME...: installs Debian packages that are not there yet.
need_packages() {
  local missing=()
  for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
  done
  [ ${#missing[@]} -eq 0 ] && return
  say "installing ${missing[*]}"
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || fail "run once as root: apt-get install ${missing[*]}"
    as_root=(sudo)
  fi
  export DEBIAN_FRONTEND=noninteractive
  "${as_root[@]}" apt-get update -qq
  "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

need_tools() {
  for tool in cargo node npm; do
    command -v "$tool" >/dev/null || fail "$tool is not installed: Bent Lane is built with Rust and Node"
  done
}

# npm_install FOLDER: installs what its lock file names, unless that is there already.
npm_install() {
  local stamp="$root/$1/node_modules/.installed"
  if [ ! -e "$stamp" ] || [ "$root/$1/package-lock.json" -nt "$stamp" ]; then
    say "installing the npm packages of $1"
    (cd "$root/$1" && npm ci --no-audit --no-fund --loglevel=error >&2)
    touch "$stamp"
  fi
}

# python_install FOLDER: makes a Python of its own in FOLDER/.python with what its requirements name.
python_install() {
  local python="$root/$1/.python"
  if [ ! -e "$python/.installed" ] || [ "$root/$1/requirements.txt" -nt "$python/.installed" ]; then
    say "installing the Python packages of $1"
    python3 -m venv --clear "$python"
    "$python/bin/pip" install --quiet --disable-pip-version-check -r "$root/$1/requirements.txt" >&2
    touch "$python/.installed"
  fi
}

# console_changed_since FILE: whether the console, or the API's description, is newer than a file.
console_changed_since() {
  local inputs=("$root"/console/{src,public,index.html,package-lock.json,{vite,eslint}.config.*,tsconfig.json})
  [ ! -e "$1" ] || [ -n "$(find "${inputs[@]}" "$root/docs/openapi.json" -newer "$1" -print -quit)" ]
}

# build_console: builds the console when a file of it is newer than the last build.
build_console() {
  npm_install console
  if console_changed_since "$root/console/dist/index.html"; then
    say "building the console"
    (cd "$root/console" && npm run --silent build >&2)
  fi
}
