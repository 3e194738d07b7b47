#!/usr/bin/env python3
"""Large files of which little is stored: looked at without their holes.

  stored.py digest FILE            of what is stored, and where
  stored.py cut FILE MIB TO        from there on, as a file with holes of its own
  stored.py has TEXT... -- FILE... prints the files that hold one of the texts; fails if none does
"""
import hashlib, os, sys

STEP = 1 << 22


def pieces(file, at=0):
    while True:
        try:
            at = os.lseek(file, at, os.SEEK_DATA)
        except OSError:
            return
        end = os.lseek(file, at, os.SEEK_HOLE)
        while at < end:
            bytes = os.pread(file, min(STEP, end - at), at)
            yield at, bytes
            at += len(bytes)


def digest(path):
    h = hashlib.sha256()
    for at, bytes in pieces(os.open(path, os.O_RDONLY)):
        if bytes.count(0) < len(bytes):
            h.update(b"%d" % at + bytes)
    print(h.hexdigest())


def cut(path, mib, to):
    begin = int(mib) << 20
    source, out = os.open(path, os.O_RDONLY), os.open(to, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o600)
    os.truncate(out, os.fstat(source).st_size - begin)
    for at, bytes in pieces(source, begin):
        os.pwrite(out, bytes, at - begin)


def has(words):
    split = words.index("--")
    texts = [w.encode() for w in words[:split]]
    assert texts and all(texts)
    found = False
    for path in words[split + 1:]:
        before = b""
        for _, bytes in pieces(os.open(path, os.O_RDONLY)):
            if any(t in before + bytes for t in texts):
                print(path)
                found = True
                break
            before = bytes[-256:]
    sys.exit(not found)


what, *words = sys.argv[1:]
digest(*words) if what == "digest" else cut(*words) if what == "cut" else has(words)
