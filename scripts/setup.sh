# Sourced by ./start and ./check: makes the environment and finds what Qt lacks.
# After it, $python is the environment's interpreter. Touches the registries only when something is missing.

say() { printf '%s\n' "$*" >&2; }
fail() { say "$1"; exit 1; }

as_root() {
    if [ "$(id -u)" = 0 ]; then "$@"
    elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then sudo "$@"
    else return 1; fi
}

# install_packages WHY PACKAGE…: installs Debian packages where we may, else says the command to type.
install_packages() {
    why=$1; shift
    say "Missing for $why: $*"
    export DEBIAN_FRONTEND=noninteractive
    if command -v apt-get >/dev/null 2>&1 && as_root apt-get update -qq >/dev/null \
        && as_root apt-get install -y -qq --no-install-recommends "$@" >/dev/null; then
        say "Installed: $*"
    else
        say "They could not be installed from here. As root, type:"
        say "    apt-get install --no-install-recommends $*"
        return 1
    fi
}

find_python() {
    for candidate in python3 python3.14 python3.13 python3.12 python3.11; do
        if command -v "$candidate" >/dev/null 2>&1 \
            && "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
            printf '%s' "$candidate"; return 0
        fi
    done
    return 1
}

make_environment() {
    lock=$1
    python="$here/.venv/bin/python"
    stamp="$here/.venv/attentive-lens-$(basename "$lock")"
    if [ -x "$python" ] && cmp -s "$lock" "$stamp" && "$python" -c 'import attentive_lens' 2>/dev/null; then
        return 0
    fi
    system_python=$(find_python) || {
        install_packages "running at all" python3 python3-venv || exit 1
        system_python=$(find_python) || fail "Attentive Lens needs Python 3.11 or newer; none was found."
    }
    "$system_python" -c 'import ensurepip, venv' 2>/dev/null \
        || install_packages "making an environment" python3-venv || exit 1
    say "Setting up (once; about two minutes) …"
    [ -x "$python" ] || "$system_python" -m venv "$here/.venv" || fail "The environment .venv could not be made."
    "$python" -m pip install -q --disable-pip-version-check --require-hashes -r "$lock" 2>"$here/.venv/setup.log" \
        || { cat "$here/.venv/setup.log" >&2; fail "The packages could not be installed; the reason stands above."; }
    "$python" -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e "$here" \
        2>"$here/.venv/setup.log" \
        || { cat "$here/.venv/setup.log" >&2; fail "Attentive Lens itself could not be installed."; }
    cp "$lock" "$stamp"
}

# Packages that hold the shared libraries Qt asks for. The linker tells which are missing; Qt's own message
# names one library whatever is lacking.
package_of() {
    case "$1" in
        libGL.so*) echo libgl1 ;;
        libEGL.so*) echo libegl1 ;;
        libxkbcommon.so*) echo libxkbcommon0 ;;
        libdbus-1.so*) echo libdbus-1-3 ;;
        libfontconfig.so*) echo libfontconfig1 ;;
        libfreetype.so*) echo libfreetype6 ;;
        libglib-2.0.so* | libgthread-2.0.so*) echo libglib2.0-0 ;;
        libxcb-cursor.so*) echo libxcb-cursor0 ;;
        libxcb-icccm.so*) echo libxcb-icccm4 ;;
        libxcb-image.so*) echo libxcb-image0 ;;
        libxcb-keysyms.so*) echo libxcb-keysyms1 ;;
        libxcb-render-util.so*) echo libxcb-render-util0 ;;
        libxcb-shape.so*) echo libxcb-shape0 ;;
        libxcb-*.so*) echo "$(printf '%s' "$1" | sed 's/\.so.*//')0" ;;
        libxkbcommon-x11.so*) echo libxkbcommon-x11-0 ;;
        libX11-xcb.so*) echo libx11-xcb1 ;;
        libX11.so*) echo libx11-6 ;;
        *) echo "" ;;
    esac
}

# need_qt PLATFORM (offscreen or xcb): names and installs the system libraries that are missing.
need_qt() {
    plugins=$("$python" -c 'import os, PyQt6; print(os.path.join(os.path.dirname(PyQt6.__file__), "Qt6"))')
    missing=$(ldd "$plugins/plugins/platforms/libq$1.so" "$plugins/lib/libQt6Widgets.so.6" 2>/dev/null \
        | awk '/not found/ {print $1}' | sort -u)
    [ -n "$missing" ] || return 0
    packages=""
    for library in $missing; do
        case "$library" in libQt6*) continue ;; esac
        package=$(package_of "$library")
        [ -n "$package" ] || { say "Qt needs the library $library, and we know no package for it."; continue; }
        packages="$packages $package"
    done
    packages=$(printf '%s\n' $packages | sort -u)
    [ -n "$packages" ] && install_packages "Qt's windows" $packages
}
