#!/bin/sh
# Builds the fuzzer with clang and runs it on seeds made from the demo: fuzz.sh SECONDS
set -eu
export ASAN_OPTIONS=detect_leaks=0 # the tools that make the seeds; the fuzzer sets its own
cd "$(dirname "$0")/../.."
seconds=$1
CC=clang cmake -S . -B build/fuzz -G Ninja -DCMAKE_BUILD_TYPE=RelWithDebInfo -DWS_FUZZ=ON >/dev/null
cmake --build build/fuzz --target fuzz start_seed demo-image satchel compose_persistence >/dev/null
seeds=build/fuzz/seeds
rm -rf "$seeds" && mkdir -p "$seeds"
rm -f build/fuzz/demo.iso && build/fuzz/demo-image build/fuzz/demo.iso
# each seed is the parser's number and the start of a real input
seed() { { printf "\\$(printf '%03o' "$1")"; head -c 900000 "$2"; } > "$seeds/$3"; }
seed 0 build/fuzz/demo.iso image
build/fuzz/bench/compose_persistence build/fuzz/volume.img 16M >/dev/null
seed 1 build/fuzz/volume.img ext4
seed 3 build/fuzz/demo.iso table
printf 'menuentry "x" {\n linux /k boot=live\n}\n' > build/fuzz/menu && seed 4 build/fuzz/menu grub
printf 'set a=b; if x; then set b=$a; fi # c\nsubmenu "s" { menuentry "x" --id i { linux /k-${a} boot=live \\\n $b; initrd /i } }\n' > build/fuzz/menu && seed 4 build/fuzz/menu loose
printf 'label x\n kernel /k\n append boot=live\n' > build/fuzz/menu && seed 4 build/fuzz/menu syslinux
rm -rf build/fuzz/b && build/fuzz/satchel bench setup demo/gannet-point.bench.json --bench build/fuzz/b >/dev/null
build/fuzz/satchel plan --bench build/fuzz/b --image build/fuzz/demo.iso --drive "Gorse 32" --json > build/fuzz/plan.json
seed 5 build/fuzz/plan.json plan
build/fuzz/satchel plan --bench build/fuzz/b --image build/fuzz/demo.iso --arrangement files --data 400M --swap 16M --save-request - > build/fuzz/doc && seed 23 build/fuzz/doc request
printf '{"format": "wild-satchel-request", "version": 3, "kind": "blank", "image": {"path": "", "size_bytes": 0, "sha256": "", "touched_at": 0, "is_drive": false, "of_files": false}, "overlay": {"path": "", "size_bytes": 0, "sha256": "", "touched_at": 0, "is_drive": false, "of_files": false}, "volumes": [{"role": "data", "size": "rest", "format": "exfat", "cluster_bytes": 0, "label": "hut", "place": "usual", "locked": false, "grows": false}], "start": {"table": "usual", "uefi_code": "auto", "check": "off", "kernel_options": "", "journal": false, "menu_seconds": 5}, "edition": "", "additions": [{"what": "keys", "to": "tide", "runs": false, "file": {"path": "k", "size_bytes": 0, "sha256": "", "pieces_sha256": "", "outline": "", "touched_at": 0, "is_drive": false, "of_files": false}}], "keep": [], "twin": {"leave_out": ["caches"], "refresh": false, "same_identity": false, "new_host": false}, "rules": {"label": "", "rename": [], "copy": [], "leave_out": [], "add": [], "autorun": {}}, "family": ""}' > build/fuzz/doc && seed 23 build/fuzz/doc blank
seed 25 build/fuzz/volume.img over
for made in "ext4 -b 1024" ext2 "ext4 -O ^flex_bg" "ext4 -O inline_data,ea_inode,^metadata_csum -I 512"; do # as others make it
    rm -f build/fuzz/made.img && truncate -s 16M build/fuzz/made.img && mke2fs -q -F -t $made -L persistence -d tests/fuzz build/fuzz/made.img && seed 25 build/fuzz/made.img "over-$(echo "$made" | tr -d ' ^-')"
done
python3 - > build/fuzz/doc <<'PY'
import struct, sys
rows = [(0, 512), (65536, 1024)]
head = b"wild satchel change log 1\n".ljust(32, b"\0") + struct.pack("<QQ", len(rows), 1536) + bytes(16) + b"".join(struct.pack("<QQ", *r) for r in rows)
sys.stdout.buffer.write(head.ljust(4096, b"\0") + bytes(4096))
PY
seed 26 build/fuzz/doc change
{ for f in 'root:x:0:0::/root:/bin/sh
tide:x:1000:1000::/home/x:/bin/zsh' 'root:x:0:
sudo:x:27:tide
tide:x:1000:' 'tide:$6$x:1::::::' 'sudo:*::tide' 'Package: x
Status: install ok installed
Conffiles:
 /etc/inittab 00000000000000000000000000000000' 'Package: x
Auto-Installed: 1' '/etc/passwd' 'F:etc
R:passwd' 'x' '%NAME%
x' '%BACKUP%
etc/inittab	00000000000000000000000000000000' 'options root=x ro quiet
wait 3' '1:2345:respawn:/sbin/agetty --autologin tide tty1'; do printf '%-120s' "$f"; done; } > build/fuzz/half && cat build/fuzz/half build/fuzz/half > build/fuzz/doc && seed 27 build/fuzz/doc carry
seed 6 demo/gannet-point.bench.json bench
for packer in gzip xz zstd; do head -c 200000 demo/demo_image.c | $packer -c > build/fuzz/packed && seed 7 build/fuzz/packed $packer; done
(cd demo && ls | bsdcpio -o -H newc --quiet > ../build/fuzz/cpio) && seed 24 build/fuzz/cpio cpio
for packer in gzip xz zstd; do { cat build/fuzz/cpio; $packer -c build/fuzz/cpio; } | tail -c 300000 > build/fuzz/packed && seed 24 build/fuzz/packed cpio-$packer; done
(cd demo && zip -q ../build/fuzz/packed.zip *.c && tar cf ../build/fuzz/packed.tar *.c)
seed 7 build/fuzz/packed.zip zip
seed 7 build/fuzz/packed.tar tar
rm -f build/fuzz/root.sqfs && gensquashfs -q -D demo build/fuzz/root.sqfs && seed 8 build/fuzz/root.sqfs squashfs
printf 'SHA256 (curlew.iso) = %064d\n%032d *curlew.iso\n' 1 2 > build/fuzz/list && seed 9 build/fuzz/list list
rm -f build/fuzz/x.img && truncate -s 64M build/fuzz/x.img
build/fuzz/satchel drives build/fuzz/x.img --blank --system exfat --confirm "$(build/fuzz/satchel drives build/fuzz/x.img --json | sed -n 's/^ *"name": "\([^"]*\)".*/\1/p')" >/dev/null 2>&1
tail -c +1048577 build/fuzz/x.img > build/fuzz/x.vol && seed 10 build/fuzz/x.vol exfat
# one that begins close to its front, and has files
rm -rf build/fuzz/x.new build/fuzz/x.place && mkdir build/fuzz/x.place && truncate -s 8M build/fuzz/x.new && mkfs.exfat -b 64K -c 4K build/fuzz/x.new >/dev/null
if mount.exfat-fuse build/fuzz/x.new build/fuzz/x.place >/dev/null 2>&1; then cp -r demo tests/fuzz build/fuzz/x.place; umount build/fuzz/x.place; fi
seed 10 build/fuzz/x.new exfat-files
for fs in fat ext4 inside; do build/fuzz/tests/start_seed $fs build/fuzz/start.img && seed 11 build/fuzz/start.img start-$fs; done
printf 'set a="quiet"\nmenuentry "x" --id y {\n linux ($root)/live/vmlinuz boot=live ${a} $b\n initrd /live/initrd.img\n}\n' > build/fuzz/menu && seed 12 build/fuzz/menu entries
printf 'label x\n kernel /live/vmlinuz\n append initrd=/live/initrd.img boot=live\n' > build/fuzz/menu && seed 12 build/fuzz/menu labels
printf '{"format": "wild-satchel-rules", "version": 1, "label": "GANNET", "rename": [{"from": "a", "to": "b"}], "add": [{"path": "m", "text": "hut"}]}' > build/fuzz/doc && seed 13 build/fuzz/doc rules
sed -n '/^```json/,/^```/p' docs/family-format.md | sed '1d;$d' > build/fuzz/doc && seed 14 build/fuzz/doc family
build/fuzz/satchel drives --bench build/fuzz/b "$(build/fuzz/satchel drives --bench build/fuzz/b --json | sed -n 's/^ *"name": "\(teasel[^"]*\)".*/\1/p')" --test read --json > build/fuzz/doc && seed 15 build/fuzz/doc trial
printf 'WILD SATCHEL: this build is not finished.\nbuild %064d\nflushed 1\nend 2\ncheck 00000000\n' 1 > build/fuzz/doc && seed 16 build/fuzz/doc mark
bsdtar -xOf build/fuzz/demo.iso boot/grub/efi.img > build/fuzz/esp && seed 2 build/fuzz/esp fat && seed 20 build/fuzz/esp fat-edit && seed 18 build/fuzz/esp contents
python3 -c 'import sys; b = open("build/fuzz/esp", "rb").read(); i = b.index(b"MZ"); sys.stdout.buffer.write(b[i:i + 1536])' > build/fuzz/doc && seed 17 build/fuzz/doc loader
seed 19 build/fuzz/demo.iso memory
seed 21 build/fuzz/volume.img journal
printf 'g\033[2J\302\233\342\200\256' > build/fuzz/doc && seed 22 build/fuzz/doc shown
printf '%s' '{"keyslots": {"0": {"type": "luks2", "key_size": 64, "af": {"type": "luks1", "stripes": 400, "hash": "sha256"}, "area": {"type": "raw", "offset": "32768", "size": "258048", "encryption": "aes-xts-plain64", "key_size": 64}, "kdf": {"type": "pbkdf2", "hash": "sha512", "iterations": 10, "salt": "AAECAwQFBgcICQoLDA0ODw=="}}}, "tokens": {}, "segments": {"0": {"type": "crypt", "offset": "294912", "size": "dynamic", "iv_tweak": "0", "encryption": "aes-xts-plain64", "sector_size": 512}}, "digests": {"0": {"type": "pbkdf2", "keyslots": ["0"], "segments": ["0"], "hash": "sha256", "iterations": 10, "salt": "AAECAwQFBgcICQoLDA0ODw==", "digest": "AAECAwQFBgcICQoLDA0ODw=="}}, "config": {"json_size": "12288", "keyslots_size": "262144"}}' > build/fuzz/doc && seed 28 build/fuzz/doc lock
rm -f build/fuzz/y.img && build/fuzz/satchel plan --image build/fuzz/demo.iso --drive build/fuzz/y.img --make 300M --kind system --grow --table gpt --save build/fuzz/y.plan --over >/dev/null && build/fuzz/satchel build build/fuzz/y.plan --confirm "$(build/fuzz/satchel drives build/fuzz/y.img --json | sed -n 's/^ *"name": "\([^"]*\)".*/\1/p')" >/dev/null 2>&1 && seed 29 build/fuzz/y.img grow
seed 29 build/fuzz/demo.iso grow-mbr
rm -f build/fuzz/d.* && truncate -s 3M build/fuzz/d.raw && head -c 50000 demo/demo_image.c | dd of=build/fuzz/d.raw conv=notrunc bs=4096 seek=20 2>/dev/null
for kind in qcow2:compat=1.1 qcow2:compat=0.10,cluster_size=512 qcow2:extended_l2=on,cluster_size=16k vpc:subformat=dynamic vhdx:block_size=1M vmdk:subformat=monolithicSparse vmdk:subformat=streamOptimized; do
    qemu-img convert -O "${kind%%:*}" -o "${kind#*:}" build/fuzz/d.raw build/fuzz/d.out && { printf '\036'; head -c 6000000 build/fuzz/d.out; } > "$seeds/container-$(echo "$kind" | tr ':,=' '---')"
done
qemu-img create -q -f qcow2 -b d.raw -F raw build/fuzz/d.base && seed 30 build/fuzz/d.base container-base
for end in qcow2 vmdk; do build/fuzz/satchel plan --image build/fuzz/demo.iso --kind replica --drive "build/fuzz/d.$end" --make 2M --save - >/dev/null 2>&1 || :; [ ! -f "build/fuzz/d.$end" ] || seed 30 "build/fuzz/d.$end" "container-own-$end"; done
genisoimage -quiet -udf -R -o build/fuzz/d.udf demo && { printf '\037'; head -c 900000 build/fuzz/d.udf; } > "$seeds/udf"
mkudffs -m cdrw -r 2.01 -n build/fuzz/d.cdrw 1000 >/dev/null 2>&1 || { truncate -s 1M build/fuzz/d.cdrw && mkudffs -m cdrw -r 2.01 build/fuzz/d.cdrw >/dev/null 2>&1 || :; }
[ ! -s build/fuzz/d.cdrw ] || seed 31 build/fuzz/d.cdrw udf-sparable
build/fuzz/tests/start_seed ext4 build/fuzz/start.img && { printf '\040'; head -c 900000 build/fuzz/start.img; } > "$seeds/original"
rm -f build/fuzz/u.* && truncate -s 32M build/fuzz/u.ntfs build/fuzz/u.btrfs && mkntfs -q -F -c 512 -p 0 build/fuzz/u.ntfs >/dev/null 2>&1 && mkfs.btrfs -q -M build/fuzz/u.btrfs >/dev/null 2>&1
for kind in ntfs btrfs; do { printf '\041'; head -c 6000000 build/fuzz/u.$kind; } > "$seeds/used-$kind"; done
mkdir -p build/fuzz/kept/etc && echo tide >build/fuzz/kept/etc/motd && ln -f build/fuzz/kept/etc/motd build/fuzz/kept/etc/second
printf '{"format": "wild-satchel-kept", "version": 1, "family": "live-boot", "whole": false, "label": "persistence", "volume": "x", "saved_at": 1, "files": 2, "bytes": 5, "left_out": 0, "sha256": "%064d"}' 1 >build/fuzz/kept.json
bsdtar -cf build/fuzz/d.kept -C build/fuzz kept kept.json && seed 34 build/fuzz/d.kept kept
rm -f build/fuzz/z.* && build/fuzz/satchel plan --image build/fuzz/demo.iso --drive build/fuzz/z.img --make 80M --save build/fuzz/z.plan >/dev/null && build/fuzz/satchel build build/fuzz/z.plan --confirm "$(build/fuzz/satchel drives build/fuzz/z.img --json | sed -n 's/^ *"name": "\([^"]*\)".*/\1/p')" >/dev/null 2>&1
build/fuzz/satchel prove build/fuzz/z.img --on own-pc --proof build/fuzz/z.proof >/dev/null && seed 35 build/fuzz/z.proof proof
printf 'd 755 0 0 4096 1.000000000 00000000 - /\nF 644 0 0 3 1.000000000 0000abcd %064d /a\\nb\n' 7 >build/fuzz/z.lines && seed 35 build/fuzz/z.lines proof-lines
seed 36 build/fuzz/volume.img rescue
seed 37 build/fuzz/esp cut-fat && seed 37 build/fuzz/x.vol cut-exfat && seed 37 build/fuzz/x.new cut-files
rm -f build/fuzz/w.* && build/fuzz/satchel plan --image build/fuzz/demo.iso --arrangement files --drive build/fuzz/w.img --make 400M --save build/fuzz/w.plan >/dev/null && build/fuzz/satchel build build/fuzz/w.plan --confirm "$(build/fuzz/satchel drives build/fuzz/w.img --json | sed -n 's/^ *"name": "\([^"]*\)".*/\1/p')" >/dev/null 2>&1
mcopy -n -o -i build/fuzz/w.img@@1M ::/loader/satchel.laid build/fuzz/doc && seed 38 build/fuzz/doc laid
unset ASAN_OPTIONS
exec build/fuzz/tests/fuzz -max_total_time="$seconds" -max_len=1000000 -rss_limit_mb=2048 -timeout=20 -print_final_stats=1 "$seeds"
