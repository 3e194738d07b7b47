#!/bin/sh
# What reads beside writing, under the thread sanitizer: sources shared by tasks, builds, continued builds, checks.
#   threads.sh BUILD
set -eu
build=$(cd "$1" && pwd)
work=$(mktemp -d /tmp/satchel-threads-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work"
export TSAN_OPTIONS="halt_on_error=1 exitcode=66"
export WILD_SATCHEL_BENCH=
passed=0
for program in layout pieces; do "$build/tests/test_$program" "several tasks"; done
for part in "shared is" "left behind" "own affair" "other ports"; do "$build/tests/test_batch" "$part"; done
"$build/demo-image" curlew.iso
mkdir tide && bsdtar -xf curlew.iso -C tide
xz -0 -k curlew.iso
mkdir -p huts/etc huts/boot huts/usr && echo 'PRETTY_NAME="Hut System 3"' >huts/etc/os-release && echo root:x:0:0::/root:/bin/sh >huts/etc/passwd
{ head -c 514 /dev/zero && printf HdrS && head -c 4096 /dev/zero; } >huts/boot/vmlinuz-6.1
for i in $(seq 300); do seq $i $((i * 40)) >huts/usr/$i; done
head -c 12000000 curlew.iso >huts/usr/large && gensquashfs -q -D huts -c gzip huts.squashfs
for how in "--image curlew.iso" "--image curlew.iso.xz" "--image curlew.iso --kind replica" \
    "--image curlew.iso --arrangement files --in file" "--image tide --arrangement files --files-on exfat" "--image huts.squashfs --kind system"; do
    rm -f stick.img a.plan
    truncate -s 400M stick.img
    # shellcheck disable=SC2086
    "$build/satchel" plan $how --drive stick.img --save a.plan >/dev/null
    name=$("$build/satchel" drives stick.img --json | sed -n 's/^ *"name": "\(.*\)",$/\1/p' | head -1)
    "$build/satchel" build a.plan --confirm "$name" >/dev/null 2>said || { cat said; exit 1; }
    "$build/satchel" check stick.img --plan a.plan >/dev/null 2>said || { cat said; exit 1; }
    passed=$((passed + 1))
done
echo "$passed passed, 0 failed"
