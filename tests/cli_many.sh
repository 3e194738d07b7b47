#!/bin/sh
# One command for one drive or many; what is mistyped; defaults, history; what is made of the table of commands.
#   cli_many.sh SATCHEL DEMO_IMAGE BENCHFILE
. "$(dirname "$0")/cli_common.sh"
export XDG_CONFIG_HOME="$work/config" XDG_DATA_HOME="$work/data"
unset WILD_SATCHEL_DEFAULTS WILD_SATCHEL_HISTORY
words=$(dirname "$satchel")/words
screen() { # COLUMNS ANSWERS CODE TEXT COMMAND...: on a terminal of so many columns
    columns=$1 answers=$2 wanted=$3 part=$4
    shift 4
    expect "$wanted" "$part" python3 "$here/on_terminal.py" "$columns" "$answers" "$@"
}

fits() { # COLUMNS COMMAND...: whatever it says, no line is wider
    columns=$1
    shift
    out=$(FITS=1 python3 "$here/on_terminal.py" "$columns" "" "$@" 2>&1)
    if [ $? -ne 99 ]; then passed=$((passed + 1)); else
        failed=$((failed + 1))
        echo "FAILED: $* does not fit $columns columns:"
        printf '%s\n' "$out"
    fi
}

# Words that are nearly right
expect 2 'did you mean `satchel plan`' "$satchel" paln
expect 2 'did you mean --image' "$satchel" prepare --imgae x
expect 2 'did you mean --persistence' "$satchel" plan --persistance 4G
expect 2 "write 4GB in one word" "$satchel" plan --image curlew.iso --persistence 4 GB
expect 2 'in quotes: "Gorse 32"' "$satchel" plan --image curlew.iso --drive Gorse 32
expect 2 "no effect without --blank" "$satchel" drives --label x
expect 2 "no effect beside --history" "$satchel" drives gorse --history --blank
expect 2 "no effect beside --finish" "$satchel" build --finish gorse --even-so
expect 2 'no effect with `bench show`' "$satchel" bench show --pull-after 3
expect 2 "no effect on a simulated PC" "$satchel" prove gorse --on hut --wait 3
expect 2 "no effect without --as-they-come" "$satchel" prepare --image curlew.iso --like 32GB
expect 2 "names no folder" "$satchel" drives --bench ""
expect 0 "prepare" "$satchel" help
expect 0 "--as-they-come" "$satchel" help prepare
expect 0 "--as-they-come" "$satchel" prepare -h
expect 2 'did you mean `satchel image`' "$satchel" help imag
for how in -V --version version; do expect 0 "satchel" "$satchel" $how; done
expect 2 "--colour takes auto, always or never" "$satchel" drives --colour blue
expect 2 "--progress takes" "$satchel" --progress loud drives
expect 2 "--kind takes" "$satchel" --image curlew.iso --drive "$work/x.img" --make 1G plan --kind cake

# Drives by what tells them
expect 0 "5 drives" "$satchel" bench setup "$benchfile" --bench b
export WILD_SATCHEL_BENCH=b
gorse=$(name_of "Gorse 32") teasel=$(name_of "Teasel 8") sorrel=$(name_of "Sorrel 64")
for word in 1-2.1 teasel "TEASEL 8" "$teasel" kdt6; do expect 0 "GP-0008-B7" "$satchel" drives "$word"; done
expect 4 "did you mean \"$gorse\"" "$satchel" drives "$(echo "$gorse" | sed s/or/ro/)"
expect 0 "GP-0032-A1" "$satchel" --json drives "$gorse"
for word in teasel 1-2.1 "$teasel@1-2.1" "Teasel 8"; do
    expect 0 "$teasel is pulled out" "$satchel" bench pull "$word"
    expect 0 "$teasel is plugged in" "$satchel" bench plug "$word"
done
expect 4 "there is no drive" "$satchel" bench pull willow
expect 4 "something like" "$satchel" bench pull e

# Every screen fits a terminal of 80 columns
expect 0 "plan is kept" "$satchel" plan --image curlew.iso --drive gorse --save fit.plan
expect 0 "flushed and checked" "$satchel" build fit.plan --confirm "$gorse"
for how in "drives" "drives gorse" "image curlew.iso" "size --image curlew.iso" "size --image curlew.iso --kind system --drive gorse" "size --image gorse --kind twin" \
    "plan --image curlew.iso --drive gorse --why" "plan --image curlew.iso --drive teasel --arrangement files --data rest --persistence 1G" "plan --image curlew.iso --drive gorse --kind system" \
    "check gorse --plan fit.plan" "check gorse --record fit.plan.built" "prove gorse --on hut --confirm $gorse" "drives teasel --test sample --confirm $teasel" \
    "drives teasel --blank --confirm $teasel" "drives --history" "defaults" "bench show" "help" "help plan" "help prepare" "build fit.plan --confirm $gorse" \
    "twin gorse --drive sorrel --confirm $sorrel" "release gorse" "plan --image curlew.iso --drive office --persistence 3X" "prepare --image curlew.iso --drive gorse --drive teasel --confirm $gorse --confirm $teasel"; do
    fits 80 "$satchel" $how
done
rm -rf b && "$satchel" bench setup "$benchfile" --bench b >/dev/null

# Options before the command, and colours where they are asked for
expect 0 "Teasel 8" "$satchel" --bench b --json drives teasel
ok "colours when asked" sh -c "'$satchel' --colour always drives | grep -q '\[32m'"
ok "none without a terminal" sh -c "! '$satchel' drives | grep -q '\['"
ok "none with NO_COLOR" sh -c "! NO_COLOR=1 python3 '$here/on_terminal.py' 80 '' '$satchel' drives | grep -q '\[32m'"

# Three at once: refused as a whole until each is confirmed
expect 2 "none is named" "$satchel" prepare --image curlew.iso
expect 3 "--confirm $teasel" "$satchel" prepare --image curlew.iso --drive "$gorse" --drive teasel --confirm "$gorse"
expect 2 "named twice" "$satchel" prepare --image curlew.iso --drive "$gorse" --drive 1-1
expect 2 "no drive of this name" "$satchel" prepare --image curlew.iso --drive "$gorse" --confirm "$teasel"
expect 3 "running system" "$satchel" prepare --image curlew.iso --drive "Office disk" --confirm "$(name_of "Office disk")"
expect 2 "is no PC that is known" "$satchel" prepare --image curlew.iso --drive "$gorse" --for moon
expect 4 "prove: there is no PC" "$satchel" prepare --image curlew.iso --drive "$gorse" --prove moon
expect 2 "makes drives from an image" "$satchel" prepare --image curlew.iso --kind renewal --drive "$gorse"
expect 0 "3 of 3 drives are ready" "$satchel" prepare --image curlew.iso --persistence 2G --drive "$gorse" --drive teasel --drive 1-2.2 \
    --confirm "$gorse" --confirm "$teasel" --confirm "$sorrel" --prove hut --release --then 'echo "$WILD_SATCHEL_RESULT: $WILD_SATCHEL_DRIVES" > ended'
ok "the hook was told" grep -q "good: $gorse $teasel $sorrel" ended
for d in $gorse $teasel; do expect 0 "exactly" "$satchel" check "$d" --plan "$d.plan" --used; done
expect 0 "exactly" "$satchel" check "$teasel" --record "$teasel.plan.built" --used
follows output "$satchel" prepare --image curlew.iso --kind replica --drive "$gorse" --drive teasel --confirm "$gorse" --confirm "$teasel" --json
json 'd["good"] and [x["state"] for x in d["drives"]] == ["done", "done"] and d["drives"][0]["built"]["checked"]' \
    "$satchel" prepare --image curlew.iso --drive "$gorse" --drive teasel --confirm "$gorse" --confirm "$teasel" --json --keep-in .
json 'd["error"]["status"] == "refused"' "$satchel" prepare --image curlew.iso --drive "$gorse" --json

# One is too small: its own affair
json 'not d["good"] and d["done"] == 1 and d["drives"][1]["error"]["status"] == "space"' \
    "$satchel" prepare --image curlew.iso --persistence 20G --drive "$gorse" --drive teasel --confirm "$gorse" --json
expect 4 "1 of 2 drives are ready" "$satchel" prepare --image curlew.iso --persistence 20G --drive "$gorse" --drive teasel --confirm "$gorse"

# What a technician asks first, and reasons on request; sizes as they are typed; what would fit; commands to paste
export WILD_SATCHEL_DEFAULTS=
plan_of() { "$satchel" plan --image curlew.iso --drive "$gorse" "$@" 2>&1; }
plan_of > short.txt; plan_of --why > long.txt
for w in "Will be lost" "Will be  " "Will start on BIOS yes · UEFI yes · Secure Boot yes" "Takes" "plugged in at 1-1" "Next\|not kept"; do ok "first screen: $w" grep -q "$w" short.txt; done
ok "it is one screen" test "$(wc -l < short.txt)" -le 24
ok "reasons only on request" sh -c "! grep -q 'what is left\|is signed; whose\|checksums corrected' short.txt && grep -q 'checksums corrected' long.txt"
for size in 2g 2GiB 2,0G "2 gib" 6,71%; do ok "$size is taken" sh -c "'$satchel' plan --image curlew.iso --drive $gorse --persistence '$size' >/dev/null"; done
expect 2 "persistence: \"1,500M\" is not a size" "$satchel" plan --image curlew.iso --drive "$gorse" --persistence 1,500M
expect 2 "no part of a drive" "$satchel" plan --image curlew.iso --drive "$gorse" --data 0%
json 'd["request"]["volumes"][0]["size"] == "50.00%" and abs(d["result"]["volumes"][0]["size_bytes"] / d["drive"]["size_bytes"] - 0.5) < 0.001' "$satchel" plan --image curlew.iso --drive "$gorse" --persistence 50% --json
fits=$("$satchel" plan --image curlew.iso --drive "$gorse" --persistence 40G 2>&1 | sed -n 's/.*(--persistence \([0-9]*\)M; --persistence rest).*/\1/p')
expect 0 "Nothing was written" "$satchel" plan --image curlew.iso --drive "$gorse" --persistence "${fits}M"
expect 4 "more are needed" "$satchel" plan --image curlew.iso --drive "$gorse" --persistence "$((fits + 1))M"
mkdir "a folder"
"$satchel" plan --image curlew.iso --drive "$gorse" --save "a folder/it's a plan" > said.txt
ok "the next command can be pasted" sh -c "next=\$(sed -n 's/^Next: satchel //p' said.txt) && eval \"'$satchel' \$next --confirm $gorse\" > built.txt 2>&1 && grep -q '^Next: satchel prove $gorse --on hut' built.txt"
export WILD_SATCHEL_BENCH=
"$satchel" plan --image curlew.iso --drive "$gorse" --bench b --save b.plan > said.txt
ok "with its bench" grep -q "^Next: satchel build b.plan --bench b" said.txt
export WILD_SATCHEL_BENCH=b

# One thing taken for another; what was moved; what is there already; a slip at the prompt
expect 2 "this is an image, and no plan" "$satchel" build curlew.iso
expect 2 "this is a plan, and no drive" "$satchel" check b.plan
expect 2 "this is a plan, and no image" "$satchel" plan --image b.plan --drive "$gorse"
for how in "image b.plan" "size --image b.plan"; do expect 2 "this is a plan, and no image" "$satchel" $how; done
expect 2 "this is a plan, and no drive" "$satchel" twin b.plan --drive "$gorse"
expect 2 "this is a plan, and no request" "$satchel" plan --request b.plan --drive "$gorse"
expect 2 "this is a plan, and no record" "$satchel" check "$gorse" --record b.plan
expect 2 "this is a plan, and no trial" "$satchel" plan --image curlew.iso --drive "$gorse" --trial b.plan
expect 2 "this is a plan, and no bench file" "$satchel" bench setup b.plan --bench none
expect 2 "this is an image, and no request" "$satchel" prepare --request curlew.iso --drive "$gorse"
expect 2 "this is an image, and no rules" "$satchel" plan --image curlew.iso --arrangement files --rules curlew.iso --drive "$gorse"
expect 2 "this is an image, and no record" "$satchel" check "$gorse" --record curlew.iso
for how in "image gorse" "plan --image gorse --drive teasel" "size --image gorse"; do expect 2 "this is a drive, and no image" "$satchel" $how; done
expect 2 "this is a drive, and no plan" "$satchel" build gorse
expect 2 "it is a plan: satchel build b.plan" "$satchel" prepare b.plan
expect 2 "it is an image: --image curlew.iso" "$satchel" plan curlew.iso
expect 2 "it is an image: satchel image curlew.iso" "$satchel" curlew.iso
expect 2 "did you mean system" "$satchel" plan --image curlew.iso --drive "$gorse" --kind sistem
expect 2 "satchel build b.plan" "$satchel" b.plan
mkdir away && cp curlew.iso away/ && mv curlew.iso away.iso
expect 4 "say where it is now: --image FILE" "$satchel" build b.plan --confirm "$gorse"
expect 0 "flushed and checked" "$satchel" build b.plan --confirm "$gorse" --image away/curlew.iso
expect 0 "seems to hold this very build already" "$satchel" build b.plan --confirm "$gorse" --image away/curlew.iso
expect 0 "exactly" "$satchel" check "$gorse" --plan b.plan --image away/curlew.iso
cp away.iso away/other.iso && printf x | dd of=away/other.iso bs=1 seek=9000000 conv=notrunc 2>/dev/null
expect 4 "no longer the one that was planned" "$satchel" build b.plan --confirm "$gorse" --image away/other.iso
ok "nothing was written for that" sh -c "'$satchel' check $gorse --plan b.plan --image away/curlew.iso >/dev/null"
mv away.iso curlew.iso
export WILD_SATCHEL_BENCH=
truncate -s 300M file.img
expect 0 "Nothing was written" "$satchel" plan --image curlew.iso --drive file.img --make 300M
ok "a file that was there stays" test -e file.img
expect 3 "already" "$satchel" plan --image curlew.iso --drive file.img --make 200M
"$demo_image" office.img office
expect 3 "was not given to confirm" "$satchel" twin office.img --drive file.img --make 300M
export WILD_SATCHEL_BENCH=b
screen 80 " $gorse " 0 "flushed and checked" "$satchel" build b.plan
screen 80 "gosre|$gorse" 0 "once more" "$satchel" build b.plan --afresh
[ "$(id -u)" -ne 0 ] || { cp curlew.iso secret.iso && chmod 600 secret.iso && chmod 755 . &&
    expect 4 "the right to read it is missing" setpriv --reuid 65534 --clear-groups "$satchel" image secret.iso; }
# What takes a while says so, and is gone from the screen when it is done
"$demo_image" large.iso live-boot 700 >/dev/null
expect 0 "working out the checksum of large.iso" "$satchel" image large.iso --sha256
json_lines=$("$satchel" image large.iso --sha256 --progress json 2>&1 >/dev/null | head -1)
ok "as JSON, too" sh -c "printf '%s' '$json_lines' | python3 -c 'import json, sys; d = json.load(sys.stdin); sys.exit(not (d[\"total_bytes\"] > 0 and \"checksum\" in d[\"step\"]))'"
rm large.iso

# What a check says of differences
"$satchel" build "a folder/it's a plan" --confirm "$gorse" >/dev/null 2>&1
expect 0 "What was never written was not looked at" "$satchel" check "$gorse" --plan "a folder/it's a plan"
expect 0 "It remembers" "$satchel" prove "$gorse" --on hut --confirm "$gorse"
expect 0 "but for what it remembers" "$satchel" check "$gorse" --plan "a folder/it's a plan"
json 'd["good"] and not d["equal"] and d["only_remembered"]' "$satchel" check "$gorse" --plan "a folder/it's a plan" --json
"$satchel" build "a folder/it's a plan" --confirm "$gorse" >/dev/null 2>&1
last=$(python3 -c 'import json; print(max(p[0] + p[1] for p in json.load(open("a folder/it'"'"'s a plan.built"))["pieces"] if p[2] == "persistence") - 9)')
printf x | dd of="b/$gorse.drive" bs=1 seek="$last" conv=notrunc 2>/dev/null # in the persistence volume, which was never in use
expect 1 "nothing tells that it was ever started" "$satchel" check "$gorse" --plan "a folder/it's a plan"
json 'not d["good"] and not d["only_remembered"]' "$satchel" check "$gorse" --plan "a folder/it's a plan" --json
printf x | dd of="b/$gorse.drive" bs=1 seek=3000000 conv=notrunc 2>/dev/null
expect 1 "in the file /live/filesystem.ext4" "$satchel" check "$gorse" --plan "a folder/it's a plan"
expect 1 "in the piece from byte" "$satchel" check "$gorse" --record "a folder/it's a plan.built"
unset WILD_SATCHEL_DEFAULTS

# On terminals narrow and wide: the board, one slip at the prompt
for columns in 60 80 100 200; do
    screen $columns "all 3| all 2 " 0 "2 of 2 drives are ready" "$satchel" prepare --image curlew.iso --drive "$gorse" --drive teasel
    screen $columns "$gorse" 0 "flushed and checked" "$satchel" build "$gorse.plan" --afresh
done
screen 80 "gorse|gorse" 3 "not confirmed" "$satchel" prepare --image curlew.iso --drive "$gorse"
screen 80 "$gorse" 0 "is ready" env TERM=dumb "$satchel" prepare --image curlew.iso --drive "$gorse"
ok "lines of JSON" sh -c "'$satchel' build $gorse.plan --confirm $gorse --afresh --progress json 2>&1 >/dev/null | python3 -c 'import json, sys
steps = [json.loads(line) for line in sys.stdin]
sys.exit(not (steps and steps[-1][\"done_bytes\"] <= steps[-1][\"total_bytes\"] and {s[\"step\"] for s in steps} & {\"writing\", \"checking\"}))'"

# Pulled in the middle: it goes on when it is back; another takes its place; and every one that comes
bench_of() { printf '{"format": "wild-satchel-bench", "version": 1, "seed": 5, "pcs": [], "drives": [
 {"name": "Gorse a", "model": "Gorse 32", "serial": "A", "bus": "usb", "place": "1-1", "size_bytes": 32010928128, "write_bytes_s": 24000000, "read_bytes_s": 110000000, "small_write_s": 0.004, "cache_bytes": 33554432%s},
 {"name": "Gorse b", "model": "Gorse 32", "like": "Gorse a", "serial": "B", "place": "1-2"%s},
 {"name": "Teasel 8", "like": "Gorse a", "serial": "C", "size_bytes": 8004829184, "place": "1-3"%s}]}' "$2" "$3" "$4" > "$1.json"
    rm -rf "$1"; "$satchel" bench setup "$1.json" --bench "$1" >/dev/null; }
bench_of back ', "pulled_after_bytes": 9000000, "plugged_at_s": 20' ', "pulled_after_bytes": 0, "plugged_at_s": 0' ', "pulled_after_bytes": 0, "plugged_at_s": 0'
a=$(WILD_SATCHEL_BENCH=back name_of_in back A) b=$(WILD_SATCHEL_BENCH=back name_of_in back B)
expect 0 "is back, and goes on" "$satchel" prepare --bench back --image curlew.iso --drive 1-1 --drive 1-2 --confirm "$a" --confirm "$b"
expect 0 "exactly" "$satchel" check --bench back "$a" --plan "$a.plan"
bench_of gone ', "pulled_after_bytes": 9000000' ', "pulled_after_bytes": 0' ', "pulled_after_bytes": 0'
expect 4 "1 of 2 drives are ready" "$satchel" prepare --bench gone --image curlew.iso --drive 1-1 --drive 1-2 --confirm "$a" --confirm "$b"
"$satchel" bench plug "$a" --bench gone >/dev/null
expect 0 "flushed and checked" "$satchel" build "$a.plan" --bench gone --confirm "$a"
bench_of swap ', "pulled_after_bytes": 9000000' ', "pulled_after_bytes": 0' ', "pulled_after_bytes": 0'
screen 100 "all 2|teasel|$(WILD_SATCHEL_BENCH=swap name_of_in swap C)" 0 "took its place" "$satchel" prepare --bench swap --image curlew.iso --drive 1-1 --drive 1-2
bench_of come ', "pulled": true, "plugged_at_s": 5' ', "plugged_at_s": 6' ', "plugged_at_s": 7'
expect 2 "needs a rule" "$satchel" prepare --bench come --image curlew.iso --as-they-come
expect 3 "rule was not confirmed" "$satchel" prepare --bench come --image curlew.iso --as-they-come --like 32GB
expect 0 "2 of 2 drives are ready" "$satchel" prepare --bench come --image curlew.iso --as-they-come --like 32GB --like gorse --confirm 32GB --confirm gorse --count 2
expect 0 "blank" "$satchel" drives teasel --bench come
bench_of wait ', "pulled": true, "plugged_at_s": 5' ', "plugged_at_s": 0' ', "plugged_at_s": 0'
expect 0 "Plug the stick in now" "$satchel" prepare --bench wait --image curlew.iso --confirm "$a"

# A stick without a serial number that looks the same is not taken for the one that went away
printf '{"format": "wild-satchel-bench", "version": 1, "seed": 5, "pcs": [], "drives": [
 {"name": "left", "model": "Gorse 32", "bus": "usb", "size_bytes": 1073741824, "write_bytes_s": 24000000, "read_bytes_s": 110000000, "small_write_s": 0.004, "cache_bytes": 1048576, "pulled_after_bytes": 9000000},
 {"name": "right", "like": "left", "model": "Gorse 32", "pulled_after_bytes": 0, "pulled": true, "plugged_at_s": 9}]}' > same.json
rm -rf same && "$satchel" bench setup same.json --bench same >/dev/null
nameless=$("$satchel" drives left --bench same --json | sed -n 's/^ *"name": "\(.*\)",$/\1/p')
before=$(sum_of same/*twin*.drive)
expect 4 "went away" "$satchel" prepare --bench same --image curlew.iso --drive left --confirm "$nameless"
ok "the other one was not touched" test "$before" = "$(sum_of same/*twin*.drive)"

# Two of one model without serial numbers are told apart by their places, and by nothing else
printf '{"format": "wild-satchel-bench", "version": 1, "seed": 5, "pcs": [], "drives": [
 {"name": "A", "model": "Gorse 32", "bus": "usb", "place": "1-1", "size_bytes": 1073741824, "write_bytes_s": 24000000, "read_bytes_s": 110000000, "small_write_s": 0.004, "cache_bytes": 1048576},
 {"name": "B", "like": "A", "model": "Gorse 32", "place": "1-2.3"%s}]}' "" > alike.json
rm -rf alike && "$satchel" bench setup alike.json --bench alike >/dev/null
WILD_SATCHEL_BENCH=alike
base=$("$satchel" drives A --json | sed -n 's/^ *"name": "\(.*\)@1-1",$/\1/p')
ok "each has its place in its name" sh -c "'$satchel' drives | grep -q '^$base@1-1 .*yes' && '$satchel' drives | grep -q '^$base@1-2.3 .*yes'"
expect 2 "use the whole name, or unplug all but one" "$satchel" plan --image curlew.iso --drive "$base"
expect 2 "$base@1-1, $base@1-2.3" "$satchel" plan --image curlew.iso --drive gorse
expect 0 "plan is kept" "$satchel" plan --image curlew.iso --drive 1-2.3 --save place.plan
expect 3 "confirm with the drive's own name: $base@1-2.3" "$satchel" build place.plan --confirm "$base"
expect 3 "confirm with the drive's own name: $base@1-2.3" "$satchel" build place.plan --confirm "$base@1-1"
untouched=$(sum_of "alike/$base.drive")
expect 0 "flushed and checked" "$satchel" build place.plan --confirm "$base@1-2.3"
expect 0 "holds exactly" "$satchel" check 1-2.3 --plan place.plan
ok "the other one was not touched" test "$untouched" = "$(sum_of "alike/$base.drive")"
expect 3 "the name given does not confirm" "$satchel" drives A --blank --confirm "$base"
expect 0 "is an ordinary drive again" "$satchel" drives A --blank --confirm "$base@1-1"
"$satchel" bench pull A >/dev/null
ok "alone it needs none" sh -c "'$satchel' drives | grep -q '^$base  *1-2.3 '"
expect 0 "holds exactly" "$satchel" check "$base" --record place.plan.built
expect 0 "flushed and checked" "$satchel" build place.plan --confirm "$base@1-2.3" # the name that the plan has
expect 0 "plan is kept" "$satchel" plan --image curlew.iso --drive "$base" --save alone.plan
"$satchel" bench plug A >/dev/null
expect 3 "looks exactly the same" "$satchel" build alone.plan --confirm "$base" # made when it was alone
"$satchel" bench pull B >/dev/null
expect 3 "the planned drive is not here" "$satchel" build place.plan --confirm "$base@1-2.3" # only the other one is
"$satchel" bench plug B >/dev/null
expect 0 "2 of 2 drives are ready" "$satchel" prepare --image curlew.iso --drive 1-1 --drive 1-2.3 --confirm "$base@1-1" --confirm "$base@1-2.3"
ok "a record for each" test -s "$base@1-1.plan.built" -a -s "$base@1-2.3.plan.built"
sed -e 's/"place": "1-1",/"place": "1-1", "pulled": true, "plugged_at_s": 5,/; s/"place": "1-2.3"/"place": "1-2.3", "pulled": true, "plugged_at_s": 9/' alike.json > stream.json
"$satchel" bench setup stream.json --bench stream >/dev/null
expect 0 "2 of 2 drives are ready" "$satchel" prepare --bench stream --image curlew.iso --as-they-come --like 1GB --confirm 1GB --count 2
rm -rf stream && "$satchel" bench setup stream.json --bench stream >/dev/null
expect 2 "passwords are needed" "$satchel" prepare --bench stream --image curlew.iso --kind system --administrator tide --as-they-come --like 1GB --confirm 1GB
printf 'gull 7 over\nfulmar over the bar\n' > secrets
expect 0 "2 of 2 drives are ready" sh -c "'$satchel' prepare --bench stream --image curlew.iso --kind system --administrator tide --locked --as-they-come --like 1GB \
    --confirm 1GB --count 2 --password-fd 3 --recovery-fd 4 3< secrets 4> keys"
ok "a recovery key behind each name" test "$(grep -c "^$base@1-[12.3]*	[0-9a-z ]" keys)" -eq 2 -a "$(cut -f2 keys | sort -u | wc -l)" -eq 2
rm -rf stream && "$satchel" bench setup stream.json --bench stream >/dev/null
WILD_SATCHEL_BENCH=stream screen 100 "as they come|gull 7 over|gull 7 over" 0 "2 of 2 drives are ready" "$satchel" prepare --image curlew.iso --kind system --administrator tide --as-they-come --like 1GB --count 2
WILD_SATCHEL_BENCH=b

# A run that was cut is taken up again by the same words; one that is locked has its secrets, once for all drives
"$demo_image" large.iso live-boot 340 >/dev/null
bench_of cut ', "pulled_after_bytes": 300000000' ', "pulled_after_bytes": 0' ', "pulled_after_bytes": 0'
expect 4 "went away" "$satchel" prepare --bench cut --image large.iso --drive 1-1 --confirm "$a"
"$satchel" bench plug "$a" --bench cut >/dev/null
json 'd["drives"][0]["built"]["begun"] == "continued"' "$satchel" prepare --bench cut --image large.iso --drive 1-1 --confirm "$a" --json
rm large.iso
printf 'gull 7 over\nfulmar over the bar\n' > secrets
expect 0 "2 of 2 drives are ready" sh -c "'$satchel' prepare --bench cut --image curlew.iso --kind system --administrator tide --locked --drive 1-1 --drive 1-2 \
    --confirm $a --confirm $b --password-fd 3 --recovery-fd 4 3< secrets 4> keys"
ok "a recovery key for each" test "$(wc -l < keys)" -eq 2 -a "$(sort -u keys | wc -l)" -eq 2
ok "no secret is kept" sh -c "! grep -rqF 'gull 7' ./*.plan ./*.built history.db data b/history.db cut/history.db 2>/dev/null"

# The history tells it; many may write it at once
json "len(d['runs']) > 3 and {r['drive'] for r in d['runs']} == {'$gorse'} and any(r['verdict'] == 'it remembers' for r in d['runs'])" "$satchel" drives "$gorse" --history --json
expect 0 "written and checked" "$satchel" drives --history
follows output "$satchel" drives --history --json
follows output "$satchel" version --json
expect 0 "Nothing is noted of nobody" "$satchel" drives nobody --history
before=$("$satchel" drives --history --json | grep -c '"at"')
truncate -s 100M one.img
for i in 1 2 3 4 5 6 7 8; do "$satchel" check "$gorse" >/dev/null 2>&1 & done
wait
ok "eight more" test "$("$satchel" drives --history --json | grep -c '"at"')" -eq $((before + 8))
expect 0 "not noted in the history" env WILD_SATCHEL_HISTORY=/proc/none "$satchel" check "$gorse"

# Defaults of a site: shown, changed, overruled; nothing that names or forces
expect 0 "There are none" "$satchel" defaults
expect 0 "persistence = 3G" "$satchel" defaults persistence=3G
expect 0 "prepare.bell" "$satchel" defaults prepare.bell=yes
follows defaults cat "$XDG_CONFIG_HOME/wild-satchel/defaults.json"
json 'd["request"]["volumes"][0]["size"] == 3 << 30' "$satchel" plan --image curlew.iso --drive "$gorse" --json
json 'd["request"]["volumes"][0]["size"] == 1 << 30' "$satchel" plan --image curlew.iso --drive "$gorse" --persistence 1G --json
expect 2 "cannot be a default" "$satchel" defaults confirm=x
expect 2 "cannot be a default" "$satchel" defaults even-so=yes
expect 2 "takes no value" "$satchel" defaults bell=loud
expect 2 "say what it is to be" "$satchel" defaults persistence
expect 2 "this site's defaults" "$satchel" plan --image curlew.iso --drive "$gorse" --kind replica
expect 0 "Nothing was written" env WILD_SATCHEL_DEFAULTS= "$satchel" plan --image curlew.iso --drive "$gorse" --kind replica
expect 0 "" "$satchel" defaults persistence=
printf '{"format": "wild-satchel-defaults", "version": 1, "options": {"confirm": "x"}}' > bad.json
expect 4 "no such key" env WILD_SATCHEL_DEFAULTS=bad.json "$satchel" drives
printf '{"format": ' > bad.json
expect 4 "no JSON" env WILD_SATCHEL_DEFAULTS=bad.json "$satchel" drives
expect 0 "Usage" env WILD_SATCHEL_DEFAULTS=bad.json "$satchel" drives --help

# Every option stands in its manual page, in completion for three shells, and on the page of commands
for c in drives image size plan twin build prepare check prove release defaults bench; do
    for o in $("$satchel" help $c | grep -oE -- '--[a-z][a-z0-9-]+' | sort -u); do
        escaped=$(printf '%s' "$o" | sed 's/-/\\\\-/g')
        "$satchel" help $c | grep -qE -- "^ .*$o([= ]|$)" || continue
        grep -q -- "$escaped" "$words/man/satchel-$c.1" && grep -q -- "$o" "$words/completion/satchel" && grep -q -- "$o" "$words/completion/_satchel" &&
            grep -q -- "-l ${o#--} \|-l ${o#--}$" "$words/completion/satchel.fish" && grep -q -- "$o" "$words/commands.md" && passed=$((passed + 1)) ||
            { failed=$((failed + 1)); echo "FAILED: $c: $o is missing somewhere"; }
    done
    ok "groff reads its page" sh -c "! command -v groff >/dev/null || [ -z \"\$(groff -man -ww -z -T utf8 '$words/man/satchel-$c.1' 2>&1)\" ]"
done
ok "zsh reads its file" sh -c "! command -v zsh >/dev/null || zsh -n '$words/completion/_satchel'"
ok "fish reads its file" sh -c "! command -v fish >/dev/null || fish -n '$words/completion/satchel.fish'"
completes() { # WANTED WORD...: what bash makes of these words
    wanted=$1
    shift
    PATH=$(dirname "$satchel"):$PATH bash -c ". '$words/completion/satchel'; COMP_WORDS=(\"\$@\"); COMP_CWORD=\$((\$# - 1)); _satchel; printf '%s\n' \"\${COMPREPLY[@]}\"" bash "$@" |
        grep -qx -- "$wanted" && passed=$((passed + 1)) || { failed=$((failed + 1)); echo "FAILED: $* is not completed to $wanted"; }
}
completes plan satchel pl
completes --persistence satchel plan --pers
completes system satchel plan --kind s
completes "$teasel" satchel prepare --drive te
completes "$gorse" satchel check go
completes curlew.iso satchel image cur
completes prove satchel help pr
completes grow satchel keep gr
completes "$gorse" satchel keep show go

echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
