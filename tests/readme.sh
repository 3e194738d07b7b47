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
demo-image curlew-live.iso && demo-image curlew-live-13.iso newer && demo-image office.img office && demo-image office-later.img office-later && sha256sum curlew-live.iso >SHA256SUMS && satchel bench setup "$here/demo/gannet-point.bench.json" --bench bench >/dev/null || exit 1
passed=0
failed=0
demo-image tern.iso none && mkdir tern && bsdtar -xf tern.iso -C tern && (cd tern && zip -qr ../tern-appliance.zip .) || exit 1
printf 'gull 7\nbar 9\n' >passwords
echo '{"format": "wild-satchel-rules", "version": 1, "label": "TERN"}' >tern.rules
printf 'gull 7\nfulmar over the bar\n' >secrets
mkdir -p huts/etc huts/bin huts/boot huts/usr/sbin disk/sbin disk/scripts && echo 'si::sysinit:/bin/true' >huts/etc/inittab && head -c 128 /bin/sh >huts/bin/sh && echo 'PRETTY_NAME="Hut System 3"' >huts/etc/os-release || exit 1
echo 'root:x:0:0:root:/root:/bin/sh' >huts/etc/passwd && echo 'root:*:1::::::' >huts/etc/shadow && echo 'root:x:0:' >huts/etc/group && : >huts/usr/sbin/NetworkManager
for f in sbin/cryptsetup scripts/functions usb-storage.ko xhci-pci.ko sd_mod.ko ext4.ko dm-crypt.ko xts.ko; do echo x >disk/$f; done
(cd disk && find . | bsdcpio -o -H newc --quiet) >huts/boot/initrd.img-6.1 || exit 1
mkdir tide-tables && echo high >tide-tables/today && echo hut >motd && echo 'ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 tide@hut' >tide.pub
echo '[wifi]' >hut.nmconnection && echo '#!/bin/sh' >set-up.sh
{ head -c 514 /dev/zero && printf HdrS && head -c 4096 /dev/zero; } >huts/boot/vmlinuz-6.1 && tar -cJf huts-root.tar.xz -C huts . || exit 1
run_commands() { # of a page: one ends at its line's end, or where two blanks and its explanation begin
    sed -e ':a' -e '/\\$/N; s/ *\\\n */ /; ta' "$here/$1" | sed -n 's/^    \(satchel [^ ].*\)$/\1/p' | sed 's/   *.*//' >commands
    before=$passed
    while read -r command; do
        wanted=0
        case $command in
        *"--test full"*) continue ;; # hours, also of a simulated drive's bytes
        *"--test read"*) wanted=0 ;; # nothing is on it that could come round again
        *sorrel*--test*) wanted=1 ;; # the forged one
        *--as-they-come*) wanted=3 ;; # nobody is here to confirm the rule
        *--finish*) wanted=4 ;; # nothing was cut
        *"--kind renewal"*) # of a system that is there
            satchel plan --image curlew-live.iso --drive gorse-32-nqmg --kind system --save was.plan --over >/dev/null &&
                satchel build was.plan --confirm gorse-32-nqmg >/dev/null 2>&1 ;;
        *"keep save"*) satchel prove gorse --on hut --confirm gorse-32-nqmg --keep-traces >/dev/null 2>&1 ;; # something to save
        *"--take-from-data"*) # with a data volume behind what is remembered
            satchel prepare --image curlew-live.iso --persistence 2G --data 8G --drive gorse-32-nqmg --confirm gorse-32-nqmg --afresh >/dev/null 2>&1 ;;
        *"--called hut-3"*) satchel bench start hut "Gorse 32" --type "mkdir /srv/tide" >/dev/null 2>&1 ;; # a session there
        *office.qcow2*) command="WILD_SATCHEL_BENCH= $command" ;; # a file, no drive of the bench
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
