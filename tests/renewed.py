#!/usr/bin/env python3
"""A full system in use is renewed from another root: it starts as the new one, and what is its owner's is there.

  renewed.py SATCHEL ROOT NEWER FIRMWARE[-locked]
      two roots, folders or archives; the first is started on FIRMWARE, the second on that and on the other one

The account logs in with the password it had. The renewal is cut once on the way and finished.
"""
import os, re, sys

from emulated import *

root, newer, firmware = os.path.abspath(sys.argv[2]), os.path.abspath(sys.argv[3]), sys.argv[4]
firmware, _, how = firmware.partition("-")
locked = how == "locked"
other = "uefi" if firmware == "bios" else "bios"
name = begin()
before = digest("internal.img")
run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "stick.img", "--host-name", "hut-3", "--administrator", "tide:Tide survey",
    "--time-zone", "Atlantic/Faroe", "--menu-wait", "1", "--kernel-options", "console=tty0 console=ttyS0,115200n8", "--save", "stick.plan", *(["--locked"] if locked else []))
read = given(PASSWORD, *([PASSPHRASE] if locked else []))
run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read), pass_fds=[read])
pc = PC(firmware, locked)
pc.log_in()
said = pc.ask(f"mkdir one; date > one/tide.txt; cat one/tide.txt; echo '{PASSWORD}' | sudo -S sh -c 'mkdir -p /opt/charts /var/lib/tides; seq 9 > /opt/charts/depths; "
              "echo 1 > /var/lib/tides/db; cat /etc/machine-id /etc/ssh/ssh_host_ed25519_key.pub; groupadd -g 1500 survey; usermod -aG survey,floppy tide'; sync")
kept = re.findall(r"\w{3} \w{3}.*20\d\d|\b[0-9a-f]{32}\b|ssh-ed25519 \S+", said)
check("there is something to be kept", len(kept) > 1, said)
was = re.search(r"PRETTY_NAME.*", pc.ask("cat /etc/os-release; ls -d /run/systemd/system")).group(0)
pc.off()

def told():
    """The options by which a passphrase is read, where one is needed, and what goes with them."""
    read = given(PASSPHRASE) if locked else None
    return (["--password-fd", str(read)], {"pass_fds": [read]}) if locked else ([], {})


words, options = told()
plan = run(satchel, "plan", "--image", newer, "--kind", "renewal", "--drive", "stick.img", "--keep-path", "/opt/charts", "--save", "renewal.plan", *words, **options)
print(plan, flush=True)
check("the plan tells what is kept and lost", all(re.search(p, plan) for p in ("/home/tide: ", "/opt/charts: as asked", "/var/lib/tides: no package's", "/etc/ssh: ")), plan)
words, options = told()
run(satchel, "build", "renewal.plan", "--confirm", name, *words, **options)
for start, on in enumerate((firmware, other)):
    pc = PC(on, locked)
    pc.log_in()
    said = pc.ask(f"id; hostname; date +%Z; cat one/tide.txt; echo '{PASSWORD}' | sudo -S sh -c 'tail -1 /opt/charts/depths; cat /etc/machine-id /etc/ssh/ssh_host_ed25519_key.pub; "
                  "ls /var/lib/tides /root; ls -d /run/systemd/system; ps -o comm= -p 1; grep -h ^linux /boot/loader/entries/*; cat /proc/cmdline'", 300)
    check(f"start {start + 1}: account, groups, host name, time zone", "uid=1000(tide)" in said and "1500(survey)" in said and "hut-3" in said and "WE" in said, said)
    check(f"start {start + 1}: files, identity, keys", all(k in said for k in kept) and re.search(r"\b9\n", said), said)
    check(f"start {start + 1}: what was not kept is gone", "No such file" in said or "cannot access" in said, said)
    check(f"start {start + 1}: it is the newer system", re.search(r"^systemd$" if "systemd" in newer else r"^init$", said, re.M), said)
    if start == 0:
        pc.ask("mkdir two; sync")
    else:
        check("what was made after the renewal is there on the other firmware", "two" in pc.ask("ls"))
    pc.off()
check("the PC's disk is untouched", digest("internal.img") == before)
conclude()
