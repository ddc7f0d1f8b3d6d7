# Sets up what is missing: Debian's packages, Python's and npm's, the built interface, the compiled kernels.
# Sourced by ./start, ./check and ./measure from the repository's root, with `setup run` or `setup develop`.
# Each step leaves a mark with the digest of what it depends on, so that a second call costs next to nothing.

set -euo pipefail

# Where compiled modules may not be written, every process that is started works a second longer before it is ready.
unset PYTHONDONTWRITEBYTECODE

# Poses come and go by the megabyte: keep their memory at hand instead of giving it back to the system each time,
# which would cost a page fault for every four kilobytes drawn.
export MALLOC_MMAP_THRESHOLD_=33554432 MALLOC_TRIM_THRESHOLD_=134217728

as_root() {
  if [ "$(id -u)" -eq 0 ]; then "$@"; else sudo "$@"; fi
}

digest() { cat "$@" | sha256sum | cut -c1-16; }

need_debian() {
  local missing=()
  for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
  done
  if [ "${#missing[@]}" -gt 0 ]; then
    echo "Installing Debian packages: ${missing[*]}"
    as_root apt-get update -qq
    # A cluster that Debian's package would start by itself is not ours and not needed.
    as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
  fi
}

setup_python() {
  local lock=$1 mark=.cache/python-$1
  if [ ! -x .venv/bin/python ]; then
    python3 -c 'import ensurepip' 2>/dev/null || need_debian python3-venv
    python3 -m venv .venv
  fi
  if [ "$(cat "$mark" 2>/dev/null)" != "$(digest "$lock")" ]; then
    echo "Installing Python packages"
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r "$lock"
    digest "$lock" > "$mark"
  fi
}

setup_web() {
  local lock mark=.cache/web
  lock=$(digest web/package-lock.json)
  if [ "$(cat .cache/npm 2>/dev/null)" != "$lock" ] || [ ! -d web/node_modules ]; then
    echo "Installing npm packages"
    (cd web && npm ci --no-audit --no-fund --loglevel=error)
    echo "$lock" > .cache/npm
  fi
  local source
  source=$(find web/src web/public web/index.html web/vite.config.ts web/package-lock.json -type f 2>/dev/null | LC_ALL=C sort | xargs sha256sum | sha256sum | cut -c1-16)
  if [ "$(cat "$mark" 2>/dev/null)" != "$source" ] || [ ! -f web/dist/index.html ]; then
    echo "Building the interface"
    (cd web && npm run --silent build -- --logLevel warn)
    echo "$source" > "$mark"
  fi
}

setup_kernels() {
  local source mark=.cache/warm
  source=$(find yielding_tether/core yielding_tether/demo -name '*.py' | LC_ALL=C sort | xargs sha256sum | sha256sum | cut -c1-16)
  if [ "$(cat "$mark" 2>/dev/null)" != "$source" ]; then
    echo "Compiling the kernels"
    .venv/bin/python -m yielding_tether --warm
    echo "$source" > "$mark"
  fi
}

setup() {
  local web
  mkdir -p .cache
  if [ "$1" = develop ]; then need_debian postgresql chromium-headless-shell; else need_debian postgresql; fi
  command -v npm >/dev/null || need_debian nodejs npm
  # The interface is built while Python's packages come and the kernels are compiled: neither needs the other.
  setup_web &
  web=$!
  if [ "$1" = develop ]; then
    setup_python requirements-dev.lock
  else
    # A developer's packages hold all that running needs.
    [ "$(cat .cache/python-requirements-dev.lock 2>/dev/null)" = "$(digest requirements-dev.lock)" ] || setup_python requirements.lock
  fi
  setup_kernels
  wait "$web"
}
