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
export WILD_SATCHEL_DEFAULTS= XDG_DATA_HOME="$work/data"
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
    xterm -u8 -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x47+0+0 -bg '#10151c' -fg '#d8dee6' -xrm 'XTerm*colorBD: #ffffff' \
        -e bash show.sh &
    terminal=$!
    for _ in $(seq 1 300); do [ -e done ] && break; sleep 0.2; done
    sleep 0.7
    import -window root -resize 1280x800 "$here/screenshots/$1.png"
    kill $terminal 2>/dev/null || true
    wait $terminal 2>/dev/null || true
}
say='say() {
    printf "\033[2m\$"
    for word in "$@"; do case $word in *" "*) printf " \"%s\"" "$word" ;; *) printf " %s" "$word" ;; esac; done
    printf "\033[0m\n"
    "$@"
}'
satchel bench setup "$here/../demo/gannet-point.bench.json" --bench bench >/dev/null
demo-image curlew-live.iso
sha256sum curlew-live.iso > SHA256SUMS
gorse=$(satchel drives "Gorse 32" --json | sed -n 's/.*"name": "\(gorse[^"]*\)".*/\1/p')
sorrel=$(satchel drives "Sorrel 64" --json | sed -n 's/.*"name": "\(sorrel[^"]*\)".*/\1/p')
satchel plan --image curlew-live.iso --drive 'Fulmar 500' --persistence 20G --data rest --data-label survey --save f.plan >/dev/null
fulmar=$(satchel drives "Fulmar 500" --json | sed -n 's/.*"name": "\(fulmar[^"]*\)".*/\1/p')
satchel build f.plan --confirm "$fulmar" --external-disk >/dev/null 2>&1
picture drives "$say
say satchel drives
echo
say satchel drives 'Fulmar 500'"
picture trial "$say
say satchel drives $sorrel --test sample --confirm $sorrel 2>/dev/null
echo
say satchel drives $gorse --test sample --confirm $gorse --save gorse.trial 2>/dev/null"
picture image "$say
say satchel image curlew-live.iso"
picture size "$say
say satchel size --image curlew-live.iso --drive $gorse --documents 4G --updates 12"
picture plan "$say
say satchel plan --image curlew-live.iso --drive $gorse --persistence 4G --data rest --data-label 'tide data' --for hut --trial gorse.trial --save gorse.plan"
satchel plan --image curlew-live.iso --drive "$gorse" --persistence 4G --data rest --data-label 'tide data' --picture "$here/screenshots/map.png" --over >/dev/null
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
say satchel prove $gorse --confirm $gorse --on office,launch --rounds shutdown,cut,idle,clock --proof gorse.proof 2>/dev/null"
satchel prove "$gorse" --on own-pc --proof own.proof >/dev/null
satchel bench start hut "$gorse" --type 'mkdir /home/tide' --type 'echo low water at six > /home/tide/note' --type 'mkdir /home/tide/charts' \
    --type 'echo hut-3 > /etc/hostname' --type 'rm /etc/motd' --type 'mkdir /var/lib/dpkg/info' --type 'echo /usr/bin/gauge > /var/lib/dpkg/info/gauge.list' \
    --type 'echo started > /var/log/messages' >/dev/null
satchel prove "$gorse" --on own-pc --proof own.proof --called 'hut 3' >/dev/null
satchel bench start launch "$gorse" --type 'echo high water at noon > /home/tide/second' --type 'rm /home/tide/note' --type sync --power-cut >/dev/null
picture own-pc "$say
say satchel prove $gorse --on own-pc --proof own.proof --called launch"
satchel passport "$gorse" --to gorse.html --proof own.proof --trial gorse.trial >/dev/null
chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update --disable-sync \
    --user-data-dir="$work/browser" --hide-scrollbars --window-size=1280,1130 --screenshot="$work/passport.png" "file://$work/gorse.html" >/dev/null 2>&1
convert passport.png -crop 760x1130+260+0 +repage -resize 1280x800 -background white -gravity center -extent 1280x800 "$here/screenshots/passport.png"
satchel prove "$gorse" --confirm "$gorse" --on launch --keep-traces --rounds shutdown,shutdown,shutdown >/dev/null 2>&1
picture keep "$say
say satchel keep show $gorse
echo
say satchel keep save $gorse --to tide.kept 2>/dev/null
say satchel keep reset $gorse --except /usr/local --confirm $gorse 2>/dev/null"
satchel plan --image curlew-live.iso --drive "$gorse" --arrangement files --in file --persistence 2G --data rest --data-label 'tide data' --check-at-start full --save files.plan >/dev/null
satchel bench setup "$here/../demo/gannet-point.bench.json" --bench fresh >/dev/null
picture files "$say
export WILD_SATCHEL_BENCH=fresh
say satchel plan --image curlew-live.iso --drive $gorse --arrangement files --in file --persistence 2G --data rest --data-label 'tide data' --check-at-start full --save files.plan"
satchel build files.plan --confirm "$gorse" >/dev/null 2>&1
picture system "$say
export WILD_SATCHEL_BENCH=fresh
say satchel plan --image curlew-live.iso --drive $gorse --kind system --data 8G --data-label 'tide data' --host-name hut-3 --administrator 'tide:Tide survey' --time-zone Atlantic/Faroe --keyboard de --save system.plan"
teasel=$(satchel drives "Teasel 8" --json | sed -n 's/.*"name": "\(teasel[^"]*\)".*/\1/p')
picture prepare "$say
export WILD_SATCHEL_BENCH=fresh
say satchel prepare --image curlew-live.iso --persistence 50% --drive $gorse --drive 1-2.1 --drive 1-2.2 --confirm $gorse --confirm $teasel --confirm $sorrel --prove hut --release"
printf 'over the bar at seven\nfulmar over the bar\n' > secrets
demo-image curlew-live-13.iso newer
picture renewal "$say
export WILD_SATCHEL_BENCH=fresh
satchel build system.plan --confirm $gorse --password-fd 3 3< secrets >/dev/null 2>&1
satchel prove $gorse --confirm $gorse --on launch >/dev/null 2>&1
clear
say satchel plan --image curlew-live-13.iso --drive $gorse --kind renewal --save renewal.plan"
demo-image office.img office
satchel bench setup "$here/../demo/gannet-point.bench.json" --bench office >/dev/null
picture twin "$say
export WILD_SATCHEL_BENCH=office
say satchel twin office.img --drive $gorse --leave-out caches --swap 2G --confirm $gorse 2>/dev/null"
# Our start-up code on an emulated PC's own screen: the menu.
screen() { # NAME SECONDS KEYS
    (sleep "$2"; for key in $3; do echo "sendkey $key"; sleep 2; done; sleep 3; echo "screendump $work/$1.ppm"; sleep 1; echo quit) |
        qemu-system-x86_64 -m 512 -display none -monitor stdio -serial none -device qemu-xhci -drive "if=none,id=s,format=raw,snapshot=on,file=bench/$gorse.drive" \
            -device usb-storage,drive=s,bootindex=0 >/dev/null 2>&1
    convert "$work/$1.ppm" -resize 1280x800 "$here/screenshots/$1.png"
}
screen start-menu 4 down
picture bench "$say
say satchel bench show
echo
say satchel bench start hut $gorse
echo
say satchel bench start hut 'Fulmar 500'"
ls -la "$here/screenshots"
