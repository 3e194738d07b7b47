#!/usr/bin/env python3
"""A real live system remembers in a locked partition: it asks for the passphrase, refuses a wrong one, and what was
changed is there on the other firmware, after the passphrase alone.

  locked_live.py SATCHEL LIVE_IMAGE
"""
import json, os, subprocess, sys, time

from emulated import *

image = os.path.abspath(sys.argv[2])
MARK = "seven fathoms at the bar"


def shell(pc):
    """Past the passphrase, once a wrong one, to the live system's own shell."""
    for secret, answer in (("fulmar over the hill", "Retry"), (PASSPHRASE, None)):
        pc.until(ASKS, 300)
        time.sleep(3)
        pc.type(secret)
        if answer:
            pc.until(answer, 120)
            pc.type("y")
    pc.until("system started", 300)
    pc.type("")
    pc.until("# ", 60)
    pc.ask("PS1='> '; stty -echo")


name = begin("1G")
plan = run(satchel, "plan", "--why", "--image", image, "--drive", "stick.img", "--locked", "--save", "stick.plan")
print(plan, flush=True)
check("no fault: its initial RAM disk opens locked volumes", "fault" not in plan, plan)
read = given(PASSPHRASE)
with open("recovery", "w") as recovery:
    run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read), "--recovery-fd", str(recovery.fileno()),
        pass_fds=[read, recovery.fileno()])
volume = [v for v in json.load(open("stick.plan"))["result"]["volumes"] if v["role"] == "persistence"][0]
loop = run("losetup", "--show", "-f", "-o", str(volume["at_bytes"]), "--sizelimit", str(volume["size_bytes"]), "stick.img").strip()
for secret, opens in ((PASSPHRASE, True), (open("recovery").read().strip(), True), (PASSWORD, False)):
    done = subprocess.run(["cryptsetup", "open", "--test-passphrase", "--key-file", "-", loop], input=secret, text=True, capture_output=True)
    check(f"a secret opens it or does not: {opens}", (done.returncode == 0) == opens, done.stderr)
run("losetup", "-d", loop)
for firmware in ("bios", "uefi"):
    pc = PC(firmware, locked=True)
    shell(pc)
    if firmware == "bios":
        said = pc.ask(f"mkdir /home/hut && echo '{MARK}' > /home/hut/tide.txt; ls -d /dev/mapper/*; sync")
        check("it works on what was opened", "/dev/mapper/sd" in said and "end:0" in said, said)
    else:
        said = pc.ask("cat /home/hut/tide.txt")
        check("it is there on the other firmware", MARK in said, said)
    pc.type("poweroff -f")
    try:
        pc.process.communicate(timeout=60)
    except subprocess.TimeoutExpired:
        pc.process.kill()
found = subprocess.run(["grep", "-caF", "-e", MARK, "-e", PASSPHRASE, "-e", "persistence.conf", "stick.img"], capture_output=True, text=True)
bare = subprocess.run(["grep", "-caF", "-e", "persistence.conf", image], capture_output=True, text=True)
check("nothing of it stands on the drive in clear", found.stdout == bare.stdout, found.stdout + bare.stdout)
print(f"{counts['passed']} passed, {counts['failed']} failed")
sys.exit(1 if counts["failed"] else 0)
