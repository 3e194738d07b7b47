#!/bin/sh
# A real live system's memory, cared for between its starts: grown, saved, reset, put back; what was remembered before is there
# afterwards, and the kernel sees the new size.
#   kept.sh SATCHEL LIVE_IMAGE FIRMWARE [WORDS OF PREPARE]
image=$2
pc=$3
satchel=$1
shift 3
asked=$*
set -- "$satchel" true "" # no image of the demo
. "$(dirname "$0")/cli_common.sh"
told() { "$satchel" keep show stick.img --json | python3 -c "import json, sys; d = json.load(sys.stdin); sys.exit(0 if ($1) else 1)"; }
volume() { # COMMAND...: on the remembered volume, as volume.img; it is put back
    at=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(*[(p["at_bytes"], p["size_bytes"]) for p in json.load(sys.stdin)["drives"][0]["parts"] if p["label"] == "persistence"][0])')
    size=${at#* } at=${at% *}
    dd if=stick.img of=volume.img bs=1M iflag=skip_bytes,count_bytes skip="$at" count="$size" status=none
    "$@" || return 1
    dd if=volume.img of=stick.img bs=1M oflag=seek_bytes seek="$at" conv=notrunc status=none
}
mark() { echo "low water at six" >marker && e2fsck -fy volume.img >/dev/null && debugfs -w -R "write marker /rw/marker" volume.img; }

truncate -s 900M stick.img
name=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
# shellcheck disable=SC2086
ok "built" "$satchel" prepare --image "$image" $asked --persistence 200M --drive stick.img --confirm "$name"
ok "remembers" "$satchel" prove stick.img --confirm "$name" --on "$pc" --wait 400 --keep-traces
ok "marked" volume mark
ok "grown" "$satchel" keep grow stick.img --size 700M --confirm "$name"
ok "remembers in more room" "$satchel" prove stick.img --confirm "$name" --on "$pc" --wait 400
ok "the mark is there, the size is new, the kernel counted" told 'd["size_bytes"] == 700 << 20 and any(f["path"] == "/marker" for f in d["largest_files"]) and d["starts"] >= 2 and d["written_bytes"] > 0'
ok "the checker finds it sound" volume sh -c 'e2fsck -fy volume.img; e2fsck -fn volume.img'
ok "saved" "$satchel" keep save stick.img --to stick.kept
ok "reset" "$satchel" keep reset stick.img --confirm "$name"
ok "shrunk" "$satchel" keep shrink stick.img --size 150M --confirm "$name"
ok "put back" "$satchel" keep restore stick.img --from stick.kept --confirm "$name"
ok "remembers what was put back" "$satchel" prove stick.img --confirm "$name" --on "$pc" --wait 400 --rounds cut
ok "the mark is there again" told 'd["size_bytes"] == 150 << 20 and any(f["path"] == "/marker" for f in d["largest_files"])'
"$satchel" check stick.img --used --plan "$name.plan" >said 2>&1
ok "a check knows that it was resized" grep -q "it was resized since" said
# Another edition of the image (other tables, menus and places) laid under it, the earlier marks behind it
ok "has room for that" "$satchel" keep grow stick.img --size 400M --confirm "$name"
ok "renewed" "$satchel" keep renew stick.img --image "$(dirname "$image")/crowded.iso" --stays all --confirm "$name"
ok "remembers under the other image" "$satchel" prove stick.img --confirm "$name" --on "$pc" --wait 400
ok "the mark is still there" told '390 << 20 <= d["size_bytes"] <= 400 << 20 and any(f["path"] == "/marker" for f in d["largest_files"])'
ok "the drive is sound" "$satchel" check stick.img
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
