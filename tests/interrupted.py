#!/usr/bin/env python3
"""Builds interrupted at random moments, by every means there is, a third of them with the drive changed in between.

    interrupted.py SATCHEL DEMO_IMAGE BENCHFILE CASES

Whatever happens: no wrong drive is sealed, no right one is accused. WS_TEST_SEED repeats a run.
"""
import json, os, random, shutil, signal, subprocess, sys, tempfile, time

satchel, demo_image, benchfile, cases = sys.argv[1], sys.argv[2], sys.argv[3], int(sys.argv[4])
seed = int(os.environ.get("WS_TEST_SEED", random.SystemRandom().randrange(1 << 32)))
dice = random.Random(seed)
print("seed", seed)
MIB = 1 << 20
SIZE = 312 * MIB  # of the image: one flush, and something behind it
ACCUSED = ("do not use this drive", "use another drive")
passed = failed = 0


def run(*words, check=None):
    done = subprocess.run([satchel, *words], stdin=subprocess.DEVNULL, capture_output=True, text=True, errors="replace")
    if check is not None and done.returncode != check:
        raise AssertionError(f"{words} gives {done.returncode}: {done.stderr}")
    return done


def verdict(what, good, said=""):
    global passed, failed
    if good:
        passed += 1
        return
    failed += 1
    print(f"FAILED (WS_TEST_SEED={seed}): {what}\n{said}")


def make_image():
    with open("big.img", "wb") as out:
        out.write(dice.randbytes(510) + b"\x55\xaa")
        out.truncate(SIZE)
        for at in range(MIB, SIZE, MIB):  # each stretch is its own: what lies elsewhere is never right by chance
            out.seek(at)
            out.write(dice.randbytes(4096))
            out.seek(at + MIB // 2)
            out.write(b"%d" % at)


def holds(path, image, length):
    """Is what was meant on the drive? A live drive is compared by `check`, a replica byte for byte."""
    with open(path, "rb") as a, open(image, "rb") as b:
        left = length
        while left:
            step = min(left, 4 * MIB)
            if a.read(step) != b.read(step):
                return False
            left -= step
    return True


def change(path):
    """What a drive can suffer between two runs. @return in words; the first sector is sometimes spared."""
    kind = dice.choice(["some", "byte", "front", "other", "mark", "count"])
    with open(path, "r+b") as drive:
        if kind == "some":
            drive.seek(MIB * dice.randrange(1, SIZE // MIB))
            drive.write(dice.randbytes(MIB * dice.randrange(1, 40)))
        elif kind == "byte":
            drive.seek(dice.randrange(512, SIZE))
            drive.write(dice.randbytes(16))
        elif kind == "front":
            drive.write(dice.randbytes(dice.choice([512, 4096, 8 * MIB])))
        elif kind == "other":  # another stick, on which this one's first sector was copied
            drive.seek(4096)
            for _ in range(SIZE // MIB):
                drive.write(b"\xa5" * MIB)
        elif kind == "mark":
            drive.seek(dice.randrange(0, 200))
            drive.write(dice.randbytes(3))
        else:
            text = drive.read(512)
            at = text.find(b"flushed ")
            if at >= 0:
                drive.seek(at + 8)
                drive.write(b"9")
    return kind


def begin(means, plan, name, bench):
    """One run, interrupted. @return what it said"""
    words = [satchel, "build", plan, "--confirm", name, "--even-so", *(["--bench", bench] if bench else [])]
    if dice.random() < 0.2:
        words.append("--no-check")
    if means in ("pull", "cut"):
        if means == "pull":
            run("bench", "arm", name, "--pull-after", str(dice.randrange(MIB, SIZE + 8 * MIB)), "--bench", bench, check=0)
        else:
            run("bench", "arm", name, "--cut-at-write", str(dice.randrange(1, 90)), "--bench", bench, check=0)
        done = subprocess.run(words, stdin=subprocess.DEVNULL, capture_output=True, text=True)
        run("bench", "plug", name, "--bench", bench)
        return done.returncode, done.stderr
    build = subprocess.Popen(words, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    time.sleep(dice.random() * dice.choice([0.2, 1.0, 2.5]))
    if means == "pipe":
        build.stdout.close()
        said = build.stderr.read(1) and ""
        build.stderr.close()
        build.wait()
        return build.returncode, said
    build.send_signal({"int": signal.SIGINT, "term": signal.SIGTERM, "hup": signal.SIGHUP, "kill": signal.SIGKILL}[means])
    said = build.communicate()[1]
    return build.returncode, said


def one(number):
    means = dice.choice(["pull", "cut", "int", "term", "hup", "kill", "pipe"])
    simulated = means in ("pull", "cut")
    bench = "b" if simulated else None
    plan = "b.plan" if simulated else "f.plan"
    name = names[plan]
    path = f"b/{name}.drive" if simulated else "stick.img"
    with open(path, "r+b") as drive:  # whatever was there: the next case begins with another drive
        drive.truncate(0)
        drive.truncate(sizes[plan])
    code, said = begin(means, plan, name, bench)
    what = f"case {number}: {means} gave {code}"
    if means in ("int", "term", "hup"):
        verdict(what + ", which is documented", code in (0, 5, -getattr(signal, "SIG" + means.upper())), said)
        if code == 5:
            verdict(what + ", and says how it stands", "not finished" in said or "nothing was written" in said, said)
    if means == "pipe":
        verdict(what + ": a closed pipe stops no build", code == 0)
    changed = change(path) if dice.random() < 1 / 3 else None
    with open(path, "rb") as drive:
        sealed = drive.read(512) == first_sector
    if sealed and not changed:
        verdict(what + ": sealed, and right", holds(path, "big.img", SIZE))
    for again in range(3):  # the technician repeats the command, as it says
        words = ["build", plan, "--confirm", name, "--even-so", *(["--bench", bench] if bench else [])]
        if dice.random() < 0.3:
            words.append("--no-check")
        done = run(*words)
        accused = any(word in done.stderr for word in ACCUSED)
        verdict(what + f", changed {changed}: run {again} accuses nobody", not accused, done.stderr)
        if done.returncode == 0:
            break
    verdict(what + f", changed {changed}: done in the end", done.returncode == 0, done.stderr)
    verdict(what + f", changed {changed}: it is the image", holds(path, "big.img", SIZE))


work = tempfile.mkdtemp(prefix="satchel-interrupted-")
os.chdir(work)
try:
    os.environ["WILD_SATCHEL_BENCH"] = ""
    make_image()
    with open("big.img", "rb") as image:
        first_sector = image.read(512)
    run("bench", "setup", benchfile, "--bench", "b", check=0)
    with open("stick.img", "wb") as stick:
        stick.truncate(SIZE + 5 * MIB)
    names, sizes = {}, {}
    drives = json.loads(run("drives", "--bench", "b", "--json").stdout)["drives"]
    gorse = next(d for d in drives if d["model"] == "Gorse 32")
    names["b.plan"], sizes["b.plan"] = gorse["name"], gorse["size_bytes"]
    names["f.plan"] = json.loads(run("drives", "stick.img", "--json").stdout)["drives"][0]["name"]
    sizes["f.plan"] = SIZE + 5 * MIB
    run("plan", "--image", "big.img", "--drive", gorse["name"], "--bench", "b", "--kind", "replica", "--save", "b.plan")
    run("plan", "--image", "big.img", "--drive", "stick.img", "--kind", "replica", "--save", "f.plan")
    for number in range(cases):
        one(number)
finally:
    os.chdir("/")
    shutil.rmtree(work, ignore_errors=True)
print(f"{passed} passed, {failed} failed")
sys.exit(failed > 0)
