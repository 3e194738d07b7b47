#!/bin/sh
# Install media without a kernel of their own, on exFAT: our program shows the firmware their files, and their own
# loader reads them through it. It is another project's, and so is the program with a kernel in it that it starts then.
#   handed_over.sh SATCHEL LIVE_IMAGE
set -u
satchel=$1
image=$2
work=$(mktemp -d /tmp/satchel-handed-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
loaders=/usr/lib/systemd/boot/efi
mkdir -p medium/EFI/BOOT medium/EFI/Linux medium/sources root/dev
bsdtar -xOf "$image" live/vmlinuz >kernel
cat >init.c <<'C'
#include <fcntl.h>
#include <stdio.h>
#include <sys/reboot.h>
#include <unistd.h>
int main(void) {
    dprintf(open("/dev/console", O_RDWR), "\nthe charts have arrived\n");
    sleep(1);
    return reboot(RB_POWER_OFF);
}
C
cc -static -Os init.c -o root/init && mknod root/dev/console c 5 1 || exit 1
head -c 3000000 /dev/urandom >root/charts # more than one read of it
(cd root && find . | bsdcpio -o -H newc --quiet) >initrd
printf 'PRETTY_NAME="Gannet Point"\nID=gannet\nVERSION_ID=1\n' >release
printf 'console=ttyS0,115200 quiet\0' >options
objcopy --add-section .osrel=release --change-section-vma .osrel=0x20000 --add-section .cmdline=options --change-section-vma .cmdline=0x30000 \
    --add-section .linux=kernel --change-section-vma .linux=0x2000000 --add-section .initrd=initrd --change-section-vma .initrd=0x4000000 \
    $loaders/linuxx64.efi.stub medium/EFI/Linux/gannet.efi || exit 1
cp $loaders/systemd-bootx64.efi medium/EFI/BOOT/BOOTX64.EFI
head -c 9000000 /dev/urandom >medium/sources/charts.bin
genisoimage -quiet -udf -V GANNET -o medium.iso medium || exit 1
passed=0 failed=0
check() { # WHAT COMMAND...
    what=$1
    shift
    if "$@" >said 2>&1; then passed=$((passed + 1)); else
        failed=$((failed + 1))
        echo "FAILED: $what"
        tail -c 2000 said
    fi
}
"$satchel" plan --why --image medium.iso --drive stick.img --make 300M --arrangement files --files-on exfat --menu-wait 1 --save stick.plan >plan 2>&1
check "it starts on UEFI, and that is all" sh -c 'grep -q "UEFI  *yes - our own start-up code starts the image.s loader" plan && grep -q "BIOS  *no" plan && grep -q "Secure Boot no" plan || { cat plan; false; }'
check "nothing is said of an initial RAM disk" sh -c '! grep -q "initial RAM disk" plan'
check "it is built" "$satchel" build stick.plan --confirm "$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')"
cp /usr/share/OVMF/OVMF_VARS_4M.fd vars.fd
timeout 300 qemu-system-x86_64 -m 512 -machine q35 -accel tcg -display none -serial stdio -monitor none -nodefaults -no-reboot -drive if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd \
    -drive if=pflash,format=raw,file=vars.fd -device qemu-xhci -drive if=none,id=stick,format=raw,file=stick.img -device usb-storage,drive=stick,bootindex=1 </dev/null >console 2>&1
check "our program hands over" grep -qa "own loader takes over" console
check "the loader found its kernel, and the kernel its initial RAM disk" sh -c 'grep -qa "the charts have arrived" console || { cat -v console; false; }'
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
