#!/usr/bin/env python3
"""A system in use carried over: to a smaller drive, where it starts on both firmwares, and to a larger one.

  twinned.py SATCHEL ROOT KIND FIRMWARE TABLE
      KIND: ours (made here); or foreign: as a distribution's installer leaves it, started by its own loader alone, by
      device names, /boot a volume of its own, waiting for its old swap in the initial RAM disk, which was made by its own
      tools without a driver for any USB drive

The original is compared to the last byte, before and after.
"""
import os, re, subprocess, sys

from emulated import *

root, kind, firmware, table = os.path.abspath(sys.argv[2]), sys.argv[3], sys.argv[4], sys.argv[5]
other = "uefi" if firmware == "bios" else "bios"
OPTIONS = "console=tty0 console=ttyS0,115200n8"


def archive(name, text):
    """A cpio archive of one file, as a kernel unpacks it behind the others."""
    out = b""
    for path, mode, bytes in ((name, 0o100644, text.encode()), ("TRAILER!!!", 0, b"")):
        numbers = (1, mode, 0, 0, 1, 0, len(bytes), 0, 0, 0, 0, len(path) + 1, 0)
        out += b"070701" + b"".join(b"%08x" % n for n in numbers) + path.encode() + b"\0"
        out += b"\0" * (-len(out) % 4) + bytes
        out += b"\0" * (-len(out) % 4)
    return out


def make_poor(kernel):
    """The initial RAM disk of a PC that has only disks of its own."""
    version = kernel[len("vmlinuz-"):]
    for what in ("dev", "proc", "sys"):
        run("mount", "--bind", f"/{what}", f"root/{what}")
    run("mount", "--bind", "boot", "root/boot")
    if os.path.exists("root/usr/sbin/mkinitramfs"):
        open("root/etc/initramfs-tools/conf.d/internal", "w").write("MODULES=list\n")
        open("root/etc/initramfs-tools/modules", "a").write("ahci\nsd_mod\next4\n")
        run("chroot", "root", "mkinitramfs", "-o", f"/boot/initrd.img-{version}", version)
    else:
        run("chroot", "root", "dracut", "--quiet", "--force", "--no-hostonly", "--omit-drivers", "usb_storage uas xhci_pci xhci_hcd ehci_pci ehci_hcd",
            f"/boot/initrd.img-{version}", version)
    for what in ("boot", "sys", "proc", "dev"):
        run("umount", f"root/{what}")


def make_foreign():
    """What is ours goes; what an installer would leave comes. Its kernels move to the volume that was for data."""
    parts = volumes("office.img")
    system, boot, swap = 2, 3, 4
    loops = {n: loop_of("office.img", n) for n in (system, boot, swap)}
    uuid = lambda n: run("blkid", "-p", "-o", "value", "-s", "UUID", loops[n]).strip()
    run("mke2fs", "-q", "-F", "-t", "ext4", loops[boot])
    os.makedirs("root", exist_ok=True)
    os.makedirs("boot", exist_ok=True)
    run("mount", loops[system], "root")
    run("mount", loops[boot], "boot")
    run("sh", "-c", "rm -rf root/boot/loader root/boot/efi root/etc/start-entries.conf root/usr/local/sbin/start-entries "
        "$(find root/etc -name '*start-entries*'); mv root/boot/* boot/; mkdir -p boot/grub")
    kernels = sorted(n for n in os.listdir("boot") if n.startswith("vmlinuz"))
    make_poor(kernels[-1])
    initrds = sorted(n for n in os.listdir("boot") if n.startswith("init"))
    old = open(f"boot/{initrds[-1]}", "rb").read()
    says = archive("conf/conf.d/zz-resume", f"RESUME=UUID={uuid(swap)}\n")
    open(f"boot/{initrds[-1]}", "wb").write(old + b"\0" * (-len(old) % 512) + says)
    open("boot/grub/grub.cfg", "w").write(
        f"set default=0\nsearch --no-floppy --fs-uuid --set=root {uuid(boot)}\nmenuentry 'Tide' {{\n"
        f"\tlinux /{kernels[-1]} root=/dev/sda{system} ro quiet {OPTIONS} resume=UUID={uuid(swap)}\n\tinitrd /{initrds[-1]}\n}}\n")
    open("root/etc/fstab", "w").write(f"/dev/sda{system} / ext4 errors=remount-ro 0 1\n/dev/sda{boot} /boot ext4 defaults 0 2\n"
                                      f"UUID={uuid(swap)} none swap sw 0 0\nUUID=0123-4567 /media/charts vfat defaults 0 0\n")
    for folder in ("root", "boot"):
        run("umount", folder)
    for loop in loops.values():
        run("losetup", "-d", loop)
    assert parts == volumes("office.img")
    with open("office.img", "r+b") as image:  # its own loader would stand here
        image.write(b"\xfa" + b"\0" * 439)


def twin(image, size, *more):
    plan = run(satchel, "plan", "--why", "--kind", "twin", "--image", "office.img", "--drive", image, "--make", size, "--save", f"{image}.plan", *more)
    print(plan, flush=True)
    check(f"{image}: drivers for USB drives were missing, and came" if kind == "foreign" else f"{image}: no driver was missing",
          ("drivers for USB drives put behind it" in plan and "usb_storage" in plan) == (kind == "foreign"), plan)
    run(satchel, "build", f"{image}.plan", "--confirm", name_of(image))
    said = run(satchel, "check", image, "--plan", f"{image}.plan")
    check(f"{image}: checked", "Done" in said, said)
    clean(image)
    return plan


def clean(image):
    for number in volumes(image):
        loop = loop_of(image, number)
        if "ext4" in subprocess.run(["blkid", "-p", "-o", "value", "-s", "TYPE", loop], text=True, capture_output=True).stdout:
            done = subprocess.run(["e2fsck", "-fn", loop], text=True, capture_output=True)
            check(f"{image}: volume {number} is clean", done.returncode == 0, done.stdout)
        run("losetup", "-d", loop)
    said = subprocess.run(["sfdisk", "--verify", image], text=True, capture_output=True)
    check(f"{image}: the table is sound", said.returncode == 0 and "No errors" in said.stdout, said.stdout + said.stderr)


def names(image):
    """All that identifies its volumes."""
    found = set()
    for number in volumes(image):
        loop = loop_of(image, number)
        found.add(run("blkid", "-p", "-o", "value", "-s", "UUID", loop).strip())
        run("losetup", "-d", loop)
    return found


begin("64M")
run("rm", "stick.img")
run(satchel, "plan", "--image", root, "--kind", "system", "--drive", "office.img", "--make", "4G", "--host-name", "hut-3", "--administrator", "tide:Tide survey",
    "--menu-wait", "1", "--kernel-options", OPTIONS, "--data", "300M", "--swap", "300M", "--table", table, "--save", "office.plan")
read = given(PASSWORD)
run(satchel, "build", "office.plan", "--confirm", name_of("office.img"), "--password-fd", str(read), pass_fds=[read])
pc = PC(firmware, image="office.img")
pc.log_in()
said = pc.ask("mkdir -p one two/three; echo 'high water at seven' > one/tide.txt; ln one/tide.txt two/same; dd if=/dev/zero of=two/sparse bs=1 count=1 seek=50M 2>&1 | tail -1; "
              f"echo '{PASSWORD}' | sudo -S sh -c 'echo tide survey > /etc/motd; setcap cap_net_raw+ep /bin/ping 2>&1; sync'; sync")
check("the original was changed by itself", "end:0" in said, said)
pc.off()
if kind == "foreign":
    make_foreign()
before = digest("office.img")

plan = twin("stick.img", "2600M")
if kind == "foreign":
    same = names("office.img") & names("stick.img")
    check("no identifier is the original's", not same, str(same))
secure = bool(re.search("Secure Boot *yes", plan))
check("signed loaders and a signed kernel serve Secure Boot", secure == ("systemd" in root), plan)
for start, on in enumerate((firmware, other, "secure") if secure else (firmware, other)):
    pc = PC(on)
    pc.log_in()
    said = pc.ask(f"cat one/tide.txt; stat -c %h two/same; du -k two/sparse; cat /etc/motd; cat /proc/swaps; findmnt -no UUID /; echo '{PASSWORD}' | sudo -S getcap /bin/ping; cat /proc/cmdline")
    check(f"start {start + 1}: what was made is there", "high water" in said and "\n2\n" in said and "tide survey" in said, said)
    check(f"start {start + 1}: sparse files stay so", int(re.search(r"(\d+)\s+two/sparse", said).group(1)) < 100, said)
    check(f"start {start + 1}: its swap is its own", said.count("partition") >= 1, said)
    check(f"start {start + 1}: it waits for nothing that is not there", kind == "ours" or "noresume" in said, said)
    if start:
        check("what was changed on the twin is there", "ebb" in pc.ask("cat one/ebb.txt"), said)
    pc.ask("echo ebb > one/ebb.txt; sync")
    pc.off()
    clean("stick.img")
run("rm", "stick.img", "stick.img.plan")

twin("stick.img", "7G", "--same-identity")
if kind == "ours":
    check("asked for, the identifiers are the original's", names("office.img") == names("stick.img"))
pc = PC(other)
pc.log_in()
said = pc.ask("df -B1M --output=size / | tail -1; cat one/tide.txt")
check("on a larger drive it has more room", int(re.search(r"^ *(\d+)$", said, re.M).group(1)) > 4500 and "high water" in said, said)
pc.off()
clean("stick.img")
check("the original is as it was, to the last byte", digest("office.img") == before)
finish()
