#!/usr/bin/env python3
"""A full system that grows: its drive's image, copied to a larger drive, takes the room of that one when it starts there.

  grown.py SATCHEL ROOT FIRMWARE[-locked] TABLE [NEWER]
      ROOT, NEWER: folders or archives; the second takes the place of the first at the end

The kernel grows the volume in use, in its form: start-up code still reads it, on the other firmware, too.
"""
import os, re, subprocess, sys

from emulated import *

root, firmware, table = os.path.abspath(sys.argv[2]), sys.argv[3], sys.argv[4]
newer = os.path.abspath(sys.argv[5]) if len(sys.argv) > 5 else None
firmware, _, how = firmware.partition("-")
locked = how == "locked"
other = "uefi" if firmware == "bios" else "bios"
SIZES = "df -B1M --output=size / | tail -1; cat /proc/sys/kernel/hostname"


def volume():
    """The root's, which is the last; where that is locked the kernels', the second."""
    starts = re.findall(r"start= *(\d+)", run("sfdisk", "-d", "stick.img"))
    return attach(1 if locked else len(starts) - 1)


def checked(when):
    loop = volume()
    done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
    facts = run("dumpe2fs", "-h", loop)
    run("losetup", "-d", loop)
    check(f"{when}: the volume is clean", done.returncode == 0, done.stdout)
    said = subprocess.run(["sfdisk", "--verify", "stick.img"], text=True, capture_output=True)
    check(f"{when}: the table is sound", said.returncode == 0 and "No errors" in said.stdout and not said.stderr.strip(), said.stdout + said.stderr)
    return facts


name = begin("3G")
plan = run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "stick.img", "--host-name", "hut-3", "--administrator", "tide:Tide survey",
           "--menu-wait", "1", "--kernel-options", "console=tty0 console=ttyS0,115200n8", "--grow", "--data", "200M", "--table", table,
           "--save", "stick.plan", *(["--locked"] if locked else []))
print(plan, flush=True)
read = given(PASSWORD, *([PASSPHRASE] if locked else []))
run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read), pass_fds=[read])
run("truncate", "-s", "11G", "stick.img")  # as if it was copied to a larger one: behind it zeros
name = re.search(r'"name": "([^"]+)"', run(satchel, "drives", "stick.img", "--json")).group(1)

for start, on in enumerate((firmware, other)):
    pc = PC(on, locked)
    pc.log_in()
    said = pc.ask(f"for n in 1 2 3 4 5 6; do [ $(df -B1M --output=size / | tail -1) -gt 9000 ] && break; sleep 2; done; {SIZES}; cat one/tide.txt")
    grown = int(re.search(r"^ *(\d+)$", said, re.M).group(1)) > 9000
    late = locked and start == 0  # a locked volume reaches to its partition's end when it is opened the next time
    check(f"start {start + 1}: the root has the room of the larger drive: {not late}", grown != late, said + pc.ask(f"echo '{PASSWORD}' | sudo -S dmesg | tail -5; echo '{PASSWORD}' | sudo -S /usr/local/sbin/take-room; lsblk -b"))
    if start:
        check("what was made is there", "kept" in said, said)
    pc.ask("mkdir -p one; echo kept > one/tide.txt; sync")
    said = pc.ask(f"echo '{PASSWORD}' | sudo -S /usr/local/sbin/take-room")
    check("once more it changes nothing", "end:0" in said and "MiB" not in said, said)
    pc.off()
    facts = checked(f"start {start + 1}")
    check("the volume keeps its form", "meta_bg" not in facts, facts)
said = run(satchel, "drives", "stick.img")
check("the drive is shown as it is now", "10.6" in said or "11" in said, said)
print(said)

if newer:  # over what a kernel has grown
    run(satchel, "plan", "--image", newer, "--kind", "renewal", "--drive", "stick.img", "--save", "stick.plan")
    run(satchel, "build", "stick.plan", "--confirm", name)
    checked("renewed")
    run("truncate", "-s", "14G", "stick.img")
    pc = PC(firmware)
    pc.log_in()
    said = pc.ask(f"for n in 1 2 3 4 5 6; do [ $(df -B1M --output=size / | tail -1) -gt 12000 ] && break; sleep 2; done; {SIZES}; cat one/tide.txt")
    check("renewed, it still grows, and what was its owner's is there", int(re.search(r"^ *(\d+)$", said, re.M).group(1)) > 12000 and "kept" in said, said)
    pc.off()
    checked("renewed and grown")
finish()
