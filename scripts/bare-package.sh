#!/bin/sh
# Makes the Debian package on a bare Debian, and tries it on another: installed, begun from its desktop entry, used from
# the terminal, removed without a trace. By hand, as root:
#     scripts/bare-package.sh bookworm FOLDER
. "$(dirname "$0")/bare.sh"

new_system
mkdir -p "$root/opt/sources"
git -C "$here" archive HEAD | tar -x -C "$root/opt/sources" || exit 1
began=$(seconds)
inside sh -c 'apt-get update -qq && apt-get install -y -qq --no-install-recommends python3 python3-venv' \
    >"$folder/$suite-make.log" 2>&1 || { say "no Python; see $folder/$suite-make.log"; exit 1; }
inside sh /opt/sources/scripts/debian-package.sh /opt/made >>"$folder/$suite-make.log" 2>&1 \
    || { say "no package; see $folder/$suite-make.log"; exit 1; }
package=$(basename "$root"/opt/made/*.deb)
cp "$root/opt/made/$package" "$folder/$suite-$package"
say "$package: $(du -m "$folder/$suite-$package" | cut -f 1) MB, made in $(($(seconds) - began)) s"

new_system
inside apt-get update -qq >/dev/null 2>&1
everything() { (cd "$root" && find . -xdev -not -path './proc/*' -not -path './dev/*' -not -path './tmp/*' | sort); }
cp "$folder/$suite-$package" "$root/tmp/$package"
# What it needs is put there first, so that what is left behind is its own.
inside apt-get install -y -qq --no-install-recommends $(dpkg-deb -f "$folder/$suite-$package" Depends \
    | sed 's/([^)]*)//g; s/,/ /g') >"$folder/$suite-needs.log" 2>&1 || { say "what it needs is not to be had"; exit 1; }
everything >"$folder/$suite-before.txt"
inside dpkg -i "/tmp/$package" >"$folder/$suite-install.log" 2>&1 || { say "not installed; see $folder/$suite-install.log"; exit 1; }
say "installed: $(du -sm "$root/usr/lib/attentive-lens" | cut -f 1) MB under one prefix"
inside attentive-lens about | head -n 3
inside attentive-lens demo station --no-window --images 120 >"$folder/$suite-demo.log" 2>&1 \
    || { say "no example; see $folder/$suite-demo.log"; exit 1; }
entry="$root/usr/share/applications/attentive-lens.desktop"
command=$(sed -n 's/^Exec=//p' "$entry" | head -n 1 | sed 's/ %f/ station/')
begin_display
inside DISPLAY="$display" sh -c "$command" >"$folder/$suite-window.log" 2>&1 &
window=$(window_of $! "pollen station" 120) || { say "no window; see $folder/$suite-window.log"; exit 1; }
say "a window from its desktop entry, «$command»:$window"
pkill -f "/usr/lib/attentive-lens/bin" 2>/dev/null
wait $! 2>/dev/null
inside dpkg --purge attentive-lens >>"$folder/$suite-install.log" 2>&1 || { say "not purged"; exit 1; }
rm -rf "$root/opt/station" "$root/opt/.cache" "$root/opt/.local" "$root/opt/.config"  # of the user who tried it
everything >"$folder/$suite-after.txt"
left=$(diff "$folder/$suite-before.txt" "$folder/$suite-after.txt" | grep '^[<>]' \
    | grep -v 'var/lib/dpkg/\|var/log/\|var/cache/')
if [ -n "$left" ]; then say "left behind:"; printf '%s\n' "$left" | head; exit 1; fi
say "purged without a trace"
