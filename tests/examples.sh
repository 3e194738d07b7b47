#!/bin/sh
# The examples do what their first lines say.
set -eu
build=$1
work=$(mktemp -d /tmp/satchel-examples-XXXXXX)
trap 'rm -rf "$work"' EXIT
cd "$work"
"$build/demo-image" curlew.iso
"$build/examples/example_plan_and_build" curlew.iso stick.img 200M | grep "checked"
truncate -s 200M first.img && "$build/examples/example_first" curlew.iso first.img | grep "checked"
"$build/examples/example_first" curlew.iso 2>&1 | grep "IMAGE DRIVE"
"$build/examples/example_read_memory" stick.img | grep "persistence.conf"
cp stick.img larger.img && truncate -s 900M larger.img && "$build/examples/example_keep" larger.img | grep "has grown to"
"$build/examples/example_keep" larger.img | grep "0 files are remembered"
! "$build/examples/example_keep" curlew.iso 2>error.txt >/dev/null
grep -q "nothing is remembered" error.txt
before=$(sha256sum stick.img)
if "$build/examples/example_plan_and_build" curlew.iso stick.img 10M 2>error.txt; then exit 1; fi
grep -q "here already" error.txt
test "$before" = "$(sha256sum stick.img)"
if "$build/examples/example_plan_and_build" curlew.iso small.img 10M 2>error.txt; then exit 1; fi
grep -q "larger drive" error.txt
"$build/examples/example_read_memory" curlew.iso | grep "forgets"
echo "gull 7 over" | "$build/examples/example_full_system" curlew.iso system.img 300M tide > said && grep -q "account: tide" said && grep -q "checked" said
! grep -q "gull 7" said
printf 'gull 7 over\nfulmar over the bar\n' | "$build/examples/example_full_system" curlew.iso locked.img 400M tide locked > said && grep -q "recovery key" said
! grep -q "fulmar" said && ! grep -qaF "fulmar over" locked.img
! printf 'gull 7 over\nshort\n' | "$build/examples/example_full_system" curlew.iso few.img 400M tide locked 2>error.txt >/dev/null
grep -q "shorter than" error.txt
! echo "" | "$build/examples/example_full_system" curlew.iso empty.img 300M tide 2>error.txt >/dev/null
grep -q "password is empty" error.txt
"$build/demo-image" office.img office && "$build/demo-image" later.img office-later
"$build/examples/example_twin" office.img twin.qcow2 2G > said && grep -q "carried over" said && grep -q "without caches" said
"$build/examples/example_twin" later.img twin.qcow2 2G | grep "brought up to date"
"$build/examples/example_twin" twin.qcow2 again.img 1200M | grep "carried over"
! "$build/examples/example_twin" office.img none.img 100M 2>error.txt >/dev/null
grep -q "larger drive" error.txt
echo "22 passed, 0 failed"
