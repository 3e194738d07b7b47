#!/bin/sh
# Twins and virtual disks by the command-line tool: sized, planned, carried over, refreshed, tried as a virtual disk first.
#   cli_twin.sh SATCHEL DEMO_IMAGE BENCHFILE
. "$(dirname "$0")/cli_common.sh"
expect 0 "5 drives" "$satchel" bench setup "$benchfile" --bench b
gorse=$(name_of "Gorse 32")
teasel=$(name_of "Teasel 8")
"$demo_image" office.img office || exit 1
"$demo_image" later.img office-later || exit 1
stored() { "$here/stored.py" digest "$1"; } # to hash all of 64 GiB takes minutes
before=$(stored office.img)

# What it is, and how large a drive it wants
expect 0 "swap" "$satchel" image office.img
expect 0 "carried over to another drive: satchel twin" "$satchel" image office.img
expect 0 "sold as" "$satchel" size --kind twin --image office.img
expect 0 "a drive of   fits" "$satchel" size --kind twin --image office.img --bench b --drive "$gorse"
json 'd["kind"] == "twin" and d["starts"] and {v["becomes"] for v in d["volumes"]} == {"anew", "empty"} and d["ways"][0]["least_drive_bytes"] < d["ways"][2]["least_drive_bytes"]' "$satchel" size --kind twin --image office.img --json
less='int([w for w in d["ways"] if w["way"] == "least"][0]["least_drive_bytes"])'
with=$("$satchel" size --kind twin --image office.img --json | python3 -c "import json, sys; d = json.load(sys.stdin); print($less)")
json "$less < $with" "$satchel" size --kind twin --image office.img --leave-out caches,logs --json
follows output "$satchel" size --kind twin --image office.img --bench b --drive "$gorse" --json
expect 2 "--leave-out has no effect without --kind twin" "$satchel" size --image office.img --leave-out caches

# Mistyped, left out, turned round
expect 2 "SOURCE, or --running FOLDER" "$satchel" twin --bench b --drive "$gorse"
expect 2 "SOURCE, or --running FOLDER" "$satchel" twin office.img --running / --bench b --drive "$gorse"
expect 2 "needs --drive DRIVE" "$satchel" twin office.img --bench b
expect 2 "are one" "$satchel" twin "$gorse" --drive "$gorse" --bench b --confirm "$gorse"
expect 2 'not "everything"' "$satchel" twin office.img --drive "$gorse" --bench b --leave-out everything
expect 2 "copies every byte as it is" "$satchel" twin office.img --drive "$gorse" --bench b --exact --leave-out caches
expect 4 "byte for byte do not fit" "$satchel" twin office.img --drive "$gorse" --bench b --exact --confirm "$gorse"
expect 2 "has no persistence volume" "$satchel" twin office.img --drive "$gorse" --bench b --persistence 1G
expect 4 "what the original has takes" "$satchel" twin office.img --drive "$gorse" --bench b --system 10M
expect 4 "nothing on it that a twin could have" "$satchel" twin "$demo_image" --drive "$gorse" --bench b
expect 4 "nothing on it that a twin could have" "$satchel" size --kind twin --image "$gorse" --bench b
expect 4 "no such drive" "$satchel" twin nothing.img --drive "$gorse" --bench b
expect 2 "are one" "$satchel" plan --kind twin --image "$gorse" --drive "$gorse" --bench b
expect 4 "no folder of this name" "$satchel" twin --running nowhere --drive "$gorse" --bench b --confirm "$gorse"
expect 4 "no file system of a disk is mounted there" "$satchel" twin --running /proc --drive "$gorse" --bench b --confirm "$gorse"
expect 2 "do not go with that" "$satchel" twin --running / --exact --drive "$gorse" --bench b
expect 2 "identities are kept or renewed by a twin" "$satchel" plan --kind system --image curlew.iso --drive "$gorse" --bench b --new-host
expect 3 "nothing was written" "$satchel" twin office.img --drive "$teasel" --bench b
rm -f "$teasel.plan"
ok "what was not confirmed is as it was" [ "$(stat -c %b "b/$teasel.drive")" -eq 0 ]

# A drive copied byte for byte is known by a state, and read twice in all; one that is used between plan and build is told
python3 - <<'PY'
import json
drive = lambda name, mib: {"name": name, "serial": name, "bus": "usb", "removable": True, "internal": False, "size_bytes": mib << 20, "write_bytes_s": 10 ** 8, "read_bytes_s": 10 ** 8}
json.dump({"format": "wild-satchel-bench", "version": 1, "seed": 1, "pcs": [], "drives": [drive("Teasel 8", 160), drive("Gorse 32", 200)]}, open("e.json", "w"))
PY
"$satchel" bench setup e.json --bench e >/dev/null
small=$("$satchel" drives "Teasel 8" --bench e --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
large=$("$satchel" drives "Gorse 32" --bench e --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
printf 'label: dos\nsize=64M,type=83\n' | sfdisk -q "e/$small.drive" 2>/dev/null
head -c 30000000 /dev/urandom | dd of="e/$small.drive" bs=1M seek=100 conv=notrunc status=none
expect 0 "replica, byte for byte" "$satchel" plan --kind replica --image "$small" --drive "$large" --bench e --save e.plan
printf x | dd of="e/$small.drive" bs=1 seek=1000000 conv=notrunc status=none
expect 4 "the original was used" "$satchel" build e.plan --bench e --confirm "$large"
expect 0 "flushed and checked" "$satchel" twin "$small" --drive "$large" --bench e --exact --confirm "$large" --save e2.plan
ok "all of it is there" cmp -n "$(stat -c %s "e/$small.drive")" "e/$small.drive" "e/$large.drive"
rm -rf e e.json e.plan* e2.plan*

# Of a file system whose files are not read only what is in use, if it was left in order
truncate -s 70M charts.img
printf 'label: gpt\nsize=60M, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n' | sfdisk -q charts.img
truncate -s 60M volume && mkntfs -q -F volume >/dev/null 2>&1
head -c 9000000 /dev/urandom >chart && ntfscp -q volume chart chart >/dev/null 2>&1
dd if=volume of=charts.img bs=1M seek=1 conv=notrunc,sparse status=none
head -c 70M /dev/zero | tr '\0' '\245' >full.img # what was there before must not matter
expect 0 "NTFS, 60 MiB: its files are not read here, but what of it is in use" "$satchel" plan --kind twin --image charts.img --drive full.img --save charts.plan
expect 0 "charts.img" "$satchel" size --kind twin --image charts.img
json 'not d["starts"] and 0 < d["volumes"][0]["used_bytes"] < d["volumes"][0]["was_bytes"] and "starts" not in d["ways"][0]["note"]' "$satchel" size --kind twin --image charts.img --json
expect 0 "written, flushed and checked" "$satchel" build charts.plan --confirm "$("$satchel" drives full.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')"
json 'int(d["result"]["write_bytes"]) < 40e6' cat charts.plan
dd if=full.img of=volume bs=1M skip=1 count=60 status=none
ok "a copy of what is in use is whole" sh -c 'ntfscat -q volume chart 2>/dev/null | cmp - chart && ntfsfix -n volume >/dev/null 2>&1'
ntfsfix volume >/dev/null 2>&1 # which marks it
dd if=volume of=charts.img bs=1M seek=1 conv=notrunc status=none
expect 0 "all of it, for what is in use cannot be told: it is marked as not left in order" "$satchel" plan --kind twin --image charts.img --drive full.img --over --save charts.plan
rm -f volume chart charts.* full.img

# Carried over in one go; it starts where it says; refreshed, only what changed is written
expect 0 "flushed and checked" "$satchel" twin office.img --drive "$gorse" --bench b --leave-out caches --swap 2G --confirm "$gorse"
follows plan cat "$gorse.plan"
json 'd["result"]["kind"] == "twin" and [v["of"] for v in d["result"]["volumes"]] == [1, 2, 3]' cat "$gorse.plan"
expect 0 "full system" "$satchel" drives "$gorse" --bench b
for pc in launch hut; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
expect 0 "exactly" "$satchel" check "$gorse" --plan "$gorse.plan" --used --bench b
again="$satchel twin later.img --drive $gorse --bench b --leave-out caches --swap 2G --refresh --confirm $gorse"
expect 0 "twin, brought up to date" $again
json 'd["written_bytes"] < 20e6 and d["kind"] == "twin"' $again --json
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on launch --bench b
# cut at a write of a refresh: finished, or as before
cp --sparse=always "b/$gorse.drive" kept.drive
for cut in 3 9 15; do
    cp --sparse=always kept.drive "b/$gorse.drive"
    "$satchel" bench arm "$gorse" --cut-at-write $cut --bench b >/dev/null
    "$satchel" twin office.img --drive "$gorse" --bench b --leave-out caches --swap 2G --refresh --confirm "$gorse" >said 2>&1 && break
    "$satchel" bench plug "$gorse" --bench b >/dev/null 2>&1
    if "$satchel" drives "$gorse" --bench b | grep -q "was cut"; then
        expect 0 "is finished" "$satchel" build --finish "$gorse" --bench b
    fi
    expect 0 "Curlew" "$satchel" bench start hut "$gorse" --bench b
done
"$satchel" bench arm "$gorse" --cut-at-write 1000000 --bench b >/dev/null
expect 4 "another number of volumes" "$satchel" twin office.img --drive "$teasel" --bench b --refresh --confirm "$teasel"

# A twin of the twin: a drive is an original, too, and is not written
before_drive=$(stored "b/$gorse.drive")
expect 0 "flushed and checked" "$satchel" twin "$gorse" --drive "$teasel" --bench b --swap 1G --confirm "$teasel"
ok "the drive is as it was" [ "$before_drive" = "$(stored "b/$gorse.drive")" ]
expect 0 "It remembers" "$satchel" prove "$teasel" --confirm "$teasel" --on launch --bench b
ok "the image is as it was" [ "$before" = "$(stored office.img)" ]
# planned for nobody yet, then for one drive after the other
expect 0 "request is kept" "$satchel" plan --kind twin --image office.img --leave-out caches --swap none --new-host --save-request twin.request --bench b
follows request cat twin.request
expect 0 "twin of an existing drive" "$satchel" plan --request twin.request --drive "$gorse" --bench b --save again.plan
cp --sparse=always later.img office.img
expect 4 "was used since" "$satchel" build again.plan --confirm "$gorse" --bench b

# Virtual disks: made, looked at, put on a drive; each is what another program reads
export WILD_SATCHEL_BENCH=
for kind in qcow2 vhd vhdx vmdk; do
    expect 0 "flushed and checked" "$satchel" twin later.img --drive try.$kind --make 2G --system 1G --swap none
    expect 0 "Virtual disk" "$satchel" image try.$kind
    follows output "$satchel" image try.$kind --json
    json 'd["virtual_disk"]["size_bytes"] > 2147000000 and d["system"]["name"] and len(d["volumes"]) == 2' "$satchel" image try.$kind --json
    ok "$kind stays small" [ "$(stat -c %b try.$kind)" -lt 700000 ]
    expect 0 "exactly" "$satchel" check try.$kind --record try.$kind.plan.built
done
expect 0 "flushed and checked" "$satchel" twin try.qcow2 --drive "$teasel" --bench b --confirm "$teasel"
expect 0 "It remembers" "$satchel" prove "$teasel" --confirm "$teasel" --on hut --bench b
# hostile ones: cut, a loop of bases, one that lies elsewhere
head -c 70000 try.qcow2 > cut.qcow2
expect 4 "satchel:" "$satchel" image cut.qcow2
if command -v qemu-img >/dev/null; then
    qemu-img create -q -f qcow2 -b try.qcow2 -F qcow2 one.qcow2
    qemu-img create -q -f qcow2 -b one.qcow2 -F qcow2 two.qcow2
    qemu-img rebase -u -f qcow2 -b two.qcow2 -F qcow2 one.qcow2
    expect 4 "satchel:" "$satchel" image two.qcow2
    qemu-img rebase -u -f qcow2 -b /etc/passwd -F raw one.qcow2
    expect 3 "does not stand beside it" "$satchel" image one.qcow2
    qemu-img rebase -u -f qcow2 -b try.qcow2 -F qcow2 one.qcow2
    expect 0 "it builds on" "$satchel" image one.qcow2
fi
expect 2 "--make makes image files" "$satchel" twin later.img --drive x.qcow2 --make 2G --bench b
expect 3 "is not made anew" "$satchel" twin later.img --drive try.vhd --make 2G
ok "what stands there is kept" [ -s try.vhd ]

# What is mounted somewhere is read while it changes: small files are caught, a large one is named; holes stay holes
truncate -s 300M run.img && mkfs.ext4 -q run.img && mkdir here
if mount -o loop run.img here 2>/dev/null; then
    mkdir here/etc && truncate -s 700M here/etc/hole && echo end >>here/etc/hole && head -c 40M /dev/urandom >here/large
    ln here/large here/same && python3 -c 'import os; os.setxattr("here/etc/hole", "user.tide", b"high")'
    (i=0; while [ $i -lt 1000 ] && [ ! -e done ]; do i=$((i + 1)); echo $i >>here/etc/busy; echo $i >>here/large; sleep 0.02; done) &
    expect 1 "changed each time" "$satchel" twin --running here --drive running.img --make 500M
    follows output "$satchel" twin --running here --drive again.vhdx --make 500M --json
    touch done && wait
    expect 0 "compared with the running system" "$satchel" twin --running here --drive still.img --make 500M
    sha256sum here/etc/hole here/large | sed 's/here/there/' >sums
    umount here
    size=$(($(sfdisk -J still.img | python3 -c 'import json, sys; print(json.load(sys.stdin)["partitiontable"]["partitions"][-1]["size"])') * 512))
    for file in running.img still.img; do
        loop=$(losetup -o 1048576 --sizelimit $size -f --show $file)
        ok "$file is sound" e2fsck -fn "$loop"
        [ $file = running.img ] || {
            mkdir there && mount -o ro "$loop" there
            ok "all is as it was read" sha256sum -c --quiet sums
            ok "its hole is one" [ "$(stat -c %b there/etc/hole)" -lt 100 ]
            ok "second names and attributes stay" python3 -c 'import os; assert os.path.samefile("there/large", "there/same") and os.getxattr("there/etc/hole", "user.tide") == b"high"'
            umount there
        }
        losetup -d "$loop"
    done
fi

echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
