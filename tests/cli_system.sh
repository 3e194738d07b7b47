#!/bin/sh
# Full systems by the command-line tool: sized, planned, built, made their owner's, locked, renewed.
#   cli_system.sh SATCHEL DEMO_IMAGE BENCHFILE
. "$(dirname "$0")/cli_common.sh"
expect 0 "5 drives" "$satchel" bench setup "$benchfile" --bench b
gorse=$(name_of "Gorse 32")
head -c 300000 /dev/urandom > noise.iso

# A full system, from the live image, and from a root's folder, archive and squashfs: kept as it was, at home on its drive
expect 0 "full system" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --kind system --swap 64M --data 1G --save sys.plan
follows plan cat sys.plan
keeps sys.plan hut launch
expect 0 "full system" "$satchel" drives "$gorse" --bench b
expect 0 "say so (--external-disk)" "$satchel" drives "Fulmar 500" --bench b
expect 0 "exactly" "$satchel" check "$gorse" --record sys.plan.built --used --bench b
mkdir -p huts/etc huts/bin huts/boot huts/dev && python3 - <<'PY'
open("huts/bin/sh", "wb").write(b"\x7fELF\x02\x01\x01" + bytes(9) + b"\x03\x00\x3e\x00" + bytes(80))
open("huts/boot/vmlinuz-6.1-hut", "wb").write(bytes(0x202) + b"HdrS" + bytes(3000))
open("huts/boot/initrd.img-6.1-hut", "wb").write(b"x" * 5000)
PY
printf 'PRETTY_NAME="Hut System 3"\nID=hut\n' > huts/etc/os-release
echo hut > huts/etc/hostname && ln huts/etc/hostname huts/etc/name && ln -s hostname huts/etc/link
chmod 4755 huts/bin/sh && chown 17:18 huts/etc/hostname && mknod huts/dev/null c 1 3
tar -cf huts.tar -C huts . && tar -czf huts.tar.gz -C huts . && gensquashfs -q -D huts huts.squashfs
for root in huts huts.squashfs huts.tar huts.tar.gz; do expect 0 "Hut System 3, x86-64" "$satchel" image $root; done
follows output "$satchel" image huts.squashfs --json
json '[k["version"] for k in d["system"]["kernels"]] == ["6.1-hut"]' "$satchel" image huts.squashfs --json
expect 0 "full system: satchel plan --kind system" "$satchel" image huts.squashfs
cp "b/$gorse.drive" lost.drive && python3 - <<'PY' # the root's identifier is another one: it is no drive to hand over
import json
at = [v for v in json.load(open("sys.plan"))["result"]["volumes"] if v["role"] == "system"][0]["at_bytes"]
with open("lost.drive", "r+b") as d:
    d.seek(at + 1024 + 0x68)
    d.write(b"another")
PY
expect 1 "would not come up" "$satchel" check lost.drive
rm lost.drive
for root in huts huts.tar.gz huts.squashfs; do
    [ $root = huts.squashfs ] && links=1 || links=2 # what packed it keeps no second names
    rm -f root.img root.plan*
    expect 0 "Hut System 3" "$satchel" plan --image $root --drive root.img --make 300M --kind system --save root.plan
    name=$("$satchel" drives root.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')
    expect 0 "flushed and checked" "$satchel" build root.plan --confirm "$name"
    mkdir -p mounted && mount -o ro,loop,offset=68157440 root.img mounted || continue
    ok "owner, mode, names and devices stay" test "$(stat -c '%u:%g %h' mounted/etc/hostname)$(stat -c ' %a' mounted/bin/sh)$(stat -c ' %t:%T' mounted/dev/null)$(readlink mounted/etc/link)" = "17:18 $links 4755 1:3hostname"
    ok "its root is in fstab and in its menu" grep -q "$(sed -n 's/^UUID=\([^ ]*\) \/ .*/\1/p' mounted/etc/fstab) " mounted/boot/loader/entries/0001.conf
    umount mounted
done
expect 0 "are comfortable" "$satchel" size --kind system --image huts --drive "$gorse" --bench b
follows output "$satchel" size --kind system --image huts --memory 2G --json
json '[w["way"] for w in d["ways"]] == ["least", "comfortable"] and d["ways"][1]["free_bytes"] >= d["free_wanted_bytes"] and [s["size_bytes"] >> 20 for s in d["swap"]] == [0, 1024, 2253]' "$satchel" size --kind system --image huts --memory 2G --json
least=$("$satchel" size --kind system --image huts --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["ways"][0]["size_bytes"])')
expect 0 "full system" "$satchel" plan --bench b --image huts --drive "$gorse" --kind system --system "$least"
expect 4 "which needs" "$satchel" plan --bench b --image huts --drive "$gorse" --kind system --system $((least - 1048576))
expect 2 "takes live, system or twin" "$satchel" size --kind none --image huts
expect 2 "no effect without --kind system" "$satchel" size --image curlew.iso --memory 2G
expect 2 "not a size" "$satchel" size --kind system --image huts --memory much
expect 4 "noise.iso" "$satchel" size --kind system --image noise.iso
# One that takes the room of larger drives
expect 0 "growth: at each start" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --kind system --grow --data 1G --save grow.plan --save-request grow.request
json '[v["role"] for v in d["volumes"] if v["grows"]] == ["system"]' cat grow.request
json '[v["role"] for v in sorted(d["result"]["volumes"], key=lambda v: v["at_bytes"])] == ["start", "data", "system"]' cat grow.plan
follows plan cat grow.plan
follows request cat grow.request
expect 4 "without --grow" "$satchel" plan --bench b --image huts --drive "$gorse" --kind system --grow # nothing of it runs at a start
expect 2 "only a full system grows" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --grow
expect 2 "not in a file" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --kind system --in file --grow
# Kernels that come and go in the running system: the drive's own script makes the menu that the plan made
mkdir -p mounted top && if mount -o ro,loop,offset=68157440 root.img mounted; then
    cp -a mounted/boot mounted/etc mounted/usr top/ && umount mounted
    echo "tries 3" >>top/etc/start-entries.conf # this root has no service that could say that it is up
    menu() { for e in top/boot/loader/entries/*.conf; do sed -n 's/^linux *//p' "$e"; done | tr '\n' ' '; }
    for shell in sh bash "busybox sh"; do
        command -v ${shell%% *} >/dev/null || continue
        remade() { START_ENTRIES_TOP=$PWD/top $shell top/usr/local/sbin/start-entries "$@"; }
        rm -rf was && cp -a top/boot was
        ok "$shell: nothing came, nothing changes" sh -c 'START_ENTRIES_TOP=$PWD/top $0 top/usr/local/sbin/start-entries && diff -r was top/boot' $shell
        for v in 6.1-hut10 6.9 6.10; do cp top/boot/vmlinuz-6.1-hut top/boot/vmlinuz-$v; done
        echo x > top/boot/initrd.img-6.10 && echo x > top/boot/initrd.img-6.1-hut10 && : > "top/boot/vmlinuz-6.3 evil" && remade
        ok "$shell: the newest first, those without initial RAM disk wait" test "$(menu)" = "/boot/vmlinuz-6.10 /boot/vmlinuz-6.1-hut10 /boot/vmlinuz-6.1-hut /boot/vmlinuz-6.1-hut "
        echo "without 6.10" >>top/etc/start-entries.conf && touch -d 2001-01-01 top/boot/initrd.img-6.10 && remade
        ok "$shell: one without drivers stays out" test "$(menu)" = "/boot/vmlinuz-6.1-hut10 /boot/vmlinuz-6.1-hut /boot/vmlinuz-6.1-hut "
        touch -d 2099-01-01 top/boot/initrd.img-6.10 && remade
        ok "$shell: until its initial RAM disk is made anew" test "$(menu | cut -d' ' -f1)" = "/boot/vmlinuz-6.10"
        sed -i '/^without/d' top/etc/start-entries.conf
        remade without 6.10
        ok "$shell: one that is about to go is left out" test "$(menu)" = "/boot/vmlinuz-6.1-hut10 /boot/vmlinuz-6.1-hut /boot/vmlinuz-6.1-hut "
        rm top/boot/*6.10 top/boot/*6.1-hut10 top/boot/*6.9 "top/boot/vmlinuz-6.3 evil" && remade
        ok "$shell: as before" diff -r was top/boot
        # a kernel that came has tries, until it is up or the one before it is
        names() { (cd top/boot/loader/entries && echo *); }
        options() { sed -n 's/^options *//p' "top/boot/loader/entries/$1"; }
        cp top/boot/vmlinuz-6.1-hut top/boot/vmlinuz-6.9 && echo x >top/boot/initrd.img-6.9 && : >top/boot/loader/menu.cfg && remade
        ok "$shell: it has three tries, and starts anew when it comes to nothing" test "$(names) $(options 0001+3-0.conf | grep -o 'panic.*')" = \
            "0001+3-0.conf 0002.conf 0003.conf panic=10 rd.shell=0 rd.emergency=reboot start.entry=6.9"
        ok "$shell: a rescue is by the kernel that is known" grep -q "^linux      /boot/vmlinuz-6.1-hut$" top/boot/loader/entries/0003.conf
        ok "$shell: the other loader counts, too" test "$(wc -c <top/boot/loader/tries.env) $(sed -n 2p top/boot/loader/tries.env) $(grep -c 'save_env -f /boot/loader/tries.env left_0001$' top/boot/loader/menu.cfg)" = "1024 left_0001=3 1"
        grub-script-check top/boot/loader/menu.cfg || ok "$shell: it reads that menu" false
        mv top/boot/loader/entries/0001+3-0.conf top/boot/loader/entries/0001+1-2.conf && remade
        ok "$shell: what was tried stays counted" test "$(names)" = "0001+1-2.conf 0002.conf 0003.conf"
        sed -i 's/left_0001=./left_0001=0/' top/boot/loader/tries.env && remade
        ok "$shell: by whichever loader" test "$(names)" = "0001+0-3.conf 0002.conf 0003.conf"
        remade good 6.1-hut
        ok "$shell: another one's start does not make it good" test "$(names)" = "0001+0-3.conf 0002.conf 0003.conf"
        touch -d 2099-01-01 top/boot/initrd.img-6.9 && remade
        ok "$shell: made anew, it is tried anew" test "$(names)" = "0001+3-0.conf 0002.conf 0003.conf"
        cp top/boot/vmlinuz-6.1-hut top/boot/vmlinuz-6.10 && echo x >top/boot/initrd.img-6.10 && remade
        ok "$shell: so is each that comes" test "$(names)" = "0001+3-0.conf 0002+3-0.conf 0003.conf 0004.conf"
        rm top/boot/*6.10 && remade good 6.9
        ok "$shell: once up it is good" test "$(names) $(options 0001.conf | grep -c panic) $(ls top/boot/loader)" = "0001.conf 0002.conf 0003.conf 0 entries
menu.cfg
satchel.conf"
        rm top/boot/*6.9 top/boot/loader/menu.cfg && remade
        ok "$shell: as before" diff -r was top/boot
        mv top/boot/vmlinuz-6.1-hut was/ && remade
        ok "$shell: without a kernel the menu stays" test "$(menu)" = "/boot/vmlinuz-6.1-hut /boot/vmlinuz-6.1-hut "
        mv was/vmlinuz-6.1-hut top/boot/
    done
fi

# In one file of an ordinary volume: what the plan put there for each kernel is what the script makes
for on in exfat fat32; do
    rm -rf in.img in.plan* top
    expect 0 "place: in one file" "$satchel" plan --image curlew.iso --drive in.img --make 700M --kind system --in file --system 200M --data-on $on --save in.plan
    follows plan cat in.plan
    expect 0 "flushed and checked" "$satchel" build in.plan --confirm "$("$satchel" drives in.img --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])')"
    expect 0 "in a file" "$satchel" drives in.img
    expect 0 "exactly what was meant" "$satchel" check in.img --plan in.plan
    at=$(python3 -c 'import json; print([v for v in json.load(open("in.plan"))["result"]["volumes"] if v["role"] == "system"][0]["at_bytes"])')
    [ $on = exfat ] && mkdir -p mounted top && mount -o ro,loop,offset="$at" in.img mounted || continue
    cp -a mounted/boot mounted/etc mounted/usr mounted/lib top/ && umount mounted
    ok "$on: the volume around it is in fstab, and what protects the file" grep -qx "/boot/loader/system-in-use /media/drive/system.ext4 none bind,nofail 0 0" top/etc/fstab
    for shell in sh bash "busybox sh"; do
        command -v ${shell%% *} >/dev/null || continue
        remade() { START_ENTRIES_TOP=$PWD/top $shell top/usr/local/sbin/start-entries "$@"; }
        rm -rf was && cp -a top/boot was && rm top/boot/start-inside-live.img && remade
        ok "$shell: it makes the same initial RAM disk" cmp was/start-inside-live.img top/boot/start-inside-live.img
        ok "$shell: and nothing else has changed" diff -r was top/boot
        for v in 1.1:xz 1.2:zstd 1.3:gzip 1.4:cat 1.5:; do
            how=${v#*:} v=${v%%:*}
            cp top/boot/vmlinuz-live top/boot/vmlinuz-$v && cp top/boot/initrd.img-live top/boot/initrd.img-$v && mkdir -p top/lib/modules/$v/kernel/drivers/block
            case $how in xz) end=.xz ;; zstd) end=.zst ;; gzip) end=.gz ;; *) end= ;; esac
            [ -z "$how" ] || $how <top/lib/modules/live/kernel/drivers/block/loop.ko >top/lib/modules/$v/kernel/drivers/block/loop.ko$end
        done
        remade 2>said
        ok "$shell: a kernel without the driver is left out, and that is said" grep -q "kernel 1.5 is left out" said
        for v in 1.1 1.2 1.3 1.4; do cmp was/start-inside-live.img top/boot/start-inside-$v.img || echo $v; done >differ 2>&1
        ok "$shell: drivers are unpacked, whatever they are packed with" test ! -s differ
        ok "$shell: all are in the menu" test "$(grep -h '^initrd' top/boot/loader/entries/*.conf | grep -c start-inside)$(ls top/boot/start-inside-1.5.img 2>/dev/null)" = 6
        rm -r top/boot/*-1.[1-5] top/lib/modules/1.* && remade
        ok "$shell: of kernels that went nothing is left" diff -r was top/boot
    done
done

# A live stick itself as the source, of either arrangement: what it remembers meanwhile is no part of it
for how in whole files; do
    rm -f stick.img stick.plan* own.img own.plan*
    "$satchel" plan --image curlew.iso --drive stick.img --make 700M --arrangement $how --persistence 200M --save stick.plan >/dev/null
    its_name() { "$satchel" drives "$1" --json | python3 -c 'import json, sys; print(json.load(sys.stdin)["drives"][0]["name"])'; }
    "$satchel" build stick.plan --confirm "$(its_name stick.img)" >/dev/null 2>&1
    expect 0 "the root file system inside the live image" "$satchel" plan --image stick.img --kind system --drive own.img --make 500M --save own.plan
    at=$(python3 -c 'import json; print([v for v in json.load(open("stick.plan"))["result"]["volumes"] if v["role"] == "persistence"][0]["at_bytes"] + 9000000)')
    printf 'high water' | dd of=stick.img bs=1 seek="$at" conv=notrunc status=none
    expect 0 "flushed and checked" "$satchel" build own.plan --confirm "$(its_name own.img)"
    rm -f self.plan && "$satchel" plan --image stick.img --kind system --drive stick.img --save self.plan >/dev/null
    expect 3 "stick.img" "$satchel" build self.plan --confirm "$(its_name stick.img)"
done
# Made its owner's: names and words are checked before anything is, passwords are in no document and no message
own="$satchel plan --bench b --image curlew.iso --drive $gorse --kind system"
expect 0 "account: tide - may administer, logged in automatically" $own --administrator "tide:Tide survey" --account guest --host-name hut-3 \
    --keyboard de --language C.UTF-8 --time-zone Atlantic/Faroe --clock local --login automatic --internal-disks listed --save own.plan
follows plan cat own.plan
expect 0 "account: tide" $own --account tide --save-request own.request
follows request cat own.request
expect 0 "its password is asked for when it is built" "$satchel" plan --request own.request --bench b --drive "$gorse"
expect 2 '"tide" needs a password' "$satchel" build own.plan --confirm "$gorse" --bench b
printf 'gull 7 over\n' > one && printf 'gull 7 over\r\nbar 9\n' > two && printf 'gull 7\n\n' > empty
expect 2 "only 1 came" "$satchel" build own.plan --confirm "$gorse" --bench b --password-fd 3 3<one
expect 2 "a password is empty" "$satchel" build own.plan --confirm "$gorse" --bench b --password-fd 3 3<empty
expect 4 "cannot be read" "$satchel" build own.plan --confirm "$gorse" --bench b --password-fd 9
expect 2 "the number of an open file" "$satchel" build own.plan --confirm "$gorse" --bench b --password-fd "gull 7 over"
expect 2 "no account and no lock" "$satchel" build sys.plan --confirm "$gorse" --bench b --password-fd 3 3<one
expect 0 "flushed and checked" "$satchel" build own.plan --confirm "$gorse" --bench b --password-fd 3 3<two
expect 0 "exactly what was meant" "$satchel" check "$gorse" --plan own.plan --bench b
ok "no document holds a password or a hash" sh -c '! grep -lE "gull 7 over|bar 9|[$](6|y)[$]" own.plan own.plan.built own.request b/bench.json'
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on launch --bench b
mkdir -p mounted && if mount -o ro,loop,offset=68157440 "b/$gorse.drive" mounted; then
    ok "the drive holds the passwords' hashes" python3 -W ignore - <<'PY'
import crypt
hashes = dict(l.split(":")[:2] for l in open("mounted/etc/shadow"))
assert all(crypt.crypt(p, hashes[n]) == hashes[n] for n, p in (("tide", "gull 7 over"), ("guest", "bar 9")))
PY
    ok "its accounts are sound" sh -c 'grpck -q -r -R "$PWD/mounted" && pwck -q -r -R "$PWD/mounted"'
    umount mounted
fi
expect 0 "writes: few" $own --writes few --save few.plan --over
follows plan cat few.plan
expect 0 "flushed and checked" "$satchel" build few.plan --confirm "$gorse" --bench b
if mount -o ro,loop,offset=68157440 "b/$gorse.drive" mounted; then
    ok "few writes: once a minute, and /tmp in memory" sh -c 'grep -q "noatime,commit=60," mounted/etc/fstab && grep -q "^tmpfs /tmp " mounted/etc/fstab'
    umount mounted
fi
expect 2 "takes usual or few" $own --writes none
expect 2 "is no host name" $own --host-name hut_3
expect 2 "is no account" $own --account Tide
expect 2 "account of the system itself" $own --account daemon
expect 2 "asked for twice" $own --account tide --administrator tide
expect 2 "--account NAME" $own --login automatic
expect 2 "knows no time zone" $own --time-zone Atlantic/Nowhere
expect 2 "takes hidden, listed or open" $own --internal-disks closed
expect 2 "takes utc or local" $own --clock wall
expect 2 "go with a full system" "$satchel" plan --image curlew.iso --drive "$gorse" --bench b --account tide
# Files of the user's own: each where it belongs, known by its digest, in no document
mkdir -p mine/etc/tide mine/home/tide && echo low > mine/etc/tide/tables && echo mine > mine/home/tide/notes && echo high > motd
echo "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 tide@hut" > tide.pub && printf '#!/bin/sh\n' > set-up.sh && chmod 755 set-up.sh && tar -cf mine.tar -C mine etc
expect 0 "added: /etc/motd - put there: motd" $own --administrator tide --add motd:/etc/motd --add mine --add set-up.sh:/usr/local/bin/ \
    --add mine.tar:/opt/mine.tar --login-keys tide.pub --first-start set-up.sh --save add.plan --save-request add.request
follows plan cat add.plan
follows request cat add.request
expect 0 "added: tide - its public keys" "$satchel" plan --request add.request --bench b --drive "$gorse"
expect 0 "flushed and checked" "$satchel" build add.plan --confirm "$gorse" --bench b --password-fd 3 3<two
if mount -o ro,loop,offset=68157440 "b/$gorse.drive" mounted; then
    ok "they are there" test "$(cat mounted/etc/motd mounted/etc/tide/tables mounted/home/tide/notes | tr '\n' ' ')" = "high low mine "
    ok "and theirs" test "$(stat -c '%u %a' mounted/home/tide/notes mounted/home/tide/.ssh/authorized_keys mounted/usr/local/bin/set-up.sh mounted/opt/mine.tar | tr '\n' ' ')" = "$(stat -c '%u 644 %u 600' mounted/home/tide) 0 755 0 644 "
    ok "the first start runs the script" grep -q "^/etc/first-start/own-06 " mounted/etc/first-start/run
    umount mounted
fi
expect 0 "added: / - its files laid in there: mine.tar" $own --add mine.tar
sleep 0.01 && echo HIGH > motd
expect 4 "no longer the one that was planned" "$satchel" build add.plan --confirm "$gorse" --bench b --password-fd 3 3<two
expect 2 "is no place in a system" $own --add motd:etc/motd
expect 2 "made by the plan itself" $own --add motd:/etc/fstab
expect 4 "not there" $own --add nowhere:/etc/motd
expect 2 "where this file is to stand is not said" $own --add motd
expect 2 "no account \"guest\"" $own --account tide --login-keys tide.pub:guest
expect 2 "told by the name's ending" $own --network motd
expect 2 "go with a full system" "$satchel" plan --image curlew.iso --drive "$gorse" --bench b --add motd:/etc/motd
# Locked: a passphrase opens it, no document holds it, and who has no means to ask for it is refused
expect 4 "could not open a locked root" "$satchel" plan --bench b --image huts --drive "$gorse" --kind system --locked
mkdir -p disk/sbin disk/scripts && cp -r huts locked && for f in sbin/cryptsetup scripts/functions usb-storage.ko xhci-pci.ko sd_mod.ko ext4.ko dm-crypt.ko xts.ko; do echo x > disk/$f; done
(cd disk && find . | bsdcpio -o -H newc --quiet) > locked/boot/initrd.img-6.1-hut
lock="$satchel plan --bench b --image locked --drive $gorse --kind system --locked"
printf "root:x:0:0:root:/root:/bin/sh\n" > locked/etc/passwd && printf "root:*:1::::::\n" > locked/etc/shadow && printf "root:x:0:\n" > locked/etc/group
expect 0 "locked: LUKS2, AES-XTS" $lock --administrator tide --data 1G --save lock.plan --save-request lock.request
follows plan cat lock.plan
follows request cat lock.request
$lock --save nobody.plan >/dev/null # without an account
printf 'gull 7 over\nfulmar over the bar\n' > both && printf 'gull 7 over\nshort\n' > few
expect 2 "only 0 came" "$satchel" build lock.plan --confirm "$gorse" --bench b --password-fd 3 3</dev/null
expect 2 "only 1 came" "$satchel" build lock.plan --confirm "$gorse" --bench b --password-fd 3 3<one
expect 2 "shorter than 8" "$satchel" build lock.plan --confirm "$gorse" --bench b --password-fd 3 3<few
expect 2 "needs a passphrase" "$satchel" build nobody.plan --confirm "$gorse" --bench b --recovery-fd 4 4>recovery
ok "there is no recovery key without a passphrase" test ! -s recovery
ok "asked for on a terminal, unseen, twice; the recovery key is shown once, and opens it" python3 - "$satchel" "$gorse" <<'PY'
import json, os, pty, re, subprocess, sys
satchel, drive = sys.argv[1:]
pid, fd = pty.fork()
if pid == 0:
    os.execv(satchel, [satchel, "build", "nobody.plan", "--bench", "b", "--confirm", drive])
said = b""
def until(words):
    global said
    while words not in said:
        said += os.read(fd, 4096)
for words, answer in ((b"opens the drive: ", b"fulmar over the bar"), (b"same again: ", b"fulmar over the hill"), (b"not the same", b""),
                      (b"opens the drive: ", b"fulmar over the bar"), (b"same again: ", b"fulmar over the bar")):
    until(words)
    said = said.split(words, 1)[1] if answer else said
    answer and os.write(fd, answer + b"\n")
try:
    while got := os.read(fd, 4096):
        said += got
except OSError:
    pass
assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 0, said
assert b"fulmar" not in said and b"asks for its passphrase" in said, said
key = re.search(rb"Recovery key  ((?:[a-z]{4} ){9}[a-z]{4})", said).group(1)
at = [v for v in json.load(open("nobody.plan"))["result"]["volumes"] if v["role"] == "system"][0]["at_bytes"]
with open(f"b/{drive}.drive", "rb") as d, open("lock.part", "wb") as out:
    d.seek(at)
    out.write(d.read(24 << 20))
for secret in (key, b"fulmar over the bar"):
    subprocess.run(["cryptsetup", "open", "--test-passphrase", "--key-file", "-", "lock.part"], input=secret, check=True)
PY
expect 0 "Recovery key  none" "$satchel" build lock.plan --confirm "$gorse" --bench b --password-fd 3 3<both
expect 0 "flushed and checked" "$satchel" build lock.plan --confirm "$gorse" --bench b --password-fd 3 --recovery-fd 4 3<both 4>recovery
expect 0 "it is locked" "$satchel" check "$gorse" --bench b
expect 0 "not held against the plan" "$satchel" check "$gorse" --plan lock.plan --bench b
expect 0 "exactly" "$satchel" check "$gorse" --record lock.plan.built --bench b
expect 2 "Passphrase that opens the drive" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b
at=$(python3 -c 'import json; print([v for v in json.load(open("lock.plan"))["result"]["volumes"] if v["role"] == "system"][0]["at_bytes"] // 1048576)')
"$here/stored.py" cut "b/$gorse.drive" $at lock.part
opens() { printf %s "$1" | cryptsetup open --test-passphrase --key-file - lock.part 2>/dev/null; }
ok "passphrase and recovery key open it" sh -c ":" && opens "fulmar over the bar" && opens "$(cat recovery)" || ok "both secrets open it" false
ok "a wrong one does not" sh -c ':' && ! opens "fulmar over the ba" || ok "a wrong one does not" false
ok "no document and no clear byte of the drive holds a secret" sh -c '! "$1/stored.py" has "fulmar over" "gull 7 over" "$(cat recovery)" -- lock.plan lock.plan.built lock.request b/bench.json "$0"' "b/$gorse.drive" "$here"
ok "what is inside is not to be read" sh -c '! "$0/stored.py" has "Hut System 3\"" -- lock.part' "$here"
rm lock.part
echo "fulmar over the bar" > pass && echo "fulmar over the hill" > other
expect 2 "does not open" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b --password-fd 3 3<other
expect 2 "nothing takes a password" "$satchel" prove "Teasel 8" --confirm "$(name_of "Teasel 8")" --on hut --bench b --password-fd 3 3<other
# And renewed behind its lock
cp -r locked locked13 && printf 'PRETTY_NAME="Hut System 13"\nID=hut\nVERSION_ID=13\n' > locked13/etc/os-release
again="$satchel plan --bench b --image locked13 --drive $gorse --kind renewal"
expect 2 "Passphrase that opens the drive" $again
expect 2 "does not open" $again --password-fd 3 3<other
expect 0 "locked: as it is" $again --password-fd 3 --save again.plan 3<pass
follows plan cat again.plan
expect 2 "Passphrase that opens the drive" "$satchel" build again.plan --confirm "$gorse" --bench b
expect 0 "flushed and checked" "$satchel" build again.plan --confirm "$gorse" --bench b --password-fd 3 3<pass
"$here/stored.py" cut "b/$gorse.drive" $at lock.part
ok "passphrase and recovery key still open it" sh -c ":" && opens "fulmar over the bar" && opens "$(cat recovery)" || ok "both secrets still open it" false
rm lock.part
expect 4 "was used since" "$satchel" build again.plan --confirm "$gorse" --bench b --password-fd 3 3<pass
expect 2 "only a renewal takes" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --kind system --password-fd 3 3<pass
expect 2 "keep what was in memory" $lock --swap 64M
expect 2 "is locked" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --kind replica --locked
# What a live system remembers, locked
rm -f live.plan* && expect 0 "locked: LUKS2, AES-XTS" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --locked --persistence 100M --save live.plan --save-request live.request
follows plan cat live.plan
expect 2 "not in a file" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --arrangement files --in file --locked
expect 2 "keep what was in memory" "$satchel" plan --bench b --image curlew.iso --drive "$gorse" --locked --swap 64M
expect 2 "needs a passphrase" "$satchel" build live.plan --confirm "$gorse" --bench b
echo "gull over the bar" > whole
expect 0 "asks for its passphrase" "$satchel" build live.plan --confirm "$gorse" --bench b --password-fd 3 3<whole
expect 0 "with persistence (live-boot)" "$satchel" drives "$gorse" --bench b
expect 0 "nobody types it" "$satchel" bench start hut "$gorse" --bench b
expect 0 "exactly" "$satchel" check "$gorse" --record live.plan.built --bench b
expect 2 "Passphrase that opens the drive" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b
ok "no secret stands in a document" sh -c '! "$1/stored.py" has "gull over" -- live.plan live.plan.built live.request "b/$0.drive"' "$gorse" "$here"
expect 2 "locks nothing" "$satchel" build sys.plan --confirm "$gorse" --bench b --recovery-fd 4 4>/dev/null
# An image with several editions, in layers
mkdir -p ed/casper ed/boot/grub top2/etc && printf 'PRETTY_NAME="Hut Desk 3"\n' > top2/etc/os-release
gensquashfs -q -D huts ed/casper/minimal.squashfs && gensquashfs -q -D top2 ed/casper/minimal.desk.squashfs
cp huts/boot/vmlinuz-6.1-hut ed/casper/vmlinuz && cp huts/boot/initrd.img-6.1-hut ed/casper/initrd
printf 'menuentry "Hut" {\n linux /casper/vmlinuz boot=casper\n initrd /casper/initrd\n}\n' > ed/boot/grub/grub.cfg
printf -- '- default: true\n  id: small\n  name:\n    en: Hut small\n  path: minimal.squashfs\n- id: desk\n  path: minimal.desk.squashfs\n' > ed/casper/install-sources.yaml
xorriso -as mkisofs -quiet -R -J -V HUT -o ed.iso ed >/dev/null 2>&1
expect 0 "small: Hut small" "$satchel" image ed.iso
follows output "$satchel" image ed.iso --json
json '[(e["id"], e["usual"], e["layers"]) for e in d["editions"]] == [("small", True, 1), ("desk", False, 2)]' "$satchel" image ed.iso --json
expect 0 "edition: small - Hut small, the image's usual one" "$satchel" plan --bench b --image ed.iso --drive "$gorse" --kind system
expect 0 "Hut Desk 3 on" "$satchel" plan --bench b --image ed.iso --drive "$gorse" --kind system --edition desk --save ed.plan
keeps ed.plan hut
expect 2 "it has: small, desk" "$satchel" plan --bench b --image ed.iso --drive "$gorse" --kind system --edition tiny
expect 2 "go with a full system" "$satchel" plan --bench b --image ed.iso --drive "$gorse" --kind replica --edition desk
# Its own signed loaders, where Secure Boot is on
mkdir -p huts/usr/lib/shim huts/usr/lib/grub/x86_64-efi-signed huts/usr/local && python3 - <<'PY'
import struct
def program(holds, prefix, kernel=b""):
    b = bytearray(4096)
    b[:2], b[0x3c:0x40], b[0x80:0x84] = b"MZ", struct.pack("<I", 0x80), b"PE\0\0"
    struct.pack_into("<HH", b, 0x84, 0x8664, 1), struct.pack_into("<H", b, 0x94, 240), struct.pack_into("<H", b, 0x98, 0x20b)
    struct.pack_into("<II", b, 0x98 + 144, 3584, 512)
    b[0x188:0x18c] = b"mods"
    struct.pack_into("<II", b, 0x188 + 16, 512, 1024)
    struct.pack_into("<IIQQII", b, 1024, 0x676d696d, 0, 24, 24 + 9 + len(prefix), 3, 9 + len(prefix))
    b[1056:1056 + len(prefix)] = prefix
    b[2048:2048 + 2 * len(holds)] = holds.encode("utf-16-le")
    b[0x202:0x202 + len(kernel)] = kernel
    return bytes(b)
open("huts/usr/lib/shim/shimx64.efi.signed", "wb").write(program("grubx64.efi", b""))
open("huts/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "wb").write(program("", b"/EFI/hut"))
open("huts/boot/vmlinuz-6.1-hut", "wb").write(program("", b"", b"HdrS"))
PY
expect 0 "its kernel is signed, too" "$satchel" plan --bench b --image huts --drive "$gorse" --kind system --save chain.plan
"$satchel" build chain.plan --confirm "$gorse" --bench b >/dev/null 2>&1
for pc in office launch hut; do expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on $pc --bench b; done
expect 0 "not signed, and Secure Boot" "$satchel" plan --bench b --image huts --drive "$gorse" --kind system --uefi-code own --save chain.plan
expect 2 "is not arranged" "$satchel" plan --image curlew.iso --drive "$gorse" --bench b --kind system --arrangement files
expect 2 "no persistence" "$satchel" plan --image curlew.iso --drive "$gorse" --bench b --kind system --persistence 1G
expect 2 "go with a full system" "$satchel" plan --image curlew.iso --drive "$gorse" --bench b --kernel-options quiet
head -c 400 huts.squashfs > cut.squashfs; head -c 3000000 /dev/urandom > noise.img
expect 4 "root file system" "$satchel" plan --image noise.img --drive "$gorse" --bench b --kind system
expect 4 "satchel:" "$satchel" plan --image cut.squashfs --drive "$gorse" --bench b --kind system

# Renewed: a newer root in the place of the one on the drive, whose owner's things stay; a plan says what becomes of what
"$demo_image" newer.iso newer
$own --administrator tide:Tide --host-name hut-7 --time-zone Atlantic/Faroe --save old.plan --over >/dev/null
printf 'over the bar\n' > pw
expect 0 "flushed and checked" sh -c '"$1" build old.plan --bench b --confirm "$2" --password-fd 3 3< pw' - "$satchel" "$gorse"
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b
renew="$satchel plan --bench b --image newer.iso --drive $gorse --kind renewal"
expect 2 "no place of a system" $renew --keep-path opt
expect 2 "no place of a system" $renew --keep-path /opt/../etc
expect 2 "leaves the drive" $renew --data 1G
expect 2 "leaves the drive" $renew --host-name hut-8
expect 2 "leaves the drive" $renew --table gpt
expect 2 "not arranged" $renew --arrangement files
expect 2 "places are kept by a renewal" $own --keep-path /opt
expect 4 "no system on this drive that could be renewed" "$satchel" plan --bench b --image newer.iso --drive "Sorrel 64" --kind renewal
expect 0 "/home/tide: its account's own files" $renew --save renewal.plan
expect 0 "/etc/hostname: host name" $renew
expect 0 "/root/added-packages" $renew
expect 0 "asked to be kept, and is not there" $renew --keep-path /opt/charts/
json '{r["fate"] for r in d["result"]["carried"]} >= {"kept", "replaced"} and len(d["result"]["was_sha256"]) == 64 and d["request"]["keep"] == []' cat renewal.plan
follows plan cat renewal.plan
$renew --keep-path /srv --save-request renewal.request >/dev/null
follows request cat renewal.request
expect 0 "Curlew Live 13" "$satchel" plan --bench b --request renewal.request --drive "$gorse"
expect 3 "was not given" "$satchel" build renewal.plan --bench b
# used in between, the drive is another one than the plan's
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on launch --bench b
expect 4 "was used since the plan was made" "$satchel" build renewal.plan --bench b --confirm "$gorse"
$renew --save renewal.plan >/dev/null
expect 4 "does not say that it is being changed" "$satchel" build --finish "$gorse" --bench b
expect 2 "takes a plan, or --finish" "$satchel" build --bench b
expect 2 "takes a plan, or --finish" "$satchel" build renewal.plan --finish "$gorse" --bench b
# its power cut at each write: as before, or to be finished; then it starts as one of the two
cp --sparse=always "b/$gorse.drive" kept.drive
cut=0 finished=0 undone=0
while [ $cut -lt 60 ]; do
    cut=$((cut < 6 ? cut + 2 : cut + 6))
    cp --sparse=always kept.drive "b/$gorse.drive"
    "$satchel" bench arm "$gorse" --cut-at-write $cut --bench b >/dev/null
    "$satchel" build renewal.plan --bench b --confirm "$gorse" > said 2>&1 && break
    "$satchel" bench plug "$gorse" --bench b >/dev/null 2>&1
    if "$satchel" drives "$gorse" --bench b | grep -q "renewal was cut"; then
        finished=$((finished + 1))
        [ $finished -gt 1 ] || {
            expect 1 "nothing is lost" "$satchel" check "$gorse" --bench b
            expect 3 "satchel build --finish DRIVE" $renew
            expect 1 "was being changed" "$satchel" bench start hut "$gorse" --bench b
            follows output sh -c 'cp --sparse=always "b/$2.drive" again.drive; "$1" build --finish "$2" --bench b --json; cp --sparse=always again.drive "b/$2.drive"' - "$satchel" "$gorse"
        }
        [ $finished -gt 1 ] || expect 3 "does not confirm" "$satchel" build --finish "Gorse 32" --bench b
        expect 0 "is finished" "$satchel" build --finish "$gorse" --bench b
        wanted="Curlew Live 13"
    else
        undone=$((undone + 1))
        wanted="Curlew Live 12"
    fi
    expect 0 "$wanted" "$satchel" bench start hut "$gorse" --bench b
done
ok "cuts of both kinds: $undone, $finished" [ $((undone && finished > 3)) -eq 1 ]
"$satchel" bench arm "$gorse" --cut-at-write 1000000 --bench b >/dev/null
expect 0 "It remembers" "$satchel" prove "$gorse" --confirm "$gorse" --on hut --bench b

echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ]
