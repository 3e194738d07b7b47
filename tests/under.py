#!/usr/bin/env python3
"""A newer image laid under what is remembered: whole, and larger, so that a data volume behind it gives its front, and a file in that
which remembers its own; and file by file, on a volume that others filled, too: the checkers find it sound, all
that others put there is as it was, what the older image alone had is gone, the newer one is all there as on a fresh drive, what is
remembered is as the kernel left it, and the same image a second time changes nothing.

    under.py SATCHEL DEMO_IMAGE CASES         WS_TEST_SEED repeats a run
"""
import json
import mmap
import subprocess

from fillers import SEEN, Exfat, Ext4, Fat, differing, history, others, seen
from sticks import MIB, Loop, cases, data_first, demo_image, dice, fresh_stick, go, parts, run, shell, verdict

FAMILIES = {"live-boot": ("persistence", "live"), "casper": ("writable", "casper"), "dracut": ("overlay", "LiveOS")}
done = {"renewed": 0, "moved": 0, "refused": 0, "made way": 0}


def files_of(text):
    """What a reader saw, as digests and times by path."""
    found = {}
    for line in text.split("\n"):
        if "  ./" in line:
            digest, path = line.split("  ./", 1)
            found[path] = digest
    return found


def look(how, device):
    sound, text, said = seen(how, device)
    return sound, files_of(text), text, said


def remembered(place):
    with Loop(place) as device:
        return shell(f"e2fsck -fn {device} >&2; mount -o ro,noload {device} m; {SEEN}; cd ../..; umount m")


def place_of(name):
    """Where what is remembered stands: by the marks of its file system alone."""
    for p in parts():
        if p["label"] in ("persistence", "casper-rw", "writable", "overlay") and p.get("format", "ext4") == "ext4":
            return p
    return None


def goes_on(what, name, in_file, how, others_part):
    """Sound, and what it was, with nothing left to do; and others write to their volume."""
    checked = run("check", "s.img", "--json").stdout
    verdict(f"{what}: the drive is sound", json.loads(checked)["sound"], checked)
    shown = run("keep", "show", "s.img", "--json")
    verdict(f"{what}: it remembers", shown.returncode == 0 and json.loads(shown.stdout)["in_file"] == in_file, shown.stdout + shown.stderr)
    same = run("keep", "renew", "s.img", "--image", "is.iso", "--stays", "all", "--confirm", name, "--json")
    verdict(f"{what}: a second time nothing differs", same.returncode == 0 and json.loads(same.stdout)["renewal"]["differs_bytes"] == 0, same.stdout[:600])
    with Loop(others_part) as device:
        more_files = shell(how.more.replace("{d}", device) + "; " + how.check.format(d=device))
    verdict(f"{what}: others go on writing", more_files.returncode == 0, more_files.stdout + more_files.stderr)


def case(number):
    family = dice.choice(sorted(FAMILIES))
    how = dice.choice([Fat, Exfat])
    in_file = dice.random() < 0.4
    words = ["--arrangement", "files", "--files-on", "exfat" if how is Exfat else "fat32", *dice.choice([[], ["--table", "gpt"]])]
    words += ["--check-at-start", dice.choice(["off", "quick", "full"])]
    if in_file:
        words += ["--in", "file", "--persistence", f"{dice.choice([60, 100])}M"]
    else:
        words += ["--persistence", f"{dice.choice([100, 150])}M"]
    words += ["--system", f"{dice.choice([120, 330, 700])}M"]
    name = fresh_stick(dice.choice([1200, 2000]) << 20)
    ballast, more = dice.choice([1, 5, 20]), dice.choice([0, 3, 40])
    shell("rm -f was.iso is.iso")
    subprocess.run([demo_image, "was.iso", family, str(ballast)], check=True, capture_output=True)
    subprocess.run([demo_image, "is.iso", f"newer-{family}", str(ballast + more)], check=True, capture_output=True)
    made = run("prepare", "--image", "was.iso", *words, "--drive", "s.img", "--confirm", name, "--afresh")
    if not verdict("a stick", made.returncode == 0, f"{words} {made.stderr}"):
        return
    files = parts()[0]
    with Loop(files) as device:
        older = look(how, device)[1]
        filled = shell(how.fill(device, int(files["size_bytes"] * dice.uniform(0.02, 0.25))))
        edited = shell(f"printf 'by hand\\n' > note; mcopy -o -D o -i {device} note ::/README.TXT" if how is Fat else
                       f"mount.exfat-fuse {device} m >/dev/null; echo 'by hand' > m/README.TXT; umount m")
        sound, before, _, said = look(how, device)
    if not verdict("its volume filled", filled.returncode == 0 and edited.returncode == 0 and sound, filled.stderr + edited.stderr + said):
        return
    was = place = None
    if not in_file:
        place = place_of(name)
        with Loop(place) as device:
            used = history(device, place["size_bytes"])
            verdict("used by the kernel", used.returncode == 0, used.stderr)
            shell(f"cp --sparse=always s.img kept.img; mount {device} m; umount m")
        was = remembered(place)
        shell("mv kept.img s.img")
    again = run("keep", "renew", "s.img", "--image", "is.iso", "--stays", "all", "--confirm", name, "--json")
    what = f"{family} on {'exFAT' if how is Exfat else 'FAT'}, {'in a file' if in_file else 'in a partition'}, {words}, {ballast} and {more} MiB more"
    if again.returncode:
        done["refused"] += 1
        said = json.loads(again.stdout)["error"]
        verdict(f"{what}: refused with a reason", again.returncode in (2, 4) and said["next"] and "room" in said["next"] + said["what"] or "save what it remembers" in said["next"], again.stdout)
        return
    told = json.loads(again.stdout)["renewal"]
    done["moved" if told["moves_bytes"] else "renewed"] += 1
    with Loop(parts()[0]) as device:
        sound, after, _, said = look(how, device)
    verdict(f"{what}: sound", sound, said)
    theirs = {path: digest for path, digest in before.items() if path not in older or older[path] != digest}
    lost = [path for path in theirs if after.get(path) != theirs[path]]
    verdict(f"{what}: what others put there stays", not lost and told["others"] == len(theirs) - told["replaced"], f"{lost[:5]} {told} {len(theirs)}")
    now = place_of(name) if place else None
    if place:
        verdict(f"{what}: it begins where it is said to", now and now["at_bytes"] == place["at_bytes"] + told["moves_bytes"], f"{place} {now} {told}")
        is_now = remembered(now)
        verdict(f"{what}: what is remembered is as it was", is_now.returncode == 0 and is_now.stdout == was.stdout, is_now.stderr + is_now.stdout[:500])
    goes_on(what, name, in_file, how, parts()[0])
    fresh = fresh_stick(2000 << 20)
    made = run("prepare", "--image", "is.iso", *words, "--drive", "s.img", "--confirm", fresh, "--afresh")
    verdict("a fresh one", made.returncode == 0, made.stderr)
    with Loop(parts()[0]) as device:
        newer = look(how, device)[1]
    own = FAMILIES[family][0]
    missing = [path for path in newer if path not in after or (after[path] != newer[path] and not path.startswith(("loader/", "boot/", "isolinux/", own)) and "md5" not in path)]
    verdict(f"{what}: the newer image is all there", not missing, f"{missing[:8]}")
    stale = [path for path in older if path not in newer and path not in theirs and path in after]
    verdict(f"{what}: nothing of the older one is left", not stale, f"{stale[:8]}")


def volume_in(part):
    """Where an ext4 volume begins in this part of the stick, by the label and the magic number of its first superblock."""
    with open("s.img", "rb") as f, mmap.mmap(f.fileno(), 0, access=mmap.ACCESS_READ) as m:
        for label in (b"persistence", b"casper-rw", b"writable", b"overlay"):
            at, end = part["at_bytes"], part["at_bytes"] + part["size_bytes"]
            while (at := m.find(label.ljust(16, b"\0"), at + 1, end)) >= 0:
                begin = at - 0x78 - 1024
                if m[begin + 1024 + 0x38:begin + 1024 + 0x3a] == b"\x53\xef" and m[begin + 1024 + 0x5a:begin + 1024 + 0x5c] == b"\0\0":
                    size = int.from_bytes(m[begin + 1024 + 4:begin + 1024 + 8], "little") * 4096
                    return {"at_bytes": begin, "size_bytes": size}
    return None


def data_between(how):
    """The data volume stands between the image and what remembers then, as others make it."""
    remembers, data = parts()[-2:]
    data_first(data["size_bytes"], remembers["at_bytes"] + data["size_bytes"], ("c", "83"))
    with Loop(parts()[-2]) as device:
        made = shell("wipefs -qa {d}; ".replace("{d}", device) + how.make(dice.choice(sorted(set(how.kinds) - {"fat12"}))).replace("{d}", device))
    verdict("a data volume", made.returncode == 0, made.stderr)


def whole(number):
    family, in_file = dice.choice(sorted(FAMILIES)), dice.random() < 0.6
    how = dice.choice([Fat, Exfat] if in_file else [Fat, Exfat, Ext4])
    name = fresh_stick(dice.choice([1200, 2000]) << 20)
    more = dice.choice([1, 30, 80])
    shell("rm -f was.iso is.iso")
    subprocess.run([demo_image, "was.iso", family, "1"], check=True, capture_output=True)
    subprocess.run([demo_image, "is.iso", f"newer-{family}", str(1 + more)], check=True, capture_output=True)
    words = ["--in", "file", "--data-on", "exfat" if how is Exfat else "fat32"] if in_file else []
    made = run("prepare", "--image", "was.iso", *words, "--persistence", f"{dice.choice([100, 250])}M", "--data", f"{dice.choice([400, 600])}M", "--drive", "s.img",
               "--confirm", name, "--afresh")
    if not verdict("a stick", made.returncode == 0, f"{words} {made.stderr}"):
        return
    if not in_file:
        data_between(how)
    data, own = parts()[-1 if in_file else -2], FAMILIES[family][0]
    with Loop(data) as device:
        filled = shell(how.fill(device, int(data["size_bytes"] * dice.uniform(0.05, 0.3))))
    place = volume_in(data if in_file else parts()[-1])
    with Loop(place) as device:
        used = history(device, place["size_bytes"])
    with Loop(data) as device:
        sound, before, said = seen(how, device)
    what = f"{how.__name__}, {family}, {'in a file' if in_file else 'in a partition'}, {more} MiB more"
    if not verdict(f"{what}: filled", filled.returncode == 0 and used.returncode == 0 and sound, filled.stderr + used.stderr + said):
        return
    shell("cp --sparse=always s.img kept.img")  # a volume that was not unmounted is replayed by looking
    was = remembered(place)
    shell("mv kept.img s.img")
    again = run("keep", "renew", "s.img", "--image", "is.iso", "--stays", "all", "--confirm", name, "--json")
    if again.returncode:
        done["refused"] += 1
        verdict(f"{what}: refused with a reason", again.returncode in (2, 4) and json.loads(again.stdout)["error"]["next"], again.stdout)
        return
    told = json.loads(again.stdout)["renewal"]
    done["made way"] += told["neighbour"] is not None
    now = parts()[-1 if in_file else -2]
    verdict(f"{what}: its data volume begins where it is said to", told["neighbour"] is None or
            (now["at_bytes"] == told["neighbour"]["at"] > data["at_bytes"] and now["at_bytes"] + now["size_bytes"] == data["at_bytes"] + data["size_bytes"]), f"{data} {now} {told}")
    with Loop(now) as device:
        sound, after, said = seen(how, device)
    verdict(f"{what}: its data volume is sound", sound, said)
    verdict(f"{what}: every file of it is as it was", others(after, own) == others(before, own), differing(others(before, own), others(after, own)))
    place["at_bytes"] += told["moves_bytes"] if in_file else 0
    place["size_bytes"] -= told["moves_bytes"]
    is_now = remembered(place)
    verdict(f"{what}: what is remembered is as it was", is_now.returncode == 0 and is_now.stdout == was.stdout, is_now.stderr + differing(was.stdout, is_now.stdout))
    goes_on(what, name, in_file, how, now)


def one(number):
    (whole if number % 2 else case)(number)
    if number + 1 == cases:
        verdict("hardly any had no room", (cases < 5 or done["refused"] <= cases // 3) and (cases < 20 or done["made way"] * 4 >= cases), f"{done}")


go("under", one)
