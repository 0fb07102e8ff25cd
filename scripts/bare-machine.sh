#!/bin/sh
# Runs both first commands on a bare Debian, as somebody does who has just installed it. By hand, as root:
#     scripts/bare-machine.sh bookworm FOLDER      (Debian 12; trixie is 13)
# ./start is run with a display first (its window must appear), then without, then ./check.
. "$(dirname "$0")/bare.sh"

new_system
mkdir -p "$root/opt/attentive-lens"
git -C "$here" archive HEAD | tar -x -C "$root/opt/attentive-lens" || exit 1
begin_display
first=$(seconds)
inside DISPLAY="$display" /opt/attentive-lens/start >"$folder/$suite-start.log" 2>&1 &
window=$(window_of $! "pollen station" 900) || { say "no window; see $folder/$suite-start.log"; exit 1; }
say "a window after $(($(seconds) - first)) s:$window"
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
