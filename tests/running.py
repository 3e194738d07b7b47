#!/usr/bin/env python3
"""The twin of a system made from inside it, while it runs and files change under the reader; then the twin alone starts.

  running.py SATCHEL ROOT FIRMWARE
      ROOT: a folder or archive; the tool goes into it with its libraries
"""
import os, re, subprocess, sys

from emulated import *

root, firmware = os.path.abspath(sys.argv[2]), sys.argv[3]
other = "uefi" if firmware == "bios" else "bios"


def take_along():
    """The tool, and all that it is linked with, in a folder that runs anywhere."""
    os.makedirs("tool/lib")
    run("cp", satchel, "tool/satchel.bin")
    for path in re.findall(r"(/\S+) \(0x", run("ldd", satchel)):
        run("cp", "-L", path, "tool/lib/")
    open("tool/satchel", "w").write('#!/bin/sh\nhere=$(dirname "$0")\nexec "$here"/lib/ld-linux-x86-64.so.2 --library-path "$here/lib" "$here/satchel.bin" "$@"\n')
    run("chmod", "755", "tool/satchel", "tool/satchel.bin")


name = begin("3500M")
take_along()
run("truncate", "-s", "2600M", "other.img")
run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "stick.img", "--host-name", "hut-3", "--administrator", "tide:Tide survey",
    "--menu-wait", "1", "--kernel-options", "console=tty0 console=ttyS0,115200n8", "--internal-disks", "open", "--add", "tool:/opt/satchel", "--save", "stick.plan")
read = given(PASSWORD)
run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read), pass_fds=[read])

pc = PC(firmware, more=["-drive", "if=none,id=other,format=raw,file=other.img,cache=unsafe", "-device", "usb-storage,drive=other,serial=T8,removable=on"])
pc.log_in()
pc.ask("mkdir -p one two; echo 'high water at seven' > one/tide.txt; ln one/tide.txt two/same; dd if=/dev/urandom of=two/chart bs=1M count=30 2>/dev/null; sync")
pc.ask(f"echo '{PASSWORD}' | sudo -S true")
pc.ask("(i=0; while [ $i -lt 100000 ]; do i=$((i+1)); echo $i >> one/busy; echo $i > two/f$((i % 50)); rm -f two/f$(((i + 7) % 50)); sleep 0.2; done) > /dev/null 2>&1 & true")
said = pc.ask("for d in /sys/block/sd*; do [ $(cat $d/size) -eq 5324800 ] && echo disk:/dev/${d##*/}; done; true")
disk = re.search(r"disk:(/dev/\S+)", said).group(1)
said = pc.ask(f"sudo /opt/satchel/satchel drives {disk} --json", 300)
twin = re.search(r'"name": "([^"]+)"', said).group(1)
said = pc.ask(f"sudo /opt/satchel/satchel twin --running / --drive {disk} --confirm {twin} 2>said; end=$?; tail -c 1500 said; (exit $end)", 1800)
print(said, flush=True)
check("it was carried over, and says what never held still", "is written" in said and ("end:0" in said or "busy" in said), said)
check("what is nobody's was left out", "left out" in said, said)
pc.off()

run("mv", "stick.img", "original.img")
run("mv", "other.img", "stick.img")
loop = loop_of("stick.img", 2)
done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
check("its volume is clean", done.returncode == 0, done.stdout)
run("losetup", "-d", loop)
for start, on in enumerate((firmware, other)):
    pc = PC(on)
    pc.log_in()
    said = pc.ask("cat one/tide.txt; stat -c %h two/same; sha256sum two/chart | cut -c1-16; ls two | wc -l; wc -l one/busy; findmnt -no UUID /; cat later")
    check(f"start {start + 1}: what was made is there", "high water" in said and "\n2\n" in said, said)
    check(f"start {start + 1}: and what changed while it was read, as it was at some time", int(re.search(r"(\d+) one/busy", said).group(1)) > 5, said)
    if start:
        check("what was changed on the twin is there", "ebb" in said, said)
    pc.ask("echo ebb > later; sync")
    pc.off()
finish()
