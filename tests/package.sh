#!/bin/sh
# The Debian packages in a bare root of their own: installed, used as a newcomer would, removed without a trace.
#   package.sh BUILD
set -eu
build=$(cd "$1" && pwd)
work=$(mktemp -d /tmp/satchel-package-XXXXXX)
root=$work/root
clean() { umount "$root/proc" 2>/dev/null || true; umount "$root/dev" 2>/dev/null || true; rm -rf "$work"; }
trap clean EXIT
fail() { echo "FAILED: $*"; exit 1; }
[ "$(id -u)" -eq 0 ] || { echo "skipped: only root may make a bare root"; exit 0; }
(cd "$build" && cpack -B "$work/packages" >"$work/log" 2>&1) || { cat "$work/log"; fail "no packages"; }
debootstrap --variant=minbase bookworm "$root" >"$work/log" 2>&1 || { tail -5 "$work/log"; fail "no bare root"; }
cp /etc/apt/sources.list "$root/etc/apt/" 2>/dev/null || true
cp -r /etc/apt/sources.list.d /etc/apt/apt.conf.d "$root/etc/apt/" 2>/dev/null || true
cp /etc/resolv.conf "$root/etc/" 2>/dev/null || true
mount -t proc proc "$root/proc"
mount --bind /dev "$root/dev"
cp "$work"/packages/*.deb "$root/root/"
in_root() { chroot "$root" /usr/bin/env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LC_ALL=C.UTF-8 DEBIAN_FRONTEND=noninteractive "$@"; }
in_root apt-get update -qq >"$work/log" 2>&1 || { tail -5 "$work/log"; fail "no package lists"; }
in_root dpkg-query -W -f '${Package}\n' | sort >"$work/before"
in_root sh -c 'apt-get install -y -qq --no-install-recommends /root/wild-satchel_*.deb' >"$work/log" 2>&1 || { tail -5 "$work/log"; fail "the tool does not install"; }

# The tool by itself: help, pages, completion, the demo, a drive made and proved by hand.
in_root satchel help | grep -q "prepare" || fail "help"
for c in drives image size plan twin build prepare check prove release defaults bench; do
    in_root satchel help $c | grep -q -- --json || fail "help $c"
    [ -s "$root/usr/share/man/man1/satchel-$c.1" ] || fail "no page for $c"
done
in_root getent group wild-satchel >/dev/null || fail "no group"
in_root bash -c '. /usr/share/bash-completion/completions/satchel; COMP_WORDS=(satchel prep); COMP_CWORD=1; _satchel; [ "${COMPREPLY[0]}" = prepare ]' || fail "completion"
in_root /usr/share/wild-satchel/demo/demo.sh >"$work/log" 2>&1 || { tail -20 "$work/log"; fail "the demo"; }
in_root sh -c 'cd /root && demo=/usr/share/wild-satchel/demo && satchel bench setup $demo/gannet-point.bench.json --bench b >/dev/null && $demo/demo-image i.iso &&
    WILD_SATCHEL_BENCH=b satchel prepare --image i.iso --drive gorse --confirm $(WILD_SATCHEL_BENCH=b satchel drives gorse --json | sed -n "s/^ *\"name\": \"\(.*\)\",$/\1/p") --prove hut' \
    >"$work/log" 2>&1 && grep -q "It remembers" "$work/log" || { tail -5 "$work/log"; fail "prepare"; }
in_root satchel prove nothing --on emulated-bios 2>&1 | grep -q "no drive" || fail "an emulator that is not here"

# The library: a program built against it.
in_root sh -c 'apt-get install -y -qq --no-install-recommends gcc libc6-dev pkg-config /root/libwild-satchel*.deb' >"$work/log" 2>&1 || { tail -5 "$work/log"; fail "the library does not install"; }
in_root sh -c 'cd /root && cc -std=c11 -D_GNU_SOURCE /usr/share/doc/wild-satchel/examples/first.c -o first $(pkg-config --cflags --libs wild_satchel_port) && truncate -s 200M d.img && ./first i.iso d.img' |
    grep -q checked || fail "a first program"

# And gone.
in_root sh -c 'apt-get purge -y -qq wild-satchel "libwild-satchel*"' >"$work/log" 2>&1 || { tail -5 "$work/log"; fail "it is not removed"; }
left=$(find "$root" -xdev -path "$root/proc" -prune -o -path "$root/root" -prune -o \( -name '*satchel*' -o -name '*wild_*' \) -print | grep -v '/var/\(log\|cache\)' || true)
[ -z "$left" ] || fail "left behind: $left"
echo "passed"
