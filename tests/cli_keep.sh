#!/bin/sh
# What a drive remembers, cared for on the simulated bench: shown, cleaned, saved, reset, put back, here and elsewhere.
#   cli_keep.sh SATCHEL DEMO_IMAGE BENCHFILE
. "$(dirname "$0")/cli_common.sh"
"$demo_image" curlew.iso
expect 0 "5 drives" "$satchel" bench setup "$benchfile" --bench b
export WILD_SATCHEL_BENCH=b
gorse=$(name_of "Gorse 32") teasel=$(name_of "Teasel 8")
follows() { json "True" "$@"; "$@" 2>/dev/null </dev/null | python3 "$here/follows_schema.py" "$schemas/output.schema.json" || { failed=$((failed + 1)); echo "FAILED: $* does not follow its schema"; }; }

# What is nothing, and what is mistyped
expect 2 "did you mean reset" "$satchel" keep rest gorse
expect 2 "takes DRIVE" "$satchel" keep show
expect 2 "has no use for the word" "$satchel" keep show gorse teasel
expect 2 "did you mean grow" "$satchel" keep grwo gorse
expect 2 "it goes with grow, shrink, move" "$satchel" keep show gorse --size 3G
expect 0 "more room: free, or what" "$satchel" help keep
# A default of the site that is for others does no harm
expect 0 "in" env WILD_SATCHEL_DEFAULTS="$PWD/site.json" "$satchel" defaults in=file
expect 4 "nothing is remembered" env WILD_SATCHEL_DEFAULTS="$PWD/site.json" "$satchel" keep show gorse
expect 4 "nothing is remembered on this drive" "$satchel" keep show gorse
expect 2 "no effect with \`keep show\`" "$satchel" keep show gorse --to x
expect 2 "no effect with \`keep save\`" "$satchel" keep save gorse --from x --to y
expect 0 "--except" "$satchel" help keep
expect 0 "plan is kept" "$satchel" plan --image curlew.iso --drive gorse --persistence 300M --save g.plan
expect 0 "flushed and checked" "$satchel" build g.plan --confirm "$gorse"
expect 0 "Holds         0 bytes" "$satchel" keep show gorse
expect 4 "nothing is remembered yet" "$satchel" keep save gorse --to empty.kept
ok "no file is left" test ! -e empty.kept
expect 2 "say where it is to be saved" "$satchel" keep save gorse
expect 2 "say what is to be put back" "$satchel" keep restore gorse --confirm "$gorse"

# Used, saved, reset, put back
expect 0 "It remembers" "$satchel" prove gorse --on hut --confirm "$gorse" --keep-traces --rounds shutdown,shutdown
expect 0 "Taken away    1 name of the image" "$satchel" keep show gorse
json 'd["files"] == 6 and d["family"] == "live-boot" and d["taken_away"] == 1' "$satchel" keep show gorse --json
expect 0 "is saved in tide.kept" "$satchel" keep save gorse --to tide.kept
expect 3 "not replaced" "$satchel" keep save gorse --to tide.kept
expect 0 "is saved in tide.kept" "$satchel" keep save gorse --to tide.kept --over
ok "an archive that others read" sh -c "bsdtar -tf tide.kept | grep -q '^kept/etc/motd$' && bsdtar -xOf tide.kept kept.json | grep -q sha256"
expect 3 "confirm with the drive's own name" "$satchel" keep reset gorse
expect 3 "confirm with the drive's own name" "$satchel" keep reset gorse --confirm "$teasel"
expect 4 "nothing of this path is remembered" "$satchel" keep reset gorse --except /srv --confirm "$gorse"
expect 0 "is as fresh but for what was kept" "$satchel" keep reset gorse --except /usr/local --confirm "$gorse"
json 'd["files"] == 1 and d["largest_files"][0]["path"] == "/usr/local/bin/satchel-proof"' "$satchel" keep show gorse --json
expect 0 "but for what it remembers" "$satchel" check gorse --plan g.plan
expect 0 "is as fresh" "$satchel" keep reset gorse --confirm "$gorse"
expect 0 "Holds         0 bytes" "$satchel" keep show gorse
expect 0 "but for what it remembers" "$satchel" check gorse --plan g.plan
expect 0 "remembers what was saved" "$satchel" keep restore gorse --from tide.kept --confirm "$gorse"
json 'd["files"] == 6 and d["taken_away"] == 1' "$satchel" keep show gorse --json
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse" --keep-traces

# More room, and less
expect 2 "say how small" "$satchel" keep shrink gorse --confirm "$gorse"
expect 2 "would not make it larger" "$satchel" keep grow gorse --size 200M --confirm "$gorse"
expect 4 "its volume can be of" "$satchel" keep grow gorse --size 40G --confirm "$gorse"
expect 3 "confirm with the drive's own name" "$satchel" keep grow gorse
expect 0 "has more room" "$satchel" keep grow gorse --size 24G --confirm "$gorse"
json 'd["size_bytes"] == 24 << 30 and d["files"] > 4' "$satchel" keep show gorse --json
expect 0 "It remembers" "$satchel" prove gorse --on hut --confirm "$gorse" --keep-traces
expect 1 "it was resized since" "$satchel" check gorse --plan g.plan
expect 0 "has less room" "$satchel" keep shrink gorse --size 200M --confirm "$gorse"
expect 0 "has more room" "$satchel" keep grow gorse --confirm "$gorse"
expect 4 "no free space behind it" "$satchel" keep grow gorse --confirm "$gorse"
json 'd["files"] > 4' "$satchel" keep show gorse --json
expect 4 "nothing stands there" "$satchel" keep grow gorse --size 40G --take-from-data --confirm "$gorse"

# From the data volume behind it
expect 0 "is ready" "$satchel" prepare --image curlew.iso --persistence 300M --data 8G --data-on exfat --drive gorse --confirm "$gorse" --afresh
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse" --keep-traces
expect 4 "can give room, for up to" "$satchel" keep grow gorse --confirm "$gorse"
expect 4 "not of 5.4 GB" "$satchel" keep grow gorse --size 5G --confirm "$gorse"
expect 2 "is not taken without a number" "$satchel" keep grow gorse --take-from-data --confirm "$gorse"
expect 4 "up to" "$satchel" keep grow gorse --size 30G --take-from-data --confirm "$gorse"
expect 2 "would not make it larger" "$satchel" keep grow gorse --size 100M --take-from-data --confirm "$gorse"
expect 2 "no effect" "$satchel" keep shrink gorse --size 100M --take-from-data --confirm "$gorse"
expect 3 "confirm with the drive's own name" "$satchel" keep grow gorse --size 5G --take-from-data

# The passport's copy lies there, and where people see no volume it is refused
expect 3 "not given to confirm it" "$satchel" passport gorse --onto-drive
expect 3 "does not confirm" "$satchel" passport gorse --onto-drive --confirm nobody
expect 0 "PASSPORT.HTM on partition 4, new" "$satchel" passport gorse --onto-drive --confirm "$gorse"
expect 0 "in the place of the earlier one" "$satchel" passport gorse --onto-drive --confirm "$gorse"
json 'd["copy"]["partition"] == 4 and d["copy"]["file"] == "PASSPORT.HTM" and d["copy"]["replaced"]' "$satchel" passport gorse --onto-drive --confirm "$gorse" --json
follows "$satchel" passport gorse --onto-drive --confirm "$gorse" --json
expect 0 "PASSPORT.HTM on partition 4, of 20" "$satchel" passport gorse
expect 0 "is sound" "$satchel" check gorse
# It tells of before, wherever its volume begins by now
expect 0 "partition 4 tells how it was before" "$satchel" keep grow gorse --size 400M --take-from-data --confirm "$gorse"
json 'd["outdated_passport"]["partition"] == 4 and d["outdated_passport"]["made_at"] > 1700000000' "$satchel" keep shrink gorse --size 300M --confirm "$gorse" --json
follows "$satchel" keep reset gorse --confirm "$gorse" --json
expect 0 "is ready" "$satchel" prepare --image curlew.iso --drive gorse --confirm "$gorse" --afresh
expect 4 "one that every PC shows" "$satchel" passport gorse --onto-drive --confirm "$gorse"

# What a session saves there is told by a proof, and what it deletes is not taken for lost
data_at() { "$satchel" drives gorse --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["parts"][-1]["at_bytes"])'; }
expect 0 "is ready" "$satchel" prepare --image curlew.iso --persistence 300M --data 8G --data-label TIDE --drive gorse --confirm "$gorse" --afresh
expect 0 "WHICH-PC" "$satchel" prove gorse --on own-pc --proof data.proof
"$satchel" bench start hut "Gorse 32" --type "mkdir /srv/ebb" >/dev/null 2>&1
echo "low water" > notes && mcopy -i "b/$gorse.drive@@$(data_at)" notes ::/notes && mmd -i "b/$gorse.drive@@$(data_at)" "::/System Volume Information"
expect 0 "1 more are the system's own" "$satchel" prove gorse --on own-pc --proof data.proof --called hut
"$satchel" bench start hut "Gorse 32" --type "mkdir /srv/neap" >/dev/null 2>&1
mdel -i "b/$gorse.drive@@$(data_at)" ::/notes
json 'd["rounds"][0]["verdict"] == "kept" and d["rounds"][1]["earlier"]["deleted_again"] == 1 and d["rounds"][1]["earlier"]["lost"] == 0' "$satchel" prove gorse --on own-pc --proof data.proof --called hut --json
expect 0 "is ready" "$satchel" prepare --image curlew.iso --persistence 300M --data 8G --drive gorse --confirm "$gorse" --afresh
mkfs.ext4 -q -F -b 4096 -L TIDE -E offset="$(data_at)" "b/$gorse.drive" 8G 2>/dev/null # as others make it
expect 0 "WHICH-PC" "$satchel" prove gorse --on own-pc --proof ext4.proof
"$satchel" bench start hut "Gorse 32" --type "mkdir /srv/ebb" >/dev/null 2>&1
debugfs -w -R "write notes neap-notes" "b/$gorse.drive?offset=$(data_at)" 2>/dev/null
expect 0 "3 in people" "$satchel" prove gorse --on own-pc --proof ext4.proof --called hut
ok "the volume is in the proof" grep -q "(TIDE)/neap-notes" ext4.proof
expect 0 "has more room" "$satchel" keep grow gorse --size 2G --take-from-data --confirm "$gorse"
expect 0 "is sound" "$satchel" check gorse
expect 0 "is ready" "$satchel" prepare --image curlew.iso --persistence 300M --data 8G --data-on exfat --drive gorse --confirm "$gorse" --afresh
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse" --keep-traces
expect 0 "has more room" "$satchel" keep grow gorse --size 5G --take-from-data --confirm "$gorse"
json '[p["size_bytes"] >> 20 for p in d["drives"][0]["parts"]][-2:] == [5120, 8192 + 300 - 5120]' "$satchel" drives gorse --json
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse" --keep-traces
expect 1 "resized since" "$satchel" check gorse --plan "$gorse.plan"

# Into a file of the data volume, and out of it
expect 2 "say where" "$satchel" keep move gorse --confirm "$gorse"
expect 2 "in a partition already" "$satchel" keep move gorse --in partition --confirm "$gorse"
expect 2 "file" "$satchel" keep move gorse --in files --confirm "$gorse"
expect 2 "no effect" "$satchel" keep grow gorse --in file --confirm "$gorse"
expect 3 "confirm with the drive's own name" "$satchel" keep move gorse --in file --size 200M
expect 4 "in one piece" "$satchel" keep move gorse --in file --confirm "$gorse"
expect 0 "remembers in a file" "$satchel" keep move gorse --in file --size 200M --confirm "$gorse"
json 'd["in_file"] and d["size_bytes"] == 200 << 20 and d["files"] > 4' "$satchel" keep show gorse --json
json 'not [p for p in d["drives"][0]["parts"] if p["label"] == "persistence"]' "$satchel" drives gorse --json
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse" --keep-traces
expect 0 "is sound" "$satchel" check gorse
json 'd["moved"]["in"] == "partition" and not d["moved"]["in_place"]' "$satchel" keep move gorse --in partition --size 2G --confirm "$gorse" --json
json 'not d["in_file"] and d["size_bytes"] == 2 << 30 and d["files"] > 4' "$satchel" keep show gorse --json
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse" --keep-traces

# Onto another drive, smaller, and of another family
"$demo_image" casper.iso casper
expect 0 "2 of 2" "$satchel" prepare --image casper.iso --persistence 100M --drive teasel --drive sorrel --confirm "$teasel" --confirm "$(name_of "Sorrel 64")"
expect 0 "remembers what was saved" "$satchel" keep restore teasel --from tide.kept --confirm "$teasel"
json 'd["family"] == "casper" and d["files"] == 6' "$satchel" keep show teasel --json
expect 0 "It remembers" "$satchel" prove teasel --on hut --confirm "$teasel"

expect 0 "plan is kept" "$satchel" plan --image curlew.iso --arrangement files --in file --persistence 100M --drive teasel --save t.plan
expect 0 "flushed and checked" "$satchel" build t.plan --confirm "$teasel"
expect 0 "remembers what was saved" "$satchel" keep restore teasel --from tide.kept --confirm "$teasel"
expect 0 "an overlay file" "$satchel" keep show teasel
expect 0 "It remembers" "$satchel" prove teasel --on launch --confirm "$teasel"

# Not what it should be
head -c 400 tide.kept > cut.kept
expect 4 "damaged or cut short" "$satchel" keep restore gorse --from cut.kept --confirm "$gorse"
expect 2 "this is a plan" "$satchel" keep restore gorse --from g.plan --confirm "$gorse"
expect 4 "no saved state" "$satchel" keep restore gorse --from curlew.iso --confirm "$gorse"
mkdir kept && echo x >kept/x && echo '{"format": "wild-satchel-kept"}' >kept.json && bsdtar -czf made.kept kept kept.json
expect 4 "no saved state" "$satchel" keep restore gorse --from made.kept --confirm "$gorse"
expect 4 "there is no such drive" "$satchel" keep show nowhere
expect 0 "plan is kept" "$satchel" plan --image curlew.iso --kind system --drive sorrel --save s.plan
expect 0 "flushed and checked" "$satchel" build s.plan --confirm "$(name_of "Sorrel 64")"
expect 0 "a full system" "$satchel" keep show sorrel
expect 4 "full system is itself" "$satchel" keep reset sorrel --confirm "$(name_of "Sorrel 64")"
expect 4 "live system's" "$satchel" keep restore sorrel --from tide.kept --confirm "$(name_of "Sorrel 64")"
expect 0 "is saved in" "$satchel" keep save sorrel --to sorrel.kept
expect 4 "full system's, and this is a live one" "$satchel" keep restore gorse --from sorrel.kept --confirm "$gorse"
# What was added since it was laid down tells when it will be full
json 'd["bytes_a_start"] == 0 and d["starts_left"] is None' "$satchel" keep show sorrel --json
for n in 1 2 3 4; do "$satchel" bench start hut "Sorrel 64" --type "echo tide $n > /srv/note$n" >/dev/null; done
json 'd["bytes_a_start"] > 0 and d["starts_left"] > 1000' "$satchel" keep show sorrel --json
expect 0 "a start" "$satchel" keep show sorrel
expect 0 "remembers what was saved" "$satchel" keep restore sorrel --from sorrel.kept --confirm "$(name_of "Sorrel 64")"
expect 0 "It remembers" "$satchel" prove sorrel --on hut --confirm "$(name_of "Sorrel 64")"

# Where old and new have no room beside each other the old one goes first; what never fits is told before anything does
if command -v debugfs >/dev/null; then
    WILD_SATCHEL_BENCH=
    fill() { # STICK BYTES: as if its system had written so much
        at=$("$satchel" drives "$1" --json | python3 -c 'import json, sys; print(*[(p["at_bytes"], p["size_bytes"]) for p in json.load(sys.stdin)["drives"][0]["parts"] if p["label"] == "persistence"][0])')
        dd if="$1" of=volume.img bs=1M iflag=skip_bytes,count_bytes skip="${at% *}" count="${at#* }" status=none
        head -c "$2" /dev/urandom >large && printf 'mkdir /rw\nwrite large /rw/large\n' >todo && debugfs -w -f todo volume.img >/dev/null 2>&1
        dd if=volume.img of="$1" bs=1M oflag=seek_bytes seek="${at% *}" conv=notrunc status=none
    }
    for stick in a:100M b:40M; do
        truncate -s 300M "${stick%:*}.img"
        expect 0 "is ready" "$satchel" prepare --image curlew.iso --persistence "${stick#*:}" --drive "${stick%:*}.img" --confirm "$("$satchel" drives "${stick%:*}.img" --json | sed -n 's/^ *"name": "\(.*\)",$/\1/p' | head -1)"
    done
    of_a=$("$satchel" drives a.img --json | sed -n 's/^ *"name": "\(.*\)",$/\1/p' | head -1) of_b=$("$satchel" drives b.img --json | sed -n 's/^ *"name": "\(.*\)",$/\1/p' | head -1)
    fill a.img 60000000 && fill b.img 5000000
    expect 0 "is saved in" "$satchel" keep save a.img --to large.kept
    untouched=$(sum_of b.img)
    expect 4 "it needs a larger volume" "$satchel" keep restore b.img --from large.kept --confirm "$of_b"
    ok "nothing was written" test "$untouched" = "$(sum_of b.img)"
    # Both have no room beside each other: the log stands behind the last partition then; where nothing is, what is remembered goes first
    expect 0 "remembers what was saved" "$satchel" keep restore a.img --from large.kept --confirm "$of_a"
    json 'd["files"] == 1 and d["bytes"] > 59000000' "$satchel" keep show a.img --json
    truncate -s 130M c.img && of_c=$("$satchel" drives c.img --json | sed -n 's/^ *"name": "\(.*\)",$/\1/p' | head -1)
    expect 0 "is ready" "$satchel" prepare --image curlew.iso --drive c.img --confirm "$of_c"
    fill c.img 60000000
    expect 0 "what is remembered goes first" "$satchel" keep restore c.img --from large.kept --confirm "$of_c"
    json 'd["files"] == 1 and d["bytes"] > 59000000' "$satchel" keep show c.img --json
    expect 0 "has more room" "$satchel" keep grow b.img --confirm "$of_b"
    expect 0 "remembers what was saved" "$satchel" keep restore b.img --from large.kept --confirm "$of_b"
    expect 2 "nothing is locked" "$satchel" keep show a.img --password-fd 0
    WILD_SATCHEL_BENCH=b
fi

# What could go is told first
expect 0 "There is nothing to clean" "$satchel" keep clean gorse
expect 2 "--what takes" "$satchel" keep clean gorse --what caches,cake

# Drawn
expect 0 "is drawn in kept.png" "$satchel" keep show gorse --picture kept.png
expect 0 "is drawn in kept.svg" "$satchel" keep show gorse --picture kept.svg
expect 3 "not replaced" "$satchel" keep show gorse --picture kept.png
expect 2 ".png or .svg" "$satchel" keep show gorse --picture kept.txt
ok "two pictures" sh -c "file kept.png | grep -q 'PNG image data, 1200 x 640' && grep -q '<svg' kept.svg"

# A journal of its starts, laid into it and taken away
expect 2 "--off has no effect" "$satchel" keep show gorse --off
expect 4 "there is no start journal" "$satchel" keep journal gorse --off --confirm "$gorse"
expect 0 "notes its starts" "$satchel" keep journal gorse --confirm "$gorse"
expect 0 "from the next one on" "$satchel" keep show gorse
json 'd["journal"] and d["noted"] == []' "$satchel" keep show gorse --json
# As its script would write; what it says is shown as it is, and nothing of it is a command of the terminal
"$satchel" bench start hut "Gorse 32" --type "mkdir /var/lib/satchel" \
    --type "printf '2026-11-20T06:00:00Z	Gannet Hut PC	BIOS	6.1	first\n2026-11-21T06:00:00Z	Launch	UEFI	6.1	cut\n' > /var/lib/satchel/starts" >/dev/null
expect 0 "Gannet Hut PC" "$satchel" keep show gorse
json 'len(d["noted"]) == 2 and d["noted"][1] == {"at": "2026-11-21T06:00:00Z", "machine": "Launch", "firmware": "UEFI", "kernel": "6.1", "before": "cut"}' "$satchel" keep show gorse --json
expect 0 "has no start journal any more" "$satchel" keep journal gorse --off --confirm "$gorse"
json 'not d["journal"] and d["noted"] == []' "$satchel" keep show gorse --json
expect 2 "with a system that remembers" "$satchel" plan --image curlew.iso --drive teasel --kind replica --start-journal
# What is written again and again is told by itself
json 'd["again_files"] == 0 and d["written_again"] == []' "$satchel" keep show gorse --json
"$satchel" bench start hut "Gorse 32" --type "echo low > /srv/tide.log" >/dev/null
"$satchel" bench start hut "Gorse 32" --type "echo high >> /srv/tide.log" --type "echo new > /srv/other" >/dev/null
json 'd["again_files"] == 1 and d["written_again"][0]["path"] == "/srv/tide.log"' "$satchel" keep show gorse --json
expect 0 "written to in its last session" "$satchel" keep show gorse

# A newer image under what is remembered; a list of packages of the older one is a trap
"$demo_image" newer.iso newer && "$demo_image" other.iso casper || exit 1
expect 2 "--image FILE" "$satchel" keep renew gorse --confirm "$gorse"
expect 4 "another family" "$satchel" keep renew gorse --image other.iso --confirm "$gorse"
expect 3 "confirm with the drive's own name" "$satchel" keep renew gorse --image newer.iso
expect 0 "Curlew Live 13" "$satchel" keep renew gorse --image newer.iso --confirm "$gorse"
expect 0 "has this very image already" "$satchel" keep renew gorse --image newer.iso --confirm "$gorse"
expect 0 "It remembers" "$satchel" prove gorse --on launch --confirm "$gorse"
"$satchel" bench start hut "Gorse 32" --type "mkdir /var/lib/dpkg" --type "echo of the older one > /var/lib/dpkg/status" --type "mkdir /home/tide" --type "echo six > /home/tide/note" >/dev/null
expect 3 "this is the older image" "$satchel" keep renew gorse --image curlew.iso --stays home
expect 3 "choose what stays" "$satchel" keep renew gorse --image curlew.iso --confirm "$gorse"
expect 2 "--stays takes" "$satchel" keep renew gorse --image curlew.iso --stays some --confirm "$gorse"
follows "$satchel" keep renew gorse --image curlew.iso --stays home --confirm "$gorse" --json
json 'd["files"] == 1 and d["largest_files"][0]["path"] == "/home/tide/note"' "$satchel" keep show gorse --json
expect 0 "is sound" "$satchel" check gorse

# Laid down file by file: what others put beside it stays, and what they changed is named
sorrel=$(name_of "Sorrel 64")
export WILD_SATCHEL_HISTORY=history.db
expect 0 "file by file" "$satchel" prepare --image curlew.iso --arrangement files --persistence 300M --drive sorrel --confirm "$sorrel" --afresh
expect 0 "It remembers" "$satchel" prove sorrel --on launch --confirm "$sorrel" --keep-traces
echo "low at six" >"Tide table.txt" && mcopy -i "b/$sorrel.drive@@1M" "Tide table.txt" ::/ && mcopy -o -i "b/$sorrel.drive@@1M" "Tide table.txt" ::/boot/grub/grub.cfg
expect 3 "1 file of others stays on its volume" "$satchel" keep renew sorrel --image newer.iso
expect 3 "/boot/grub/grub.cfg" "$satchel" keep renew sorrel --image newer.iso
expect 0 "Curlew Live 13" "$satchel" keep renew sorrel --image newer.iso --confirm "$sorrel"
json 'd["renewal"]["differs_bytes"] == 0 and d["renewal"]["others_files"] == ["/Tide table.txt"] and not d["renewal"]["replaced"]' "$satchel" keep renew sorrel --image newer.iso --json
follows "$satchel" keep renew sorrel --image newer.iso --confirm "$sorrel" --json
ok "what others put there is as it was" sh -c "mcopy -n -i 'b/$sorrel.drive@@1M' '::/Tide table.txt' - | grep -q 'low at six'"
expect 0 "is sound" "$satchel" check sorrel
expect 0 "It remembers" "$satchel" prove sorrel --on hut --confirm "$sorrel"
# The plan is of the older image: its passport goes by what it says itself, and by what was found of the newer one
expect 1 "a newer image was laid under" "$satchel" check sorrel --plan "$sorrel.plan"
json 'd["plan"] is None and d["origin"]["title"] == "CURLEW_LIVE_12" and d["image_checked"] is None and [s["starts"] for s in d["starts"]] == [True, True, True]' "$satchel" passport sorrel --json
sha256sum newer.iso >SHA256SUMS
expect 0 "The checksum is the published one" "$satchel" image newer.iso
json 'd["origin"]["image_sha256"] == "'"$(cut -d" " -f1 SHA256SUMS)"'" and "no signature was checked" in d["image_checked"]' "$satchel" passport sorrel --json
follows "$satchel" passport sorrel --json
export WILD_SATCHEL_HISTORY=
mcopy -o -i "b/$sorrel.drive@@1M" "Tide table.txt" ::/loader/satchel.laid
expect 4 "list of what was laid down" "$satchel" keep renew sorrel --image curlew.iso --confirm "$sorrel"

# Every document follows its schema
for how in "show gorse" "clean gorse" "save gorse --to other.kept" "reset gorse --confirm $gorse" "restore gorse --from tide.kept --confirm $gorse"; do
    # shellcheck disable=SC2086
    follows "$satchel" keep $how --json
done
expect 2 "up to" "$satchel" keep grow teasel --confirm "$teasel"
expect 4 "free around it" "$satchel" keep grow teasel --size 90G --confirm "$teasel"
expect 4 "takes its volume's own" "$satchel" keep grow teasel --size 3G --take-from-data --confirm "$teasel"
expect 0 "has more room" "$satchel" keep grow teasel --size 3G --confirm "$teasel"
json 'd["size_bytes"] == 3 << 30' "$satchel" keep show teasel --json
expect 0 "is sound" "$satchel" check teasel
expect 0 "has less room" "$satchel" keep shrink teasel --size 500M --confirm "$teasel"
expect 4 "leave the size out" "$satchel" keep move teasel --in partition --size 300M --confirm "$teasel"
follows "$satchel" keep move teasel --in partition --confirm "$teasel" --json
json 'not d["in_file"] and d["size_bytes"] == 500 << 20' "$satchel" keep show teasel --json
expect 0 "is sound" "$satchel" check teasel
expect 0 "It remembers" "$satchel" prove teasel --on launch --confirm "$teasel" --keep-traces
expect 4 "in one piece" "$satchel" keep move teasel --in file --size 9G --confirm "$teasel"

# In front of it the volume with the system's own files gives what is free at its end
expect 0 "is ready" "$satchel" prepare --image curlew.iso --arrangement files --system 2G --persistence rest --drive teasel --confirm "$teasel" --afresh
expect 0 "It remembers" "$satchel" prove teasel --on launch --confirm "$teasel" --keep-traces
expect 4 "what stands in front of it can give room" "$satchel" keep grow teasel --size 6G --confirm "$teasel"
expect 2 "up to 7.7 GB" "$satchel" keep grow teasel --take-from-data --confirm "$teasel"
json 'd["neighbour"]["in_front"] and d["neighbour"]["at"] == 1 << 20 and d["neighbour"]["size_bytes"] <= 7633 - 6144 << 20' "$satchel" keep grow teasel --size 6G --take-from-data --confirm "$teasel" --json
follows "$satchel" keep grow teasel --size 6200M --take-from-data --confirm "$teasel" --json
expect 0 "has less room" "$satchel" keep shrink teasel --size 6G --confirm "$teasel"
json '[p["size_bytes"] >> 20 for p in d["drives"][0]["parts"]] == [7633 - 6200, 6144]' "$satchel" drives teasel --json
expect 0 "is sound" "$satchel" check teasel
expect 1 "resized since" "$satchel" check teasel --plan "$teasel.plan"
expect 0 "It remembers" "$satchel" prove teasel --on launch --confirm "$teasel" --keep-traces
expect 0 "is ready" "$satchel" prepare --image curlew.iso --arrangement files --table gpt --system 2G --persistence rest --drive teasel --confirm "$teasel" --afresh
expect 0 "has more room" "$satchel" keep grow teasel --size 6G --take-from-data --confirm "$teasel" # for firmware, too
expect 0 "is sound" "$satchel" check teasel
expect 0 "is ready" "$satchel" prepare --image curlew.iso --arrangement files --files-on exfat --system 2G --persistence rest --drive teasel --confirm "$teasel" --afresh
expect 4 "what stands there is for firmware" "$satchel" keep grow teasel --size 6G --take-from-data --confirm "$teasel"

# A larger image, and a data volume behind the older one: that gives its front, and its overlay file what of it is there
expect 0 "in an overlay file" "$satchel" prepare --image curlew.iso --in file --persistence 600M --data 5G --data-on exfat --data-label TIDE --drive teasel --confirm "$teasel" --afresh
expect 0 "It remembers" "$satchel" prove teasel --on launch --confirm "$teasel" --keep-traces
"$demo_image" larger.iso newer 50 || exit 1
expect 3 "has so much less room" "$satchel" keep renew teasel --image larger.iso
expect 3 "begins later: it has" "$satchel" keep renew teasel --image larger.iso
json 'd["renewal"]["neighbour"]["label"] == "TIDE" and d["renewal"]["moves_bytes"] % 4096 == 0 and 0 < d["renewal"]["moves_bytes"] < 60 << 20' "$satchel" keep renew teasel --image larger.iso --confirm "$teasel" --json
json 'd["in_file"] and d["starts"] == 2' "$satchel" keep show teasel --json
expect 0 "is sound" "$satchel" check teasel
expect 0 "It remembers" "$satchel" prove teasel --on hut --confirm "$teasel"


# Damaged: what can be read is saved, and what is lost is said
expect 2 "--rescue has no effect" "$satchel" keep show gorse --rescue
expect 0 "Lost          nothing" "$satchel" keep save gorse --to sound.kept --rescue
at=$("$satchel" drives gorse --json | python3 -c 'import json, sys; print([p["at_bytes"] for p in json.load(sys.stdin)["drives"][0]["parts"] if p["label"] == "persistence"][0])')
dd if=/dev/zero of="b/$gorse.drive" bs=1024 seek=$((at / 1024 + 1)) count=1 conv=notrunc status=none
expect 4 "nothing is remembered on this drive" "$satchel" keep save gorse --to none.kept
expect 0 "a copy of it was used" "$satchel" keep save gorse --to rescued.kept --rescue
ok "all of it is there" test "$(bsdtar -tf rescued.kept | grep -vc '^lost.txt$')" = "$(bsdtar -tf sound.kept | wc -l)"

# A data volume that is locked by itself opens with the drive's own passphrase; with another one that is told
printf 'gull 7 over the bar\n' > same && printf 'fulmar over the bar\n' > other
lock_data() { # what opens it
    "$satchel" prepare --image curlew.iso --locked --persistence 100M --drive teasel --confirm "$teasel" --afresh --password-fd 3 3<"$1" >/dev/null 2>&1
    end_of() { "$satchel" drives "$1" --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["parts"][-1]["at_bytes"] >> 12)'; }
    dd if="b/$teasel.drive" of="b/$gorse.drive" bs=4k count=25600 skip="$(end_of teasel)" seek="$(end_of gorse)" conv=notrunc status=none
}
expect 0 "is ready" sh -c "'$satchel' prepare --image curlew.iso --locked --persistence 100M --data 100M --drive gorse --confirm '$gorse' --afresh --password-fd 3 3<same"
lock_data same
expect 0 "WHICH-PC" sh -c "'$satchel' prove gorse --on own-pc --proof locked.proof --password-fd 3 3<same"
lock_data other
json 'd["rounds"][0]["before"]["data_locked"] == 0 and d["rounds"][0]["after"]["data_locked"] == 1' sh -c "'$satchel' prove gorse --on own-pc --proof locked.proof --called hut --json --password-fd 3 3<same"
expect 1 "1 more volume, not looked into" sh -c "'$satchel' prove gorse --on own-pc --proof locked.proof --called hut --password-fd 3 3<same"

# One that somebody locked by hand, in sectors of 512 bytes, gets larger and smaller; what locked it opens it then
mkdir -p hand/rw/home/tide hand/work && echo '/ union' > hand/persistence.conf && head -c 3000000 /dev/urandom > hand/rw/home/tide/chart
truncate -s 200M hand.img && mke2fs -q -F -t ext4 -L persistence -d hand hand.img 160M && printf 'gull 7 over' > key
printf 'fulmar 7 over' > second
hand() { cryptsetup "$@" >hand.txt 2>&1; }
cost="--pbkdf-memory 32768 --pbkdf-force-iterations 4"
is_sound() { # MIB KEY: what locked it takes its lock away
    rm -f hand.img hand.head && dd if="b/$gorse.drive" of=hand.img bs=4k skip="$(end_of gorse)" count=$(($1 * 256)) status=none
    hand reencrypt -q --decrypt --force-offline-reencrypt --header hand.head --key-file "$2" hand.img && e2fsck -fn hand.img >hand.txt 2>&1 &&
        debugfs -R "dump /rw/home/tide/chart hand.chart" hand.img 2>/dev/null && cmp hand.chart hand/rw/home/tide/chart
}
if hand reencrypt -q --encrypt --type luks2 --sector-size 512 $cost --resilience none --reduce-device-size 32M --key-file key hand.img; then
    ok "another secret, far behind" hand luksAddKey -q --key-slot 6 $cost --key-file key hand.img second
    expect 0 "is ready" sh -c "'$satchel' prepare --image curlew.iso --locked --persistence 200M --drive gorse --confirm '$gorse' --afresh --password-fd 3 3<same"
    dd if=hand.img of="b/$gorse.drive" bs=4k seek="$(end_of gorse)" conv=notrunc status=none
    expect 0 "are free now" sh -c "'$satchel' keep grow gorse --size 600M --confirm '$gorse' --password-fd 3 3<key"
    ok "it is sound" is_sound 600 key
    expect 0 "are free now" sh -c "'$satchel' keep shrink gorse --size 400M --confirm '$gorse' --password-fd 3 3<key"
    ok "smaller, too" is_sound 400 second
    rm -f newer.iso && "$demo_image" newer.iso live-boot 60
    expect 0 "begins" sh -c "'$satchel' keep renew gorse --image newer.iso --stays all --confirm '$gorse' --password-fd 3 3<key"
    ok "and farther back, with all its secrets" is_sound 340 second
else cat hand.txt; fi

# Of a sound volume that is not read here nothing is told, good or bad
expect 0 "is ready" "$satchel" prepare --image curlew.iso --persistence 300M --drive gorse --confirm "$gorse" --afresh
mke2fs -q -F -t ext4 -b 4096 -O ^metadata_csum,^64bit -L persistence -E offset="$(data_at)" "b/$gorse.drive" 75000 2>/dev/null
printf '\022' | dd of="b/$gorse.drive" bs=1 seek=$(($(data_at) + 1024 + 0x61)) conv=notrunc 2>/dev/null # a feature of nobody's
expect 4 "whether it remembers cannot be told" "$satchel" prove gorse --on own-pc --proof unread.proof
expect 0 "whether it would remember cannot be told" "$satchel" check gorse
expect 4 "features that are not read here (0x1000)" "$satchel" keep show gorse
json 'd["memory"]["unread"] and d["memory"]["free_bytes"] is None' "$satchel" passport gorse --json
follows "$satchel" passport gorse --json
expect 0 "is in unread.html" "$satchel" passport gorse --to unread.html
ok "the passport does not say that it forgets" sh -c "grep -q 'cannot be told' unread.html && ! grep -q 'would forget' unread.html"

echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
