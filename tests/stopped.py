#!/usr/bin/env python3
"""Commands stopped at random moments: several drives prepared, one blanked, one tried, one's memory saved, reset and put back. The next command recognises what state each
drive is in, and finishes.

    stopped.py SATCHEL DEMO_IMAGE CASES         WS_TEST_SEED repeats a run
"""
import json, os, random, shutil, signal, subprocess, sys, tempfile, time

satchel, demo_image, cases = sys.argv[1], sys.argv[2], int(sys.argv[3])
seed = int(os.environ.get("WS_TEST_SEED", random.SystemRandom().randrange(1 << 32)))
dice = random.Random(seed)
print("seed", seed)
passed = failed = 0
STICKS = ["a.img", "b.img", "c.img"]


def run(*words):
    return subprocess.run([satchel, *words], stdin=subprocess.DEVNULL, capture_output=True, text=True, errors="replace")


def verdict(what, good, said=""):
    global passed, failed
    passed, failed = passed + bool(good), failed + (not good)
    if not good:
        print(f"FAILED (WS_TEST_SEED={seed}): {what}\n{said}")


def stop(words, longest):
    """Begin a command and stop it at some moment. @return how, its exit code, what it said"""
    how = dice.choice(["int", "term", "hup", "kill", "pipe"])
    began = subprocess.Popen([satchel, *words], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    time.sleep(dice.random() * dice.choice([0.1, longest / 3, longest]))
    if how == "pipe":
        began.stdout.close()
        began.stderr.close()
        return how, began.wait(), ""
    began.send_signal(getattr(signal, "SIG" + how.upper()))
    said = began.communicate()[1]
    return how, began.returncode, said


def state(stick):
    return json.loads(run("drives", stick, "--json").stdout)["drives"][0]


def documented(what, how, code, said):
    allowed = (0, 1, 5, -getattr(signal, "SIG" + how.upper())) if how != "pipe" else (0, 1)
    verdict(f"{what}: {how} gives {code}, which is documented", code in allowed, said)


def prepare():
    words = ["prepare", "--image", "curlew.iso", "--persistence", "64M"]
    for s in STICKS:
        words += ["--drive", s, "--confirm", names[s]]
    documented("prepare", *stop(words, 3.5))
    for s in STICKS:
        plan, unfinished = names[s] + ".plan", state(s)["unfinished"]
        sound = run("check", s)
        verdict(f"{s}: check knows that it is unfinished", not unfinished or (sound.returncode == 1 and "not finished" in sound.stdout), sound.stdout)
        if os.path.exists(plan):  # what was begun is finished by its own plan
            done = run("build", plan, "--confirm", names[s])
            verdict(f"{s}: its plan finishes it", done.returncode == 0, done.stderr)
            verdict(f"{s}: and it is as meant", run("check", s, "--plan", plan).returncode == 0)
    done = run(*words)
    verdict("and all of it once more", done.returncode == 0, done.stdout + done.stderr)


def blank():
    s = dice.choice(STICKS)
    documented("blank", *stop(["drives", s, "--blank", "--label", "tide", "--confirm", names[s]], 0.4))
    sound = run("check", s)
    verdict(f"{s}: its state is told", sound.returncode in (0, 1), sound.stderr)
    done = run("drives", s, "--blank", "--label", "tide", "--confirm", names[s])
    verdict(f"{s}: blanked in the end", done.returncode == 0, done.stderr)
    verdict(f"{s}: one volume", [p["label"] for p in state(s)["parts"]] == ["TIDE"])


def trial():
    s = dice.choice(STICKS)
    if os.path.exists("a.trial"):
        os.unlink("a.trial")
    documented("trial", *stop(["drives", s, "--test", "sample", "--confirm", names[s], "--save", "a.trial"], 1.5))
    verdict("a trial is kept whole or not at all", not os.path.exists("a.trial") or json.load(open("a.trial"))["format"] == "wild-satchel-trial")
    done = run("drives", s, "--test", "sample", "--confirm", names[s], "--save", "a.trial")
    verdict(f"{s}: tried in the end", done.returncode == 0, done.stdout + done.stderr)


def keep():
    s = dice.choice(STICKS)
    start = ["prepare", "--image", "curlew.iso", "--persistence", "64M", "--drive", s, "--confirm", names[s], "--afresh"]
    if "persistence" not in [p["label"] for p in state(s)["parts"]] or not os.path.exists(names[s] + ".plan.built"):
        done = run(*start)
        verdict(f"{s}: prepared for what follows", done.returncode == 0, done.stderr)
    if not os.path.exists("tide.kept"):  # a state to put back, of a system that has started
        at = next(p["at_bytes"] for p in state(s)["parts"] if p["label"] == "persistence")
        made = os.path.join(work, "rw.img")
        subprocess.run(f"dd if={s} of={made} bs=1M iflag=skip_bytes,count_bytes skip={at} count={64 << 20} status=none && "
                       f"for i in $(seq 1 60); do head -c 300000 /dev/urandom > f; echo mkdir /rw; echo mkdir /rw/d; echo write f /rw/d/$i; done > todo; "
                       f"debugfs -w -f todo {made} >/dev/null 2>&1; dd if={made} of={s} bs=1M oflag=seek_bytes seek={at} conv=notrunc status=none; rm -f f todo {made}",
                       shell=True, check=True)
        done = run("keep", "save", s, "--to", "tide.kept")
        verdict(f"{s}: saved", done.returncode == 0, done.stderr)
    done = run("keep", "restore", s, "--from", "tide.kept", "--confirm", names[s])
    verdict(f"{s}: put back at first", done.returncode == 0, done.stdout + done.stderr)
    how = dice.choice([["restore", s, "--from", "tide.kept"], ["reset", s], ["save", s, "--to", "other.kept", "--over"]])
    words = ["keep", *how] + ([] if how[0] == "save" else ["--confirm", names[s]])
    saw = stop(words, 0.6)
    documented("keep " + how[0], *saw)
    if state(s)["unfinished"]:
        done = run("build", "--finish", s, "--confirm", names[s])
        verdict(f"{s}: finished from what the drive holds", done.returncode == 0, done.stderr)
    verdict(f"{s}: it can be looked at", run("keep", "show", s).returncode == 0)
    verdict(f"{s}: all but what is remembered is as it was", run("check", s, "--record", names[s] + ".plan.built", "--used").returncode == 0)
    if os.path.exists("other.kept"):
        done = run("keep", "restore", s, "--from", "other.kept", "--confirm", names[s])
        verdict("what stands under the name is whole", done.returncode == 0, done.stderr)
        os.unlink("other.kept")
    done = run("keep", "restore", s, "--from", "tide.kept", "--confirm", names[s])
    verdict(f"{s}: put back in the end", done.returncode == 0, done.stdout + done.stderr)
    verdict(f"{s}: all of it", json.loads(run("keep", "show", s, "--json").stdout)["files"] == 60)


work = tempfile.mkdtemp(prefix="satchel-stopped-")
os.chdir(work)
try:
    os.environ.update(WILD_SATCHEL_BENCH="", WILD_SATCHEL_HISTORY=os.path.join(work, "history.db"), WILD_SATCHEL_DEFAULTS="")
    subprocess.run([demo_image, "curlew.iso", "live-boot", "60"], check=True, capture_output=True)
    for s in STICKS:
        with open(s, "wb") as f:
            f.truncate(400 << 20)
    names = {s: json.loads(run("drives", s, "--json").stdout)["drives"][0]["name"] for s in STICKS}
    for _ in range(cases):
        dice.choice([prepare, prepare, blank, trial, keep, keep])()
    verdict("the history is whole", json.loads(run("drives", "--history", "--json").stdout)["runs"])
    verdict("nothing half-made lies about", not [n for n in os.listdir(".") if "~" in n or n.startswith(".")], str(os.listdir(".")))
finally:
    os.chdir("/")
    shutil.rmtree(work, ignore_errors=True)
print(f"{passed} passed, {failed} failed")
sys.exit(failed > 0)
