#!/bin/sh
# Makes a Debian package of this checkout, with an environment of its own under /usr/lib/attentive-lens:
#     scripts/debian-package.sh FOLDER
# It is for the Debian that it is made on, whose Python the environment uses. Needs python3-venv and dpkg-deb, and the
# registries while it is made; what is installed needs neither.
set -eu
into=$(mkdir -p "$1" && cd "$1" && pwd)
here=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
stage="$work/stage"
place=usr/lib/attentive-lens
environment="$stage/$place"
python="$environment/bin/python"

mkdir -p "$stage/usr/lib" "$stage/DEBIAN" "$stage/usr/bin"
python3 -m venv "$environment"
"$python" -m pip install -q --disable-pip-version-check --require-hashes -r "$here/requirements.lock"
"$python" "$here/scripts/slim.py"
# What builds the wheel has the versions of the lock file too.
sed -n 's/^\([A-Za-z0-9._-]*==[^\\]*\)\\*$/\1/p' "$here/requirements-check.lock" >"$work/versions.txt"
PIP_CONSTRAINT="$work/versions.txt" "$python" -m pip wheel -q --disable-pip-version-check --no-deps -w "$work" "$here"
"$python" -m pip install -q --disable-pip-version-check --no-deps --no-compile "$work"/attentive_lens-*.whl
"$python" -c '
import sys
from pathlib import Path
from attentive_lens.cli.libraries import ALWAYS, PLATFORMS
from attentive_lens.core.version import VERSION
from attentive_lens.desktop.parts import parts
stage, architecture = Path(sys.argv[1]), sys.argv[2]
for place, data in parts(["/usr/bin/attentive-lens"]).items():
    (stage / "usr/share" / place).parent.mkdir(parents=True, exist_ok=True)
    (stage / "usr/share" / place).write_bytes(data)
minor = sys.version_info.minor
needed = sorted({*ALWAYS.values(), *PLATFORMS["xcb"].values(), *PLATFORMS["wayland"].values()})
needed = [f"python3 (>= 3.{minor})", f"python3 (<< 3.{minor + 1})", *needed]
size = sum(file.lstat().st_size for file in stage.rglob("*") if not file.is_dir()) // 1024
(stage / "DEBIAN/control").write_text(f"""Package: attentive-lens
Version: {VERSION}
Architecture: {architecture}
Maintainer: Attentive Lens <attentive-lens@example.invalid>
Section: science
Priority: optional
Installed-Size: {size}
Depends: {", ".join(needed)}
Description: workbench for convolutional image models
 Trains image models and finds out why they get an image wrong: look, train, find the
 mistakes, explain one, act on the cause, train again, prove it fixed.
""")
print(VERSION)
' "$stage" "$(dpkg --print-architecture)" >"$work/version"
mkdir -p "$stage/usr/share/doc/attentive-lens"
cp "$here/LICENSE" "$stage/usr/share/doc/attentive-lens/copyright"
"$python" -m pip uninstall -q -y --disable-pip-version-check pip
# Everything in it says where it will be, not where it was made.
grep -rlI "$stage" "$environment/bin" "$environment/pyvenv.cfg" "$environment/lib" | xargs -r sed -i "s#$stage/#/#g"
find "$environment" -name __pycache__ -type d -prune -exec rm -rf {} +
"$python" -m compileall -q -s "$stage" -p / "$environment/lib" || true  # a few files of others are for other Pythons
ln -s "/$place/bin/attentive-lens" "$stage/usr/bin/attentive-lens"
(cd "$stage" && find usr -type f -exec md5sum {} +) >"$stage/DEBIAN/md5sums"
chmod -R u+rwX,go+rX,go-w "$stage"
file="$into/attentive-lens_$(cat "$work/version")_$(dpkg --print-architecture).deb"
dpkg-deb --root-owner-group -Zxz -z1 --build "$stage" "$file" >/dev/null
printf '%s\n' "$file"
