#!/bin/sh
# A supplier of 40 lines: each machine is a pennine-runner on this host, in a folder under the setting "dir".
# Settings: dir, and runner (the path of pennine-runner). See docs/suppliers.md.
question=$(cat)
# Good enough for these questions, whose texts hold no quotes; take jq where you have it.
part() { printf '%s' "$question" | sed -n 's/.*"'"$1"'":"\{0,1\}\([^",}]*\).*/\1/p'; }

dir=$(part dir) machine=$(part machine) mine=$(part installation) home=$dir/$(part machine)
alive() { [ -e "$1/pid" ] && kill -0 "$(cat "$1/pid")" 2>/dev/null; }

case $(part ask) in
order)
  if ! alive "$home"; then # an order that is repeated makes no second machine
    mkdir -p "$home/home" && printf '%s' "$mine" >"$home/installation"
    PENNINE_URL=$(part server) PENNINE_TICKET=$(part ticket) setsid "$(part runner)" join --work \
      --name "$(part name)" --slots "$(part slots)" --dir "$home/home" >"$home/console" 2>&1 </dev/null &
    echo $! >"$home/pid"
  fi
  printf '{"reference": "pid %s"}\n' "$(cat "$home/pid")" ;;
remove) # well done when there is no such machine
  if [ -n "$machine" ] && [ -d "$home" ]; then
    alive "$home" && kill -KILL "-$(cat "$home/pid")" 2>/dev/null
    rm -rf "$home"
  fi
  echo '{}' ;;
list)
  printf '{"machines": [' && first=yes
  for one in "$dir"/*/; do
    [ "$(cat "$one/installation" 2>/dev/null)" = "$mine" ] || continue
    stage=stopped; alive "$one" && stage=running
    [ -n "$first" ] || printf ', '
    printf '{"machine": "%s", "reference": "pid %s", "stage": "%s"}' "$(basename "$one")" "$(cat "$one/pid")" $stage
    first=
  done
  echo ']}' ;;
console) # as a JSON text
  text=$(tr -d '\000-\011\013-\037' <"$home/console" 2>/dev/null | sed 's/[\\"]/\\&/g' | awk '{printf "%s\\n", $0}')
  printf '{"console": "%s"}\n' "$text" ;;
offer) echo '{"message": "processes on this host, without walls"}' ;;
*) echo '{"fault": "refused", "message": "this example does not know that question"}' ;;
esac
