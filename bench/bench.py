#!/usr/bin/env python3
"""Speed and memory, as ratios against plain baselines in the same run. Medians of interleaved runs.

    bench.py BUILD_FOLDER
"""
import io
import json
import os
import random
import resource
import statistics
import subprocess
import sys
import tarfile
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


def make_root(path, files, mean_bytes, changed=0):
    """The archive of a root file system: so many files, most of them small, and what makes a root of them; of a hundred so many
    are not those of the same archive without."""
    rng = random.Random(7)
    noise = rng.randbytes(1 << 22)
    with tarfile.open(path, "w") as tar:
        def add(name, content, mode=0o644):
            info = tarfile.TarInfo(name)
            info.size, info.mode, info.mtime = len(content), mode, 1700000000
            tar.addfile(info, io.BytesIO(content))
        add("etc/os-release", b'PRETTY_NAME="Hut System 3"\n')
        add("bin/sh", b"\x7fELF\x02\x01\x01" + bytes(9) + b"\x03\x00\x3e\x00" + bytes(80), 0o755)
        add("boot/vmlinuz-6.1", bytes(0x202) + b"HdrS" + bytes(8 << 20))
        for i in range(files):
            size = min(int(rng.expovariate(1 / mean_bytes)), 1 << 21)
            at = rng.randrange(1 << 21)
            content = noise[at:at + size]
            add(f"usr/{i % 97}/{i % 1013}/file-{i}", content[::-1] if i * 7 % 100 < changed else content)
    return os.path.getsize(path)


# What a process had before it became the command counts among its own: so a small one starts it.
WATCH = """import os, sys, time
began = time.monotonic()
child = os.fork()
if child == 0:
    os.dup2(2, 1)
    os.execvp(sys.argv[1], sys.argv[1:])
_, status, usage = os.wait4(child, 0)
print(time.monotonic() - began, usage.ru_maxrss, status)
"""


def peak_and_text(*command):
    """A command's own seconds, the most memory it had, in MiB, and what it said."""
    done = subprocess.run([sys.executable, "-S", "-c", WATCH, *command], capture_output=True, text=True)
    seconds, peak, status = done.stdout.split()
    if status != "0":
        sys.exit(f"{' '.join(command)} failed: {done.stderr}")
    return float(seconds), int(peak) / 1024, done.stderr


def peak_of(*command):
    return peak_and_text(*command)[:2]


class Trace:
    """The writes that reach a block device, in their order; None where the kernel does not tell."""
    root = "/sys/kernel/tracing"

    def __init__(self, device):
        self.device, self.place = device, None
        subprocess.run(["mount", "-t", "tracefs", "none", self.root], capture_output=True)
        place = f"{self.root}/instances/satchel-bench"
        try:
            os.makedirs(place, exist_ok=True)
            open(f"{place}/buffer_size_kb", "w").write("65536")
            open(f"{place}/events/block/block_rq_issue/enable", "w").write("1")
            open(f"{place}/trace", "w").close()
            self.place = place
        except OSError:
            pass

    def writes(self):
        if not self.place:
            return None
        number = os.stat(self.device).st_rdev
        sign = f" {os.major(number)},{os.minor(number)} W"
        found = []
        for line in open(f"{self.place}/trace"):
            if "block_rq_issue:" in line and sign in line:
                at, _, count = line.split(")")[-1].split()[:3]  # "SECTOR + COUNT [...]"
                found.append((int(at), int(count)))
        open(f"{self.place}/events/block/block_rq_issue/enable", "w").write("0")
        os.rmdir(self.place)
        return found


def slow_stick(writes):
    """Seconds on a stick that writes 20 MB/s in order, and 4 KiB out of order at 0.5 MB/s: 8 ms more for each of those."""
    seconds, end = 0.0, 0
    for at, count in writes:
        seconds += count * 512 / 20e6 + (0.008 if at != end else 0)
        end = at + count
    return seconds


def systems(folder):
    """A full system built, against a plain sequential write of as many bytes, and against the kernel's own ext4 on a loop
    device filled by tar."""
    tar, drive, plain, plan = (os.path.join(folder, n) for n in ("root.tar", "system.img", "plain.img", "system.plan"))
    size = make_root(tar, 30000, 18000)
    for target in (drive, plain):
        with open(target, "wb") as f:
            f.truncate(2 << 30)
    run(satchel, "plan", "--image", tar, "--drive", drive, "--kind", "system", "--save", plan)
    name = json.loads(run(satchel, "drives", drive, "--json")[1])["drives"][0]["name"]
    with open(plan) as f:
        written = json.load(f)["result"]["write_bytes"]
    ours, copied, kernels, kernel_bytes, modelled = [], [], [], [], []
    mounted = os.path.join(folder, "mounted")
    os.makedirs(mounted, exist_ok=True)
    root = os.geteuid() == 0
    for i in range(max(RUNS // 2, 3) + 1):
        run("sync")
        a, _ = run(satchel, "build", plan, "--confirm", name, "--afresh", "--no-check", "--json")
        run("sync")
        b, _ = run("sh", "-c", f"head -c {written} '{tar}' /dev/zero 2>/dev/null | dd of='{plain}' bs=4M conv=notrunc,fsync 2>/dev/null")
        c = 0
        if root:
            run("mke2fs", "-q", "-F", "-t", "ext4", "-E", "lazy_itable_init=0", plain)
            loop = run("losetup", "--show", "-f", plain)[1].strip()
            before = int(open(f"/sys/block/{loop[5:]}/stat").read().split()[6])
            trace = Trace(loop)
            c, _ = run("sh", "-c", f"mount {loop} '{mounted}' && tar -xf '{tar}' -C '{mounted}' && umount '{mounted}'")
            kernel_bytes.append((int(open(f"/sys/block/{loop[5:]}/stat").read().split()[6]) - before) * 512)
            found = trace.writes()
            if found:
                modelled.append(slow_stick(found))
            run("losetup", "-d", loop)
        if i:
            ours.append(a)
            copied.append(b)
            kernels.append(c)
    direct = []
    if root:  # the volume that tar filled is a root, too, and nothing has to be unpacked
        run(satchel, "plan", "--image", plain, "--drive", drive, "--kind", "system", "--save", plan, "--over")
        for i in range(max(RUNS // 2, 3)):
            run("sync")
            a, _ = run(satchel, "build", plan, "--confirm", name, "--afresh", "--no-check", "--json")
            direct.append(a / (copied[i] + digest(plain)))
    ratio = statistics.median([a / b for a, b in zip(ours, copied)])
    print(f"full system of 30,003 files, {size >> 20} MiB of archive, {written >> 20} MiB written: {statistics.median(ours):.2f} s; "
          f"as many bytes in order: {statistics.median(copied):.2f} s")
    print(f"  ratio: median {ratio:.2f}, unpacking and digests included" + (f"; from a volume, against that write and its digest: "
          f"{statistics.median(direct):.2f} (target: at most 1.10)" if direct else "") + "; bytes written for each of the layout: 1.00")
    if root:
        print(f"  the kernel's ext4 on a loop device, tar x and sync: {statistics.median(kernels):.2f} s, "
              f"{statistics.median(kernel_bytes) / written:.2f} x the bytes; ratio {statistics.median([a / c for a, c in zip(ours, kernels)]):.2f}")
    if modelled:
        stick = slow_stick([(0, written // 512)])
        print(f"  on a slow stick (20 MB/s in order, 0.5 MB/s for small writes), modelled from the writes in their order: {stick:.0f} s against "
              f"{statistics.median(modelled):.0f} s, ratio {stick / statistics.median(modelled):.2f}")
    make_root(tar, 300000, 60)
    os.truncate(drive, 0)
    os.truncate(drive, 4 << 30)
    p, planning = peak_of(satchel, "plan", "--image", tar, "--drive", drive, "--kind", "system", "--save", plan, "--over")
    b, building = peak_of(satchel, "build", plan, "--confirm", json.loads(run(satchel, "drives", drive, "--json")[1])["drives"][0]["name"], "--afresh")
    print(f"  of 300,003 files: plan {p:.1f} s, {planning:.0f} MiB; build {b:.1f} s, {building:.0f} MiB (target: under {64 + 300 * (300003 + 97 * 1013 + 97) / (1 << 20):.0f} MiB, with its folders)")


def renewals(folder):
    """A full system renewed by one of which a tenth of the files differ, against building the newer one."""
    tar, newer, drive, fresh, plan = (os.path.join(folder, n) for n in ("was.tar", "newer.tar", "renewed.img", "fresh.img", "renewal.plan"))
    make_root(tar, 30000, 18000)
    make_root(newer, 30000, 18000, changed=10)
    for target in (drive, fresh):
        with open(target, "wb") as f:
            f.truncate(4 << 30)
    planned, renewed, built, moved = [], [], [], []
    names = {t: json.loads(run(satchel, "drives", t, "--json")[1])["drives"][0]["name"] for t in (drive, fresh)}
    for i in range(3):
        for source, target in ((tar, drive), (newer, fresh)):
            run(satchel, "plan", "--image", source, "--drive", target, "--kind", "system", "--save", plan, "--over")
            b, out = run(satchel, "build", plan, "--confirm", names[target], "--afresh", "--no-check", "--json")
        p, peak = peak_of(satchel, "plan", "--image", newer, "--drive", drive, "--kind", "renewal", "--save", plan, "--over")
        r, changed = run(satchel, "build", plan, "--confirm", names[drive], "--no-check", "--json")
        planned.append(p)
        renewed.append(r)
        built.append(b)
        moved.append(json.loads(changed)["written_bytes"] / json.loads(out)["written_bytes"])
    print(f"full system of 30,003 files renewed, a tenth of them changed: plan {statistics.median(planned):.2f} s, {peak:.0f} MiB; build {statistics.median(renewed):.2f} s, "
          f"the newer one built anew {statistics.median(built):.2f} s; bytes written {statistics.median(moved):.2f} x")


def twins(folder):
    """A drive used for 30 % carried over, against a plain copy of the whole device, and against tar from one mounted ext4 to another."""
    if os.geteuid():
        return print("twins: only root may mount what they are compared with")
    tar, original, twin, copy, plain, plan = (os.path.join(folder, n) for n in ("twin.tar", "original.img", "twin.img", "copy.img", "tarred.img", "twin.plan"))
    a, b = (os.path.join(folder, n) for n in ("a", "b"))
    make_root(tar, 30000, 18000)
    for target in (original, twin, copy, plain):
        with open(target, "wb") as f:
            f.truncate(2560 << 20)
    for place in (a, b):
        os.makedirs(place, exist_ok=True)
    run("sh", "-c", f"echo '2048,,L' | sfdisk -q '{original}'")
    run("mke2fs", "-q", "-F", "-t", "ext4", "-E", "offset=1048576", original, f"{(2559 << 20) >> 10}k")
    run("sh", "-c", f"mount -o loop,offset=1048576 '{original}' '{a}' && tar -xf '{tar}' -C '{a}' && umount '{a}'")
    name = json.loads(run(satchel, "drives", twin, "--json")[1])["drives"][0]["name"]
    ours, whole, tarred, peak = [], [], [], 0
    for i in range(max(RUNS // 2, 3) + 1):
        run("sync")
        if os.path.exists(plan):
            os.unlink(plan)
        t, most = peak_of(satchel, "twin", original, "--drive", twin, "--confirm", name, "--save", plan, "--afresh", "--no-check", "--json")
        run("sync")
        w, _ = run("dd", f"if={original}", f"of={copy}", "bs=4M", "conv=notrunc,fsync")
        run("mke2fs", "-q", "-F", "-t", "ext4", "-E", "lazy_itable_init=0", plain)
        run("sync")
        k, _ = run("sh", "-c", f"mount -o loop,ro,offset=1048576 '{original}' '{a}' && mount -o loop '{plain}' '{b}' && tar -C '{a}' -cf - . | tar -C '{b}' -xf - && umount '{a}' '{b}'")
        if i:
            ours.append(t)
            whole.append(w)
            tarred.append(k)
        peak = max(peak, most)
    ratio = lambda base: statistics.median([x / y for x, y in zip(ours, base)])
    with open(plan) as f:
        written = json.load(f)["result"]["write_bytes"]
    print(f"twin of a drive of 2.5 GiB that is used for 30 %, 30,003 files: plan and build {statistics.median(ours):.2f} s, {written >> 20} MiB written, {peak:.0f} MiB of memory")
    print(f"  a plain copy of the whole device: {statistics.median(whole):.2f} s, ratio {ratio(whole):.2f}; tar from one mounted ext4 to another: {statistics.median(tarred):.2f} s, ratio {ratio(tarred):.2f}")
    run("sh", "-c", f"mount -o loop,offset=1048576 '{original}' '{a}' && find '{a}/usr/1' '{a}/usr/2' -type f -exec sh -c 'for f; do echo more >> \"$f\"; done' - {{}} + && umount '{a}'")
    os.unlink(plan)
    began = time.monotonic()
    said = json.loads(run(satchel, "twin", original, "--drive", twin, "--confirm", name, "--save", plan, "--refresh", "--json")[1])
    print(f"  brought up to date, 2 % of the files changed: {time.monotonic() - began:.2f} s, {said['written_bytes'] >> 20} MiB written")


def drives_of(folder, count, size):
    """A simulated bench of so many drives, each slower than the one before it; what it is called, and their names."""
    bench = os.path.join(folder, f"bench-{count}")
    text = {"format": "wild-satchel-bench", "version": 1, "seed": 1, "pcs": [], "drives": [
        {"name": f"Gorse {i}", "serial": f"GP-{i}", "bus": "usb", "size_bytes": size, "write_bytes_s": 30e6 - 2.5e6 * i,
         "read_bytes_s": 100e6 - 8e6 * i, "small_write_s": 0.002, "cache_bytes": 16 << 20} for i in range(count)]}
    with open(bench + ".json", "w") as f:
        json.dump(text, f)
    run(satchel, "bench", "setup", bench + ".json", "--bench", bench)
    listed = json.loads(run(satchel, "drives", "--bench", bench, "--json")[1])["drives"]
    return bench, sorted((d["name"] for d in listed), key=lambda n: [d["serial"] for d in listed if d["name"] == n])


def prepare(image, names, *more):
    words = [w for n in names for w in ("--drive", n, "--confirm", n)]
    seconds, peak, out = peak_and_text(satchel, "prepare", "--image", image, "--json", "--afresh", *words, *more)
    return seconds, peak, json.loads(out)


def many(folder):
    """Several drives at once, against the slowest of them alone: on the simulated bench by its own clock, and files on one disk."""
    image, packed = os.path.join(folder, "many.iso"), os.path.join(folder, "many.tar")
    run(os.path.join(build, "demo-image"), image, "live-boot", "200")
    make_root(packed, 3000, 40000)
    print("several drives of unequal speed at once, on the simulated bench by its own clock:")
    for what, source, how in (("live image", image, ("--persistence", "64M")), ("full system", packed, ("--kind", "system"))):
        for count in (1, 2, 4, 8):
            bench, names = drives_of(folder, count, 1 << 30)
            seconds, peak, said = prepare(source, names, "--bench", bench, "--keep-in", folder, *how)
            slowest, _, only = prepare(source, names[-1:], "--bench", bench, "--keep-in", folder, *how)
            took = max(d["seconds"] for d in said["drives"])
            alone = only["drives"][0]["seconds"]
            print(f"  {what}, {count} drive{'s' if count > 1 else ' '}: {took:6.1f} s, the slowest alone {alone:6.1f} s, ratio {took / alone:.2f} "
                  f"(target: at most 1.10); read {said['source_read_bytes'] / (1 << 20):.0f} MiB for {said['source_wanted_bytes'] / (1 << 20):.0f}; "
                  f"{peak:.0f} MiB of memory")
            subprocess.run(["rm", "-rf", bench])
    sticks = [os.path.join(folder, f"many-{i}.img") for i in range(4)]
    for s in sticks:
        with open(s, "wb") as f:
            f.truncate(1 << 30)
    names = [json.loads(run(satchel, "drives", s, "--json")[1])["drives"][0]["name"] for s in sticks]
    for what, source, how in (("live image", image, ("--persistence", "64M")), ("full system", packed, ("--kind", "system"))):
        all_four, one, copies = [], [], []
        for i in range(max(RUNS // 2, 3) + 1):
            words = [w for s, n in zip(sticks, names) for w in ("--drive", s, "--confirm", n)]
            run("sync")
            a, peak, _ = peak_and_text(satchel, "prepare", "--image", source, "--json", "--afresh", "--keep-in", folder, *how, *words)
            run("sync")
            b, _, _ = peak_and_text(satchel, "prepare", "--image", source, "--json", "--afresh", "--keep-in", folder, *how, *words[:4])
            if i:
                all_four.append(a)
                one.append(b)
        print(f"  {what} on 4 files of one disk at once: {statistics.median(all_four):.2f} s, one of them alone {statistics.median(one):.2f} s: "
              f"{statistics.median([a / b for a, b in zip(all_four, one)]):.2f} x for 4 x the bytes; {peak:.0f} MiB of memory")


def names(folder):
    """Ten times as many names should take ten times as long, whatever reads them."""
    count = os.environ.get("WS_BENCH_NAMES", "20000")
    _, out = run(os.path.join(build, "bench", "many_names"), count, os.path.join(folder, "names"))
    print(f"{count} and ten times as many names, seconds, and how much more than ten times as long that took:")
    for line in out.splitlines():
        what, shape, few, many, ratio = line.split("|")
        print(f"  {what:18} {shape:26} {few:>8} {many:>8}  {ratio} x")


def care(folder):
    """4 GiB that remember become 24, and 3 again, against the file system's own tools on as large a volume."""
    stick, volume = os.path.join(folder, "care.img"), os.path.join(folder, "care.ext4")
    image = os.path.join(folder, "care.iso")
    run(os.path.join(build, "demo-image"), image)
    ours, theirs = [], []
    for _ in range(max(RUNS // 2, 3)):
        for path, size in ((stick, 30 << 30), (volume, 4 << 30)):
            if os.path.exists(path):
                os.unlink(path)
            with open(path, "wb") as f:
                f.truncate(size)
        name = json.loads(run(satchel, "drives", stick, "--json")[1])["drives"][0]["name"]
        run(satchel, "prepare", "--image", image, "--persistence", "4G", "--keep-in", folder, "--drive", stick, "--confirm", name, "--json", "--afresh")
        grown, peak, _ = peak_and_text(satchel, "keep", "grow", stick, "--size", "24G", "--confirm", name, "--json")
        shrunk, _, _ = peak_and_text(satchel, "keep", "shrink", stick, "--size", "3G", "--confirm", name, "--json")
        ours.append((grown, shrunk))
        run("mkfs.ext4", "-q", volume)
        with open(volume, "r+b") as f:
            f.truncate(24 << 30)
        began = time.monotonic()
        run("e2fsck", "-fp", volume)
        run("resize2fs", volume)
        middle = time.monotonic()
        run("e2fsck", "-fp", volume)
        run("resize2fs", volume, "3G")
        theirs.append((middle - began, time.monotonic() - middle))
    mine, other = ([statistics.median(t[i] for t in times) for i in (0, 1)] for times in (ours, theirs))
    print(f"4 GiB of persistence made 24 GiB: {mine[0]:.2f} s (target: under 1 s), {peak:.0f} MiB of memory (under 64); the file system's own tools {other[0]:.2f} s")
    print(f"  and 3 GiB again: {mine[1]:.2f} s; {other[1]:.2f} s")


def snapshots(folder):
    """What a proof on a PC of one's own looks at: 300,000 remembered files, and after a session that changed some of
    them the difference; against find and sha256sum on a mount of the same volume, both times."""
    stick, image, proof, place = (os.path.join(folder, n) for n in ("seen.img", "seen.iso", "seen.proof", "seen"))
    files = int(os.environ.get("WS_BENCH_FILES", "300000"))
    run(os.path.join(build, "demo-image"), image)
    with open(stick, "wb") as f:
        f.truncate(12 << 30)
    name = json.loads(run(satchel, "drives", stick, "--json")[1])["drives"][0]["name"]
    run(satchel, "prepare", "--image", image, "--persistence", "10G", "--keep-in", folder, "--drive", stick, "--confirm", name, "--json")
    part = [p for p in json.loads(run(satchel, "drives", stick, "--json")[1])["drives"][0]["parts"] if p["label"] == "persistence"][0]
    os.mkdir(place)

    def mounted(work):
        run("mount", "-o", f"loop,offset={part['at_bytes']},sizelimit={part['size_bytes']}", stick, place)
        took = work()
        run("umount", place)
        return took

    def fill():
        for i in range(files):
            if i % 1000 == 0:
                os.makedirs(f"{place}/rw/home/tide/{i // 1000}", exist_ok=True)
            with open(f"{place}/rw/home/tide/{i // 1000}/{i}", "w") as f:
                f.write(f"low water {i}\n" * (i % 40))

    def change():
        for i in range(0, files, 100):
            with open(f"{place}/rw/home/tide/{i // 1000}/{i}", "a") as f:
                f.write("changed\n")

    def theirs():
        began = time.monotonic()
        if subprocess.run(f"cd {place} && find rw -type f -print0 | sort -z | xargs -0 sha256sum >/dev/null", shell=True).returncode:
            sys.exit("the baseline failed")
        return time.monotonic() - began

    mounted(fill)
    first, peak, _ = peak_and_text(satchel, "prove", stick, "--on", "own-pc", "--proof", proof, "--json")
    other = mounted(theirs)
    mounted(change)
    second, later, text = peak_and_text(satchel, "prove", stick, "--on", "own-pc", "--proof", proof, "--json")
    saved = json.loads(text)["rounds"][0]["saved"]["people"]["changed"]
    other += mounted(theirs)
    room = 64 + files * 300 / (1 << 20)
    print(f"{files:,} remembered files looked at: {first:.1f} s, and again with the difference, {saved} changed: {second:.1f} s (target: under 10 s); "
          f"{max(peak, later):.0f} MiB of memory (target: {room:.0f})")
    print(f"  find and sha256sum on a mount of it, both times: {other:.1f} s; ratio {(first + second) / other:.2f}; the proof takes {os.path.getsize(proof) / (1 << 20):.1f} MiB")


def cuts(folder):
    """Power cut at each write: clean, with the write torn, with what the drive's cache held arriving in no order."""
    print("power cut at each write of a change to what a drive remembers (target: nothing lost):")
    for program, name in (("test_keep", "cut at every write"), ("test_sized", "cut"), ("test_under", "cut at every write"),
                          ("test_larger", "moves what"), ("test_change", "cut anywhere"), ("test_ext4", "cut anywhere")):
        _, out = run(os.path.join(build, "tests", program), name)
        lines = [line.strip() for line in out.splitlines()]
        what = next(line[6:].strip() for line in lines if line.startswith("passed"))
        print(f"  {what}: {next(line for line in lines if 'power cuts' in line)}; 0 lost")


WANTED = os.environ.get("WS_BENCH_ONLY", "replica files persistence memory systems renewals twins many names care cuts snapshots").split()
with tempfile.TemporaryDirectory(prefix="satchel-bench-", dir=os.environ.get("WS_BENCH_FOLDER")) as folder:
    for part in (replica, files, persistence, memory, systems, renewals, twins, many, names, care, cuts, snapshots):
        if part.__name__ in WANTED:
            part(folder)
