#!/bin/sh
# start-entries: the menu of this drive, made anew from the kernels in /boot, the newest first.
#   start-entries                  after a kernel or an initial RAM disk came, changed or went
#   start-entries without VERSION  before this one goes
# Title and parameters stand in /etc/start-entries.conf. The system's own hooks run this; so may its administrator.
set -eu
PATH=/usr/sbin:/usr/bin:/sbin:/bin
LC_ALL=C
export PATH LC_ALL
top=${START_ENTRIES_TOP:-} # of a system that is mounted somewhere
conf=$top/etc/start-entries.conf
entries=$top/boot/loader/entries
[ -f "$conf" ] && [ -d "$entries" ] || exit 0
title=$(sed -n 's/^title //p' "$conf" | sed -n 1p)
wait=$(sed -n 's/^wait //p' "$conf" | sed -n 1p)
options=$(sed -n 's/^options //p' "$conf" | sed -n 1p)
leaving=
[ "${1:-}" != without ] || leaving=${2:-}
cd "$top/boot"
by=-V
echo | sort -V >/dev/null 2>&1 || by=
new=$entries/.new
rm -rf "$new"
mkdir "$new"
count=0
printf 'set timeout=%s\nset default=0\n' "${wait:-5}" >"$new/menu"

initrd_of() { # VERSION
    for form in "initrd.img-$1" "initramfs-$1.img" "initrd-$1" "initramfs-$1" "initrd-$1.img" "initramfs-genkernel-$1"; do
        if [ -f "$form" ]; then
            echo "$form"
            return
        fi
    done
}

put() { # TITLE KERNEL INITRD PARAMETERS
    count=$((count + 1))
    number=$(printf %04d $count)
    {
        printf 'title      %s\nsort-key   %s\nlinux      /boot/%s\n' "$1" "$number" "$2"
        [ -z "$3" ] || printf 'initrd     /boot/%s\n' "$3"
        printf 'options    %s\n' "$4"
    } >"$new/$number.conf"
    # the same for the system's own loader, where it starts this drive, too
    {
        printf "menuentry '%s' {\n\tlinux /boot/%s %s\n" "$(printf %s "$1" | tr -d "'")" "$2" "$4"
        [ -z "$3" ] || printf '\tinitrd /boot/%s\n' "$3"
        printf '}\n'
    } >>"$new/menu"
}

# The version of every kernel; one whose initial RAM disk is still being made comes when that is there
kernels() { # ALL
    for file in vmlinuz-* kernel-* linux-*; do
        case $file in *[!-A-Za-z0-9._+~]* | *-) continue ;; esac
        version=${file#*-}
        [ -f "$file" ] && [ "$version" != "$leaving" ] || continue
        if grep -qxF "without $version" "$conf"; then # its initial RAM disk had no driver for this drive
            disk=$(initrd_of "$version")
            [ -n "$disk" ] && [ "$disk" -nt "$conf" ] || continue
        fi
        [ -n "$1" ] || [ -n "$(initrd_of "$version")" ] || continue
        echo "$version"
    done | sort -r -u $by
}
list=$(kernels "")
[ -n "$list" ] || list=$(kernels all)
while read -r version; do
    [ -n "$version" ] || continue
    for file in "vmlinuz-$version" "kernel-$version" "linux-$version"; do [ ! -f "$file" ] || break; done
    [ -n "${first:-}" ] || first=$file
    if [ "$file" = "$first" ]; then name=$title; else name="$title (kernel $(printf %.38s "$version"))"; fi
    put "$name" "$file" "$(initrd_of "$version")" "$options"
done <<END
$list
END
if [ $count -eq 0 ]; then # a menu of nothing helps nobody: the old one stays
    rm -rf "$new"
    exit 0
fi
put "$title (rescue: one user, no services)" "$first" "$(initrd_of "${first#*-}")" "$options single"

# Each takes its old one's place in one step: whenever the power goes, every entry is a whole one.
sync
for file in "$new"/*.conf; do
    cmp -s "$file" "$entries/${file##*/}" || mv -f "$file" "$entries/${file##*/}"
done
for file in "$entries"/[0-9][0-9][0-9][0-9].conf; do
    number=${file##*/}
    number=${number%.conf}
    [ "$(printf %d "$(echo "$number" | sed 's/^0*//')")" -le $count ] || rm -f "$file"
done
menu=$top/boot/loader/menu.cfg
[ ! -f "$menu" ] || cmp -s "$new/menu" "$menu" || mv -f "$new/menu" "$menu"
rm -rf "$new"
sync
# what is in the journal only is not seen by what starts this drive
if [ -z "$top" ] && command -v fsfreeze >/dev/null 2>&1; then
    fsfreeze -f /boot 2>/dev/null && fsfreeze -u /boot || :
fi
