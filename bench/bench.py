#!/usr/bin/env python3
"""Speed and memory, as ratios against plain baselines in the same run. Medians of interleaved runs.

    bench.py BUILD_FOLDER
"""
import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time

build = os.path.abspath(sys.argv[1])
satchel = os.path.join(build, "satchel")
RUNS = int(os.environ.get("WS_BENCH_RUNS", "7"))
FILES_MIB = int(os.environ.get("WS_BENCH_FILES_MIB", "1000"))
IMAGE_MIB = int(os.environ.get("WS_BENCH_MIB", "512"))


def run(*command):
    began = time.monotonic()
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"{' '.join(command)}: {done.stderr}{done.stdout}")
    return time.monotonic() - began, done.stdout


def drop(path):
    fd = os.open(path, os.O_RDONLY)
    os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
    os.close(fd)


# SHA-256 of every second piece of 4 MiB: two of these side by side are a digest of the same kind on as many processors.
HALF = """import hashlib, sys
with open(sys.argv[1], "rb") as f:
    f.seek(int(sys.argv[2]) << 22)
    while piece := f.read(1 << 22):
        hashlib.sha256(piece).digest()
        f.seek(1 << 22, 1)
"""


def digest(path):
    began = time.monotonic()
    halves = [subprocess.Popen([sys.executable, "-c", HALF, path, str(i)]) for i in range(2)]
    if any([h.wait() for h in halves]):
        sys.exit("the baseline's digest failed")
    return time.monotonic() - began


def replica(folder):
    image = os.path.join(folder, "image.bin")
    stick = os.path.join(folder, "stick.img")
    copy = os.path.join(folder, "copy.img")
    with open(image, "wb") as f:
        for _ in range(IMAGE_MIB):
            f.write(os.urandom(1 << 20))
    for target in (stick, copy):
        with open(target, "wb") as f:
            f.truncate(IMAGE_MIB + 64 << 20)
    plan = os.path.join(folder, "replica.plan")
    subprocess.run([satchel, "plan", "--image", image, "--drive", stick, "--kind", "replica", "--save", plan],
                   capture_output=True)  # random bytes: the plan says that it is no image, and means it
    name = json.loads(run(satchel, "drives", stick, "--json")[1])["drives"][0]["name"]
    ours, plain = [], []
    for i in range(RUNS + 1):
        run("sync")
        a, _ = run(satchel, "build", plan, "--confirm", name, "--afresh", "--even-so", "--json")
        run("sync")
        b, _ = run("sh", "-c", f"cp '{image}' '{copy}' && sync '{copy}'")
        drop(copy)
        c, _ = run("cmp", "-n", str(IMAGE_MIB << 20), image, copy)
        if i:  # the first pair warms up
            ours.append(a)
            plain.append(b + c)
    ratios = [a / b for a, b in zip(ours, plain)]
    print(f"replica of {IMAGE_MIB} MiB, written and checked: {statistics.median(ours):.2f} s; "
          f"cp + sync + cmp: {statistics.median(plain):.2f} s")
    print(f"  ratio: median {statistics.median(ratios):.2f}, {min(ratios):.2f} to {max(ratios):.2f} (target: at most 1.05)")


def files(folder):
    """The same image laid down file by file, its digest compared meanwhile, against its bytes copied to one file and
    synced, and a digest of the same kind."""
    image = os.path.join(folder, "live.iso")
    stick = os.path.join(folder, "files.img")
    copy = os.path.join(folder, "copy.img")
    plan = os.path.join(folder, "files.plan")
    run(os.path.join(build, "demo-image"), image, "live-boot", str(FILES_MIB))
    with open(stick, "wb") as f:
        f.truncate((FILES_MIB + 512) << 20)
    run(satchel, "plan", "--image", image, "--drive", stick, "--arrangement", "files", "--persistence", "128M",
        "--save", plan)
    name = json.loads(run(satchel, "drives", stick, "--json")[1])["drives"][0]["name"]
    ours, plain, hashed = [], [], []
    for i in range(RUNS + 1):
        run("sync")
        a, _ = run(satchel, "build", plan, "--confirm", name, "--no-check", "--json")
        run("sync")
        b, _ = run("sh", "-c", f"cp '{image}' '{copy}' && sync '{copy}'")
        c = digest(image)
        if i:
            ours.append(a)
            plain.append(b)
            hashed.append(c)
        os.unlink(copy)
    with open(plan) as f:
        written = json.load(f)["result"]["write_bytes"]
    ratios = [a / (b + c) for a, b, c in zip(ours, plain, hashed)]
    without = statistics.median([a / b for a, b in zip(ours, plain)])
    print(f"{os.path.getsize(image) >> 20} MiB image laid down file by file, {written / (1 << 20):.0f} MiB written: "
          f"{statistics.median(ours):.2f} s; cp + sync of the image: {statistics.median(plain):.2f} s, "
          f"its digest on two processors: {statistics.median(hashed):.2f} s")
    print(f"  ratio: median {statistics.median(ratios):.2f}, {min(ratios):.2f} to {max(ratios):.2f} (target: at most "
          f"1.10); against cp + sync alone {without:.2f}")


def persistence(folder):
    volume = os.path.join(folder, "volume.img")
    seconds, written = [], 0
    for _ in range(RUNS):
        _, out = run(os.path.join(build, "bench", "compose_persistence"), volume, "64GiB")
        d = json.loads(out)
        seconds.append(d["total_s"])
        written = d["written_bytes"]
    print(f"64 GiB persistence composed and written: median {statistics.median(seconds):.3f} s (target: under 0.5 s), "
          f"{written / (1 << 20):.1f} MiB written (target: under 80 MiB)")


def memory(folder):
    volume = os.path.join(folder, "volume.img")
    for size in ("64GiB", "15TiB"):
        run(os.path.join(build, "bench", "compose_persistence"), volume, size)
        os.unlink(volume)
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"peak memory of any command above, a 15 TiB volume among them: {peak:.0f} MiB (target: under 64 MiB)")


def names(folder):
    """Ten times as many names should take ten times as long, whatever reads them."""
    count = os.environ.get("WS_BENCH_NAMES", "20000")
    _, out = run(os.path.join(build, "bench", "many_names"), count, os.path.join(folder, "names"))
    print(f"{count} and ten times as many names, seconds, and how much more than ten times as long that took:")
    for line in out.splitlines():
        what, shape, few, many, ratio = line.split("|")
        print(f"  {what:18} {shape:26} {few:>8} {many:>8}  {ratio} x")


with tempfile.TemporaryDirectory(prefix="satchel-bench-", dir=os.environ.get("WS_BENCH_FOLDER")) as folder:
    replica(folder)
    files(folder)
    persistence(folder)
    memory(folder)
    names(folder)
