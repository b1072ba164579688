# What ./start and ./test share: tools, Debian packages, the page. Sourced, not run.

# shellcheck disable=SC2034
BUILD_PACKAGES=(build-essential pkg-config clang libclang-dev libavcodec-dev libavformat-dev libavutil-dev
  libavfilter-dev libavdevice-dev libswscale-dev libswresample-dev)
RUN_PACKAGES=(mariadb-server)
TEST_PACKAGES=(chromium chromium-driver)

# The tools that are not Debian's must be there already.
need_tools() {
  local missing=()
  for tool in cargo node npm; do
    command -v "$tool" >/dev/null || missing+=("$tool")
  done
  if [ ${#missing[@]} -gt 0 ]; then
    echo "Missing: ${missing[*]}. Install a Rust toolchain (1.95 or newer) and Node.js (20 or newer), then try again." >&2
    exit 1
  fi
}

need_packages() {
  local missing=()
  for package in "$@"; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
  done
  [ ${#missing[@]} -gt 0 ] || return 0
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || { echo "These packages are missing and need root: ${missing[*]}" >&2; exit 1; }
    as_root=(sudo)
  fi
  echo "Installing ${missing[*]} …"
  "${as_root[@]}" apt-get update -qq
  # The machine's own database service is not wanted: a private server is started instead.
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

# Installs the page's packages and builds it, each only where something has changed since.
build_page() {
  (
    cd web
    if [ ! -f node_modules/.package-lock.json ] || [ package-lock.json -nt node_modules/.package-lock.json ]; then
      echo "Installing the page's packages …"
      npm ci --loglevel=error
      touch node_modules/.package-lock.json
    fi
    if [ ! -f dist/index.html ] || [ -n "$(find src public index.html package-lock.json vite.config.ts -newer dist/index.html -print -quit)" ]; then
      echo "Building the page …"
      npm run --silent build -- --logLevel warn
    fi
  )
}
