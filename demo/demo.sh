#!/bin/sh
# The Gannet Point tide survey prepares a drive: the whole path on a simulated bench.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
build=$(cd "${1:-$here}" && pwd) # as installed, the image's maker stands beside this and the tool on the path
work=$(mktemp -d /tmp/satchel-demo-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work"
PATH=$build:$PATH
export WILD_SATCHEL_BENCH=bench XDG_DATA_HOME="$work/data" XDG_CONFIG_HOME="$work/config"
step() { printf '\n\033[1;34m── %s\033[0m\n' "$1"; }
# a command as it would be typed: words with blanks in quotes
typed() {
    for word in "$@"; do
        case $word in *' '*) printf ' "%s"' "$word" ;; *) printf ' %s' "$word" ;; esac
    done
}
show() { printf '\033[2m$%s\033[0m\n' "$(typed "$@")"; "$@"; }

step "A bench with five drives and three PCs, and a live image"
show satchel bench setup "$here/gannet-point.bench.json" --bench bench
demo-image curlew-live.iso
sha256sum curlew-live.iso > SHA256SUMS
name_of() { satchel drives "$1" --json | sed -n 's/^ *"name": "\([^"]*\)".*/\1/p'; }
gorse=$(name_of "Gorse 32")
sorrel=$(name_of "Sorrel 64")
step "Which drives are here, and which may be used?"
show satchel drives
step "Is the bargain honest? Sorrel 64 says it holds 64 GB"
show satchel drives "$sorrel" --test sample --confirm "$sorrel" || true
step "The good stick, tried too: its figures make the estimates better"
show satchel drives "$gorse" --test sample --confirm "$gorse" --save gorse.trial
step "What is this image, is it the published one, and how does it remember?"
show satchel image curlew-live.iso
step "How large should persistence be, for a year of updates?"
show satchel size --image curlew-live.iso --drive "$gorse" --updates 12
step "Decide the whole drive: nothing is written yet"
show satchel plan --image curlew-live.iso --drive "$gorse" --persistence 4G --data rest --data-label "tide data" --for hut \
    --trial gorse.trial --picture gorse.png --save gorse.plan
step "Carry it out, confirmed by the drive's own name"
show satchel build gorse.plan --confirm "$gorse"
step "Does it hold what was meant?"
show satchel check "$gorse" --plan gorse.plan
step "Do saved changes survive a restart - and a power cut?"
show satchel prove "$gorse" --confirm "$gorse" --on hut
show satchel prove "$gorse" --confirm "$gorse" --on office --rounds cut --keep-traces
step "What does it remember, and how full is it? Saved, as fresh, and put back"
show satchel keep show "$gorse"
show satchel keep save "$gorse" --to gorse.kept
show satchel keep reset "$gorse" --confirm "$gorse"
show satchel keep restore "$gorse" --from gorse.kept --confirm "$gorse"
step "The same image without persistence: the proof says why it forgets"
show satchel plan --image curlew-live.iso --drive "Teasel 8" --kind replica --save teasel.plan > /dev/null
teasel=$(name_of "Teasel 8")
show satchel build teasel.plan --confirm "$teasel"
show satchel prove "$teasel" --confirm "$teasel" --on launch || true
step "Or a full system of its own: for the account tide, its password in no document"
show satchel size --image curlew-live.iso --kind system --drive "$teasel" --documents 2G --memory 2G
echo "high water at seven" > motd
show satchel plan --image curlew-live.iso --drive "$teasel" --kind system --host-name hut-7 --administrator "tide:Tide survey" \
    --time-zone Atlantic/Faroe --keyboard de --add motd:/etc/motd --save hut-7.plan
echo "over the bar at seven" > password
printf '\033[2m$ satchel build hut-7.plan --confirm %s --password-fd 3 3< password\033[0m\n' "$teasel"
satchel build hut-7.plan --confirm "$teasel" --password-fd 3 3< password
show satchel prove "$teasel" --confirm "$teasel" --on launch
step "A year later: a newer image, and all that is its own stays"
demo-image curlew-live-13.iso newer
show satchel plan --image curlew-live-13.iso --drive "$teasel" --kind renewal --save renewal.plan
show satchel build renewal.plan --confirm "$teasel"
show satchel prove "$teasel" --confirm "$teasel" --on launch
step "The same in one file: the stick stays an ordinary one"
show satchel plan --image curlew-live.iso --drive "$teasel" --kind system --host-name hut-7 --administrator "tide:Tide survey" \
    --in file --save file.plan
printf '\033[2m$ satchel build file.plan --confirm %s --password-fd 3 3< password\033[0m\n' "$teasel"
satchel build file.plan --confirm "$teasel" --password-fd 3 3< password
show satchel drives "$teasel"
show satchel prove "$teasel" --confirm "$teasel" --on hut
step "The same, locked: a passphrase opens it, and a recovery key"
show satchel plan --image curlew-live.iso --drive "$teasel" --kind system --host-name hut-7 --administrator "tide:Tide survey" \
    --locked --save locked.plan
echo "fulmar over the bar" >> password
printf '\033[2m$ satchel build locked.plan --confirm %s --password-fd 3 --recovery-fd 4 3< password 4> recovery\033[0m\n' "$teasel"
satchel build locked.plan --confirm "$teasel" --password-fd 3 --recovery-fd 4 3< password 4> recovery
show satchel check "$teasel" --record locked.plan.built
step "The office PC's own disk: an emergency copy of it on Gorse 32"
demo-image office.img office
show satchel image office.img
show satchel size --image office.img --kind twin --drive "$gorse"
show satchel twin office.img --drive "$gorse" --leave-out caches --swap 2G --confirm "$gorse"
show satchel prove "$gorse" --confirm "$gorse" --on launch
step "Some days later only what changed is written"
demo-image office-later.img office-later
show satchel twin office-later.img --drive "$gorse" --leave-out caches --swap 2G --refresh --confirm "$gorse"
step "Tried in a virtual machine first: the same into a virtual disk file"
(
    unset WILD_SATCHEL_BENCH
    satchel plan --kind twin --image office.img --swap 1G --drive office.qcow2 --make 12G --save office.plan > /dev/null
    show satchel build office.plan --confirm "$(name_of office.qcow2)"
    show satchel image office.qcow2
)
step "Teasel 8 an ordinary stick again, and safe to unplug"
show satchel drives "$teasel" --blank --label "hut 7" --confirm "$teasel"
show satchel release "$teasel"
printf '\nThe demo is over. Its bench was simulated; no real drive was touched.\n'
step "A depot prepares fifty: here two at once, in the time of the slowest, named by the port they are plugged into"
show satchel prepare --image curlew-live.iso --persistence 25% --drive 1-1 --drive 1-2.1 --confirm "$gorse" --confirm "$teasel" --release
step "What was done to which drive"
show satchel drives "$gorse" --history
