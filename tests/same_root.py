#!/usr/bin/env python3
"""A real root as it stands on its drive is what an independent unpacking gives: every path, but for the plan's edits.

  same_root.py SATCHEL ROOT.tar.zst
      kinds, modes, owners, times to the nanosecond, links, second names, devices, attributes, contents; from the
      archive, and from a squashfs that is made of the unpacked root
"""
import hashlib, json, os, re, stat, subprocess, sys

from emulated import *

root = os.path.abspath(sys.argv[2])
# What making it at home on the drive changes, by docs/guide.md
EDITED = re.compile(r"^(etc/(fstab|fstab\.before|machine-id|hostname|hosts|passwd|shadow|group|gshadow|subuid|subgid|shells|crypttab|start-entries\.conf|"
                    r"first-start|ssh|kernel|initramfs|sysctl\.d|systemd|udev|default|inittab|popularity-contest\.conf|sudoers\.d|X11|vconsole\.conf|security)(/|$)|"
                    r"boot(/loader(/|$)|/efi$|$)|usr/local(/|$)|home(/|$)|var/lib/(dbus/machine-id|systemd|urandom|misc|AccountsService)|var/spool/mail|var/mail|lost\+found|etc$|$)")


def facts(top, path):
    s = os.lstat(os.path.join(top, path))
    full = os.path.join(top, path)
    says = [stat.S_IFMT(s.st_mode), stat.S_IMODE(s.st_mode), s.st_uid, s.st_gid, s.st_mtime_ns,
            sorted((n, os.getxattr(full, n, follow_symlinks=False)) for n in os.listxattr(full, follow_symlinks=False))]
    if stat.S_ISREG(s.st_mode):
        says += [s.st_size, s.st_nlink, digest(full)]
    elif stat.S_ISLNK(s.st_mode):
        says += [os.readlink(full)]
    elif stat.S_ISBLK(s.st_mode) or stat.S_ISCHR(s.st_mode):
        says += [s.st_rdev]
    return says


def paths(top):
    return {os.path.relpath(os.path.join(d, n), top) for d, ds, fs in os.walk(top) for n in ds + fs}


name = begin("4G")
os.mkdir("judge")
run("tar", "--zstd", "--xattrs", "--xattrs-include=*", "--numeric-owner", "-xpf", root, "-C", "judge")
run("gensquashfs", "-q", "-c", "zstd", "-k", "-D", "judge", "root.squashfs")
for image in (root, "root.squashfs"):
    run(satchel, "plan", "--image", image, "--kind", "system", "--drive", "stick.img", "--internal-disks", "open", "--save", "stick.plan", "--over")
    run(satchel, "build", "stick.plan", "--confirm", name)
    loop = attach()
    done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
    check(f"{image}: the checker finds it clean", done.returncode == 0, done.stdout)
    os.makedirs("drive", exist_ok=True)
    run("mount", "-o", "ro", loop, "drive")
    packed = image != root  # what packed it keeps whole seconds, no access lists, and no second names
    wanted, seen = paths("judge"), paths("drive")
    differ, same = [], 0
    for path in sorted(wanted | seen):
        if EDITED.match(path):
            continue
        if path not in wanted or path not in seen:
            differ.append(f"{path}: {'only on the drive' if path in seen else 'not there'}")
            continue
        a, b = facts("judge", path), facts("drive", path)
        if packed:
            a[4], b[4], a[5] = a[4] // 10**9, b[4] // 10**9, b[5]
        if packed and len(a) > 8:
            a[7] = b[7]
        same += a == b
        if a != b:
            differ.append(f"{path}: {a} {b}")
    check(f"{image}: {same} paths are the same", not differ and same > 5000, "\n".join(differ[:20]))
    print(f"{os.path.basename(image)}: {same} paths compared")
    run("umount", "drive")
    run("e2fsck", "-fyD", loop)  # folders sorted anew by the checker: it finds what it expects
    done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
    check(f"{image}: and after it has put folders in order", done.returncode == 0, done.stdout)
    run("losetup", "-d", loop)
finish()
