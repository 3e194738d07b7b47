#!/usr/bin/env python3
"""A real distribution's root becomes a drive that starts to a login, is its owner's, and leaves the PC alone.

  full_system.py SATCHEL ROOT FIRMWARE[-locked|-file|-file32] [PACKAGE]
      ROOT: a folder or archive; FIRMWARE: bios, uefi or secure: with Secure Boot on, and whether a passphrase opens the
      drive, or the system is one file on exFAT or FAT32; PACKAGE: of another kernel

The account of the plan logs in on the serial console, makes three folders and a file, and administers; after a restart
(on the other firmware) all is there. A disk inside the PC, with a file system on it, is not mounted, cannot be written
even by the administrator, and is untouched to the last byte.
"""
import os, re, subprocess, sys, time

from emulated import *

root, firmware = os.path.abspath(sys.argv[2]), sys.argv[3]
package = os.path.abspath(sys.argv[4]) if len(sys.argv) > 4 else None
firmware, _, how = firmware.partition("-")
locked, in_file = how == "locked", how.startswith("file")

name = begin()
before = digest("internal.img")
plan = run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "stick.img", "--host-name", "hut-3",
          "--administrator", "tide:Tide survey", "--account", "guest", "--login", "automatic", "--time-zone", "Atlantic/Faroe", "--menu-wait", "1",
          "--kernel-options", "console=tty0 console=ttyS0,115200n8", "--save", "stick.plan", *{"": [], "locked": ["--locked"], "file": ["--in", "file"], "file32": ["--in", "file", "--data-on", "fat32"]}[how])
print(plan, flush=True)
read = given(PASSWORD, "another one", PASSPHRASE)
with open("recovery", "w") as recovery:
    run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read),
        *(["--recovery-fd", str(recovery.fileno())] if locked else []), pass_fds=[read, recovery.fileno()])
if locked:
    loop = attach(2)
    for secret, opens in ((PASSPHRASE, True), (open("recovery").read().strip(), True), (PASSWORD, False)):
        done = subprocess.run(["cryptsetup", "open", "--test-passphrase", "--key-file", "-", loop], input=secret, text=True, capture_output=True)
        check(f"a secret opens it or does not: {opens}", (done.returncode == 0) == opens, done.stderr)
    run("losetup", "-d", loop)
run(satchel, "check", "stick.img", "--plan", "stick.plan")
for path in ("stick.plan", "stick.plan.built"):
    text = open(path).read()
    check(f"no password in {path}", PASSWORD not in text and PASSPHRASE not in text and "$6$" not in text and "$y$" not in text)

if package:
    loop = attach()
    os.mkdir("root")
    run("mount", loop, "root")
    run("cp", package, "root/var/tmp/kernel.deb")
    run("umount", "root")
    run("losetup", "-d", loop)

secrets = (PASSWORD, PASSPHRASE, "/home/tide") if locked else (PASSWORD,)
found = subprocess.run(["grep", "-caF", *(w for s in secrets for w in ("-e", s)), "stick.img"], capture_output=True, text=True)
check("no secret stands on the drive in clear", found.stdout.strip() == "0", found.stdout)
started = time.time()
pc = PC(firmware, locked)
pc.log_in()
print(f"first start: at a login after {time.time() - started:.0f} s")
said = pc.ask("id; hostname; date +%Z; echo state:$(systemctl is-system-running --wait 2>/dev/null)", 400)
check("account, host name, time zone", "uid=1000(tide)" in said and "(sudo)" in said and "hut-3" in said and "WE" in said, said)
check("every service is up", "state:running" in said or "state:" not in said or "state:degraded" not in said, said + pc.ask("systemctl --failed --no-legend"))
said = pc.ask(f"echo '{PASSWORD}' | sudo -S sh -c 'id -u; ls /etc/ssh; test -e /etc/first-start/run && echo again; cat /etc/machine-id'")
check("it administers; keys were made, once", re.search(r"\b0\n[^$]*ssh_host_ed25519_key", said) and "again" not in said, said)
first_id = re.findall(r"\b[0-9a-f]{32}\b", said)
said = pc.ask("for n in 1 2 3 4 5 6 7 8 9 10; do ps -t tty1 -o user= | grep -q tide && break; sleep 3; done; ps -t tty1 -o user=,args=")
check("the first account is logged in on the screen", re.search(r"^tide .*sh", said, re.M), said)
said = pc.ask("lsblk -rno NAME,RO,MOUNTPOINT; grep -c /dev/sd[a-z] /proc/mounts; blkid")
disk = re.search(r"^(sd[a-z]) 1", said, re.M)
check("the PC's disk is read-only and not mounted", disk, said)
if disk:
    said = pc.ask(f"udevadm info -q property /dev/{disk.group(1)}")
    check("what is on it is kept from other rules", "UDISKS_IGNORE=1" in said and not re.search("ID_FS_TYPE=.", said), said)
    said = pc.ask(f"echo '{PASSWORD}' | sudo -S sh -c 'dd if=/dev/zero of=/dev/{disk.group(1)} bs=4096 count=1 conv=fsync; "
                  f"e2fsck -fy /dev/{disk.group(1)}; mount /dev/{disk.group(1)} /mnt && touch /mnt/mark; sync'")
    check("writing to it fails", "not permitted" in said or "ead-only" in said, said)
if in_file:
    said = pc.ask("cat /media/drive/system.ext4; findmnt -no SOURCE,FSTYPE /media/drive; findmnt -no SOURCE /; cat /sys/block/loop0/loop/dio; "
                  f"echo '{PASSWORD}' | sudo -S rm -f /media/drive/system.ext4; echo kept by people > /media/drive/tide.txt && sync")
    check("the other files are there, the system's own cannot be deleted", "is running" in said and ("exfat" if how == "file" else "vfat") in said
          and "busy" in said and "end:0" in said, said)
    check("its root is a disk that is a file", "/dev/loop" in said and re.search(r"^1\n", said, re.M), said)
version = re.search(r"\d+\.\d+\S*", pc.ask("uname -r")).group(0)
if package:
    said = pc.ask(f"echo '{PASSWORD}' | sudo -S dpkg -i /var/tmp/kernel.deb", 1500)
    check("the package tool installs a kernel", "end:0" in said, said)
    newer = re.search(r"Setting up linux-image-(\S+)", said).group(1)
else:
    newer = f"{version}.9"
    said = pc.ask(f"echo '{PASSWORD}' | sudo -S sh -c 'cd /boot; cp vmlinuz-{version} vmlinuz-{newer}; cp -r /lib/modules/{version} /lib/modules/{newer}; "
                  f"cp initrd.img-{version} initrd.img-{newer}; for d in /etc/kernel/postinst.d/zz*; do $d {newer}; done'", 200)
said = pc.ask("grep -h ^linux /boot/loader/entries/*")
prefix = "" if locked else "/boot"  # of the volume that starts
if in_file:
    check("it has what finds the file, too", f"start-inside-{newer}.img" in pc.ask("grep -h start-inside /boot/loader/entries/*; ls /boot"))
check("the menu has the kernel that came", [w for w in said.split() if "vmlinuz" in w][:2] == [f"{prefix}/vmlinuz-{newer}", f"{prefix}/vmlinuz-{version}"], said)
menu = pc.ask("grep -l 'menuentry' /boot/loader/*; head -3 /boot/loader/menu.cfg; mokutil --sb-state; od -An -tu1 /sys/firmware/efi/efivars/SecureBoot-*")
said = pc.ask("mkdir one two three; date > two/tide.txt; cat two/tide.txt; sync")
kept = re.search(r"\w{3} \w{3}.*20\d\d", said)
check("folders are made", kept, said)
pc.off()
if firmware == "secure":
    check("it started by signed loaders", "Secure Boot yes" in plan and "menu.cfg" in menu and re.search(r"\b1\n", menu), plan + menu)
check("the PC's disk is untouched", digest("internal.img") == before)

pc = PC("uefi" if firmware == "bios" else "bios", locked)
pc.log_in()
said = pc.ask("ls; cat two/tide.txt; cat /etc/machine-id; uname -r")
check("all is there on the other firmware", all(w in said for w in ("one", "two", "three")) and kept and kept.group(0) in said, said)
check("the menu that is shown has the older kernel behind the newer", f"(kernel {version[:38]})" in pc.log.decode(errors="replace"))
check("the kernel that came has started", newer in said or not package, said)
check("its identity is kept", all(i in said for i in first_id), said)
said = pc.ask(f"for n in 1 2; do :; done; echo '{PASSWORD}' | sudo -S -u guest id -un; echo wrong | sudo -k -S true")
check("the other account is there, a wrong password is refused", "guest" in said and "end:0" not in said, said)
if in_file:
    check("people's files are kept beside it", "kept by people" in pc.ask("cat /media/drive/tide.txt"))
# The other kernel came up, so it is good now. The next one breaks: it gives way by itself, whatever is installed after it
check("a kernel that came up is good", re.search(r"\n0001\.conf 0002\.conf 0003\.conf", pc.ask("cd /boot/loader/entries; echo; echo *; cd")))
said = pc.ask(f"echo '{PASSWORD}' | sudo -S sh -c 'cd /boot; cp vmlinuz-{version} vmlinuz-{newer}.11; head -c 100000 initrd.img-{version} > initrd.img-{newer}.11; "
              f"for d in /etc/kernel/postinst.d/zz*; do $d {newer}.11; done; cd loader/entries; echo *'", 200)
check("a new one has three tries", "0001+3-0.conf" in said, said)
pc.off()
started = time.time()
tried = 0
while tried < 5:
    pc = PC(firmware, locked)
    if pc.comes_up():
        break
    tried += 1
check(f"a kernel that breaks is tried three times, then the one before it starts (tried {tried} times, {time.time() - started:.0f} s)", tried == 3)
said = pc.ask("uname -r; echo; cd /boot/loader/entries; echo *; cat ../tries.env; cd")
check("its tries are noted, the one that runs stays good", "0001+0-3.conf 0002.conf" in said or "left_0001=0" in said, said)
pc.off()
check("the PC's disk is still untouched", digest("internal.img") == before)
conclude()
