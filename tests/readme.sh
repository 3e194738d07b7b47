#!/bin/sh
# The commands that README and guide show, as they stand there, on the simulated bench.
#   readme.sh BUILD
set -u
here=$(cd "$(dirname "$0")/.." && pwd)
build=$(cd "$1" && pwd)
work=$(mktemp -d /tmp/satchel-readme-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
PATH=$build:$PATH
WILD_SATCHEL_BENCH=$work/bench
export PATH WILD_SATCHEL_BENCH
demo-image curlew-live.iso && sha256sum curlew-live.iso >SHA256SUMS && satchel bench setup "$here/demo/gannet-point.bench.json" --bench bench >/dev/null || exit 1
passed=0
failed=0
demo-image tern.iso none && mkdir tern && bsdtar -xf tern.iso -C tern && (cd tern && zip -qr ../tern-appliance.zip .) || exit 1
printf 'gull 7\nbar 9\n' >passwords
echo '{"format": "wild-satchel-rules", "version": 1, "label": "TERN"}' >tern.rules
mkdir -p huts/etc huts/boot && echo 'PRETTY_NAME="Hut System 3"' >huts/etc/os-release || exit 1
{ head -c 514 /dev/zero && printf HdrS && head -c 4096 /dev/zero; } >huts/boot/vmlinuz-6.1 && tar -cJf huts-root.tar.xz -C huts . || exit 1
run_commands() { # of a page: one ends at its line's end, or where two blanks and its explanation begin
    sed -e ':a' -e '/\\$/N; s/ *\\\n */ /; ta' "$here/$1" | sed -n 's/^    \(satchel [^ ].*\)$/\1/p' | sed 's/   *.*//' >commands
    before=$passed
    while read -r command; do
        wanted=0
        case $command in
        *"--test full"*) continue ;; # hours, also of a simulated drive's bytes
        *sorrel*--test*) wanted=1 ;; # the forged one
        esac
        sh -c "$command" >said 2>&1 </dev/null
        got=$?
        if [ $got -eq $wanted ]; then passed=$((passed + 1)); else
            failed=$((failed + 1))
            echo "FAILED: $1: $command gives $got"
            tail -5 said
        fi
    done <commands
    [ $((passed - before)) -ge "$2" ] || { echo "FAILED: only $((passed - before)) commands found in $1"; failed=$((failed + 1)); }
}
run_commands README.md 9
rm -f ./*.plan ./*.trial
run_commands docs/guide.md 15
echo "$passed passed, $failed failed"
[ $failed -eq 0 ]
