#!/bin/sh
# A real live system's memory, moved between its starts: from a partition into a file and back, to where its file lies, into the
# room of a volume in front of it, and in its file behind an image that needs more room.
#   moved.sh SATCHEL LIVE_IMAGE FIRMWARE
image=$2
pc=$3
set -- "$1" true "" # no image of the demo
. "$(dirname "$0")/cli_common.sh"
told() { "$satchel" keep show stick.img --json | python3 -c "import json, sys; d = json.load(sys.stdin); sys.exit(0 if ($1) else 1)"; }
remembers() { ok "remembers $1" "$satchel" prove stick.img --confirm "$name" --on "$pc" --wait 400 --keep-traces; }
stick() { # OPTION...
    rm -f stick.img && truncate -s 900M stick.img
    name=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
    ok "built $*" "$satchel" prepare --image "$image" --drive stick.img --confirm "$name" --afresh "$@"
}

stick --persistence 200M --data 300M
remembers "in a partition"
ok "moved into a file" "$satchel" keep move stick.img --in file --confirm "$name"
ok "what was remembered is in it" told 'd["in_file"] and d["files"] > 2 and d["starts"] >= 2'
remembers "in a file"
ok "moved out of it" "$satchel" keep move stick.img --in partition --size 250M --confirm "$name"
ok "all of it is there" told 'not d["in_file"] and d["files"] > 2 and d["starts"] >= 4 and d["size_bytes"] == 250 << 20'
remembers "in a partition again"
ok "the drive is sound" "$satchel" check stick.img

stick --arrangement files --in file --persistence 200M --menu-wait 1
remembers "in a file of the build"
ok "it stays where it is, as a partition" "$satchel" keep move stick.img --in partition --confirm "$name"
remembers "in that partition"
ok "what was remembered before is there" told 'not d["in_file"] and d["starts"] >= 4'
ok "the drive is sound" "$satchel" check stick.img

stick --arrangement files --system 500M --persistence rest --menu-wait 1
remembers "behind the volume of its files"
ok "it begins sooner" "$satchel" keep grow stick.img --size 550M --take-from-data --confirm "$name"
remembers "from there on"
ok "what was remembered before is there" told 'd["starts"] >= 4 and d["size_bytes"] == 550 << 20'
ok "the drive is sound" "$satchel" check stick.img

stick --in file --persistence 200M --data 500M --data-on fat32
remembers "in a file behind the image"
ok "another edition of the image needs more room" "$satchel" keep renew stick.img --image "$(dirname "$image")/crowded.iso" --stays all --confirm "$name"
ok "its file begins later" told 'd["in_file"] and d["files"] > 2 and 190 << 20 < d["size_bytes"] < 200 << 20'
remembers "under the other image"
ok "what was remembered before is there" told 'd["in_file"] and d["starts"] >= 4'
ok "the drive is sound" "$satchel" check stick.img

# The volume that remembers, as a technician makes it by hand
stick --persistence 200M --data 300M
set -- $("$satchel" drives stick.img --json | python3 -c 'import json, sys; p = [p for p in json.load(sys.stdin)["drives"][0]["parts"] if p["label"] == "persistence"][0]; print(p["at_bytes"], p["size_bytes"])')
mkdir -p by-hand && echo "/ union" >by-hand/persistence.conf
rm -f volume && truncate -s "$2" volume && mke2fs -q -F -t ext4 -L persistence -d by-hand volume
dd if=volume of=stick.img bs=1M oflag=seek_bytes seek="$1" conv=notrunc status=none
remembers "in a volume that somebody made"
ok "it is grown all the same" "$satchel" keep grow stick.img --size 230M --take-from-data --confirm "$name"
remembers "in what was made of it"
ok "what was remembered before is there" told 'd["files"] > 2 and d["starts"] >= 4 and d["size_bytes"] == 230 << 20'
ok "the drive is sound" "$satchel" check stick.img
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
