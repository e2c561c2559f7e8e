# Builds a machine's own view of this host and becomes its program. It runs as the first process of new user, mount and
# process namespaces, so all that it makes goes with them.
#
# Arguments: overlay or read-only; the machine's folder; a folder to hide; a file in it that stays readable; the file
# behind /etc/resolv.conf; the most bytes that it may write outside its folder; a folder for its line to the service, or
# nothing if it has the host's network; the service's addresses; then the program and its arguments.
set -eu
walls=$1 folder=$2 hidden=$3 kept=$4 names=$5 scratch=$6 line=$7 servers=$8 program=$9
shift 8

# Each step prepends its options: the last step here is mounted first.
set -- --unshare-ipc --chdir "$folder" -- "$@"
if [ -n "$line" ]; then
  # Outside the sandbox, with the host's network. It ends with the first process of the namespace, and not before: the
  # runner still reports when it is asked to end.
  (trap '' TERM INT; cd "$line" && exec "$program" relay --socket service.sock --server "$servers" </dev/null) &
  relay=$! tries=0
  while [ ! -S "$line/service.sock" ] && [ "$tries" -lt 500 ] && kill -0 "$relay" 2>/dev/null; do
    tries=$((tries + 1))
    sleep 0.01
  done
  set -- --unshare-net --bind "$line" /run/pennine --setenv PENNINE_SERVER_SOCKET /run/pennine/service.sock "$@"
fi
set -- --bind "$folder" "$folder" "$@"
set -- --ro-bind-try "$kept" "$kept" --ro-bind-try "$names" "$names" --ro-bind "$program" "$program" "$@"
# What people and the service keep for themselves.
for place in /home /root "$hidden"; do
  set -- --size 1048576 --tmpfs "$place" "$@"
done
# Written files are kept in memory, private to the sandbox, and all of them together are limited.
mount -t tmpfs -o "mode=0755,size=$scratch" pennine /mnt
mkdir -m 1777 /mnt/tmp /mnt/vartmp /mnt/shm
mkdir /mnt/run
set -- --bind /mnt/tmp /tmp --bind /mnt/vartmp /var/tmp --bind /mnt/run /run --tmpfs /mnt "$@"
set -- --dev /dev --bind /mnt/shm /dev/shm --remount-ro /dev --proc /proc "$@"
if [ "$walls" = overlay ]; then
  for place in etc opt srv usr var; do
    [ -d "/$place" ] && [ ! -L "/$place" ] || continue
    mkdir -p "/mnt/$place/upper" "/mnt/$place/work" "/mnt/$place/whole"
    mount -t overlay overlay "/mnt/$place/whole" \
      -o "lowerdir=/$place,upperdir=/mnt/$place/upper,workdir=/mnt/$place/work,userxattr"
    set -- --bind "/mnt/$place/whole" "/$place" "$@"
  done
fi
exec bwrap --ro-bind / / "$@"
