"""What tests with real starts of full systems share: an emulated PC with a disk inside and a console, checks, judges."""
import json, os, re, select, subprocess, sys, tempfile, time

satchel = os.path.abspath(sys.argv[1])
PASSPHRASE, ASKS = "fulmar over the bar", "(?i)unlock disk|passphrase for"
PASSWORD = "gull 7 over the bar"


def run(*words, **options):
    done = subprocess.run(words, text=True, capture_output=True, **options)
    if done.returncode:
        print(done.stdout, done.stderr)
        sys.exit(f"{words[0]} {words[1]} failed with {done.returncode}")
    return done.stdout


class PC:
    def __init__(self, firmware, locked=False, image="stick.img", more=()):
        self.locked = locked
        words = ["qemu-system-x86_64", "-m", "1024", "-smp", "2", "-display", "none", "-monitor", "none", "-serial", "stdio",
                 "-no-reboot", "-nodefaults", "-vga", "std", "-accel", "tcg", "-device", "qemu-xhci",
                 "-drive", f"if=none,id=stick,format={image.rpartition('.')[2].replace('img', 'raw')},file={image},cache=unsafe",
                 "-device", "usb-storage,drive=stick,bootindex=1",
                 "-device", "ich9-ahci,id=sata", "-drive", "if=none,id=disk,format=raw,file=internal.img",
                 "-device", "ide-hd,drive=disk,bus=sata.0,bootindex=2", *more]
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

    def unlock(self):
        """A wrong passphrase opens nothing."""
        if not self.locked:
            return
        self.until(ASKS, 300)
        time.sleep(3)
        self.type("fulmar over the hill")
        self.until(ASKS, 120)
        time.sleep(3)
        self.type(PASSPHRASE)

    def log_in(self):
        self.unlock()
        self.until(r"hut-3 login: ", 600)
        self.enter()

    def enter(self):
        self.type("tide")
        self.until("(?i)pass|kennwort", 60)
        self.type(PASSWORD)
        self.until(r"\$ ", 120)
        self.ask("PS1='> '; stty -echo; export LC_ALL=C")

    def comes_up(self):
        """To a login, or not: a kernel that panics starts the PC anew, which goes off then."""
        seen = b""
        while b"hut-3 login: " not in seen:
            if not select.select([self.process.stdout], [], [], 400)[0]:
                self.fail("nothing more on the console", seen)
            got = os.read(self.process.stdout.fileno(), 65536)
            if not got:
                self.process.wait()
                return False
            seen += got
            self.log += got
            if self.locked and re.search(ASKS.encode(), seen):
                time.sleep(3)
                self.type(PASSPHRASE)
                seen = b""
        self.enter()
        return True

    def off(self):
        self.type(f"echo '{PASSWORD}' | sudo -S poweroff")
        try:
            self.process.communicate(timeout=240)
        except subprocess.TimeoutExpired:
            self.fail("the PC did not go off", b"")


work = tempfile.mkdtemp(prefix="satchel-full-")
counts = {"passed": 0, "failed": 0}


def check(what, good, detail=""):
    counts["passed" if good else "failed"] += 1
    if not good:
        print(f"FAILED: {what}\n{detail[-1500:]}")


def volumes(image):
    """Partitions of an image: number and bytes, first and length."""
    table = json.loads(run("sfdisk", "--json", image))["partitiontable"]
    return {int(re.search(r"(\d+)$", p["node"]).group(1)): (p["start"] * 512, p["size"] * 512) for p in table["partitions"]}


def loop_of(image, number, *how):
    at, size = volumes(image)[number]
    return run("losetup", "--show", "-f", *how, "-o", str(at), "--sizelimit", str(size), image).strip()


def name_of(image):
    return re.search(r'"name": "([^"]+)"', run(satchel, "drives", image, "--json")).group(1)


def attach(number=1):
    """The volume that starts, the root's or where that is locked its kernels', as a block device; or a later one."""
    for v in json.load(open("stick.plan"))["result"]["volumes"]:
        if v["role"] == "system" and v["inside"] != "drive":
            return run("losetup", "--show", "-f", "-o", str(v["at_bytes"]), "--sizelimit", str(v["size_bytes"]), "stick.img").strip()
    start = int(re.findall(r"start= *(\d+)", run("sfdisk", "-d", "stick.img"))[number]) * 512
    return run("losetup", "--show", "-f", "-o", str(start), "stick.img").strip()


def digest(path):
    return run("sha256sum", path).split()[0]


def begin(size="6G"):
    """In a folder of its own: a stick, and a PC's disk with a file system. The stick's name."""
    os.chdir(work)
    run("truncate", "-s", size, "stick.img")
    run("truncate", "-s", "64M", "internal.img")
    run("mke2fs", "-q", "-F", "-t", "ext4", "-L", "office", "internal.img")
    return re.search(r'"name": "([^"]+)"', run(satchel, "drives", "stick.img", "--json")).group(1)


def given(*lines):
    """An open file that these lines can be read from."""
    read, write = os.pipe()
    os.write(write, "".join(f"{line}\n" for line in lines).encode())
    os.close(write)
    return read


def conclude(number=1, replay=False):
    """The volume that starts is clean: where the last start was cut, once what stands in its journal is in place."""
    loop = attach(number)
    if replay:
        subprocess.run(["e2fsck", "-fp", loop], capture_output=True)
    done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
    subprocess.run(["losetup", "-d", loop])
    check("the volume is clean afterwards", done.returncode == 0, done.stdout)
    finish()


def finish():
    print(f"{counts['passed']} passed, {counts['failed']} failed")
    if not counts["failed"]:
        subprocess.run(["rm", "-rf", work])
    sys.exit(1 if counts["failed"] else 0)
