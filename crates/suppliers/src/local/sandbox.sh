# Builds a machine's own view of this host and becomes its program. It runs as the first process of new user, mount and
# process namespaces, so all that it makes goes with them.
#
# Arguments: overlay or read-only; the machine's folder; a folder to hide; a file in it that stays readable; the file
# behind /etc/resolv.conf; then the program and its arguments.
set -eu
walls=$1 folder=$2 hidden=$3 kept=$4 names=$5 program=$6
shift 5

# Each step prepends its options: the last step here is mounted first.
set -- --bind "$folder" "$folder" --unshare-ipc --chdir "$folder" -- "$@"
set -- --ro-bind-try "$kept" "$kept" --ro-bind-try "$names" "$names" --ro-bind "$program" "$program" "$@"
# What people and the service keep for themselves.
set -- --tmpfs /home --tmpfs /root --tmpfs "$hidden" "$@"
set -- --dev /dev --proc /proc --tmpfs /tmp --tmpfs /var/tmp --tmpfs /run --tmpfs /mnt "$@"
if [ "$walls" = overlay ]; then
  # Written files are kept in memory, private to the sandbox.
  mount -t tmpfs -o mode=0700,size=50% pennine /mnt
  for place in etc opt srv usr var; do
    [ -d "/$place" ] && [ ! -L "/$place" ] || continue
    mkdir -p "/mnt/$place/upper" "/mnt/$place/work" "/mnt/$place/whole"
    mount -t overlay overlay "/mnt/$place/whole" \
      -o "lowerdir=/$place,upperdir=/mnt/$place/upper,workdir=/mnt/$place/work,userxattr"
    set -- --bind "/mnt/$place/whole" "/$place" "$@"
  done
fi
exec bwrap --ro-bind / / "$@"
