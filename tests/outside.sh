#!/bin/sh
# The library as others get it: installed, found by CMake and by pkg-config, used from C and C++, linked both ways.
#   outside.sh BUILD
set -eu
here=$(cd "$(dirname "$0")" && pwd)
build=$(cd "$1" && pwd)
work=$(mktemp -d /tmp/satchel-outside-XXXXXX)
trap 'rm -rf "$work"' EXIT
fail() { echo "FAILED: $*"; exit 1; }
cmake --build "$build" --target library >/dev/null
cmake --install "$build" --prefix "$work/usr" >/dev/null
lib=$(dirname "$(find "$work/usr" -name libwild_satchel.a)")
for name in wild_satchel wild_satchel_port; do
    nm -D --defined-only "$lib/lib$name.so" | awk '{print $3}' | grep -v '^ws_' && fail "names that do not begin with ws_ leave lib$name.so"
    nm -g --defined-only "$lib/lib$name.a" | awk 'NF == 3 {print $3}' | grep -v '^ws_' && fail "names that do not begin with ws_ leave lib$name.a"
    readelf -d "$lib/lib$name.so" | grep -q "SONAME.*lib$name.so.[0-9]" || fail "lib$name.so has no SONAME"
done
"$build/demo-image" "$work/curlew.iso"

cmake -S "$here/outside" -B "$work/outside" -DCMAKE_PREFIX_PATH="$work/usr" -DEXAMPLES="$here/../examples" >"$work/log" 2>&1 || { cat "$work/log"; fail "the package is not found or not whole"; }
cmake --build "$work/outside" >"$work/log" 2>&1 || { cat "$work/log"; fail "programs do not build"; }
cd "$work/outside"
./look ../curlew.iso >../said || fail "look gives $?"
grep -q '^version [0-9.]*, [0-9]* drives$' ../said || fail "no drives are listed"
grep -q '^data fat32 419430400$' ../said || fail "no data volume is planned: $(cat ../said)"
./build_one ../curlew.iso ../stick.img 128M >../said 2>&1 || { cat ../said; fail "build_one"; }
./read_one ../stick.img >../said || fail "read_one gives $?"
grep -q 'volume "persistence"' ../said || fail "what is remembered is not read back: $(cat ../said)"

# As a part of another project; and without what may be left out.
mkdir "$work/part"
cat >"$work/part/CMakeLists.txt" <<PART
cmake_minimum_required(VERSION 3.20)
project(part LANGUAGES C)
add_subdirectory("$here/.." satchel EXCLUDE_FROM_ALL)
add_executable(part "$here/../examples/first.c")
target_compile_definitions(part PRIVATE _GNU_SOURCE)
target_link_libraries(part PRIVATE wild_satchel::wild_satchel_port)
PART
cmake -S "$work/part" -B "$work/part/b" -G Ninja -DCMAKE_C_FLAGS=-O0 -DWS_PICTURES=OFF -DWS_SIGNATURES=OFF -DWS_EMULATOR=OFF >"$work/log" 2>&1 || { cat "$work/log"; fail "it is no part of another project"; }
cmake --build "$work/part/b" --target part >"$work/log" 2>&1 || { tail -20 "$work/log"; fail "a project with it inside does not build"; }
truncate -s 200M "$work/part/d.img"
"$work/part/b/part" "$work/curlew.iso" "$work/part/d.img" | grep -q checked || fail "its program"
! ldd "$work/part/b/part" | grep -q gpgme || fail "gpgme was left out, and is linked"

# A program gets the plans that the tool gets, to the last character.
satchel=$build/satchel
rm ../stick.img
plans=0
for how in "" "--kind replica" "--data rest --persistence 1G" "--arrangement files --swap 200M --data 300M" "--data 700M --data-on exfat --data-label huts" "--in file --persistence 900M" \
    "--arrangement files" "--arrangement files --files-on exfat --system 900M" "--arrangement files --table gpt --uefi-code own --check-at-start full" \
    "--arrangement files --persistence none --data rest --cluster 16K" "--kind system --account tide --host-name hut --keyboard de --login automatic"; do
    # shellcheck disable=SC2086
    "$satchel" plan --image ../curlew.iso --drive ../stick.img --make 4G $how --save ../tool.plan --save-request ../asked >/dev/null || fail "plan $how gives $?"
    ./replan ../asked ../tool.plan ../curlew.iso >../own.plan || fail "replan $how gives $?"
    cmp ../tool.plan ../own.plan || fail "tool and library plan otherwise: $how"
    rm ../stick.img ../asked ../tool.plan
    plans=$((plans + 1))
done
./build_one ../curlew.iso ../stick.img 128M >/dev/null 2>&1 || fail "build_one"

# The static library; the packages behind it are linked as usual. One with sanitizers inside needs their runtime.
PKG_CONFIG_PATH=$lib/pkgconfig
export PKG_CONFIG_PATH
flags=$(pkg-config --cflags wild_satchel_port)
case $(nm "$lib/libwild_satchel.a") in
*__asan_*) ;;
*)
    # shellcheck disable=SC2046,SC2086
    cc -std=c11 -D_GNU_SOURCE $flags "$here/../examples/read_memory.c" -o static "$lib/libwild_satchel_port.a" "$lib/libwild_satchel.a" \
        $(pkg-config --libs libudev gpgme jansson libarchive libsquashfs1 libcrypto zlib libzstd libcrypt libargon2 libisal) -lpthread -lm
    ./static ../stick.img | cmp - ../said || fail "the static library reads otherwise"
    ;;
esac
[ "$(pkg-config --modversion wild_satchel)" = "$(sed -n 's/^#define WS_VERSION "\(.*\)"/\1/p' "$here/../include/wild_satchel/api.h")" ] || fail "versions differ"
echo "passed; $plans plans are the tool's"
