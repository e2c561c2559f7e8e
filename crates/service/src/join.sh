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
#   --boot       have systemd start the runner at boot (as root)
#   --user=NAME  as root: whom the runner runs as, added if missing [default: pennine-runner]. With root, each job gets a
#                user of its own, and limits of jobs are kept by the kernel without systemd
#   --into=DIR   where the program goes: /usr/local/bin as root, ~/.local/bin otherwise
#   --dir=DIR    where the runner keeps what it needs: /var/lib/pennine-runner as root, ~/pennine-runner otherwise
#   --ca=FILE    a certificate authority to trust beside the usual ones and the service's own
set -eu

server='@SERVER@'
# The platforms that the service holds the program for, and its SHA-256 for each.
sums='@SUMS@'
# The certificate authority of the service (PEM), if it has one of its own.
authority='@AUTHORITY@'

fail() { echo "join.sh: $*" >&2; exit 1; }

fetch() { # ADDRESS FILE
  if command -v curl >/dev/null; then curl -fsSL ${ca:+--cacert "$ca"} -o "$2" "$1"
  elif command -v wget >/dev/null; then wget -q ${ca:+--ca-certificate="$ca"} -O "$2" "$1"
  else fail "neither curl nor wget is here"
  fi
}

# Runs the program as the runner's user.
runner() {
  if [ -z "$user" ]; then "$into/pennine-runner" "$@"
  else setpriv --reuid="$user" --regid="$(id -g "$user")" --init-groups env HOME="$dir" "$into/pennine-runner" "$@"
  fi
}

# Adds the runner's user, if it is missing, and gives it the folder.
give_folder() {
  command -v setpriv >/dev/null || fail "setpriv (util-linux) is not here: install it, or give --user=root"
  if ! id "$user" >/dev/null 2>&1; then
    command -v useradd >/dev/null || fail "useradd is not here: add the user $user, or give --user=root"
    useradd --system --user-group --home-dir "$dir" --shell /usr/sbin/nologin "$user"
    echo "Added the user $user."
  fi
  mkdir -p "$dir"
  chown "$user:" "$dir"
  chmod 700 "$dir"
}

# All of it is read before any of it runs: half a script does nothing.
main() {
  boot='' work='' ca='' user=''
  if [ "$(id -u)" = 0 ]; then into=/usr/local/bin dir=/var/lib/pennine-runner user=pennine-runner
  else into=$HOME/.local/bin dir=$HOME/pennine-runner
  fi
  for argument; do
    shift
    case $argument in
      --boot) boot=yes ;;
      --work) work=yes ;;
      --into=*) into=${argument#*=} ;;
      --user=*)
        [ "$(id -u)" = 0 ] || fail "--user needs root: run it with sudo"
        user=${argument#*=} ;;
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
  if [ -z "$ca" ] && [ -n "$authority" ]; then
    ca=$temporary/ca.pem
    printf '%s\n' "$authority" >"$ca"
    export PENNINE_AUTHORITY="$authority"
  fi
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
  service_user=$user
  [ "$user" != root ] || user=''
  [ -z "$user" ] || give_folder
  runner join --server "$server" "$@"
  if [ -n "$boot" ]; then "$into/pennine-runner" service install --user "$service_user"
  elif [ -n "$work" ]; then
    # The shell makes room for it, so that signals reach it.
    if [ -z "$user" ]; then exec "$into/pennine-runner" work
    else exec setpriv --reuid="$user" --regid="$(id -g "$user")" --init-groups env HOME="$dir" "$into/pennine-runner" work
    fi
  else echo "  Or have it start at boot: sudo $into/pennine-runner service install --dir $dir"
  fi
}

main "$@"
