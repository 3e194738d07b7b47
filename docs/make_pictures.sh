#!/bin/sh
# docs/screenshots, made anew: each main command on the demo's bench, in a terminal of its own without a monitor.
#   make_pictures.sh BUILD_FOLDER
set -eu
build=$(cd "$1" && pwd)
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d /tmp/satchel-pictures-XXXXXX)
display=:87
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null || true; rm -rf "$work"' EXIT
sleep 1
export DISPLAY=$display PATH="$build:$PATH" WILD_SATCHEL_BENCH=bench LC_ALL=C.UTF-8
cd "$work"
mkdir -p "$here/screenshots"

# picture NAME 'commands': run in a terminal, wait until done, take the picture
picture() {
    cat > show.sh <<SHOW
PS1=
clear
$2
touch "$work/done"
sleep 30
SHOW
    rm -f done
    xterm -u8 -fa 'DejaVu Sans Mono' -fs 11 -geometry 142x42+0+0 -bg '#10151c' -fg '#d8dee6' -xrm 'XTerm*colorBD: #ffffff' \
        -e bash show.sh &
    terminal=$!
    for _ in $(seq 1 300); do [ -e done ] && break; sleep 0.2; done
    sleep 0.7
    import -window root -resize 1280x800 "$here/screenshots/$1.png"
    kill $terminal 2>/dev/null || true
    wait $terminal 2>/dev/null || true
}
say='say() { printf "\033[2m\$ %s\033[0m\n" "$*"; "$@"; }'
satchel bench setup "$here/../demo/gannet-point.bench.json" --bench bench >/dev/null
demo-image curlew-live.iso
picture drives "$say
say satchel drives
echo
say satchel drives 'Gorse 32'"
picture image "$say
say satchel image curlew-live.iso"
picture plan "$say
say satchel plan --image curlew-live.iso --drive 'Gorse 32' --persistence 4G --save gorse.plan"
gorse=$(satchel drives "Gorse 32" --json | sed -n 's/.*"name": "\(gorse[^"]*\)".*/\1/p')
picture build "$say
say satchel build gorse.plan --confirm $gorse
echo
say satchel drives $gorse"
picture check "$say
say satchel check $gorse --plan gorse.plan
printf X | dd of=bench/$gorse.drive bs=1 seek=3000000 conv=notrunc status=none
echo
say satchel check $gorse --plan gorse.plan"
satchel build gorse.plan --confirm "$gorse" >/dev/null 2>&1
picture prove "$say
say satchel prove $gorse --on office --cut --starts 3"
satchel plan --image curlew-live.iso --drive "Teasel 8" --kind replica --save teasel.plan >/dev/null
teasel=$(satchel drives "Teasel 8" --json | sed -n 's/.*"name": "\(teasel[^"]*\)".*/\1/p')
satchel build teasel.plan --confirm "$teasel" >/dev/null 2>&1
picture prove-forgets "$say
say satchel prove $teasel --on launch"
picture bench "$say
say satchel bench show
echo
say satchel bench start hut $gorse
echo
say satchel bench start hut 'Fulmar 500'"
ls -la "$here/screenshots"
