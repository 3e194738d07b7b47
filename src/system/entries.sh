#!/bin/sh
# start-entries: the menu of this drive, made anew from the kernels in /boot, the newest first.
#   start-entries                  after a kernel or an initial RAM disk came, changed or went
#   start-entries without VERSION  before this one goes
#   start-entries good             the kernel that runs is up
# Title and parameters stand in /etc/start-entries.conf. The system's own hooks run this; so may its administrator.
#
# A kernel that is new, or has a new initial RAM disk, has so many tries as that file says, counted in its entry's name
# (NUMBER+LEFT-DONE.conf) by what starts this drive. When it is up it is good; without a try left the next one starts.
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
tries=$(sed -n 's/^tries //p' "$conf" | sed -n 1p)
case $tries in [1-9]) ;; *) tries=0 ;; esac
at=/boot # of the volume that starts
if grep -qx 'boot apart' "$conf"; then at=; fi
inside= # this system stands in a file, which a small program finds
if grep -qx 'root inside' "$conf" && [ -f "$top/boot/loader/start-inside" ]; then inside=yes; fi
leaving= good= fresh= proven=
case ${1:-} in
without) leaving=${2:-} ;;
good)
    good=${2:-$(sed -n 's/.* start\.entry=\([^ ]*\).*/\1/p' /proc/cmdline)}
    [ -n "$good" ] || exit 0
    ;;
esac
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

pad() { # BYTES
    case $(($1 % 4)) in 1) printf '\0\0\0' ;; 2) printf '\0\0' ;; 3) printf '\0' ;; esac
}

# One file of a cpio archive
file_of() { # NAME MODE [FILE]
    serial=$((serial + 1))
    bytes=0
    [ -z "${3:-}" ] || bytes=$(($(wc -c <"$3")))
    printf '070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\0' $serial $(($2)) 0 0 1 0 $bytes 0 0 0 0 $((${#1} + 1)) 0 "$1"
    pad $((111 + ${#1}))
    [ -z "${3:-}" ] || cat "$3"
    pad $bytes
}

# A small initial RAM disk behind the system's own: the program, and the driver for a disk that is a file
inside_of() { # VERSION
    drivers=$top/lib/modules/$1
    for driver in "$drivers"/kernel/drivers/block/loop.ko*; do [ ! -f "$driver" ] || break; done
    case $driver in
    *.ko) cat "$driver" ;;
    *.xz) xz -dc "$driver" ;;
    *.zst) zstd -dcq "$driver" ;;
    *.gz) gzip -dc "$driver" ;;
    *) [ ! -d "$drivers" ] || grep -q '/loop\.ko' "$drivers/modules.builtin" 2>/dev/null || return 0 ;;
    esac >"$new/driver" || return 0
    serial=0
    for name in start-inside.d start-inside.d/dev start-inside.d/proc start-inside.d/sys; do file_of $name 040755; done >"$new/inside"
    file_of start-inside 0100755 "$top/boot/loader/start-inside" >>"$new/inside"
    [ ! -s "$new/driver" ] || file_of start-inside.d/loop.ko 0100644 "$new/driver" >>"$new/inside"
    file_of 'TRAILER!!!' 0 >>"$new/inside"
    mv "$new/inside" "$new/start-inside-$1.img"
}

# The entry of a kernel as it stands, not the rescue entry
entry_of() { # KERNEL
    for file in "$entries"/[0-9][0-9][0-9][0-9]*.conf; do
        if [ -f "$file" ] && grep -qxF "linux      $at/$1" "$file" && ! grep -q '^options .* single$' "$file"; then
            echo "$file"
            return
        fi
    done
}

# "+LEFT-DONE", "fresh" for one that has all its tries, or nothing for one that is good
counter_of() { # VERSION KERNEL INITRD
    [ $tries -gt 0 ] && [ "$1" != "$good" ] || return 0
    old=$(entry_of "$2")
    if [ -z "$old" ] || [ "$2" -nt "$old" ] || [ "${3:-$2}" -nt "$old" ]; then
        echo fresh
        return
    fi
    old=${old##*/}
    old=${old%.conf}
    case $old in *+[0-9]-[0-9]) ;; *) return 0 ;; esac
    left=${old#*+}
    spent=${left#*-}
    left=${left%-*}
    # the system's own loader counts in a file of its own
    also=$(sed -n "s/^left_${old%+*}=\([0-9]\)$/\1/p" "$top/boot/loader/tries.env" 2>/dev/null || :)
    while [ -n "$also" ] && [ "$also" -lt $left ]; do
        left=$((left - 1))
        [ $spent -eq 9 ] || spent=$((spent + 1))
    done
    echo "+$left-$spent"
}

# For the system's own loader: one try less, where the default goes when none is left
count_in_menu() { # NUMBER LEFT
    printf '\tif [ "$left_%s" = %s ]; then set left_%s=%s' "$1" "$2" "$1" $(($2 ? $2 - 1 : 0))
    left=$2
    while [ $left -gt 1 ]; do
        left=$((left - 1))
        printf '; elif [ "$left_%s" = %s ]; then set left_%s=%s' "$1" $left "$1" $((left - 1))
    done
    printf '; fi\n\tsave_env -f %s/loader/tries.env left_%s\n' "$at" "$1"
    printf 'left_%s=%s\n' "$1" "$2" >>"$new/tries"
    printf 'if [ "$left_%s" = 0 -a "$default" = %s ]; then set default=%s; fi\n' "$1" $((count - 1)) $count >>"$new/skips"
}

put() { # TITLE KERNEL INITRD PARAMETERS COUNTER
    count=$((count + 1))
    number=$(printf %04d $count)
    counter=$5
    if [ "$counter" = fresh ]; then
        counter=+$tries-0
        fresh="$fresh $number$counter"
    fi
    # a try that comes to nothing must not wait for somebody
    [ -z "$counter" ] || set -- "$1" "$2" "$3" "$4 panic=10 rd.shell=0 rd.emergency=reboot start.entry=${2#*-}"
    {
        printf 'title      %s\nsort-key   %s\nlinux      %s/%s\n' "$1" "$number" "$at" "$2"
        [ -z "$3" ] || printf 'initrd     %s/%s\n' "$at" "$3"
        [ -z "$inside" ] || printf 'initrd     %s/start-inside-%s.img\n' "$at" "${2#*-}"
        printf 'options    %s\n' "$4"
    } >"$new/$number$counter.conf"
    # the same for the system's own loader, where it starts this drive, too
    {
        printf "menuentry '%s' {\n" "$(printf %s "$1" | tr -d "'")"
        [ -z "$counter" ] || (left=${counter#+} && count_in_menu "$number" "${left%-*}")
        printf "\tlinux %s/%s %s\n" "$at" "$2" "$4"
        [ -z "$3" ] || printf '\tinitrd %s/%s\n' "$at" "$3"
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
        if [ -n "$inside" ] && [ ! -f "$new/start-inside-$version.img" ]; then
            inside_of "$version"
            if [ ! -f "$new/start-inside-$version.img" ]; then
                echo "start-entries: kernel $version is left out: it has no driver for a disk that is a file (loop)" >&2
                continue
            fi
        fi
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
    disk=$(initrd_of "$version")
    counter=
    [ "$list" = "$version" ] || counter=$(counter_of "$version" "$file" "$disk") # one alone has nothing to give way to
    [ -n "$counter$proven" ] || proven=$file
    put "$name" "$file" "$disk" "$options" "$counter"
done <<END
$list
END
if [ $count -eq 0 ]; then # a menu of nothing helps nobody: the old one stays
    rm -rf "$new"
    exit 0
fi
first=${proven:-$first} # a rescue is no time to try what is new
put "$title (rescue: one user, no services)" "$first" "$(initrd_of "${first#*-}")" "$options single" ""
if [ -f "$new/tries" ]; then
    {
        echo "load_env -f $at/loader/tries.env"
        cat "$new/skips"
        printf 'if [ "$default" = %s ]; then set default=0; fi\n' $((count - 1))
    } >>"$new/menu"
    { # 1024 bytes, filled up as that loader wants it
        echo '# GRUB Environment Block'
        cat "$new/tries"
        printf '%01024d' 0 | tr 0 '#'
    } | head -c 1024 >"$new/tries.env"
fi

# Each takes its old one's place in one step: whenever the power goes, every entry is a whole one.
for file in "$new"/start-inside-*.img; do
    [ ! -f "$file" ] || cmp -s "$file" "${file##*/}" || mv -f "$file" "${file##*/}"
done
sync
for file in "$new"/*.conf; do
    name=${file##*/}
    names="${names:-} $name"
    case "$fresh " in
    *" ${name%.conf} "*) mv -f "$file" "$entries/$name" ;;
    *) cmp -s "$file" "$entries/$name" || mv -f "$file" "$entries/$name" ;;
    esac
done
for file in "$entries"/[0-9][0-9][0-9][0-9]*.conf; do
    case "$names " in *" ${file##*/} "*) ;; *) rm -f "$file" ;; esac
done
for file in start-inside-*.img; do # of kernels that went
    kernel=${file#start-inside-}
    case " $(echo $list) " in *" ${kernel%.img} "*) ;; *) rm -f "$file" ;; esac
done
menu=$top/boot/loader/menu.cfg
env=$top/boot/loader/tries.env
if [ -f "$menu" ]; then
    [ ! -f "$new/tries.env" ] || cmp -s "$new/tries.env" "$env" || mv -f "$new/tries.env" "$env"
    cmp -s "$new/menu" "$menu" || mv -f "$new/menu" "$menu"
    [ -f "$new/tries" ] || rm -f "$env"
fi
rm -rf "$new"
sync
# what is in the journal only is not seen by what starts this drive
if [ -z "$top" ] && command -v fsfreeze >/dev/null 2>&1; then
    fsfreeze -f /boot 2>/dev/null && fsfreeze -u /boot || :
fi
