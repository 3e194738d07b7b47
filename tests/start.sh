#!/bin/sh
# The real thing: a drive built from a real live image starts on emulated PCs and remembers; a replica forgets.
#   start.sh SATCHEL LIVE_IMAGE FIRMWARE [PLAN OPTION...]
#       LIVE_IMAGE: a file, or unpacked:FILE, or iso-loader:FILE: with a UEFI loader of its own that is not signed and
#       reads discs only
#       FIRMWARE: emulated-bios, emulated-uefi, emulated-secure or control; or emulated-uefi-4096: on a drive with
#       sectors of so many bytes
set -u
satchel=$1
image=$2
what=$3
shift 3
case " $* " in *" --kind system "*) kind=system ;; *) kind=live ;; esac
work=$(mktemp -d /tmp/satchel-start-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
case $image in
unpacked:*) # its files in a folder, the kernel reached by a link, the medium named by an identifier where it was by label
    mkdir unpacked && bsdtar -xf "${image#unpacked:}" -C unpacked && chmod -R u+w unpacked || exit 1
    image=unpacked
    for kernel in unpacked/*/vmlinuz; do mv "$kernel" "$kernel-6" && ln -s vmlinuz-6 "$kernel"; done
    if grep -q CDLABEL unpacked/boot/grub/grub.cfg; then
        sed -i 's/CDLABEL=[^ ]*/UUID=2026-11-24-10-00-00-00/' unpacked/boot/grub/grub.cfg unpacked/isolinux/isolinux.cfg
        sed -i '1i search --no-floppy --fs-uuid --set=root 2026-11-24-10-00-00-00' unpacked/boot/grub/grub.cfg
    fi ;;
iso-loader:*)
    mkdir medium && bsdtar -xf "${image#iso-loader:}" -C medium && chmod -R u+w medium && rm -rf medium/EFI medium/isolinux medium/boot/grub/efi.img || exit 1
    image=own.iso
    grub-mkrescue -o own.iso medium -- -volid CURLEW_OWN >made.log 2>&1 || { cat made.log; exit 1; } ;;
esac
pc=$what
wanted=kept
code=0
if [ "$what" = control ]; then
    kind=replica
    pc=emulated-bios
    wanted=lost
    code=1
fi
bench=
if [ "$what" = emulated-uefi-4096 ]; then # a simulated drive is a file of the same bytes
    pc=emulated-uefi
    cat > bench.json <<'JSON'
{"format": "wild-satchel-bench", "version": 1, "seed": 1, "pcs": [],
 "drives": [{"name": "Fulmar 500", "serial": "F1", "bus": "usb", "removable": true, "internal": false,
             "size_bytes": 1073741824, "sector_bytes": 4096, "write_bytes_s": 100000000, "read_bytes_s": 100000000}]}
JSON
    "$satchel" bench setup bench.json --bench bench || exit 1
    bench="--bench bench"
    drive=
else
    truncate -s 600M stick.img
    drive=stick.img
fi
name=$("$satchel" drives $bench $drive --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
"$satchel" plan $bench --image "$image" --drive "${drive:-$name}" --kind $kind "$@" --save stick.plan || exit 1
"$satchel" build $bench stick.plan --confirm "$name" || exit 1
[ -n "$drive" ] || ln -s bench/*.drive stick.img
name=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
"$satchel" prove stick.img --confirm "$name" --on "$pc" --wait 400 --console console.log --json > proof.json
got=$?
if [ $got -ne $code ] || ! python3 - "$wanted" "$kind" <<'PY'
import json, sys
d = json.load(open("proof.json"))
good = d.get("verdict") == sys.argv[1] and d["pc_disk"]["seen"] == "writable"
if sys.argv[2] == "system":  # live systems look for what they remember on every disk, and some write to it by that
    good = good and d["pc_disk"]["untouched"]
if sys.argv[1] == "kept":
    good = good and len(d["items"]) >= 5 and all(i["on_drive"] and i["on_console"] for i in d["items"])
sys.exit(0 if good else 1)
PY
then
    cat proof.json
    tail -c 3000 console.log
    echo "0 passed, 1 failed"
    exit 1
fi
# What a real kernel left on the volume, seen by the checker (a system that was switched off has a journal to replay).
if [ "$what" != control ]; then
    python3 - <<'PY' || exit 1
import json
volumes = json.load(open("stick.plan"))["result"]["volumes"]
p = ([v for v in volumes if v["role"] == "persistence"] + [v for v in volumes if v["format"] == "ext4"])[0]
with open("stick.img", "rb") as s, open("volume.img", "wb") as v:
    s.seek(p["at_bytes"])
    v.write(s.read(p["size_bytes"]))
PY
    e2fsck -fy volume.img > check.log 2>&1
    rc=$?
    e2fsck -fn volume.img >> check.log 2>&1 || { cat check.log; exit 1; }
    [ $rc -le 1 ] || { cat check.log; exit 1; }
fi
echo "$what: $(python3 -c 'import json; d = json.load(open("proof.json")); print(d["verdict"], "-", d["text"])')"
echo "1 passed, 0 failed"
