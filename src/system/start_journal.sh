#!/bin/sh
# The start journal of this drive: a line for each start, that a drive which has travelled shows where it has been. It
# says what kind of PC it was, and nothing of whose. Taken away by: satchel keep journal DRIVE --off
PATH=/usr/sbin:/usr/bin:/sbin:/bin
export PATH
folder=/var/lib/satchel
if [ "$1" = stop ]; then
    rm -f "$folder/running"
    exit 0
fi
mkdir -p "$folder"
ended=shutdown
[ -e "$folder/starts" ] || ended=first
[ ! -e "$folder/running" ] || ended=cut
maker=
model=
read -r maker </sys/class/dmi/id/sys_vendor 2>/dev/null
read -r model </sys/class/dmi/id/product_name 2>/dev/null
firmware=BIOS
[ ! -d /sys/firmware/efi ] || firmware=UEFI
printf '%s\t%s\t%s\t%s\t%s\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "${maker:+$maker }${model:-PC}" "$firmware" "$(uname -r)" \
    "$ended" >>"$folder/starts"
: >"$folder/running"
sync
