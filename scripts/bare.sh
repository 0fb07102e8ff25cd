# Sourced by what tries a bare Debian: a system of its own, anew, and a display. Takes $1, the suite (bookworm is Debian
# 12, trixie 13), and $2, a folder, which keeps the downloaded system. Needs root, debootstrap, git, Xvfb and xwininfo.
set -u
suite=$1
folder=$2
here=$(cd "$(dirname "$0")/.." && pwd)
base="$folder/$suite"
root="$folder/$suite-run"
display=:97
server=""

leave() { for place in dev/shm dev proc; do umount "$root/$place" 2>/dev/null; done; }
cleanup() {
    [ -n "$server" ] && kill "$server" 2>/dev/null
    leave
}
trap cleanup EXIT
trap 'exit 1' INT TERM

[ -e "$base/etc/debian_version" ] || debootstrap --variant=minbase "$suite" "$base" || exit 1
# The names of the network, and certificates where the registries are reached through somebody's own.
certificates=/etc/certificates-of-the-host.crt

# new_system: one that nothing was done to.
new_system() {
    leave
    rm -rf "$root" && cp -a "$base" "$root" || exit 1
    cp /etc/resolv.conf "$root/etc/resolv.conf"
    cp /etc/ssl/certs/ca-certificates.crt "$root$certificates" || exit 1
    mount -t proc proc "$root/proc" && mount --bind /dev "$root/dev" && mount -t tmpfs tmpfs "$root/dev/shm" || exit 1
}

inside() {
    chroot "$root" /usr/bin/env -i -C /opt HOME=/opt PATH=/usr/sbin:/usr/bin:/sbin:/bin LANG=C.UTF-8 \
        DEBIAN_FRONTEND=noninteractive PIP_CERT="$certificates" "$@"
}
seconds() { date +%s; }
say() { printf '%s: %s\n' "$suite" "$*"; }

begin_display() {
    Xvfb "$display" -screen 0 1280x800x24 -ac >/dev/null 2>&1 &
    server=$!
    sleep 2
}

# window_of PROCESS TITLE SECONDS: waits for a window whose title begins so; prints it.
window_of() {
    began=$(seconds)
    while [ $(($(seconds) - began)) -lt "$3" ]; do
        shown=$(xwininfo -display "$display" -root -tree | grep "\"$2" | head -n 1)
        [ -n "$shown" ] && { printf '%s' "$shown"; return 0; }
        kill -0 "$1" 2>/dev/null || return 1
        sleep 1
    done
    return 1
}
