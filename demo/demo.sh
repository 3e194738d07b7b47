#!/bin/sh
# The Gannet Point tide survey prepares a drive: the whole path on a simulated bench.
set -eu
build=$(cd "${1:-build/release}" && pwd)
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d /tmp/satchel-demo-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work"
PATH=$build:$PATH
export WILD_SATCHEL_BENCH=bench
step() { printf '\n\033[1;34m── %s\033[0m\n' "$1"; }
show() { printf '\033[2m$ %s\033[0m\n' "$*"; "$@"; }

step "A bench with five drives and three PCs, and a live image"
show satchel bench setup "$here/gannet-point.bench.json" --bench bench
demo-image curlew-live.iso
step "Which drives are here, and which may be used?"
show satchel drives
step "What is this image, and how does it remember?"
show satchel image curlew-live.iso
step "Decide the whole drive: nothing is written yet"
show satchel plan --image curlew-live.iso --drive "Gorse 32" --persistence 4G --save gorse.plan
gorse=$(satchel drives "Gorse 32" --json | sed -n 's/.*"name": "\(gorse[^"]*\)".*/\1/p')
step "Carry it out, confirmed by the drive's own name"
show satchel build gorse.plan --confirm "$gorse"
step "Does it hold what was meant?"
show satchel check "$gorse" --plan gorse.plan
step "Do saved changes survive a restart - and a power cut?"
show satchel prove "$gorse" --on hut
show satchel prove "$gorse" --on office --cut
step "The same image without persistence: the proof says why it forgets"
show satchel plan --image curlew-live.iso --drive "Teasel 8" --kind replica --save teasel.plan > /dev/null
teasel=$(satchel drives "Teasel 8" --json | sed -n 's/.*"name": "\(teasel[^"]*\)".*/\1/p')
show satchel build teasel.plan --confirm "$teasel"
show satchel prove "$teasel" --on launch || true
printf '\nThe demo is over. Its bench was simulated; no real drive was touched.\n'
