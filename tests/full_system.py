#!/usr/bin/env python3
"""A real distribution's root becomes a drive that starts to a login, is its owner's, and leaves the PC alone.

  full_system.py SATCHEL ROOT FIRMWARE     ROOT: a folder or archive; FIRMWARE: bios, uefi or secure: with Secure Boot on

The account of the plan logs in on the serial console, makes three folders and a file, and administers; after a restart
(on the other firmware) all is there. A disk inside the PC, with a file system on it, is not mounted, cannot be written
even by the administrator, and is untouched to the last byte.
"""
import hashlib, os, re, select, subprocess, sys, tempfile, time

satchel, root, firmware = (os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2]), sys.argv[3])
work = tempfile.mkdtemp(prefix="satchel-full-")
os.chdir(work)
PASSWORD = "gull 7 over the bar"


def run(*words, **options):
    done = subprocess.run(words, text=True, capture_output=True, **options)
    if done.returncode:
        print(done.stdout, done.stderr)
        sys.exit(f"{words[0]} {words[1]} failed with {done.returncode}")
    return done.stdout


class PC:
    def __init__(self, firmware):
        words = ["qemu-system-x86_64", "-m", "1024", "-smp", "2", "-display", "none", "-monitor", "none", "-serial", "stdio",
                 "-no-reboot", "-nodefaults", "-vga", "std", "-accel", "tcg", "-device", "qemu-xhci",
                 "-drive", "if=none,id=stick,format=raw,file=stick.img,cache=unsafe",
                 "-device", "usb-storage,drive=stick,bootindex=1",
                 "-device", "ich9-ahci,id=sata", "-drive", "if=none,id=disk,format=raw,file=internal.img",
                 "-device", "ide-hd,drive=disk,bus=sata.0,bootindex=2"]
        if firmware != "bios":
            code, variables = ("OVMF_CODE_4M.secboot.fd", "OVMF_VARS_4M.ms.fd") if firmware == "secure" else ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd")
            subprocess.run(["cp", f"/usr/share/OVMF/{variables}", "vars.fd"], check=True)
            words += ["-drive", f"if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/{code}",
                      "-drive", "if=pflash,format=raw,file=vars.fd"]
        words += {"bios": [], "uefi": ["-machine", "q35"],
                  "secure": ["-machine", "q35,smm=on", "-global", "driver=cfi.pflash01,property=secure,value=on"]}[firmware]
        self.log = b""
        self.process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)

    def until(self, pattern, seconds):
        """Read the console until it shows this; what it showed since the last time."""
        end = time.time() + seconds
        seen = b""
        while not re.search(pattern.encode(), seen):
            left = end - time.time()
            if left <= 0 or (select.select([self.process.stdout], [], [], left)[0] == [] ):
                self.fail(f"nothing like {pattern!r} on the console in {seconds} s", seen)
            got = os.read(self.process.stdout.fileno(), 65536)
            if not got:
                self.fail(f"the PC went off before {pattern!r}", seen)
            seen += got
            self.log += got
        return seen.decode(errors="replace")

    def fail(self, why, seen):
        self.process.kill()
        sys.exit(f"{why}:\n{(self.log if len(seen) < 200 else seen)[-3000:].decode(errors='replace')}\n0 passed, 1 failed")

    def type(self, text):
        self.process.stdin.write(text.encode() + b"\n")
        self.process.stdin.flush()

    def ask(self, command, seconds=120):
        """A command in the shell; its output."""
        self.type(f"{command}; echo 'en''d:'$?")
        said = self.until(r"end:\d+", seconds)
        return re.sub(r"\x1b\[\?2004[hl]|\r", "", said)

    def log_in(self):
        self.until(r"hut-3 login: ", 600)
        self.type("tide")
        self.until("(?i)pass|kennwort", 60)
        self.type(PASSWORD)
        self.until(r"\$ ", 120)
        self.ask("PS1='> '; stty -echo; export LC_ALL=C")

    def off(self):
        self.type(f"echo '{PASSWORD}' | sudo -S poweroff")
        try:
            self.process.communicate(timeout=240)
        except subprocess.TimeoutExpired:
            self.fail("the PC did not go off", b"")


checks = failures = 0


def check(what, good, detail=""):
    global checks, failures
    checks += 1
    if not good:
        failures += 1
        print(f"FAILED: {what}\n{detail[-1500:]}")


def digest(path):
    return hashlib.sha256(open(path, "rb").read()).hexdigest()


run("truncate", "-s", "6G", "stick.img")
run("truncate", "-s", "64M", "internal.img")
run("mke2fs", "-q", "-F", "-t", "ext4", "-L", "office", "internal.img")
before = digest("internal.img")
name = re.search(r'"name": "([^"]+)"', run(satchel, "drives", "stick.img", "--json")).group(1)
plan = run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "stick.img", "--host-name", "hut-3",
          "--administrator", "tide:Tide survey", "--account", "guest", "--login", "automatic", "--time-zone", "Atlantic/Faroe", "--menu-wait", "1",
          "--kernel-options", "console=tty0 console=ttyS0,115200n8", "--save", "stick.plan")
print(plan, flush=True)
read, write = os.pipe()
os.write(write, f"{PASSWORD}\nanother one\n".encode())
os.close(write)
run(satchel, "build", "stick.plan", "--confirm", name, "--password-fd", str(read), pass_fds=[read])
run(satchel, "check", "stick.img", "--plan", "stick.plan")
for path in ("stick.plan", "stick.plan.built"):
    text = open(path).read()
    check(f"no password in {path}", PASSWORD not in text and "$6$" not in text and "$y$" not in text)

started = time.time()
pc = PC(firmware)
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
version = re.search(r"\d+\.\d+\S*", pc.ask("uname -r")).group(0)
said = pc.ask(f"echo '{PASSWORD}' | sudo -S sh -c 'cd /boot; cp vmlinuz-{version} vmlinuz-{version}.9; cp -r /lib/modules/{version} /lib/modules/{version}.9; "
              f"cp initrd.img-{version} initrd.img-{version}.9; for d in /etc/kernel/postinst.d/zz*; do $d {version}.9; done; "
              f"grep -h ^linux /boot/loader/entries/*'", 200)
check("the menu has the kernel that came", [w for w in said.split() if "vmlinuz" in w][:2] == [f"/boot/vmlinuz-{version}.9", f"/boot/vmlinuz-{version}"], said)
menu = pc.ask("grep -l 'menuentry' /boot/loader/*; head -3 /boot/loader/menu.cfg; mokutil --sb-state; od -An -tu1 /sys/firmware/efi/efivars/SecureBoot-*")
said = pc.ask("mkdir one two three; date > two/tide.txt; cat two/tide.txt; sync")
kept = re.search(r"\w{3} \w{3}.*20\d\d", said)
check("folders are made", kept, said)
pc.off()
if firmware == "secure":
    check("it started by signed loaders", "Secure Boot yes" in plan and "menu.cfg" in menu and re.search(r"\b1\n", menu), plan + menu)
check("the PC's disk is untouched", digest("internal.img") == before)

pc = PC("uefi" if firmware == "bios" else "bios")
pc.log_in()
said = pc.ask("ls; cat two/tide.txt; cat /etc/machine-id")
check("all is there on the other firmware", all(w in said for w in ("one", "two", "three")) and kept and kept.group(0) in said, said)
check("the menu that is shown has the older kernel behind the newer", f"(kernel {version})" in pc.log.decode(errors="replace"))
check("its identity is kept", all(i in said for i in first_id), said)
said = pc.ask(f"for n in 1 2; do :; done; echo '{PASSWORD}' | sudo -S -u guest id -un; echo wrong | sudo -k -S true")
check("the other account is there, a wrong password is refused", "guest" in said and "end:0" not in said, said)
pc.off()
check("the PC's disk is still untouched", digest("internal.img") == before)
offset = re.search(r'"at_bytes": (\d+),[^}]*"role": "system"|"role": "system"[^}]*"at_bytes": (\d+)', open("stick.plan").read())
table = run("sfdisk", "-d", "stick.img")
start = int(re.findall(r"start= *(\d+)", table)[1]) * 512
loop = run("losetup", "--show", "-f", "-o", str(start), "stick.img").strip()
done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
subprocess.run(["losetup", "-d", loop])
check("the volume is clean afterwards", done.returncode == 0, done.stdout)
print(f"{checks - failures} passed, {failures} failed")
if not failures:
    subprocess.run(["rm", "-rf", work])
sys.exit(1 if failures else 0)
