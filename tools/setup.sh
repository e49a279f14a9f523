# Shared by ./isophon and ./check: makes the virtual environment and sees to
# the system libraries. Sourced, with $here set to the root of the repository.
# isophon_setup LOCK NAME PACKAGE...   LOCK: the locked Python packages;
# NAME: the stamp; PACKAGE: the Debian packages that must be present.

isophon_say() { printf 'isophon: %s\n' "$*" >&2; }

isophon_missing() { # the packages of "$@" that are not installed
    for package in "$@"; do
        dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null | grep -q '^installed$' || printf '%s ' "$package"
    done
}

isophon_debian() { # sees that the Debian packages "$@" are there
    command -v dpkg-query >/dev/null 2>&1 || {
        isophon_say "not a Debian system: make sure the equivalents of these are installed: $*"
        return 0
    }
    missing=$(isophon_missing "$@")
    [ -z "$missing" ] && return 0
    if [ "$(id -u)" = 0 ]; then
        as=""
    elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
        as="sudo -n"
    else
        isophon_say "these system packages are missing, and may not be installed from here; install them, then start again: apt-get install $missing"
        return 1
    fi
    isophon_say "installing system packages: $missing"
    # shellcheck disable=SC2086
    { $as apt-get update -qq && $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing; } >"$here/.setup.log" 2>&1 || {
        isophon_say "the system packages could not be installed; install them by hand: apt-get install $missing (details in .setup.log)"
        return 1
    }
    rm -f "$here/.setup.log"
}

isophon_setup() {
    lock=$here/$1
    stamp=$here/.venv/$2.lock
    shift 2
    cmp -s "$lock" "$stamp" && [ -x "$here/.venv/bin/python" ] && return 0
    python=$(command -v python3.11 || command -v python3) || {
        isophon_say "Python 3.11 or newer is needed and was not found; install it: apt-get install python3 python3-venv"
        return 1
    }
    "$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
        isophon_say "Python 3.11 or newer is needed; $python is older"
        return 1
    }
    isophon_debian "$@" || return 1
    if [ ! -x "$here/.venv/bin/python" ] || ! "$here/.venv/bin/python" -m pip --version >/dev/null 2>&1; then
        isophon_say "making .venv (once)"
        "$python" -c 'import ensurepip' 2>/dev/null || isophon_debian python3-venv || return 1
        "$python" -m venv --clear "$here/.venv" || return 1
    fi
    isophon_say "installing the locked Python packages (once, a minute or two)"
    "$here/.venv/bin/python" -m pip install --quiet --disable-pip-version-check --require-hashes --no-deps -r "$lock" >&2 || {
        isophon_say "the Python packages could not be installed; see the lines above, then start again"
        return 1
    }
    cp "$lock" "$stamp"
}

ISOPHON_DEBIAN="libportaudio2 libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-render-util0 libxcb-shape0 libxcb-xkb1 libfontconfig1 libdbus-1-3 libglib2.0-0"
ISOPHON_DEBIAN_TESTS="espeak-ng alsa-utils jackd2 xvfb xauth openbox weston appstream desktop-file-utils"
