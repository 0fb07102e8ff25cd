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
    if command -v apt-get >/dev/null 2>&1 && told=$(apt_install "$@" 2>&1); then
        say "Installed: $*"
    else
        [ -z "${told:-}" ] || say "$told"
        say "They could not be installed from here. As root, type:"
        say "    apt-get update && apt-get install --no-install-recommends $*"
        return 1
    fi
}

apt_install() {
    export DEBIAN_FRONTEND=noninteractive
    as_root apt-get update -qq >/dev/null && as_root apt-get install -y -qq --no-install-recommends "$@" >/dev/null
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

# make_environment LOCK MEGABYTES: the environment .venv with the packages a lock file names.
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
    free=$(df -Pm "$here" | awk 'NR == 2 {print $4}')
    say "Setting up, once: about two minutes, and $2 MB in $here/.venv ($free MB are free there)."
    [ "$free" -gt $(($2 + 600)) ] || fail "That needs $2 MB, and 600 MB more while it is unpacked: make room first."
    [ -x "$python" ] || "$system_python" -m venv "$here/.venv" || fail "The environment .venv could not be made."
    "$python" -m pip install -q --disable-pip-version-check --require-hashes -r "$lock" 2>"$here/.venv/setup.log" \
        || { cat "$here/.venv/setup.log" >&2; fail "The packages could not be installed; the reason stands above."; }
    "$python" "$here/scripts/slim.py"
    "$python" -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e "$here" \
        2>"$here/.venv/setup.log" \
        || { cat "$here/.venv/setup.log" >&2; fail "Attentive Lens itself could not be installed."; }
    "$python" -m compileall -q "$here/src" || true  # else the first start does it while somebody waits
    cp "$lock" "$stamp"
}

# compile_loops: what is compiled at its first use, now and in the background, by two that share it.
compile_loops() {
    for _ in 1 2; do "$python" -m attentive_lens.desk.compiling </dev/null >/dev/null 2>&1 & done
}

# need_qt PLATFORM (offscreen, xcb or wayland): names and installs the system libraries that Qt lacks.
need_qt() {
    packages=$("$python" -m attentive_lens.cli.libraries "$1") || return 1
    [ -n "$packages" ] || return 0
    install_packages "Qt's windows" $packages || return 1
    packages=$("$python" -m attentive_lens.cli.libraries "$1")
    [ -z "$packages" ] || { say "Still missing after that: "$packages; return 1; }
}
