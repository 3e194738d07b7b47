#!/usr/bin/env python3
"""Volumes that the kernel wrote, those of the build and, by turns, as others make them, made larger and smaller in place, saved, reset and put back, there and on another stick: the checker
finds them sound, the kernel sees every file as it was and the room that was predicted, and goes on writing to them.

    resized.py SATCHEL DEMO_IMAGE CASES         WS_TEST_SEED repeats a run
"""
import json, os

from fillers import MADE, SEEN, differing, history
from sticks import MIB, Loop, dice, fresh_stick, go, parts, run, shell, verdict


def remembered():
    return next(p for p in parts() if p["label"] == "persistence")


def seen():
    part = remembered()
    with Loop(part) as device:
        checked = shell(f"e2fsck -fn {device} >&2; mount -t ext4 -o ro,noload {device} m; ({SEEN}) || :; stat -f -c '%f %S' m")
        shell("umount m")
    lines = checked.stdout.strip().split("\n")
    free, block = (int(n) for n in lines[-1].split()) if checked.returncode == 0 else (0, 0)
    return checked.returncode == 0, "\n".join(lines[:-1]), free * block, part["size_bytes"], checked.stderr


def care(name, was, what, words, wanted):
    """One command; then what the kernel sees of the volume in s.img."""
    done = run("keep", *words, "s.img", "--confirm", name, "--json")
    if done.returncode and "make room" in done.stdout or "needs" in done.stdout and done.returncode == 4:
        return verdict(f"{what} is refused with a reason", json.loads(done.stdout)["error"]["next"], done.stdout)
    if not verdict(what, done.returncode == 0, done.stdout):
        return False
    sound, now, free, size, said = seen()
    verdict(f"{what}: sound", sound, said)
    verdict(f"{what}: as wanted", wanted(now), differing(was, now))
    verdict(f"{what}: free as predicted", free == json.loads(done.stdout)["free_bytes"], f"{free} {done.stdout}")
    return True


def saved_and_put_back(name, was):
    """Onto the same stick, after a reset, and onto another one."""
    def part(text, path):
        return [l for l in text.split("\n") if l.startswith(path + "/") or l.startswith(path + " ") or f"./{path}/" in l]

    if os.path.exists("k.kept"):
        os.unlink("k.kept")
    done = run("keep", "save", "s.img", "--to", "k.kept")
    if not verdict("saved", done.returncode == 0, done.stderr):
        return
    kept = dice.choice(["d0", "d1"])
    shell("cp --sparse=always s.img spare.img")
    care(name, was, "reset but for a folder", ["reset", "--except", "/" + kept], lambda now: part(now, kept) == part(was, kept) and "\nlarge " not in now)
    os.rename("spare.img", "s.img")
    if not care(name, was, "reset", ["reset"], lambda now: "d0" not in now):
        return
    care(name, was, "put back", ["restore", "--from", "k.kept"], lambda now: now == was)
    os.rename("s.img", "first.img")
    other = fresh_stick(4 << 30)
    done = run("prepare", "--image", "curlew.iso", "--persistence", "1500M", "--drive", "s.img", "--confirm", other, "--afresh")
    verdict("another stick", done.returncode == 0, done.stderr)
    care(other, was, "put onto another stick", ["restore", "--from", "k.kept"], lambda now: now == was)
    os.rename("first.img", "s.img")


def case(number):
    if os.path.exists("s.img"):
        os.unlink("s.img")
    name = fresh_stick(dice.choice([1 << 30, 3 << 30, 6 << 30, 20 << 30, 60 << 30]) + dice.randrange(4000) * 512)
    how = dice.choice([[], [], ["--arrangement", "files", "--table", "gpt"], ["--arrangement", "files", "--table", "mbr"]])
    done = run("prepare", "--image", "curlew.iso", "--persistence", f"{dice.choice([40, 100, 400, 800])}M", *how, "--drive", "s.img", "--confirm", name, "--afresh")
    if not verdict("a stick", done.returncode == 0, done.stderr):
        return
    with Loop(remembered()) as device:
        kind = dice.choice(MADE) if number % 2 else "ext4"
        if number % 2:
            others = shell(f"wipefs -qa {device}; mke2fs -q -F -t {kind} -L persistence {device} && mount {device} m && echo '/ union' > m/persistence.conf; umount m")
            verdict("as others make it", others.returncode == 0, others.stderr)
        made = history(device, remembered()["size_bytes"], "^has_journal" not in kind and kind != "ext2")  # nothing recovers those
    if not verdict("used by the kernel", made.returncode == 0, made.stderr):
        return
    shell("cp --sparse=always s.img kept.img")
    with Loop(remembered()) as device:
        shell(f"mount {device} m; umount m")  # recovered by the kernel; the tool gets it as it was left
    _, was, _, size, _ = seen()
    os.rename("kept.img", "s.img")
    for _ in range(dice.randrange(2, 6)):
        grows = dice.random() < 0.6
        if dice.random() < 0.2:  # copied byte for byte to a larger one
            with open("s.img", "r+b") as f:
                f.truncate(os.path.getsize("s.img") + (dice.randrange(1, 9) << 30))
            name = json.loads(run("drives", "s.img", "--json").stdout)["drives"][0]["name"]
        words = ["keep", "grow" if grows else "shrink", "s.img", "--confirm", name, "--json"]
        if not grows or dice.random() < 0.7:
            words += ["--size", f"{int(size / MIB * (dice.uniform(1.01, 12) if grows else dice.uniform(0.3, 0.99)))}M"]
        done = run(*words)
        if done.returncode != 0:  # too small, or no room behind it: then nothing was written
            verdict(f"{words[1]} is refused with a reason", done.returncode in (2, 4) and json.loads(done.stdout)["error"]["what"], done.stdout)
            sound, now, _, still, said = seen()
            verdict("and it is as it was", sound and now == was and still == size, said + differing(was, now))
            continue
        sound, now, free, size, said = seen()
        verdict(f"{words[1]} to {size // MIB} MiB: sound", sound, said)
        verdict("every file as it was", now == was, differing(was, now))
        verdict("free as predicted", free == json.loads(done.stdout)["free_bytes"], f"{free} {done.stdout}")
        checked = run("check", "s.img", "--json").stdout
        verdict("all else on the drive is sound", json.loads(checked)["sound"], checked)
    saved_and_put_back(name, was)
    with Loop(remembered()) as device:
        shell(f"mount {device} m; cd m/rw; mkdir new; seq 200000 > new/numbers; for i in $(seq 500); do echo $i > new/$i; done; cd ../..; umount m")
        used = shell(f"e2fsck -fn {device}")
    verdict("the kernel goes on writing to it", used.returncode == 0, used.stdout)


go("resized", case)
