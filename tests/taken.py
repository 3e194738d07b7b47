#!/usr/bin/env python3
"""Room for what is remembered, taken from the data volume behind it, or in front of it, that others filled, in pieces: FAT of all widths (mtools), exFAT
(its FUSE driver), swap in between. The checkers find both sound, they see every file as it was, under both of its names where FAT
has two, and go on writing to it.

    taken.py SATCHEL DEMO_IMAGE CASES         WS_TEST_SEED repeats a run
"""
import json, os

from fillers import KINDS, LOOK, Exfat, Ext4, Fat, differing, others, seen
from sticks import MIB, Loop, cases, data_first, dice, fresh_stick, go, parts, run, shell, verdict

ALL = KINDS + [(kind, Ext4) for kind in Ext4.kinds]
dice.shuffle(ALL)
moved = 0


def stick(data):
    name = fresh_stick(dice.choice([3, 4, 7]) << 30)
    done = run("prepare", "--image", "curlew.iso", "--persistence", f"{dice.choice([40, 150, 300])}M", "--data", f"{data}M", "--drive", "s.img", "--confirm", name, "--afresh",
               *dice.choice([[], ["--arrangement", "files", "--table", "gpt"], ["--arrangement", "files", "--table", "mbr"]]))
    verdict("a stick", done.returncode == 0, done.stderr)
    return name


def swap_between():
    """The data volume begins behind a swap area then."""
    there = parts()[-1]
    before = json.loads(shell("sfdisk --json s.img").stdout)["partitiontable"]
    number = max(range(len(before["partitions"])), key=lambda i: before["partitions"][i]["start"]) + 1
    start, size = there["at_bytes"] // 512, 32 * 2048
    done = shell(f"""sfdisk -q --delete s.img {number}
        printf 'start={start}, size={size}, type=swap\nstart={start + size}, size={there["size_bytes"] // 512 - size}, type=uefi\n' | sed 's/uefi/EBD0A0A2-B9E5-4433-87C0-68B6B72699C7/' | sfdisk -q -a s.img
        d=$(losetup -f --show -o {start * 512} --sizelimit {size * 512} s.img); mkswap -L SLIP $d; losetup -d $d""")
    verdict("swap in between", done.returncode == 0, done.stderr)


def data_in_front(whole):
    """The data volume stands before what remembers then, which takes the stick's end."""
    remembers, data = parts()[-2:]
    begin = (os.path.getsize("s.img") - MIB - remembers["size_bytes"]) // MIB * MIB
    types = ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "0FC63DAF-8483-4772-8E79-3D69D8477DE4") if is_gpt() else ("c", "83")
    data_first(begin - remembers["at_bytes"] if whole else data["size_bytes"], begin, types)


def is_gpt():
    return json.loads(run("drives", "s.img", "--json").stdout)["drives"][0]["table"] == "gpt"


def least_of(number, unit):
    """MiB of which this is told, at least: it was rounded."""
    return int((float(number) - (0.05 if "." in number else 0.5)) * {"MiB": 1, "GiB": 1024}[unit])


def most_told(name):
    """MiB that it could have, from what it says to a number that cannot be."""
    told = run("keep", "grow", "s.img", "--confirm", name, "--size", "900G", "--take-from-data", "--json")
    error = json.loads(told.stdout)["error"]
    verdict("the most is told", told.returncode in (2, 4) and ("up to" in error["what"] or "can give room" in error["what"] or "blocks have another size" in error["what"]), told.stdout)
    if "up to" not in error["what"]:
        return 0
    n, unit = error["what"].split("up to ")[1].split(" · ")[1].split(" ")[:2]
    return least_of(n, unit)


def case(number):
    global moved
    kind, how = ALL[number % len(ALL)]
    data = {"fat12": dice.randrange(64, 120), "fat16": dice.randrange(64, 500)}.get(kind, dice.randrange(300, 1200))
    name = stick(data)
    front = dice.random() < 0.4
    swaps = not front and is_gpt() and dice.random() < 0.7
    remembers = parts()[-2]
    if front:
        data_in_front(kind[:4] in ("fat3", "exfa", "ext4") and dice.random() < 0.5)
    if swaps:
        swap_between()
    there, remembers = (parts()[-2], parts()[-1]) if front else (parts()[-1], remembers)
    with Loop(there) as d:
        made = shell(how.make(kind).replace("{d}", d))
        filled = shell(how.fill(d, int(there["size_bytes"] * dice.uniform(0.1, 0.6))))
        sound, before, said = seen(how, d)
    if not verdict(f"{kind} filled", made.returncode == 0 and filled.returncode == 0 and sound, made.stderr + filled.stderr + said):
        return
    with Loop(remembers) as d:
        shell(f"mount {d} m; mkdir -p m/rw; seq {dice.randrange(1000000)} > m/rw/numbers; umount m")
        kept = shell(f"mount -o ro {d} m; cd m; {LOOK}; cd ..; umount m").stdout
    most = most_told(name)
    now = remembers["size_bytes"] // MIB
    if most - now < 2:
        return
    size = now + max(1, int((most - now - 1) * dice.choice([0.02, 0.3, 0.6, 0.97])))
    done = run("keep", "grow", "s.img", "--confirm", name, "--size", f"{size}M", "--take-from-data", "--json")
    if done.returncode:  # the log alone may not find room where both are full
        verdict(f"{kind}: grown to {size} of {most}", ("in a few pieces" in done.stdout or "files need" in done.stdout) and json.loads(done.stdout)["error"]["next"], done.stdout)
        return
    moved += 1
    grown = next(p for p in parts() if p["label"] == "persistence")
    less = sorted(parts(), key=lambda p: p["at_bytes"])[-2 if front else -1]
    if swaps:
        slip = next(p for p in parts() if p["label"] == "SLIP")
        with Loop(slip) as d:
            verdict("swap is usable", shell(f"blkid -p {d} | grep -q SLIP && swaplabel {d}").returncode == 0 and
                    grown["at_bytes"] + grown["size_bytes"] <= slip["at_bytes"] <= less["at_bytes"] - slip["size_bytes"], f"{parts()}")
    ends = [p["at_bytes"] + p["size_bytes"] for p in (grown, less, remembers, there)]
    so = ends[0] == ends[2] and less["at_bytes"] == there["at_bytes"] and grown["at_bytes"] >= ends[1] if front else ends[1] == ends[3] and less["at_bytes"] >= ends[0]
    verdict("the partitions are so", grown["size_bytes"] == size * MIB and so, f"{front}: {there} {grown} {less}")
    with Loop(less) as d:
        sound, after, said = seen(how, d)
        verdict(f"{kind} of {data} MiB, taken from for {size} MiB: sound", sound, said)
        verdict("every file as it was", after == before, differing(before, after))
    for _ in range(0 if how is Ext4 else 2):
        laid = run("passport", "s.img", "--onto-drive", "--confirm", name)
        verdict("a passport is laid onto it", laid.returncode == 0, laid.stderr)
        with Loop(less) as d:
            sound, page, said = seen(how, d)
            rest = [l for l in page.split("\n") if "PASSPORT" not in l]
            verdict("beside all others", sound and page.count("./PASSPORT.HTM") == 1 and
                    [l for l in rest if " files " not in l and "Total files" not in l] == [l for l in after.split("\n") if " files " not in l and "Total files" not in l], said + page[:600])
    with Loop(less) as d:
        used = shell(how.more.replace("{d}", d) + "; " + how.check.format(d=d))
        verdict("others go on writing to it", used.returncode == 0, used.stdout + used.stderr)
    with Loop(grown) as d:
        verdict("what is remembered is as it was", shell(f"e2fsck -fn {d} >&2; mount -o ro {d} m; cd m; {LOOK}; cd ..; umount m").stdout == kept)
    checked = run("check", "s.img", "--json").stdout
    verdict("all else on the drive is sound", json.loads(checked)["sound"], checked)


def case_of_file(number):
    """An overlay file in a volume that others fill, longer and shorter by turns."""
    global moved
    how = (Fat, Exfat)[number % 2]
    name = fresh_stick(dice.choice([500, 700, 1000]) << 20)
    done = run("prepare", "--image", "curlew.iso", "--arrangement", "files", "--in", "file", "--persistence", f"{dice.choice([40, 80, 150])}M", "--data-on", "exfat" if how is Exfat else "fat32",
               "--drive", "s.img", "--confirm", name, "--afresh")
    if not verdict("a stick with a file", done.returncode == 0, done.stderr):
        return
    host = parts()[-1]
    with Loop(host) as d:
        filled = shell(how.fill(d, int(host["size_bytes"] * dice.uniform(0.1, 0.4))))
        sound, before, said = seen(how, d)
    if not verdict("its volume filled", filled.returncode == 0 and sound, filled.stderr + said):
        return
    remembers = json.loads(run("keep", "show", "s.img", "--json").stdout)
    for turn in range(3):
        now = json.loads(run("keep", "show", "s.img", "--json").stdout)["size_bytes"] // MIB
        told = json.loads(run("keep", "grow", "s.img", "--confirm", name, "--size", "900G", "--json").stdout)["error"]["what"]
        n, unit = told.split("can be of ")[1].split(" · ")[1].split(",")[0].split(" ")[:2]
        most = least_of(n, unit)
        grows = turn % 2 == 0
        size = dice.randrange(now + 1, most) if grows and most > now + 1 else dice.randrange(17, max(18, now))
        done = run("keep", "grow" if size > now else "shrink", "s.img", "--confirm", name, "--size", f"{size}M", "--json")
        if done.returncode:
            verdict(f"to {size} of {most} is refused with a reason", done.returncode in (2, 4) and json.loads(done.stdout)["error"]["next"], done.stdout)
            continue
        moved += 1
        with Loop(host) as d:
            sound, after, said = seen(how, d)
            verdict(f"the file from {now} to {size} MiB: its volume is sound", sound, said)
            verdict("every other file as it was", others(after) == others(before), differing(others(before), others(after)))
            if how is Exfat:
                inside = shell(f"mount.exfat-fuse -o ro {d} m >/dev/null; stat -c %s m/persistence; e2fsck -fn m/persistence >&2; umount m")
            else:
                inside = shell(f"mcopy -n -i {d} ::/persistence file; stat -c %s file; e2fsck -fn file >&2; rm file")
            verdict("the file is sound, and so long", inside.returncode == 0 and int(inside.stdout) == size * MIB, inside.stdout + inside.stderr)
        shown = json.loads(run("keep", "show", "s.img", "--json").stdout)
        # a last group of blocks that would hold hardly more than its own tables is left out
        whole = shown["size_bytes"] == size * MIB or (shown["size_bytes"] % (128 * MIB) == 0 and 0 < size * MIB - shown["size_bytes"] < 4 * MIB)
        verdict("it remembers", whole and shown["files"] == remembers["files"], f"{size} MiB: {shown}")
        checked = run("check", "s.img", "--json").stdout
        verdict("the drive is sound", json.loads(checked)["sound"], checked)
    with Loop(host) as d:
        used = shell(how.more.replace("{d}", d) + "; " + how.check.format(d=d))
        verdict("others go on writing to it", used.returncode == 0, used.stdout + used.stderr)


def one(number):
    case(number)
    if number % 9 == 4:
        case_of_file(number // 9)
    if number + 1 == cases:
        verdict("hardly any had no room", cases < 5 or moved * 2 >= cases, f"{moved} of {cases}")


go("taken", one)
