#!/bin/sh
# The commands of the README's first list, as they stand there, on the simulated bench.
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
# a command ends where two blanks and its explanation begin
sed -n 's/^    \(satchel [^ ].*\)$/\1/p' "$here/README.md" | sed 's/   *.*//' >commands
while read -r command; do
    wanted=0
    case $command in *sorrel*) wanted=1 ;; esac # the forged one
    sh -c "$command" >said 2>&1 </dev/null
    got=$?
    if [ $got -eq $wanted ]; then passed=$((passed + 1)); else
        failed=$((failed + 1))
        echo "FAILED: $command gives $got"
        tail -5 said
    fi
done <commands
[ $passed -ge 9 ] || { echo "FAILED: only $passed commands found"; failed=$((failed + 1)); }
echo "$passed passed, $failed failed"
[ $failed -eq 0 ]
