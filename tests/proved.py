#!/usr/bin/env python3
"""The proof itself, of a real full system that asks who logs in, and where it is locked for its passphrase, too.

  proved.py SATCHEL ROOT FIRMWARE[-locked]
      ROOT: a folder or archive; FIRMWARE: bios or uefi
"""
import json, os, subprocess, sys

from emulated import *

root, firmware = os.path.abspath(sys.argv[2]), sys.argv[3]
firmware, _, how = firmware.partition("-")
locked = how == "locked"
name = begin("4G")
run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "stick.img", "--host-name", "hut-3", "--administrator", "tide:Tide survey", "--account", "guest",
    "--menu-wait", "1", "--start-journal", "--kernel-options", "console=tty0 console=ttyS0,115200n8", "--save", "stick.plan", *(["--locked"] if locked else []))
read = given(PASSWORD, "another one", *([PASSPHRASE] if locked else []))
run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read), pass_fds=[read])


def prove(account, *secrets, wait="500"):
    read = given(*secrets)
    return subprocess.run([satchel, "prove", "stick.img", "--on", f"emulated-{firmware}", "--confirm", name, "--account", account, "--password-fd", str(read),
                           "--wait", wait, "--console", "console.log", "--json"], text=True, capture_output=True, pass_fds=[read])


done = prove("tide", PASSWORD, *([PASSPHRASE] if locked else []))
check("it remembers, on the console and on the drive", done.returncode == 0, done.stdout + done.stderr)
proof = json.loads(done.stdout)
check("all changes were tried", len(proof.get("items", [])) >= 5 and all(i["on_console"] and i["on_drive"] for i in proof["items"]), done.stdout)
check("the PC's disk was left alone", proof["pc_disk"]["untouched"] and proof["pc_disk"]["seen"] == "read-only", done.stdout)
read = given(PASSPHRASE)
kept = json.loads(run(satchel, "keep", "show", "stick.img", "--json", *(["--password-fd", str(read)] if locked else []), pass_fds=[read]))
noted = kept["noted"]
check("each start is noted", len(noted) == 2 and [n["before"] for n in noted] == ["first", "shutdown"], str(noted))
check("on what it was", all(n["firmware"] == firmware.upper().replace("SECURE", "UEFI") and "QEMU" in n["machine"] and n["kernel"] for n in noted), str(noted))
said = done.stdout + done.stderr + open("console.log", errors="replace").read()
check("no secret is told", PASSWORD not in said and PASSPHRASE not in said)
if locked:
    done = prove("tide", PASSWORD, "fulmar over the hill")
    check("a wrong passphrase is told before anything starts", done.returncode == 2 and "does not open" in done.stdout + done.stderr, done.stdout + done.stderr)
else:
    done = prove("guest", "another one")
    run(satchel, "keep", "journal", "stick.img", "--off", "--confirm", name)
    kept = json.loads(run(satchel, "keep", "show", "stick.img", "--json"))
    check("the journal is taken away", not kept["journal"] and not kept["noted"], str(kept))
    check("an account that may not administer proves nothing, and that is said", done.returncode == 1 and "may not administer" in done.stdout, done.stdout + done.stderr)
conclude(replay=True)
