#!/bin/sh
# Installs a Debian package of Isophon in a fresh Debian in a folder, and starts it there: its window too, on a screen that nobody
# sees. Usage, as root: tools/try_deb.sh DEB [MIRROR]. Where debootstrap may not be used, the package is only unpacked and looked at.
deb=$(readlink -f "$1") && [ -f "$deb" ] || { echo "usage: tools/try_deb.sh DEB [MIRROR]" >&2; exit 2; }
root=$(mktemp -d) || exit 1
trap 'umount "$root/proc" 2>/dev/null; rm -rf "$root" "$root.log"' EXIT
if [ "$(id -u)" = 0 ] && command -v debootstrap >/dev/null && debootstrap --variant=minbase --include=python3 bookworm "$root" $2 >"$root.log" 2>&1; then
    cp "$deb" "$root/isophon.deb"
    mount -t proc proc "$root/proc" 2>/dev/null  # files appear whole by way of /proc/self/fd
    [ -d /etc/apt/apt.conf.d ] && cp /etc/apt/apt.conf.d/* "$root/etc/apt/apt.conf.d/" 2>/dev/null
    cp /etc/resolv.conf "$root/etc/resolv.conf" 2>/dev/null
    in_it() { chroot "$root" env PATH=/usr/sbin:/usr/bin:/sbin:/bin DEBIAN_FRONTEND=noninteractive HOME=/root "$@"; }
    { in_it apt-get update -qq && in_it apt-get install -y -qq --no-install-recommends /isophon.deb; } >>"$root.log" 2>&1 || {
        tail -5 "$root.log" >&2
        exit 1
    }
    in_it isophon --version || exit 1
    in_it env QT_QPA_PLATFORM=offscreen timeout 20 isophon
    [ $? = 124 ] && echo "its window opened and stayed open" || { echo "its window did not stay open" >&2; exit 1; }
    in_it isophon demo --make-only && in_it sh -c 'isophon find "$HOME"/.cache/isophon/demo-*/Lead.wav --only ess --quiet | tail -1'
else
    dpkg-deb -x "$deb" "$root" || exit 1
    echo "unpacked only: debootstrap was not possible here"
    PYTHONPATH=$root/usr/lib/isophon PYTHONNOUSERSITE=1 python3 -P -m isophon --version
fi
