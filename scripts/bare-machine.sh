#!/bin/sh
# Runs both first commands on a bare Debian, as somebody does who has just installed it. By hand, as root:
#     scripts/bare-machine.sh bookworm FOLDER      (Debian 12; trixie is 13)
# FOLDER keeps the downloaded system; everything else is made anew. Needs debootstrap, git, Xvfb and xwininfo.
# ./start is run with a display first (its window must appear), then without, then ./check.
set -u
suite=$1
folder=$2
here=$(cd "$(dirname "$0")/.." && pwd)
base="$folder/$suite"
root="$folder/$suite-run"
display=:97
server=""

cleanup() {
    [ -n "$server" ] && kill "$server" 2>/dev/null
    for place in dev/shm dev proc; do umount "$root/$place" 2>/dev/null; done
}
trap cleanup EXIT
trap 'exit 1' INT TERM

[ -e "$base/etc/debian_version" ] || debootstrap --variant=minbase "$suite" "$base" || exit 1
for place in dev/shm dev proc; do umount "$root/$place" 2>/dev/null; done
rm -rf "$root" && cp -a "$base" "$root" || exit 1
mkdir -p "$root/opt/attentive-lens"
git -C "$here" archive HEAD | tar -x -C "$root/opt/attentive-lens" || exit 1
# The names of the network, and certificates where the registries are reached through somebody's own.
cp /etc/resolv.conf "$root/etc/resolv.conf"
certificates=/etc/certificates-of-the-host.crt
cp /etc/ssl/certs/ca-certificates.crt "$root$certificates" || exit 1
mount -t proc proc "$root/proc" && mount --bind /dev "$root/dev" && mount -t tmpfs tmpfs "$root/dev/shm" || exit 1

inside() {
    chroot "$root" /usr/bin/env -i HOME=/opt PATH=/usr/sbin:/usr/bin:/sbin:/bin LANG=C.UTF-8 \
        PIP_CERT="$certificates" "$@"
}
seconds() { date +%s; }
say() { printf '%s: %s\n' "$suite" "$*"; }

Xvfb "$display" -screen 0 1280x800x24 -ac >/dev/null 2>&1 &
server=$!
sleep 2
began=$(seconds)
inside DISPLAY="$display" /opt/attentive-lens/start >"$folder/$suite-start.log" 2>&1 &
window=""
while [ $(($(seconds) - began)) -lt 900 ]; do
    window=$(xwininfo -display "$display" -root -tree | grep '"pollen station' | head -n 1)
    [ -n "$window" ] && break
    kill -0 $! 2>/dev/null || break
    sleep 1
done
if [ -z "$window" ]; then say "no window; see $folder/$suite-start.log"; exit 1; fi
say "a window after $(($(seconds) - began)) s:$window"
sleep 5
command -v import >/dev/null && import -display "$display" -window root "$folder/$suite-window.png" 2>/dev/null
pkill -f "attentive_lens demo" 2>/dev/null
wait $! 2>/dev/null
say "the environment takes $(du -sm "$root/opt/attentive-lens/.venv" | cut -f 1) MB"

for words in start check; do
    began=$(seconds)
    if inside "/opt/attentive-lens/$words" >"$folder/$suite-$words-again.log" 2>&1; then
        say "./$words without a display: done in $(($(seconds) - began)) s; it ends:"
        tail -n 4 "$folder/$suite-$words-again.log"
    else
        say "./$words without a display failed; see $folder/$suite-$words-again.log"
        exit 1
    fi
done
