#!/bin/sh
# Real firmware, and drives that must not start: a system image that was changed after the build, caught by the check
# at start; a kernel with a sector that cannot be read; and our own unsigned UEFI program where Secure Boot is on, which
# the plan has to say before.
#   refused.sh SATCHEL LIVE_IMAGE changed-bios|changed-uefi|bad-bios|bad-uefi|unsigned
set -u
satchel=$1
image=$2
case=$3
work=$(mktemp -d /tmp/satchel-refused-XXXXXX)
trap 'kill "$pc" 2>/dev/null; rm -rf "$work"' EXIT
pc=
cd "$work" || exit 1
truncate -s 400M stick.img
check=full
case $case in bad-*) check=off ;; esac
"$satchel" plan --image "$image" --drive stick.img --arrangement files --uefi-code own --check-at-start $check --menu-wait 1 \
    --persistence 64M --save stick.plan || exit 1
name=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
"$satchel" build stick.plan --confirm "$name" || exit 1
firmware=
faults=file.driver=file,file.filename=stick.img
wanted="THE CHECK AT START FAILED: /live/filesystem"
case $case in
changed-*)
    python3 - <<'PY' || exit 1
# one bit of a program inside the root file system, which the start-up code must find
with open("stick.img", "r+b") as s:
    at = s.read().find(b"BusyBox v1.")
    assert at > 0
    s.seek(at)
    s.write(b"b")
PY
    [ "$case" = changed-uefi ] && firmware="OVMF_CODE_4M.fd OVMF_VARS_4M.fd"
    ;;
bad-*)
    bad=$(python3 -c 'import re; print((re.search(b"\x55\xaa..HdrS", open("stick.img", "rb").read(), re.S).start() >> 9) + 4096)')
    faults=file.driver=blkdebug,file.image.driver=file,file.image.filename=stick.img
    faults=$faults,file.inject-error.0.event=none,file.inject-error.0.sector=$bad,file.inject-error.0.errno=5
    faults=$faults,file.inject-error.0.iotype=read
    [ "$case" = bad-uefi ] && firmware="OVMF_CODE_4M.fd OVMF_VARS_4M.fd"
    wanted="cannot be started: sector [0-9]+ .*cannot be read"
    ;;
unsigned)
    "$satchel" plan --image "$image" --drive stick.img --arrangement files --uefi-code own --persistence 64M --for secure > said
    [ $? -eq 1 ] && grep -q "is not signed" said || { cat said; echo "the plan does not say so"; exit 1; }
    firmware="OVMF_CODE_4M.ms.fd OVMF_VARS_4M.ms.fd"
    wanted="Access Denied|Security Violation"
    ;;
esac
set -- -m 1024 -display none -monitor none -serial file:console.log -no-reboot -net none \
    -drive if=none,id=stick,format=raw,$faults -device qemu-xhci -device usb-storage,drive=stick,bootindex=0
if [ -n "$firmware" ]; then
    cp "/usr/share/OVMF/${firmware#* }" variables.fd
    set -- "$@" -machine q35,smm=on -global driver=cfi.pflash01,property=secure,value=on \
        -drive "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/${firmware% *}" \
        -drive if=pflash,format=raw,file=variables.fd
fi
qemu-system-x86_64 "$@" &
pc=$!
for _ in $(seq 300); do
    sleep 1
    if grep -aEq "$wanted" console.log 2>/dev/null; then
        grep -aq "Linux version" console.log && break
        echo "$case: the firmware says \"$(grep -aEo "$wanted" console.log | head -1)\""
        echo "1 passed, 0 failed"
        exit 0
    fi
done
tail -c 2000 console.log
echo "0 passed, 1 failed"
exit 1
