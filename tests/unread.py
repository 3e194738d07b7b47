#!/usr/bin/env python3
"""A locked system carried over: its root is not read, its kernels' volume is, with another loader's menu on it, and its
loader was known to one PC's firmware alone. The twin starts on both firmwares, asks for the passphrase, and changes.

  unread.py SATCHEL ROOT FIRMWARE TABLE
"""
import glob, os, subprocess, sys

from emulated import *

root, firmware, table = os.path.abspath(sys.argv[2]), sys.argv[3], sys.argv[4]
OPTIONS = "console=tty0 console=ttyS0,115200n8"


def make_unread():
    start, boot = loop_of("office.img", 1), loop_of("office.img", 2)
    os.makedirs("boot", exist_ok=True)
    run("mount", boot, "boot")
    entry = dict(line.split(None, 1) for line in open(sorted(glob.glob("boot/loader/entries/*.conf"))[0]) if " " in line)
    run("rm", "-rf", "boot/loader")
    os.makedirs("boot/grub", exist_ok=True)
    open("boot/grub/grub.cfg", "w").write(
        f"set default=0\nmenuentry 'Tide' {{\n\tlinux {entry['linux'].strip()} {entry['options'].strip()}\n\tinitrd {entry['initrd'].strip()}\n}}\n")
    run("umount", "boot")
    run("mdeltree", "-i", start, "::/EFI/BOOT")
    run("losetup", "-d", start, boot)
    with open("office.img", "r+b") as image:  # its own loader would stand here
        image.write(b"\xfa" + b"\0" * 439)


begin("64M")
run("rm", "stick.img")
run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "office.img", "--make", "4G", "--host-name", "hut-3", "--administrator", "tide:Tide survey",
    "--menu-wait", "1", "--kernel-options", OPTIONS, "--system", "3G", "--table", table, "--locked", "--save", "office.plan")
read = given(PASSWORD, PASSPHRASE)
run(satchel, "build", "office.plan", "--confirm", name_of("office.img"), "--password-fd", str(read), "--recovery-fd", "2", pass_fds=[read])
pc = PC(firmware, True, image="office.img")
pc.log_in()
check("the original was changed by itself", "end:0" in pc.ask("echo 'high water at seven' > tide.txt; sync"))
pc.off()
make_unread()
before = digest("office.img")

plan = run(satchel, "plan", "--why", "--kind", "twin", "--image", "office.img", "--drive", "stick.img", "--make", "5G", "--save", "stick.plan")
print(plan, flush=True)
check("the plan says that it starts by its own menu", "what its own menu starts" in plan and "BIOS        yes" in plan and "UEFI        yes" in plan, plan)
check("and that the identifiers stay", "identifiers stay the original's" in plan, plan)
run(satchel, "build", "stick.plan", "--confirm", name_of("stick.img"))
for start, on in enumerate((firmware, "uefi" if firmware == "bios" else "bios")):
    pc = PC(on, True)
    pc.log_in()
    said = pc.ask("cat tide.txt ebb.txt; findmnt -no SOURCE /")
    check(f"start {start + 1}: what was made is there", "high water" in said and "/dev/mapper" in said, said)
    check(f"start {start + 1}: what was changed on the twin is there", not start or "\nebb" in said, said)
    pc.ask("echo ebb > ebb.txt; sync")
    pc.off()
check("the original is as it was, to the last byte", digest("office.img") == before)
finish()
