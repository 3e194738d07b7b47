#!/bin/sh
# The command-line tool as a technician uses it: every command, its exit codes, its JSON, its messages.
#   cli.sh SATCHEL DEMO_IMAGE BENCHFILE
. "$(dirname "$0")/cli_common.sh"

# Words, and words mistyped
expect 2 "COMMAND" "$satchel"
expect 0 "Exit codes" "$satchel" --help
expect 0 "satchel" "$satchel" --version
expect 2 "not a command" "$satchel" burn
expect 2 '--frobnicate\" is not a command' "$satchel" --json --frobnicate
expect 2 "no command was given" "$satchel" --bench b --json
expect 2 "--frobnicate" "$satchel" drives --frobnicate
expect 2 "takes" "$satchel" image
expect 2 "no use for the word" "$satchel" image one two
for c in drives image plan build check prove bench; do expect 0 "--json" "$satchel" $c --help; done

# The bench
expect 2 "--bench" "$satchel" bench setup "$benchfile"
expect 4 "cannot be opened" "$satchel" bench setup nowhere.json --bench b
expect 0 "5 drives" "$satchel" bench setup "$benchfile" --bench b
expect 3 "already" "$satchel" bench setup "$benchfile" --bench b
expect 4 "no bench" "$satchel" drives --bench elsewhere
printf '{"format": "wild-satchel-bench", "version": 1, "pcs": [], "drives": [{"name": "A", "like": "B"}, {"name": "B", "like": "A"}]}' > cycle.json
expect 4 "circle" "$satchel" bench setup cycle.json --bench c
[ ! -e c/bench.json ] && passed=$((passed + 1)) || { failed=$((failed + 1)); echo "FAILED: a broken bench file left a bench"; }
expect 0 "hut" "$satchel" bench show --bench b
expect 2 "bench takes setup, show" "$satchel" bench dance --bench b

# Drives
expect 0 "3 may be used" "$satchel" drives --bench b
expect 0 "running system" "$satchel" drives --bench b
expect 4 "no such drive" "$satchel" drives nothing --bench b
json 'len(d["drives"]) == 5' "$satchel" drives --bench b --json
json '[x["may_be_used"] for x in d["drives"] if x["model"] == "Office disk"] == [False]' "$satchel" drives --bench b --json
json 'd["error"]["status"] == "not-found" and d["exit_code"] == 4' "$satchel" drives nothing --bench b --json

# Images
expect 0 "hybrid live image" "$satchel" image curlew.iso
json 'd["memory"]["family"] == "live-boot" and d["starts_bios"] and d["starts_uefi"] and d["secure_boot"]' "$satchel" image curlew.iso --json
json 'd["memory"]["label"] == "writable"' "$satchel" image casper.iso --json
sum=$(sha256sum curlew.iso | cut -d" " -f1)
expect 0 "published one" "$satchel" image curlew.iso --published "$sum"
expect 1 "not the one that was published" "$satchel" image curlew.iso --published "$(echo "$sum" | tr 0-9a-f 1-9a-f0)"
expect 2 "hexadecimal digits" "$satchel" image curlew.iso --published 1234
json "d['checksum']['value'] == '$sum'" "$satchel" image curlew.iso --sha256 --json
head -c 9000000 curlew.iso > short.iso
expect 4 "cut short" "$satchel" image short.iso
expect 4 "cannot be opened" "$satchel" image nowhere.iso
head -c 300000 /dev/urandom > noise.iso
expect 0 "unknown" "$satchel" image noise.iso

mkdir published && cp curlew.iso published/
sha256sum curlew.iso > published/SHA256SUMS
expect 0 "checksum is the published one" "$satchel" image published/curlew.iso
json 'd["checksum"]["as_published"] and d["checksum"]["list"].endswith("SHA256SUMS")' "$satchel" image published/curlew.iso --json
json 'd["checksum"] is None' "$satchel" image published/curlew.iso --quick --json
expect 0 "published one" "$satchel" image curlew.iso --published published/SHA256SUMS
expect 4 "no signature" "$satchel" image published/curlew.iso --keyring nowhere.keys
echo "$(echo "$sum" | tr 0-9a-f 1-9a-f0)  curlew.iso" > published/SHA256SUMS
expect 1 "not the one that was published" "$satchel" image published/curlew.iso
gzip -k curlew.iso
expect 0 "Packed as     gzip" "$satchel" image curlew.iso.gz
head -c -1000 curlew.iso.gz > short.iso.gz
expect 4 "damaged or cut short" "$satchel" image short.iso.gz
zip -q two.zip curlew.iso noise.iso
expect 0 "unpack it" "$satchel" image two.zip
expect 0 "folder of files" "$satchel" image published

printf '{"format": "wild-satchel-trial", "version": 1, "drive": "other", "serial": "", "size_bytes": 5000000, "holds_bytes": 5000000, "sound": true, "read_bytes_s": 1e6, "write_bytes_s": 1e6, "small_writes_s": 10}' > another.trial
# Plans
gorse=$(name_of "Gorse 32")
expect 2 "--image" "$satchel" plan --bench b
expect 2 "takes live, replica, system, twin or renewal" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --kind cake
expect 2 "not a size" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence lots
expect 2 "at least 16 MiB" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 1M
expect 2 "byte for byte: it has no persistence" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --kind replica --persistence 1G
expect 4 "needed" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 40G
head -c 2000000 /dev/zero > blank.img
expect 4 "not a live image" "$satchel" plan --bench b --image blank.img --drive "Gorse 32" --kind live
expect 1 "only with --even-so" "$satchel" plan --bench b --image blank.img --drive "Gorse 32" --save blank.plan
expect 1 "replica - it is no live image" "$satchel" plan --bench b --image blank.img --drive "Gorse 32"
truncate -s 40M fat.img && mkfs.fat fat.img >/dev/null 2>&1 && expect 1 "will not start on bios" "$satchel" plan --bench b --image fat.img --drive "Gorse 32" --for bios
expect 2 "no PC that is known" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --for teapot
for pc in hut launch office bios uefi secure here; do expect 0 "it will start" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --for $pc; done
expect 2 "all that is left" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --data rest
expect 2 "power of two" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 1G --data 1G --cluster 3000
json 'd["request"]["volumes"][1]["cluster_bytes"] == 8192 and d["result"]["volumes"][1]["cluster_bytes"] == 8192' "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 1G --data 2G --cluster 8K --json
expect 4 "all four entries" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 1G --data 1G --swap 1G
expect 0 "data label: TIDE_DATA - letters raised" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 1G --data rest --data-label tide/data
json 'd["result"]["parts"][-1]["at_bytes"] + d["result"]["parts"][-1]["size_bytes"] == d["drive"]["size_bytes"]' "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 1G --data rest --json
expect 2 "of another drive" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --trial another.trial
expect 2 ".png or .svg" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --picture map.gif
expect 0 "Nothing was written" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --picture map.png
expect 0 "PNG image data, 1200" file map.png
expect 0 "Nothing was written" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --picture map.svg
expect 0 "viewBox" cat map.svg

# Sizes
expect 2 "--image" "$satchel" size
expect 0 "of persistence keep that" "$satchel" size --image curlew.iso
expect 0 "5 packages" "$satchel" size --image curlew.iso
expect 0 "less than wanted" "$satchel" size --image curlew.iso --drive "Teasel 8" --bench b --documents 20G
expect 0 "4 GiB - 1" "$satchel" size --image curlew.iso --documents 20G
expect 2 "not a possible value" "$satchel" size --image curlew.iso --churn 200%
expect 2 "not a size" "$satchel" size --image curlew.iso --documents plenty
expect 4 "no live image" "$satchel" size --image noise.iso
json 'd["ways"][0]["free_bytes"] >= d["free_wanted_bytes"] and d["installed_counted"] and sum(i["bytes"] for i in d["items"]) <= d["free_wanted_bytes"]' "$satchel" size --image curlew.iso --json
follows output "$satchel" size --image curlew.iso --drive "Gorse 32" --bench b --json
expect 3 "would be refused" "$satchel" plan --bench b --image curlew.iso --drive "Office disk" --kind replica
expect 0 "Nothing was written" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 200M --save a.plan
json '[(v["role"], v["partition"], v["size_bytes"]) for v in d["result"]["volumes"]] == [("persistence", 3, 200 << 20)]' "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --persistence 200M --json
expect 0 "blank" "$satchel" drives "$gorse" --bench b

# Builds
expect 3 "was not given" "$satchel" build a.plan --bench b
expect 3 "does not confirm" "$satchel" build a.plan --bench b --confirm gorse
expect 4 "cannot be opened" "$satchel" build nowhere.plan --bench b
sed 's/"at_bytes": [0-9]*/"at_bytes": 4096/' a.plan > nonsense.plan
expect 4 "was edited" "$satchel" build nonsense.plan --bench b --confirm "$gorse"
expect 0 "blank" "$satchel" drives "$gorse" --bench b
expect 0 "is armed" "$satchel" bench arm "$gorse" --pull-after 20M --bench b
expect 4 "went away" "$satchel" build a.plan --bench b --confirm "$gorse"
expect 3 "not here" "$satchel" build a.plan --bench b --confirm "$gorse"
expect 0 "plugged in" "$satchel" bench plug "$gorse" --bench b
expect 0 "unfinished build" "$satchel" drives "$gorse" --bench b
json 'len(d["drives"][0]["unfinished"]["build"]) == 64' "$satchel" drives "$gorse" --bench b --json
expect 1 "is not finished" "$satchel" check "$gorse" --bench b
expect 1 "did not come up" "$satchel" bench start hut "$gorse" --bench b
expect 0 "flushed and checked" "$satchel" build a.plan --bench b --confirm "$gorse"
[ -s a.plan.built ] && passed=$((passed + 1)) || { failed=$((failed + 1)); echo "FAILED: no record of the build"; }
json "d['image_sha256'] == '$sum' and d['checked'] and d['drive_sha256'] != d['image_sha256']" cat a.plan.built
expect 0 "persistence" "$satchel" drives "$gorse" --bench b

# Checks
expect 0 "exactly what was meant" "$satchel" check "$gorse" --plan a.plan --bench b
expect 0 "is sound" "$satchel" check "$gorse" --bench b
json 'd["good"] and d["equal"] and len(d["sha256"]) == 64' "$satchel" check "$gorse" --plan a.plan --bench b --json
printf 'X' | dd of="b/$gorse.drive" bs=1 seek=3000000 conv=notrunc status=none
expect 1 "byte 3000000" "$satchel" check "$gorse" --plan a.plan --bench b
json 'd["different_at_bytes"] == 3000000 and not d["good"]' "$satchel" check "$gorse" --plan a.plan --bench b --json
# The record of a build stands for plan and image; what is in pieces there is what sha256sum says.
expect 1 "in 1 place in all." "$satchel" check "$gorse" --record a.plan.built --bench b
expect 0 "checked" "$satchel" build a.plan --bench b --confirm "$gorse"
mv curlew.iso elsewhere.iso
expect 0 "exactly what was read back" "$satchel" check "$gorse" --record a.plan.built --bench b
json 'd["good"] and d["equal"] and d["checked_bytes"] > 1 << 20' "$satchel" check "$gorse" --record a.plan.built --bench b --json
mv elsewhere.iso curlew.iso
python3 - "b/$gorse.drive" <<'PY' && passed=$((passed + 1)) || { failed=$((failed + 1)); echo "FAILED: pieces of the record"; }
import hashlib, json, sys
record = json.load(open("a.plan.built"))
drive, all_of_them = open(sys.argv[1], "rb"), hashlib.sha256()
for at, length, part, digest in record["pieces"]:
    drive.seek(at)
    assert hashlib.sha256(drive.read(length)).hexdigest() == digest, (at, length)
    all_of_them.update(bytes.fromhex(digest))
assert record["drive_sha256"] == all_of_them.hexdigest() and {p[2] for p in record["pieces"]} == {"system", "persistence"}
PY
expect 2 "a plan or with a record" "$satchel" check "$gorse" --record a.plan.built --plan a.plan --bench b
expect 2 "this is a plan, and no record" "$satchel" check "$gorse" --record a.plan --bench b
sed 's/"system"/"attic"/' a.plan.built > odd.built
expect 4 "pieces are a list" "$satchel" check "$gorse" --record odd.built --bench b
sed 's/"persistence"/"swap"/; s/,\[[0-9]*,[0-9]*,"persistence","[0-9a-f]*"\]//' a.plan.built > odd.built
expect 4 "do not go with its digest" "$satchel" check "$gorse" --record odd.built --bench b
expect 2 "the record is for" "$satchel" check "Teasel 8" --record a.plan.built --bench b

# Proofs
expect 2 "--on PC" "$satchel" prove "$gorse" --bench b
expect 4 "no PC" "$satchel" prove "$gorse" --confirm "$gorse" --on teapot --bench b
expect 2 "--rounds takes shutdown, cut, full, idle or clock, not \"once\"" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --rounds once --bench b
for pc in hut launch office; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --rounds cut,cut --bench b
expect 2 "has no effect without --on own-pc" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --missing --bench b
expect 2 "--confirm has no effect beside --on own-pc" "$satchel" prove "$gorse" --confirm "$gorse" --on own-pc --bench b
expect 2 "say where it is kept" "$satchel" prove "$gorse" --on own-pc --bench b
expect 2 "own-pc stands alone" "$satchel" prove "$gorse" --confirm "$gorse" --on hut,own-pc --bench b
expect 2 "with commas" "$satchel" prove "$gorse" --confirm "$gorse" --on hut,, --bench b
expect 0 "wrong clock" "$satchel" prove "$gorse" --confirm "$gorse" --on hut,launch --rounds shutdown,cut,idle,idle,clock --proof g.proof --bench b
expect 0 "WHICH-PC" "$satchel" prove "$gorse" --on own-pc --proof own.proof --bench b
expect 1 "Nothing shows" "$satchel" prove "$gorse" --on own-pc --proof own.proof --bench b
expect 0 "was shut down again" "$satchel" bench start hut "$gorse" --type "mkdir /home/tide" --type "echo low > /home/tide/note" --bench b
expect 0 "Not proved yet" "$satchel" prove "$gorse" --on own-pc --proof own.proof --called "hut 3" --bench b
expect 0 "power was cut" "$satchel" bench start launch "$gorse" --type "rm /home/tide/note" --type sync --power-cut --bench b
json 'd["verdict"] == "kept" and d["rounds"][1]["shown"] == ["cut"] and d["rounds"][0]["pc"] == "hut 3" and d["rounds"][1]["earlier"]["deleted_again"] == 1' "$satchel" prove "$gorse" --on own-pc --proof own.proof --json --bench b
expect 0 "Nothing was made" "$satchel" passport "$gorse" --bench b
expect 0 "is in p.html" "$satchel" passport "$gorse" --to p.html --plan a.plan --proof own.proof --bench b
expect 3 "p.html" "$satchel" passport "$gorse" --to p.html --bench b
expect 0 "is in p.html" "$satchel" passport "$gorse" --to p.html --over --bench b
expect 2 "no effect without --to" "$satchel" passport "$gorse" --over --bench b
expect 2 "no effect without --onto-drive" "$satchel" passport "$gorse" --confirm "$gorse" --bench b
expect 2 "the proof is of" "$satchel" passport "Teasel 8" --proof own.proof --bench b
expect 4 "No such file" "$satchel" passport "$gorse" --proof none.proof --bench b
json 'd["remembers"] and d["plan"]["title"] and d["proof"]["verdict"] == "kept" and d["keys"][-1]["maker"] == "Others"' "$satchel" passport "$gorse" --plan a.plan --proof own.proof --json --bench b
expect 1 "It forgets" "$satchel" prove "$gorse" --on own-pc --proof g.proof --called hut --missing --bench b
expect 2 "this is a proof, and no plan" "$satchel" build own.proof --bench b
expect 2 "this is a plan, and no proof" "$satchel" prove "$gorse" --on own-pc --proof a.plan --bench b
expect 2 "it goes with start" "$satchel" bench show --type x --bench b
json 'd["verdict"] == "kept" and len(d["items"]) >= 5 and all(i["on_drive"] for i in d["items"])' "$satchel" prove "$gorse" --confirm "$gorse" --on office --bench b --json
expect 0 "but for what it remembers" "$satchel" check "$gorse" --plan a.plan --bench b
expect 0 "exactly" "$satchel" check "$gorse" --plan a.plan --used --bench b
expect 0 "but for what it remembers" "$satchel" check "$gorse" --record a.plan.built --bench b
expect 0 "exactly" "$satchel" check "$gorse" --record a.plan.built --used --bench b
expect 0 "kept" "$satchel" plan --bench b --image curlew.iso --drive "Gorse 32" --kind replica --save r.plan
expect 0 "Next: satchel release" "$satchel" build r.plan --bench b --confirm "$gorse"
json "d['drive_sha256'] == '$sum'" cat r.plan.built
expect 0 "exactly what was read back" "$satchel" check "$gorse" --record r.plan.built --bench b
expect 1 "It forgets" "$satchel" prove "$gorse" --confirm "$gorse" --on launch --bench b
json 'd["verdict"] == "lost" and d["cause"] == "parameter"' "$satchel" prove "$gorse" --confirm "$gorse" --on launch --bench b --json

# Trials, blank drives, release
sorrel=$(name_of "Sorrel 64")
expect 2 "is not a trial" "$satchel" drives "$sorrel" --test hard --bench b
expect 2 "which drive" "$satchel" drives --test sample --bench b
expect 2 "two steps" "$satchel" drives "$sorrel" --test sample --blank --bench b
expect 3 "was not given" "$satchel" drives "$sorrel" --test sample --bench b
expect 0 "Nothing was written" "$satchel" drives "$sorrel" --test read --bench b
expect 1 "is not honest" "$satchel" drives "$sorrel" --test sample --confirm "$sorrel" --bench b
json 'd["forgery"] == "alias" and d["holds_bytes"] == 8002732032 and d["written_bytes"] < d["size_bytes"] / 50' "$satchel" drives "$sorrel" --test sample --confirm "$sorrel" --bench b --json
follows output "$satchel" drives "$sorrel" --test sample --confirm "$sorrel" --bench b --json
teasel=$(name_of "Teasel 8")
expect 0 "holds what it says" "$satchel" drives "$teasel" --test sample --confirm "$teasel" --save teasel.trial --bench b
follows output cat teasel.trial
office=$(name_of "Office disk")
expect 3 "running system" "$satchel" drives "$office" --blank --confirm "$office" --bench b
expect 3 "running system" "$satchel" drives "$office" --test full --confirm "$office" --bench b
expect 3 "running system" "$satchel" release "$office" --bench b
expect 0 'The label will be "TIDE_DATA"' "$satchel" drives "$teasel" --blank --label tide/data --confirm "$teasel" --bench b
expect 0 "TIDE_DATA" "$satchel" drives "$teasel" --bench b
expect 2 "fat32 and exfat" "$satchel" drives "$teasel" --blank --system ntfs --confirm "$teasel" --bench b
expect 0 "one exFAT volume" "$satchel" drives "$teasel" --blank --system exfat --label "tide data" --confirm "$teasel" --bench b
expect 0 "exFAT \"tide data\"" "$satchel" drives --bench b
follows output "$satchel" drives "$teasel" --blank --confirm "$teasel" --bench b --json
expect 4 "512 to 65536" "$satchel" drives "$teasel" --blank --cluster 1M --confirm "$teasel" --bench b
expect 0 "safe to unplug" "$satchel" release "$teasel" --bench b
follows output "$satchel" release "$teasel" --bench b --json
expect 0 "image file" "$satchel" drives file:made.img --make 100M
expect 0 "image file" "$satchel" drives made.img --make 100M
expect 3 "already" "$satchel" drives made.img --make 101M
[ "$(stat -c %s made.img)" = 104857600 ] && passed=$((passed + 1)) || { failed=$((failed + 1)); echo "FAILED: the size of made.img"; }

# A drive with a data partition remembers like any other, and its data partition is nobody's business
expect 0 "kept" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --persistence 300M --data rest --data-label tides --save d.plan
keeps d.plan hut launch office
expect 0 "live drive with persistence" "$satchel" drives "$gorse" --bench b
json '[p["label"] for p in d["drives"][0]["parts"]][2:] == ["persistence", "TIDES"]' "$satchel" drives "$gorse" --bench b --json

# Laid down file by file: an ordinary drive that starts on UEFI and remembers
expect 2 "takes whole or files" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement loose
expect 2 "goes with" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --system 1G
expect 2 "files down (--arrangement files)" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --system 1G
expect 4 "FAT32 (without --uefi-code; --arrangement files --files-on fat32)" "$satchel" plan --bench b --image curlew.iso \
    --drive "$gorse" --arrangement files --files-on exfat --uefi-code image
json 'd["error"]["ways"] == ["--persistence 4095M", "--data-on exfat", "without --in"]' "$satchel" plan --bench b --image curlew.iso --drive "$gorse" \
    --in file --persistence 5G --json
expect 2 "no arrangement" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --kind replica
expect 0 "it will start" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --for hut
expect 1 "is not signed" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --uefi-code own --for office
expect 2 "auto, image or own" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --uefi-code mine
expect 2 "go with files" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --check-at-start full
expect 2 "0 to 3600" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --menu-wait soon
for family in curlew casper; do
    expect 0 "it will start" "$satchel" plan --bench b --image $family.iso --drive "$gorse" --arrangement files --system 300M --persistence 200M --data rest --for office --save l.plan
    follows plan cat l.plan
    keeps l.plan launch office hut
    expect 0 "file by file, with persistence" "$satchel" drives "$gorse" --bench b
    expect 0 "is sound" "$satchel" check "$gorse" --bench b
done

# Changes kept in a file: on the data partition, or beside the system where the family looks there
expect 2 "partition or file" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in bag
expect 4 "a smaller one, a partition" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --persistence 8G
expect 2 "at least 300 MiB" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --data 100M
expect 4 "lies on the data partition" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --data 2G --persistence 4000M
"$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --data 2G --persistence 4000M 2>&1 | grep -o -e "--data [0-9]*M" >way
expect 0 "overlay file" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file $(cat way) --persistence 4000M
for family in curlew casper; do
    expect 0 "overlay file" "$satchel" plan --bench b --image $family.iso --drive "$gorse" --arrangement files --in file --persistence 80M --save o.plan
    follows plan cat o.plan
    keeps o.plan launch hut
    expect 0 "with persistence" "$satchel" drives "$gorse" --bench b
    expect 0 "overlay file " "$satchel" drives "$gorse" --bench b
done
expect 0 "4.3 GB · 4 GiB in an overlay file" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --in file
"$demo_image" dracut.iso dracut || exit 1
echo '{"format": "wild-satchel-rules", "version": 1, "label": "TIDE"}' > tide.rules
# dracut finds its medium and its file by their volumes' labels; the image's own is too long for FAT
for how in "--arrangement files" "--arrangement whole" "--arrangement files --files-on exfat" "--arrangement files --data 400M --data-label TIDE"; do
    expect 0 "overlay file" "$satchel" plan --bench b --image dracut.iso --drive "$gorse" $how --in file --persistence 80M --save o.plan
    follows plan cat o.plan
    expect 0 "flushed and checked" "$satchel" build o.plan --confirm "$gorse" --bench b
    expect 0 "is sound" "$satchel" check "$gorse" --bench b
    for pc in launch hut; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
done

expect 0 "it would forget everything unless its kernel has the driver exfat built in" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --data-on exfat \
    --data 10G --persistence 6G --save o.plan
expect 0 "flushed and checked" "$satchel" build o.plan --confirm "$gorse" --bench b
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b
expect 2 "takes fat32 or exfat" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --data 1G --data-on btrfs
expect 2 "no effect without --data" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --data-on exfat
"$satchel" plan --bench b --image dracut.iso --drive "$gorse" --in file --persistence 80M --data 400M --save o.plan >/dev/null
"$satchel" build o.plan --confirm "$gorse" --bench b >/dev/null 2>&1

# A ready-made data file, compressed: the volume of the drive just made, and one that is none
python3 - <<'PY'
import glob, json
p = [v for v in json.load(open("o.plan"))["result"]["volumes"] if v["role"] == "persistence"][0]
with open(glob.glob("b/gorse*.drive")[0], "rb") as s, open("writable", "wb") as v:
    s.seek(p["at_bytes"])
    v.write(s.read(p["size_bytes"]))
PY
xz -0 -k writable
head -c 20000000 /dev/urandom > noise
head -c 20000 /dev/urandom > short
expect 4 "only 20000 bytes" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --overlay-from short
expect 2 "its own size" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --overlay-from writable.xz --persistence 1G
expect 0 "no ext4 volume" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --overlay-from noise
expect 0 "overlay file" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --arrangement files --overlay-from writable.xz --save w.plan
follows plan cat w.plan
keeps w.plan launch hut
# the same out of an archive, among other files; two that could be meant are one too many
mkdir pack && xz -dc writable.xz > pack/writable && echo hut > pack/notes && tar -czf pack.tgz pack
expect 0 "overlay file" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --arrangement files --overlay-from pack.tgz --save w.plan
expect 0 "flushed and checked" "$satchel" build w.plan --confirm "$gorse" --bench b
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b
cp pack/writable pack/casper-rw && tar -czf pack.tgz pack
expect 4 "cannot be told" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --arrangement files --overlay-from pack.tgz
"$satchel" plan --bench b --image casper.iso --drive "$gorse" --arrangement files --overlay-from writable.xz --save w.plan >/dev/null
xz -0 < noise > writable.xz
expect 4 "not the same file any more" "$satchel" build w.plan --confirm "$gorse" --bench b
printf X | dd of=writable bs=1 seek=50000000 conv=notrunc status=none && xz -0 -c writable > writable.xz
expect 4 "data file is no longer the one that was planned: 1 of its 20 stretches" "$satchel" build w.plan --confirm "$gorse" --bench b

# An image changed since is told by its place, before anything is written, and no drive is blamed for it
cp curlew.iso moving.iso
"$satchel" plan --bench b --image moving.iso --drive "$gorse" --arrangement files --save moving.plan >/dev/null
"$satchel" build moving.plan --confirm "$gorse" --bench b >/dev/null 2>&1
python3 - <<'PY'
d = bytearray(open("curlew.iso", "rb").read())
d[12000000] ^= 1
open("moving.iso", "wb").write(d)
PY
expect 4 "1 of its 5 stretches of 4 MiB has changed, the first from 8 MiB on, where this file lies: /live/" \
    "$satchel" build moving.plan --confirm "$gorse" --bench b
expect 4 "is no longer the one" "$satchel" check "$gorse" --plan moving.plan --bench b
touch -d 2020-01-01 curlew.iso && cp -p curlew.iso moving.iso # touched, and the same all the same
expect 0 "exactly" "$satchel" check "$gorse" --plan moving.plan --bench b

# The system's files on exFAT, with our UEFI program on a small FAT32 volume
expect 2 "fat32 or exfat" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --files-on ext4
expect 4 "firmware reads no exFAT" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --files-on exfat --uefi-code image
expect 4 "files-on exfat" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --arrangement files --in file --persistence 6G
for family in curlew casper; do
    [ $family = curlew ] && how="--persistence 200M" || how="--in file --persistence 6G"
    expect 0 "exFAT" "$satchel" plan --bench b --image $family.iso --drive "$gorse" --arrangement files --files-on exfat $how --save x.plan
    follows plan cat x.plan
    expect 0 "flushed and checked" "$satchel" build x.plan --confirm "$gorse" --bench b
    expect 0 "file by file, with persistence" "$satchel" drives "$gorse" --bench b
    for pc in launch hut; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
    expect 1 "is not signed" "$satchel" prove "$gorse" --confirm "$gorse" --on office --bench b
done

# A drive that counts in sectors of 4096 bytes: only files go there, with a GPT, and only UEFI starts it
sed 's/"serial": "GP-0032-A1"/"serial": "GP-4096", "sector_bytes": 4096/' "$benchfile" > large.json
expect 0 "Done" "$satchel" bench setup large.json --bench large
gorse4=$("$satchel" drives --bench large --json | sed -n 's/^ *"name": "\(gorse-[^"]*\)".*/\1/p' | head -1)
expect 4 "lay its files down" "$satchel" plan --bench large --image curlew.iso --drive "$gorse4"
expect 4 "an MBR is no use here" "$satchel" plan --bench large --image curlew.iso --drive "$gorse4" --arrangement files --table mbr
expect 2 "at least 300 MiB" "$satchel" plan --bench large --image curlew.iso --drive "$gorse4" --arrangement files --data 100M --persistence 1G
expect 1 "a BIOS reads sectors of 512 bytes" "$satchel" plan --bench large --image curlew.iso --drive "$gorse4" --arrangement files --for hut
for on in fat32 exfat; do
    expect 0 "it will start" "$satchel" plan --bench large --image curlew.iso --drive "$gorse4" --arrangement files --files-on $on --persistence 300M --data 400M --for launch --save l4.plan
    follows plan cat l4.plan
    json 'd["drive"]["sector_bytes"] == 4096 and d["request"]["start"]["table"] == "usual" and d["result"]["table"] == "gpt"' cat l4.plan
    expect 0 "flushed and checked" "$satchel" build l4.plan --confirm "$gorse4" --bench large
    expect 0 "file by file, with persistence" "$satchel" drives "$gorse4" --bench large
    expect 0 "exactly" "$satchel" check "$gorse4" --plan l4.plan --bench large
    expect 0 "It remembers" "$satchel" prove "$gorse4" --confirm "$gorse4" --on launch --bench large
    expect 1 "reads sectors of 512 bytes" "$satchel" prove "$gorse4" --confirm "$gorse4" --on hut --bench large
    # the same bytes as an image file: what its table counts in is seen
    expect 0 "sectors of 4096 bytes" "$satchel" drives large/"$gorse4".drive
    expect 0 "is sound" "$satchel" check large/"$gorse4".drive
done
expect 0 "ordinary drive again" "$satchel" drives "$gorse4" --blank --confirm "$gorse4" --bench large

# A folder's files still name the label of the image they were taken from
mkdir tide && bsdtar -xf dracut.iso -C tide && chmod -R u+w tide
for how in "--persistence none" "--persistence 300M --in file"; do
    expect 0 'label "TIDE" now' "$satchel" plan --bench b --image tide --drive "$gorse" $how --rules tide.rules --arrangement files --save tide.plan
    expect 0 "flushed and checked" "$satchel" build tide.plan --confirm "$gorse" --bench b
    for pc in launch hut; do
        "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b > said 2>/dev/null
        if grep -q "Starts        2" said; then passed=$((passed + 1)); else failed=$((failed + 1)); cat said; fi
    done
done

# Files that come as a folder or an archive, with rules for their drive
mkdir unpacked && bsdtar -xf curlew.iso -C unpacked && chmod -R u+w unpacked && mkdir -p unpacked/efi-off/BOOT
cp unpacked/live/vmlinuz unpacked/efi-off/BOOT/x
(cd unpacked && tar cJf ../curlew.tar.xz . && zip -qr ../curlew.zip .)
cat > tern.rules <<'RULES'
{"format": "wild-satchel-rules", "version": 1, "label": "GANNETPOINT",
 "rename": [{"from": "efi-off", "to": "EFI-ON"}], "add": [{"path": "gauge.mark", "text": "hut 4"}]}
RULES
echo '{"format": "wild-satchel-rules", "version": 1, "labels": 1}' > bad.rules
expect 4 "is not a key" "$satchel" plan --bench b --image curlew.zip --drive "$gorse" --rules bad.rules
expect 2 "go with files" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --rules tern.rules
expect 2 "none are to be kept" "$satchel" plan --bench b --image curlew.zip --drive "$gorse" --persistence none --in file
for from in unpacked curlew.tar.xz curlew.zip; do
    expect 0 "our own code" "$satchel" plan --bench b --image $from --drive "$gorse" --rules tern.rules --persistence 100M --for launch --save u.plan
    follows plan cat u.plan
    expect 0 "flushed and checked" "$satchel" build u.plan --confirm "$gorse" --bench b
    expect 0 "GANNETPOINT" "$satchel" drives "$gorse" --bench b
    # the loader lies in the volume that discs have for it
    for pc in launch hut office; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
done
expect 0 "live drive that remembers" "$satchel" image unpacked
expect 0 "Secure Boot (signed loader)" "$satchel" image curlew.zip
# links, which FAT has not
mv unpacked/live/vmlinuz unpacked/live/vmlinuz-6 && ln -s vmlinuz-6 unpacked/live/vmlinuz
mkdir unpacked/menus && ln -s ../boot/grub/grub.cfg unpacked/menus/copy.cfg && ln -s /etc/hostname unpacked/out
expect 0 "becomes a copy of /live/vmlinuz-6" "$satchel" plan --bench b --image unpacked --drive "$gorse" --persistence 100M --save u.plan
expect 0 "/out is a symbolic link" "$satchel" plan --bench b --image unpacked --drive "$gorse" --persistence 100M
expect 0 "flushed and checked" "$satchel" build u.plan --confirm "$gorse" --bench b
for pc in launch hut; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
rm unpacked/live/vmlinuz unpacked/out && mv unpacked/live/vmlinuz-6 unpacked/live/vmlinuz
# what belongs to no live family, what only a UEFI loader starts, what nothing starts
"$demo_image" tern.iso none || exit 1
mkdir tern && bsdtar -xf tern.iso -C tern && chmod -R u+w tern
expect 0 "to start and forget" "$satchel" image tern
expect 0 "none - it belongs to no live family" "$satchel" plan --bench b --image tern --drive "$gorse" --rules tide.rules --save t.plan
expect 0 "Next: satchel release" "$satchel" build t.plan --confirm "$gorse" --bench b
expect 4 "describe its family" "$satchel" plan --bench b --image tern --drive "$gorse" --persistence 1G
mkdir -p alone/EFI/BOOT && python3 -c 'import sys; b = open("tern/boot/grub/efi.img", "rb").read(); i = b.index(b"MZ"); sys.stdout.buffer.write(b[i:i + 1536])' > alone/EFI/BOOT/BOOTX64.EFI
expect 0 "file by file: UEFI, Secure Boot" "$satchel" image alone
expect 0 "no - there is no kernel" "$satchel" plan --bench b --image alone --drive "$gorse" --for office --save t.plan
expect 1 "will not start on hut" "$satchel" plan --bench b --image alone --drive "$gorse" --for hut
expect 4 "nothing on the drive would start" "$satchel" plan --bench b --image alone --drive "$gorse" --uefi-code own
expect 0 "flushed and checked" "$satchel" build t.plan --confirm "$gorse" --bench b
expect 1 "nothing to start was found" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b
expect 4 "nothing on the drive would start" "$satchel" plan --bench b --image published --drive "$gorse"
expect 0 "Nothing in it starts a PC" "$satchel" image published
echo changed > unpacked/live/extra
"$satchel" plan --bench b --image unpacked --drive "$gorse" --persistence none --save n.plan > said
grep -q "it forgets at power-off" said && echo again > unpacked/live/extra
expect 4 "or an input has changed" "$satchel" build n.plan --confirm "$gorse" --bench b

# A live family of the user's own, whose data file has a fixed name beside the system
"$demo_image" gauge.iso none || exit 1
sed -n '/^```json/,/^```/p' "$here/../docs/family-format.md" | sed '1d;$d' > gauge.family
sed 's/"label": "GAUGEDATA"/"labels": "GAUGEDATA"/' gauge.family > bad.family
expect 4 "is not a key" "$satchel" plan --bench b --image gauge.iso --drive "$gorse" --family bad.family
grep -v overlay_ gauge.family | sed 's/"work": "work",/"work": "work"/' > alone.family
expect 4 "not known to remember in a file" "$satchel" plan --bench b --image gauge.iso --drive "$gorse" --arrangement files --family alone.family --in file
expect 2 "goes with" "$satchel" plan --bench b --image gauge.iso --drive "$gorse" --arrangement whole --family gauge.family
expect 4 "no live family" "$satchel" plan --bench b --image gauge.iso --drive "$gorse" --arrangement files --kind live --persistence 100M
for place in file partition; do
    expect 0 "Gauge hut appliance" "$satchel" plan --bench b --image gauge.iso --drive "$gorse" --family gauge.family --in $place --persistence 100M --save g.plan
    follows plan cat g.plan
    expect 0 "flushed and checked" "$satchel" build g.plan --confirm "$gorse" --bench b
    expect 0 "with persistence (Gauge hut appliance)" "$satchel" drives "$gorse" --bench b
    for pc in launch hut; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
done

# External disks and plain files
fulmar=$(name_of "Fulmar 500")
expect 0 "if meant" "$satchel" drives --bench b
"$satchel" plan --bench b --image curlew.iso --drive "$fulmar" --persistence 1G --save f.plan >/dev/null
expect 3 "--external-disk" "$satchel" build f.plan --bench b --confirm "$fulmar"
expect 0 "flushed and checked" "$satchel" build f.plan --bench b --confirm "$fulmar" --external-disk
truncate -s 300M stick.img
expect 0 "image file" "$satchel" drives stick.img
"$satchel" plan --image casper.iso --drive stick.img --save s.plan >/dev/null
stick=$("$satchel" drives stick.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
expect 0 "flushed and checked" "$satchel" build s.plan --confirm "$stick"
expect 0 "exactly what was meant" "$satchel" check stick.img --plan s.plan
chmod 444 stick.img
expect 3 "write-protected" "$satchel" build s.plan --confirm "$stick"

# An image is never written over itself, under whatever name
cp curlew.iso self.iso
ln self.iso twin.iso
expect 0 "kept" "$satchel" plan --image self.iso --drive twin.iso --kind replica --save self.plan
self=$("$satchel" drives twin.iso --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
expect 3 "lies on the very drive" "$satchel" build self.plan --confirm "$self"
expect 0 "$sum" sha256sum self.iso
: > empty.iso
expect 4 "is empty" "$satchel" image empty.iso
mkfifo pipe.iso
expect 4 "not a file" timeout 5 "$satchel" image pipe.iso

# An image that was changed after planning is noticed before anything is written
cp curlew.iso later.iso
"$satchel" plan --image later.iso --drive made.img --save later.plan >/dev/null
made=$("$satchel" drives made.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
printf X | dd of=later.iso bs=1 seek=9000000 conv=notrunc status=none
expect 4 "nothing was written" "$satchel" build later.plan --confirm "$made"
expect 0 "blank" "$satchel" drives made.img

expect 4 "are needed" "$satchel" plan --image curlew.iso --drive tiny.img --make 10M
[ ! -e tiny.img ] && passed=$((passed + 1)) || { failed=$((failed + 1)); echo "FAILED: a refused plan left tiny.img"; }
expect 2 "path of a list" "$satchel" image curlew.iso --published nolist

# Two drives that cannot be told apart are no targets while both are plugged in
cat > twins.json <<'TWINS'
{"format": "wild-satchel-bench", "version": 1, "pcs": [], "drives": [
 {"name": "left", "model": "Gorse 32", "size_bytes": 2000000000, "write_bytes_s": 1e7, "read_bytes_s": 2e7},
 {"name": "right", "model": "Gorse 32", "size_bytes": 2000000000, "write_bytes_s": 1e7, "read_bytes_s": 2e7}]}
TWINS
expect 0 "2 drives" "$satchel" bench setup twins.json --bench twins
expect 2 "2 drives here" "$satchel" plan --bench twins --image curlew.iso --drive "Gorse 32"
expect 3 "looks exactly the same" "$satchel" plan --bench twins --image curlew.iso --drive left --save twin.plan
json 'not any(x["may_be_used"] for x in d["drives"])' "$satchel" drives --bench twins --json
twin=$("$satchel" drives left --bench twins --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
expect 2 "unplug all but one" "$satchel" drives "$twin" --bench twins
expect 3 "looks exactly the same" "$satchel" build twin.plan --bench twins --confirm "$twin"
expect 0 "pulled" "$satchel" bench pull right --bench twins
expect 0 "flushed and checked" "$satchel" build twin.plan --bench twins --confirm "$twin"

# An older record of a build is gone from the first write on; a drive swapped or overwritten in between is not continued
head -c 280M /dev/urandom > big.img && printf '\125\252' | dd of=big.img bs=1 seek=510 conv=notrunc status=none
"$satchel" bench setup "$benchfile" --bench i >/dev/null
"$satchel" plan --bench i --image big.img --drive "$gorse" --kind replica --save big.plan >/dev/null
printf '{"format": "wild-satchel-built"}' > big.plan.built
expect 0 "is armed" "$satchel" bench arm "$gorse" --pull-after 270M --bench i
expect 4 "went away" "$satchel" build big.plan --bench i --confirm "$gorse" --even-so
ok "an older record stays" test ! -e big.plan.built
expect 0 "plugged in" "$satchel" bench plug "$gorse" --bench i
expect 0 "unfinished build, done up to 260 MiB of 280 MiB" "$satchel" drives "$gorse" --bench i
cp --sparse=always "i/$gorse.drive" half.drive
expect 0 "Continued     at" "$satchel" build big.plan --bench i --confirm "$gorse" --even-so
ok "continued, it is the image" cmp -n 293601280 big.img "i/$gorse.drive"
for how in "" --no-check; do # half of it overwritten, its first sector left alone
    cp --sparse=always half.drive "i/$gorse.drive"
    dd if=/dev/zero of="i/$gorse.drive" bs=1M seek=30 count=100 conv=notrunc status=none
    expect 0 "no longer held what an earlier run wrote" "$satchel" build big.plan --bench i --confirm "$gorse" --even-so $how
    ok "written afresh, it is the image" cmp -n 293601280 big.img "i/$gorse.drive"
done
cp --sparse=always half.drive "i/$gorse.drive" # one byte, where no sample is taken: the drive is not blamed for it
printf X | dd of="i/$gorse.drive" bs=1 seek=10000000 conv=notrunc status=none
expect 1 "is not there any more" "$satchel" build big.plan --bench i --confirm "$gorse" --even-so
expect 0 "flushed and checked" "$satchel" build big.plan --bench i --confirm "$gorse" --even-so
cp --sparse=always half.drive "i/$gorse.drive"
printf X | dd of="i/$gorse.drive" bs=1 seek=10000000 conv=notrunc status=none
expect 0 "no longer held" "$satchel" build big.plan --bench i --confirm "$gorse" --even-so --no-check
ok "unchecked, it is the image" cmp -n 293601280 big.img "i/$gorse.drive"
# a place that cannot be read: another drive is wanted, not the same command again
sed 's/"serial": "GP-0032-A1"/"serial": "GP-0032-A1", "bad_at_bytes": 30000000, "bad_bytes": 4096/' "$benchfile" > bad.json
expect 0 "Done" "$satchel" bench setup bad.json --bench bad
expect 4 "use another drive" "$satchel" build big.plan --bench bad --confirm "$gorse" --even-so
rm -f big.img half.drive

# Documents never cost another file
cp curlew.iso keep.iso
for victim in keep.iso curlew.iso.gz a.plan.built stick.img; do
    before=$(sum_of "$victim")
    expect 3 "not replaced" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save "$victim"
    ok "$victim as it was" test "$before" = "$(sum_of "$victim")"
done
expect 3 "works with" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save keep.iso --over
expect 3 "works with" "$satchel" plan --image keep.iso --drive stick.img --save stick.img --over
expect 3 "works with" "$satchel" plan --image keep.iso --drive stick.img --picture keep.iso.png --save stick.img --over
echo notes > notes.txt
expect 3 "another file" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save notes.txt
expect 3 "another file" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --picture map.png
expect 0 "kept" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save notes.txt --over
expect 0 "kept" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save notes.txt
ln -s nowhere link.plan && ln -s "b/$gorse.drive" device.plan && mkfifo fifo.plan && mkdir folder.plan
for odd in link.plan device.plan fifo.plan folder.plan; do
    expect 3 "not replaced" timeout 20 "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save $odd --over
done
expect 4 "cannot be written" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save nowhere/x.plan
expect 4 "cannot be written" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save "$(printf 'x%.0s' $(seq 300)).plan"
long=$(printf 'd%.0s' $(seq 200)); deep=$long/$long/$long/$long/$long/$long
mkdir -p "$deep"
expect 0 "kept" "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save "$deep/long.plan"
ok "the whole long name" test -s "$deep/long.plan"
json 'd["format"] == "wild-satchel-plan"' "$satchel" plan --bench b --image keep.iso --drive "$gorse" --save -
ok "nothing is left beside" test -z "$(ls -A | grep -e '^\.satchel' -e '\.new$')"

# Closed streams, closed pipes, signals
cp stick.img untouched.img && chmod 644 stick.img
for closed in '>&-' '2>&-' '<&- >&- 2>&-'; do
    sh -c "exec \"$satchel\" build s.plan --confirm \"$stick\" --afresh $closed"
    expect 0 "exactly what was meant" "$satchel" check stick.img --plan s.plan
done
{ "$satchel" build s.plan --confirm "$stick" --afresh; echo $? > code; } 2>/dev/null | head -c 1 >/dev/null
ok "a closed pipe stops no build" test "$(cat code)" = 0
expect 0 "exactly what was meant" "$satchel" check stick.img --plan s.plan

# A file that is in use, or written by another build, is no target; no input lies on it
if flock -n stick.img true && exec 9<stick.img && flock -n 9; then
    expect 3 "in use" "$satchel" build s.plan --confirm "$stick"
    exec 9<&-
fi
if loop=$(losetup -f --show stick.img 2>/dev/null); then
    expect 3 "in use by loop" "$satchel" build s.plan --confirm "$stick"
    json 'd["drives"][0]["in_use_by"].startswith("loop")' "$satchel" drives stick.img --json
    losetup -d "$loop"
fi

# Faults: built only if it is really meant
expect 3 "has a fault" "$satchel" build blank.plan --bench b --confirm "$gorse"
head -c 510 /dev/urandom > record.img && printf '\125\252' >> record.img # a boot record alone is an image, too
expect 0 "Done" "$satchel" plan --bench b --image record.img --drive "$gorse"

# One request for several drives: what is asked for is kept without any drive, and comes to the same as when typed.
asked="--arrangement files --persistence 200M --data 400M --data-label tide --swap 16M --menu-wait 2"
# shellcheck disable=SC2086
expect 0 "The request is kept in tide.request" "$satchel" plan --bench b --image curlew.iso $asked --save-request tide.request
follows request cat tide.request
expect 0 "kept in from.plan" "$satchel" plan --bench b --request tide.request --drive "$gorse" --save from.plan
# shellcheck disable=SC2086
"$satchel" plan --bench b --image curlew.iso $asked --drive "$gorse" --save typed.plan > said
json 'all(d["request"] == t["request"] and d["result"]["volumes"] == t["result"]["volumes"] for t in [json.load(open("typed.plan"))])' cat from.plan
expect 0 "kept in fulmar.plan" "$satchel" plan --bench b --request tide.request --drive "$fulmar" --save fulmar.plan
expect 0 "flushed and checked" "$satchel" build fulmar.plan --bench b --confirm "$fulmar" --external-disk
json '[v["role"] for v in d["result"]["volumes"]] == ["system", "persistence", "data"]' "$satchel" plan --bench b --request tide.request --drive "$gorse" --swap none --json
json 'd["saved"] == "again.request"' "$satchel" plan --bench b --request tide.request --save-request again.request --json
ok "a request goes through unchanged" cmp tide.request again.request
expect 2 "no effect without --data" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --data-label tide
expect 2 "needs --drive" "$satchel" plan --bench b --request tide.request
expect 2 "needs --image FILE, or --request" "$satchel" plan --bench b --drive "$gorse"
# The largest overlay file on FAT32 is one whose clusters come to less than 4 GiB; what is sized can be planned.
most=$(((1 << 32) - 65536))
json "[v['size_bytes'] for v in d['result']['volumes'] if v['role'] == 'persistence'] == [$most]" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --json
expect 0 "overlay file" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --persistence $most
expect 4 "a smaller one, a partition" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --in file --persistence $((most + 4096))
json "all(w['size_bytes'] <= $most for w in d['ways'] if w['way'] == 'overlay file')" "$satchel" size --image curlew.iso --drive "$gorse" --documents 20G --bench b --json
expect 2 "or what its files need" "$satchel" plan --bench b --request tide.request --drive "$gorse" --system none
sed 's/"kind": "[a-z-]*"/"kind": "blank"/; s/"path": "[^"]*"/"path": ""/' tide.request > odd.request
expect 2 "an ordinary drive has one volume" "$satchel" plan --bench b --request odd.request --drive "$gorse"
python3 - <<'PY'
import json
d = json.load(open("odd.request"))
d["volumes"], d["start"]["menu_seconds"] = [{"role": "data", "size": "rest", "format": "exfat", "cluster_bytes": 0, "label": "hut", "place": "usual", "locked": False, "grows": False}], 5
json.dump(d, open("blank.request", "w"))
PY
expect 0 "ordinary drive" "$satchel" plan --bench b --request blank.request --drive "$gorse" --save blank.plan
expect 0 "Next: satchel release" "$satchel" build blank.plan --bench b --confirm "$gorse"
expect 0 "exactly what was meant" "$satchel" check "$gorse" --plan blank.plan --bench b
expect 0 "exactly what was read back" "$satchel" check "$gorse" --record blank.plan.built --bench b
sed 's/"role": "swap"/"role": "attic"/' tide.request > odd.request
expect 4 'volumes[2].role" is not a word' "$satchel" plan --bench b --request odd.request --drive "$gorse"
expect 2 "this is a plan, and no request" "$satchel" plan --bench b --request typed.plan --drive "$gorse"
expect 3 "this very file" "$satchel" plan --bench b --request tide.request --save-request curlew.iso
cp curlew.iso other.iso && expect 0 "kept" "$satchel" plan --bench b --image other.iso --save-request other.request
printf x | dd of=other.iso bs=1 seek=700000 conv=notrunc 2>/dev/null
expect 4 "no longer the file that was asked for" "$satchel" plan --bench b --request other.request --drive "$gorse"
printf 'tides\n' > tides.txt
expect 1 "Not good" "$satchel" plan --bench b --image tides.txt --drive "$gorse" --save tides.plan
expect 3 "even-so" "$satchel" build tides.plan --bench b --confirm "$gorse"
"$satchel" drives "$sorrel" --test sample --confirm "$sorrel" --save sorrel.trial --bench b >/dev/null
expect 1 "Not good" "$satchel" plan --bench b --image curlew.iso --drive "$sorrel" --trial sorrel.trial --save forged.plan
expect 3 "has a fault" "$satchel" build forged.plan --bench b --confirm "$sorrel"
sed 's/"fault"/"note"/' forged.plan > edited.plan
expect 4 "was edited" "$satchel" build edited.plan --bench b --confirm "$sorrel"
for edit in 's/"what": "persistence"/"what": "patience"/' 's/"choice": "ext4"/"choice": "ext5"/' 's/"starts": true/"starts": false/' 's/"partition": 3/"partition": 4/' 's/"menu_seconds": 5/"menu_seconds": 6/'; do
    sed "$edit" f.plan > edited.plan
    ok "$edit changes it" sh -c '! cmp -s f.plan edited.plan'
    expect 4 "make it again" "$satchel" build edited.plan --bench b --confirm "$fulmar" --external-disk
done

# A drive is proved only when it is confirmed; an external one only if it is meant
expect 3 "was not given" "$satchel" prove "$gorse" --on hut --bench b
expect 3 "does not confirm" "$satchel" prove "$gorse" --confirm "$fulmar" --on hut --bench b
expect 3 "external" "$satchel" prove "$fulmar" --confirm "$fulmar" --on hut --bench b

# What is planned so is no fault of the drive
expect 0 "kept" "$satchel" plan --bench b --image casper.iso --drive "$gorse" --kind replica --save r.plan
expect 0 "flushed and checked" "$satchel" build r.plan --bench b --confirm "$gorse"
expect 0 "exactly what was meant" "$satchel" check "$gorse" --plan r.plan --bench b
expect 0 "kept" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --persistence none --save n.plan
expect 0 "flushed and checked" "$satchel" build n.plan --bench b --confirm "$gorse"
expect 0 "exactly what was meant" "$satchel" check "$gorse" --plan n.plan --bench b

# Hostile names reach no terminal, and every document is there
evil=$(printf 'g\033[2Ju\302\233ll\342\200\256x\377.img')
truncate -s 40M "$evil"
for command in "drives" "image" "check"; do
    "$satchel" $command "./$evil" > said 2>&1
    ok "no escape reaches the terminal by $command" sh -c '! LC_ALL=C grep -q "[[:cntrl:]]" said'
    "$satchel" $command "./$evil" --json > said 2>&1
    ok "a document by $command" python3 -c 'import json; json.load(open("said"))'
done
expect 2 '\x1b[31m' "$satchel" "$(printf '\033[31mburn')"
json 'd["exit_code"] == 2 and d["error"]["status"] == "usage"' "$satchel" burn --json
json 'd["exit_code"] == 2' "$satchel" --json burn
json 'd["exit_code"] == 2' "$satchel" --json
json 'd["exit_code"] == 2' "$satchel" drives --frobnicate --json
json 'len(d["drives"]) == 5' "$satchel" --json --bench b drives

# Every document follows its schema
follows bench cat "$benchfile"
follows bench cat b/bench.json
follows plan cat s.plan
follows plan "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --json
follows output cat f.plan.built
follows output "$satchel" drives --bench b --json
follows output "$satchel" image curlew.iso --json
follows output "$satchel" image noise.iso --json
follows output "$satchel" image curlew.iso --sha256 --json
follows output "$satchel" image two.zip --json
follows output "$satchel" image published --json
follows output "$satchel" image published/curlew.iso --quick --json
follows output "$satchel" check "$fulmar" --plan f.plan --bench b --json
follows output "$satchel" check "$gorse" --bench b --json
follows output "$satchel" prove "$fulmar" --confirm "$fulmar" --external-disk --on hut --bench b --json
follows output "$satchel" bench start hut "$gorse" --bench b --json
follows output "$satchel" bench show --bench b --json
follows output "$satchel" drives nowhere --bench b --json
follows output "$satchel" build s.plan --json

echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
