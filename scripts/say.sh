# Sourced by the scripts: how they talk, and how they become root.

say() { printf '%s\n' "$*"; }
fail() { printf 'error: %s\n' "$*" >&2; exit 1; }

# Runs a command as root: as it is for root, through sudo for others.
as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"
  elif command -v sudo >/dev/null; then sudo "$@"
  else fail "this needs root: $* (there is no sudo; run it once as root)"
  fi
}

# Runs a long step with its name and the time it took; its output is shown only when it fails.
step() {
  local name=$1 log begun=$SECONDS; shift
  log=$(mktemp)
  printf '%s ... ' "$name"
  if "$@" >"$log" 2>&1 </dev/null; then
    printf 'done (%d s)\n' $((SECONDS - begun)); rm -f "$log"
  else
    printf 'failed after %d s\n' $((SECONDS - begun)); tail -n 60 "$log" >&2; rm -f "$log"; return 1
  fi
}
