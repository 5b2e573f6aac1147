#!/bin/bash
# Builds the Debian packages in a fresh Debian 12, installs them in another, runs what is in them, and removes them again.
# Needs root, debootstrap and Debian's archive; takes about half an hour on two cores. The packages stay in FOLDER/packages.
#   packaging/check-in-chroot.sh FOLDER
set -euo pipefail
[ $# -eq 1 ] || { sed -n 2,4p "$0" >&2; exit 2; }
[ "$(id -u)" -eq 0 ] || { echo "a chroot needs root" >&2; exit 2; }
command -v debootstrap >/dev/null || { echo "install debootstrap first" >&2; exit 2; }
source_folder=$(cd "$(dirname "$0")/.." && pwd)
mkdir -p "$1"
work=$(realpath "$1")
mirror=${MIRROR:-http://deb.debian.org/debian}
say() { printf '\033[1m%s\033[0m\n' "$*"; }

# A command in one of the two.
inside() {
    local root=$work/$1
    shift
    chroot "$root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LANG=C.UTF-8 DEBIAN_FRONTEND=noninteractive "$@"
}
mounted=()
give_back() { for m in "${mounted[@]}"; do umount -l "$m" 2>/dev/null || true; done; }
trap give_back EXIT
offer_proc() {
    mount -t proc proc "$work/$1/proc" && mounted+=("$work/$1/proc") || true
}

say "a fresh Debian 12"
rm -rf "$work/build" "$work/use" "$work/packages"
debootstrap --variant=minbase bookworm "$work/use" "$mirror" >"$work/debootstrap.log"
# The network's names, and packages that were fetched already, as this machine has them.
cp /etc/resolv.conf "$work/use/etc/resolv.conf" 2>/dev/null || true
cp /etc/apt/apt.conf.d/*proxy* "$work/use/etc/apt/apt.conf.d/" 2>/dev/null || true
echo "deb $mirror bookworm main" >"$work/use/etc/apt/sources.list"
cp -a "$work/use" "$work/build"

say "building"
offer_proc build
mkdir -p "$work/build/src/mindful-trail"
git -C "$source_folder" archive HEAD | tar -x -C "$work/build/src/mindful-trail"
inside build apt-get -q update >"$work/build.log"
inside build apt-get -q -y install --no-install-recommends build-essential fakeroot lintian >>"$work/build.log"
inside build apt-get -q -y build-dep --no-install-recommends /src/mindful-trail >>"$work/build.log"
inside build sh -c 'cd /src/mindful-trail && dpkg-buildpackage -b -us -uc' >>"$work/build.log" 2>&1 \
    || { tail -30 "$work/build.log"; exit 1; }
mkdir -p "$work/packages"
cp "$work"/build/src/*.deb "$work/packages"
ls -la "$work/packages"

say "lintian"
inside build sh -c 'lintian --tag-display-limit 0 --fail-on error /src/*.changes'

say "installing"
offer_proc use
mkdir "$work/use/packages"
cp "$work"/packages/mindful-trail*.deb "$work/use/packages"
rm -f "$work"/use/packages/*-dbgsym*.deb
inside use apt-get -q update >"$work/use.log"
inside use sh -c 'dpkg -l | awk "{print \$2}" | sort' >"$work/before"
inside use sh -c 'apt-get -q -y install --no-install-recommends /packages/*.deb desktop-file-utils appstream man-db shared-mime-info' >>"$work/use.log"

say "running"
inside use mtrail --version
inside use mindful-trail --version
inside use sh -c 'mtrail find /usr/share/mindful-trail/demo/larkspur.target.toml | head -3'
inside use sh -c 'mtrail find /usr/share/mindful-trail/demo/larkspur.target.toml --fail-if fault >/dev/null; test $? -eq 1'
inside use mtrail identify /usr/share/mindful-trail/demo/larkspur-night.swo --image /usr/share/mindful-trail/demo/larkspur.elf
inside use mindful-trail /usr/share/mindful-trail/demo/larkspur.target.toml --view finding=2 --picture /root/window.png
inside use test -s /root/window.png
inside use desktop-file-validate /usr/share/applications/mindful-trail.desktop
inside use appstreamcli validate --no-net /usr/share/metainfo/org.mindful_trail.MindfulTrail.metainfo.xml
for page in mtrail mindful-trail mtrail-board; do inside use test -s "/usr/share/man/man1/$page.1.gz"; done
for file in bash-completion/completions/mtrail zsh/vendor-completions/_mtrail fish/vendor_completions.d/mtrail.fish \
    mime/packages/mindful-trail.xml mindful-trail/recorder/mt_recorder.c; do
    inside use test -s "/usr/share/$file"
done

say "removing"
inside use apt-get -q -y purge 'mindful-trail*' >>"$work/use.log"
left=$(inside use find /usr /etc /var/lib -path /var/lib/apt -prune -o -path /var/lib/dpkg -prune -o \
    \( -name '*mindful*trail*' -o -name 'mtrail*' \) -print)
[ -z "$left" ] || { echo "left behind: $left"; exit 1; }
say "built, installed, run and removed; the packages are in $work/packages"
