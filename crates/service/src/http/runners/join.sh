#!/bin/sh
# Installs pennine-runner from @SERVER@ and joins this machine to a pool there.
#
#   curl -fsSL @SERVER@/join.sh | sh -s -- --ticket TICKET
#
# or, to read it first:
#
#   curl -fsSLO @SERVER@/join.sh
#   less join.sh
#   sh join.sh --ticket TICKET
#
# Of its own it takes these; everything else goes to `pennine-runner join` (--name, --slots, --label ...):
#   --boot       have systemd start the runner at boot, under a user of its own (as root)
#   --into=DIR   where the program goes: /usr/local/bin as root, ~/.local/bin otherwise
#   --dir=DIR    where the runner keeps what it needs: /var/lib/pennine-runner as root, ~/pennine-runner otherwise
#   --ca=FILE    a certificate authority to trust beside the usual ones
set -eu

server='@SERVER@'
# The platforms that the service holds the program for, and its SHA-256 for each.
sums='@SUMS@'

fail() { echo "join.sh: $*" >&2; exit 1; }

fetch() { # ADDRESS FILE
  if command -v curl >/dev/null; then curl -fsSL ${ca:+--cacert "$ca"} -o "$2" "$1"
  elif command -v wget >/dev/null; then wget -q ${ca:+--ca-certificate="$ca"} -O "$2" "$1"
  else fail "neither curl nor wget is here"
  fi
}

# All of it is read before any of it runs: half a script does nothing.
main() {
  boot='' work='' ca=''
  if [ "$(id -u)" = 0 ]; then into=/usr/local/bin dir=/var/lib/pennine-runner
  else into=$HOME/.local/bin dir=$HOME/pennine-runner
  fi
  for argument; do
    shift
    case $argument in
      --boot) boot=yes ;;
      --work) work=yes ;;
      --into=*) into=${argument#*=} ;;
      --dir=*) dir=${argument#*=} ;;
      --ca=*) ca=${argument#*=}; set -- "$@" "$argument" ;;
      *) set -- "$@" "$argument" ;;
    esac
  done
  [ -z "$boot" ] || [ "$(id -u)" = 0 ] || fail "--boot needs root: run it with sudo"

  platform=$(uname -s | tr 'A-Z' 'a-z')-$(uname -m | sed 's/^x86_64$/x86-64/; s/^aarch64$/arm64/')
  wanted=$(printf '%s\n' "$sums" | sed -n "s/^$platform //p")
  [ -n "$wanted" ] || fail "the service holds no program for $platform, only for:
$sums"

  temporary=$(mktemp -d)
  trap 'rm -rf "$temporary"' EXIT
  echo "Fetching pennine-runner for $platform from $server ..."
  fetch "$server/runner/v1/programs/$platform" "$temporary/pennine-runner" || fail "it cannot be fetched"
  found=$(sha256sum "$temporary/pennine-runner" | cut -d' ' -f1)
  [ "$found" = "$wanted" ] || fail "what came has the SHA-256 $found and not $wanted: it is not installed"
  chmod 755 "$temporary/pennine-runner"
  "$temporary/pennine-runner" --version >/dev/null ||
    fail "the program does not run here; it is built for Linux with the GNU C library"
  mkdir -p "$into"
  mv "$temporary/pennine-runner" "$into/pennine-runner"
  echo "Installed $into/pennine-runner, SHA-256 as expected."

  export PENNINE_RUNNER_DIR="$dir"
  "$into/pennine-runner" join --server "$server" "$@"
  if [ -n "$boot" ]; then "$into/pennine-runner" service install
  elif [ -n "$work" ]; then exec "$into/pennine-runner" work
  else echo "  Or have it start at boot: sudo $into/pennine-runner service install --dir $dir"
  fi
}

main "$@"
