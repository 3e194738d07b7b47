"""What tests on random sticks in files share, as a program: SATCHEL DEMO_IMAGE CASES on its command line, the seed told and taken from
WS_TEST_SEED, commands run, verdicts counted, a folder of its own with an image of the demo in it.
"""
import json, os, random, shutil, subprocess, sys, tempfile

satchel, demo_image, cases = sys.argv[1], sys.argv[2], int(sys.argv[3])
seed = int(os.environ.get("WS_TEST_SEED", random.SystemRandom().randrange(1 << 32)))
dice = random.Random(seed)
MIB = 1 << 20
counts = {"passed": 0, "failed": 0}


def run(*words):
    return subprocess.run([satchel, *words], stdin=subprocess.DEVNULL, capture_output=True, text=True, errors="replace")


def shell(text):
    return subprocess.run(["sh", "-ec", text], capture_output=True, text=True, errors="replace")


def verdict(what, good, said=""):
    counts["passed" if good else "failed"] += 1
    if not good:
        print(f"FAILED (WS_TEST_SEED={seed}): {what}\n{said}")
    return good


def fresh_stick(size):
    """s.img, empty; its name."""
    with open("s.img", "wb") as f:
        f.truncate(size)
    return json.loads(run("drives", "s.img", "--json").stdout)["drives"][0]["name"]


def parts():
    return json.loads(run("drives", "s.img", "--json").stdout)["drives"][0]["parts"]


class Loop:
    """A part of the stick as a device; mounted at m it is unmounted at the end."""

    def __init__(self, part):
        self.part = part

    def __enter__(self):
        self.device = shell(f"losetup -f --show -o {self.part['at_bytes']} --sizelimit {self.part['size_bytes']} s.img").stdout.strip()
        return self.device

    def __exit__(self, *_):
        # It goes when the last who looks at it has gone, and somebody who lists devices may
        shell(f"umount m 2>/dev/null || :; losetup -d {self.device}; for n in $(seq 100); do losetup -j s.img | grep -q . || break; sleep 0.1; done")


def data_first(length, begin, types):
    """The data volume, of so many bytes, takes the place of what remembers, which begins there then, as on sticks made by hand."""
    remembers = parts()[-2]
    before = json.loads(shell("sfdisk --json s.img").stdout)["partitiontable"]["partitions"]
    numbers = sorted(range(len(before)), key=lambda i: before[i]["start"])[-2:]
    start, size = remembers["at_bytes"], remembers["size_bytes"]
    done = shell(f"""dd if=s.img of=volume bs=1M iflag=skip_bytes,count_bytes skip={start} count={size} status=none
        sfdisk -q --delete s.img {numbers[0] + 1} {numbers[1] + 1}
        printf 'start={start // 512}, size={length // 512}, type={types[0]}\nstart={begin // 512}, size={size // 512}, type={types[1]}\n' | sfdisk -q -a s.img
        dd if=volume of=s.img bs=1M oflag=seek_bytes seek={begin} conv=notrunc status=none; rm volume""")
    verdict("data in front", done.returncode == 0, done.stderr)


def go(name, body):
    """Every case in a folder of its own, which goes at the end. @return only by leaving the program"""
    print("seed", seed)
    work = tempfile.mkdtemp(prefix=f"satchel-{name}-")
    os.chdir(work)
    try:
        os.environ.update(WILD_SATCHEL_BENCH="", WILD_SATCHEL_HISTORY="", WILD_SATCHEL_DEFAULTS="")
        os.mkdir("m")
        with open("probe", "wb") as f:
            f.truncate(MIB)
        if os.geteuid() or shell("d=$(losetup -f --show probe) && losetup -d $d").returncode:
            print("skipped: loop devices cannot be had")
            sys.exit(0)
        subprocess.run([demo_image, "curlew.iso"], check=True, capture_output=True)
        for number in range(cases):
            body(number)
    finally:
        subprocess.run(["umount", os.path.join(work, "m")], capture_output=True)
        os.chdir("/")
        shutil.rmtree(work, ignore_errors=True)
    print(f"{counts['passed']} passed, {counts['failed']} failed")
    sys.exit(counts["failed"] > 0)
