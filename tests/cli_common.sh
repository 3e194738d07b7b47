#!/bin/sh
# What the tests of the command-line tool share: a folder of their own with a bench and images, and ways to say what is
# expected. Sourced, with the words SATCHEL DEMO_IMAGE BENCHFILE.
here=$(cd "$(dirname "$0")" && pwd)
schemas=$here/../docs/schema
satchel=$1
demo_image=$2
benchfile=$3
work=$(mktemp -d /tmp/satchel-cli-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
export WILD_SATCHEL_BENCH=
export WILD_SATCHEL_HISTORY=
printf '{"format": "wild-satchel-defaults", "version": 1, "options": {"why": true}}' > why.json
export WILD_SATCHEL_DEFAULTS="$work/why.json" # plans with their reasons
passed=0
failed=0

# sum_of FILE ...: of what is in them, holes left out: simulated drives are hardly anything else
sum_of() { tar -cSf - --mtime=@0 "$@" | sha256sum; }

# expect CODE 'part of the output' COMMAND ...
expect() {
    code=$1
    part=$2
    shift 2
    out=$("$@" 2>&1 </dev/null)
    got=$?
    if [ "$got" -eq "$code" ] && printf '%s' "$out" | grep -qF -- "$part"; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "FAILED: $* gives $got, not $code, or does not say \"$part\":"
        printf '%s\n' "$out" | head -12
    fi
}
# ok WHAT COMMAND ...: the command succeeds
ok() {
    what=$1
    shift
    if "$@" >said.by.ok 2>&1; then passed=$((passed + 1)); else
        failed=$((failed + 1))
        echo "FAILED: not true: $what"
        tail -n 30 said.by.ok
    fi
}
# json 'python expression over d' COMMAND ...
json() {
    expression=$1
    shift
    if "$@" 2>/dev/null </dev/null | python3 -c "import json, sys; d = json.load(sys.stdin); sys.exit(0 if ($expression) else 1)"; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "FAILED: not true of $*: $expression"
    fi
}
# keeps PLAN PC...: built, started on each of the PCs, it remembers; and the rest of it is as it was meant
keeps() {
    plan=$1
    shift
    expect 0 "flushed and checked" "$satchel" build "$plan" --confirm "$gorse" --bench b
    for pc in "$@"; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on "$pc" --bench b; done
    expect 0 "exactly" "$satchel" check "$gorse" --plan "$plan" --used --bench b
}
# follows SCHEMA COMMAND ...: the document follows its documented schema
follows() {
    schema=$1
    shift
    if "$@" 2>/dev/null </dev/null | python3 "$here/follows_schema.py" "$schemas/$schema.schema.json" > faults.txt; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "FAILED: $* does not follow $schema: $(head -3 faults.txt)"
    fi
}
# name_of_in BENCH SERIAL
name_of_in() { "$satchel" drives --bench "$1" --json | python3 -c "import json, sys; print([d[\"name\"] for d in json.load(sys.stdin)[\"drives\"] if d[\"serial\"] == \"$2\"][0])"; }
name_of() { "$satchel" drives "$1" --bench b --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])'; }

"$demo_image" curlew.iso || exit 1
"$demo_image" casper.iso casper || exit 1
