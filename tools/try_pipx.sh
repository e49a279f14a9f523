#!/bin/sh
# Installs Isophon with pipx from a copy of what is committed, and once more with pip from the built wheel, each in a folder of its
# own; then starts both. Usage: tools/try_pipx.sh
here=$(cd "$(dirname "$(readlink -f "$0")")/.." && pwd)
folder=$(mktemp -d) || exit 1
trap 'rm -rf "$folder"' EXIT
export HOME="$folder" PIPX_HOME="$folder/pipx" PIPX_BIN_DIR="$folder/bin" XDG_DATA_HOME="$folder/share" XDG_CACHE_HOME="$folder/cache"
unset PYTHONPATH
works() { # that a command makes the demo, finds its esses, opens its window and goes into the menus
    "$1" --version || return 1
    made=$("$1" demo --make-only) && "$1" find "$(dirname "$made")/Lead.wav" --only ess --quiet | tail -1 || return 1
    QT_QPA_PLATFORM=offscreen timeout 20 "$1"
    [ $? = 124 ] || { echo "its window did not stay open" >&2; return 1; }
    "$1" --install-desktop && "$1" --remove-desktop
}
git clone -q "$here" "$folder/source" && cd "$folder/source" || exit 1
python3 -m venv "$folder/tools" && "$folder/tools/bin/pip" install -q pipx build || exit 1
"$folder/tools/bin/pipx" install . >"$folder/log" 2>&1 || { tail -5 "$folder/log" >&2; exit 1; }
works "$PIPX_BIN_DIR/isophon" && echo "pipx: installed and started" || exit 1
"$folder/tools/bin/python" -m build --wheel -o "$folder/wheel" >"$folder/log" 2>&1 || { tail -5 "$folder/log" >&2; exit 1; }
python3 -m venv "$folder/plain" && "$folder/plain/bin/pip" install -q "$folder"/wheel/*.whl || exit 1
works "$folder/plain/bin/isophon" && echo "pip and the wheel: installed and started"
