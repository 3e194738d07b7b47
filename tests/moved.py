#!/usr/bin/env python3
"""What is remembered, moved from its partition into a file of a data volume that others filled, out of it again, and to where its
file lies: the checkers find both sound, the kernel sees every file as it was and the room that was predicted, the file that others
read is that volume, and all go on writing.

    moved.py SATCHEL DEMO_IMAGE CASES         WS_TEST_SEED repeats a run
"""
import json

from fillers import KINDS, SEEN, Exfat, differing, history, others, seen
from sticks import MIB, Loop, cases, dice, fresh_stick, go, parts, run, shell, verdict

moves = {"copied": 0, "stayed": 0}
dice.shuffle(KINDS)


def volume(place):
    """What the kernel sees of it, and what it says is free."""
    with Loop(place) as device:
        said = shell(f"e2fsck -fn {device} >&2; mount -o ro,noload {device} m; ({SEEN}) || :; stat -f -c '%f %S' m")
        shell("umount m")
    lines = said.stdout.strip().split("\n")
    free, block = (int(n) for n in lines[-1].split()) if said.returncode == 0 else (0, 0)
    return said.returncode == 0, "\n".join(lines[:-1]), free * block, said.stderr


def beside(place):
    """The data volume, as the table has it now."""
    return max((p for p in parts() if p["at_bytes"] != place["at_bytes"]), key=lambda p: p["at_bytes"])


def read_by_others(how, device):
    if how is Exfat:
        return f"mount.exfat-fuse -o ro {device} m >/dev/null; sha256sum < m/persistence; umount m"
    return f"mcopy -n -i {device} ::/persistence file; sha256sum < file; rm file"


def move(name, how, place, was, before, into_file):
    """@return where it is now; None: it was refused"""
    words = ["keep", "move", "s.img", "--in", "file" if into_file else "partition", "--confirm", name, "--json"]
    size = dice.randrange(max(40, place["size_bytes"] // MIB // 2), place["size_bytes"] // MIB * 2)
    done = run(*words, *(["--size", f"{size}M"] if dice.random() < 0.3 else []))
    if done.returncode:
        verdict("a move is refused with a reason", done.returncode in (2, 4) and json.loads(done.stdout)["error"]["next"], done.stdout)
        return None
    told = json.loads(done.stdout)
    now = {"at_bytes": told["moved"]["at"], "size_bytes": told["moved"]["size_bytes"]}
    stays = told["moved"]["in_place"]
    what = f"{place} to {now}, {'file' if into_file else 'in place' if stays else 'partition'}"
    moves["stayed" if stays else "copied"] += 1
    sound, seen_now, free, said = volume(now)
    verdict(f"{what}: sound", sound, said)
    verdict(f"{what}: every file as it was", was is None or seen_now == was, differing(was or "", seen_now))
    verdict(f"{what}: free as predicted", free == told["free_bytes"], f"{free} {done.stdout}")
    partition = [p for p in parts() if p["at_bytes"] == now["at_bytes"]]
    verdict(f"{what}: the table has it", len(partition) == (0 if into_file else 1), f"{parts()}")
    data = beside(now)
    with Loop(data) as device:
        sound, after, said = seen(how, device)
        verdict(f"{what}: the data volume is sound", sound, said)
        verdict(f"{what}: all others as they were", others(after) == others(before),
                differing(others(before), others(after)))
        verdict(f"{what}: {'it is' if into_file else 'no file of it is'} there", ("./persistence" in after or "::/persistence" in after or "\npersistence " in after or after.startswith("persistence ")) == into_file, after[:500])
        if into_file:
            others_see = shell(read_by_others(how, device))
            with Loop(now) as it:
                verdict(f"{what}: others read that very file", others_see.stdout == shell(f"sha256sum < {it}").stdout != "", others_see.stderr)
    checked = run("check", "s.img", "--json").stdout
    verdict(f"{what}: the drive is sound", json.loads(checked)["sound"], checked)
    shown = json.loads(run("keep", "show", "s.img", "--json").stdout)
    given_up = now["size_bytes"] - shown["size_bytes"]  # a last group that could hold nothing
    verdict(f"{what}: it remembers there", shown["in_file"] == into_file and (given_up == 0 or 0 < given_up < 8 * MIB and shown["size_bytes"] % (128 * MIB) == 0), f"{shown}")
    return now


def case(number):
    kind, how = KINDS[number % len(KINDS)]
    in_file = number % 2 == 1 and kind in ("fat32", "exfat")
    on = ["--data-on", "exfat" if how is Exfat else "fat32"]
    if in_file:  # no room beside the data volume
        name = fresh_stick(dice.choice([700, 1000, 1500]) << 20)
        words = ["--arrangement", "files", "--in", "file", "--persistence", f"{dice.choice([60, 100, 150])}M", *on]
    else:
        data = {"fat12": dice.randrange(64, 120), "fat16": dice.randrange(64, 500)}.get(kind, dice.randrange(300, 1200))
        name = fresh_stick(dice.choice([2, 3, 4]) << 30)
        words = ["--persistence", f"{dice.choice([40, 60, 150])}M", "--data", f"{data}M", *dice.choice([[], ["--arrangement", "files", "--table", "gpt"], ["--arrangement", "files", "--table", "mbr"]])]
    done = run("prepare", "--image", "curlew.iso", *words, "--drive", "s.img", "--confirm", name, "--afresh")
    if not verdict("a stick", done.returncode == 0, done.stderr):
        return
    data = parts()[-1]
    with Loop(data) as device:
        if not in_file:
            shell(how.make(kind).replace("{d}", device))
        filled = shell(how.fill(device, int(data["size_bytes"] * dice.uniform(0.05, 0.6 if not in_file else 0.3))))
        sound, before, said = seen(how, device)
    if not verdict(f"its {kind} volume filled", filled.returncode == 0 and sound, filled.stderr + said):
        return
    size = json.loads(run("keep", "show", "s.img", "--json").stdout)["size_bytes"]
    place, was = {"at_bytes": 0, "size_bytes": size}, None
    if not in_file:
        place = next(p for p in parts() if p["label"] == "persistence")
    for _ in range(dice.randrange(1, 4)):
        if place["at_bytes"]:
            with Loop(place) as device:
                made = history(device, place["size_bytes"])
                verdict("used by the kernel", made.returncode == 0, made.stderr)
            with Loop(place) as device:  # where the plug was pulled it is another file by now
                shell(f"cp --sparse=always s.img kept.img; mount {device} m; umount m")  # recovered; the tool gets it as it was left
            was = volume(place)[1]
            shell("mv kept.img s.img")
        now = move(name, how, place, was, before, not in_file)
        if not now:
            break
        place, in_file = now, not in_file
    with Loop(beside(place)) as device:
        used = shell(how.more.replace("{d}", device) + "; " + how.check.format(d=device))
        verdict("others go on writing to the data volume", used.returncode == 0, used.stdout + used.stderr)
    if place["at_bytes"]:
        with Loop(place) as device:
            shell(f"mount {device} m; cd m; mkdir new; seq 200000 > new/numbers; for i in $(seq 500); do echo $i > new/$i; done; cd ..; umount m")
            used = shell(f"e2fsck -fn {device}")
        verdict("the kernel goes on writing to it", used.returncode == 0, used.stdout)
    if number + 1 == cases:
        verdict("hardly any had no room", cases < 5 or sum(moves.values()) >= cases * 0.7 and (cases < 50 or moves["stayed"]), f"{moves} of {cases}")


go("moved", case)
