#!/bin/sh
# Puts Isophon into this person's menus and makes .isophon files open with it.
# Takes back with: packaging/install.sh --remove
here=$(cd "$(dirname "$(readlink -f "$0")")" && pwd)
data=${XDG_DATA_HOME:-$HOME/.local/share}
bin=$HOME/.local/bin
set -- "${1:-}" "$data/applications/isophon.desktop" "$data/icons/hicolor/scalable/apps/isophon.svg" \
    "$data/mime/packages/isophon-mime.xml" "$data/metainfo/isophon.metainfo.xml"
if [ "$1" = --remove ]; then
    rm -f "$2" "$3" "$4" "$5" "$bin/isophon"
else
    for target in "$2" "$3" "$4" "$5"; do
        mkdir -p "$(dirname "$target")" && cp "$here/$(basename "$target")" "$target" || exit 1
    done
    mkdir -p "$bin" && ln -sf "$(dirname "$here")/isophon" "$bin/isophon" || exit 1
    sed -i "s|^Exec=isophon|Exec=\"$bin/isophon\"|; s|^TryExec=.*|TryExec=$bin/isophon|" "$2"
fi
command -v update-mime-database >/dev/null 2>&1 && update-mime-database "$data/mime" >/dev/null 2>&1
command -v update-desktop-database >/dev/null 2>&1 && update-desktop-database "$data/applications" >/dev/null 2>&1
exit 0
