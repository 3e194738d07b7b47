#!/bin/sh
# The real thing: a drive built from a real live image starts on emulated PCs and remembers; a replica forgets.
#   start.sh SATCHEL LIVE_IMAGE FIRMWARE [ARRANGEMENT]
#       FIRMWARE: emulated-bios, emulated-uefi, emulated-secure or control; ARRANGEMENT: whole (default) or files
set -u
satchel=$1
image=$2
what=$3
arrangement=${4:-whole}
work=$(mktemp -d /tmp/satchel-start-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
truncate -s 600M stick.img
kind=live
pc=$what
wanted=kept
code=0
if [ "$what" = control ]; then
    kind=replica
    pc=emulated-bios
    wanted=lost
    code=1
fi
[ "$kind" = live ] && how="--arrangement $arrangement" || how=
# shellcheck disable=SC2086
"$satchel" plan --image "$image" --drive stick.img --kind $kind $how --save stick.plan || exit 1
name=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
"$satchel" build stick.plan --confirm "$name" || exit 1
"$satchel" prove stick.img --on "$pc" --wait 400 --console console.log --json > proof.json
got=$?
if [ $got -ne $code ] || ! python3 - "$wanted" <<'PY'
import json, sys
d = json.load(open("proof.json"))
good = d.get("verdict") == sys.argv[1]
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
p = json.load(open("stick.plan"))["result"]
with open("stick.img", "rb") as s, open("volume.img", "wb") as v:
    s.seek(p["persistence_at_bytes"])
    v.write(s.read(p["persistence_size_bytes"]))
PY
    e2fsck -fy volume.img > check.log 2>&1
    rc=$?
    e2fsck -fn volume.img >> check.log 2>&1 || { cat check.log; exit 1; }
    [ $rc -le 1 ] || { cat check.log; exit 1; }
fi
echo "$what: $(python3 -c 'import json; d = json.load(open("proof.json")); print(d["verdict"], "-", d["text"])')"
echo "1 passed, 0 failed"
