#!/bin/sh
# A stock kernel's vfat driver, on an emulated PC, reads 200 volumes with random trees: every file as it was meant, no
# file more, and as many free bytes as were predicted.
#   kernel_reads.sh COMPOSE_TREES FIXTURE_FOLDER
set -u
compose=$1
fixture=$2
count=200
work=$(mktemp -d /tmp/satchel-kernel-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
mkdir -p add/check/lists
"$compose" volumes.img add/check/lists $count || exit 1
cat > add/check/init <<'INIT'
#!/bin/sh
# runs instead of the initial RAM disk's own first program
export PATH=/bin:/sbin:/usr/bin:/usr/sbin
mkdir -p /proc /sys /dev /m
mount -t proc proc /proc
mount -t sysfs sysfs /sys
mount -t devtmpfs devtmpfs /dev
exec >/dev/ttyS0 2>&1
for m in xhci_pci usb_storage sd_mod loop vfat nls_cp437 nls_ascii nls_utf8; do modprobe $m; done
for _ in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15; do [ -b /dev/sda ] && break; sleep 1; done
cd /
while read -r number at files free; do
    losetup -o "$at" /dev/loop0 /dev/sda
    if ! mount -t vfat -o ro,utf8 /dev/loop0 /m; then echo "volume $number: not mounted"; losetup -d /dev/loop0; continue; fi
    cd /m
    if [ "$files" -eq 0 ] || sha256sum -c "/check/lists/$number" >/tmp.out 2>&1; then said=same; else said=different; grep -v ': OK' /tmp.out | head -5; fi
    seen=$(find . -type f | wc -l)
    room=$(($(stat -f -c '%f * %S' .)))
    cd /
    umount /m
    losetup -d /dev/loop0
    [ "$seen" -eq "$files" ] || said="$seen files"
    [ "$room" -eq "$free" ] || said="$said, $room bytes free, not $free"
    echo "volume $number: $said"
done < /check/lists/index
echo "all volumes read"
poweroff -f
INIT
chmod 755 add/check/init
(cd add && bsdtar -cf - --format newc . | gzip -1) > add.cpio.gz
cat "$fixture/initrd.img" add.cpio.gz > initrd.img
timeout 400 qemu-system-x86_64 -m 1024 -display none -monitor none -serial file:console.log -no-reboot -net none \
    -kernel "$fixture/vmlinuz" -initrd initrd.img -append "console=ttyS0 quiet panic=1 rdinit=/check/init" \
    -drive if=none,id=d,file=volumes.img,format=raw -device qemu-xhci -device usb-storage,drive=d
same=$(grep -ac '^volume [0-9]*: same' console.log)
if [ "$same" -eq $count ] && grep -aq "all volumes read" console.log; then
    echo "the kernel's vfat driver reads all $count volumes"
    echo "1 passed, 0 failed"
    exit 0
fi
grep -a '^volume' console.log | grep -v same | head -20
tail -c 1500 console.log
echo "0 passed, 1 failed"
exit 1
