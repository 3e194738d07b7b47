"""Volumes as others fill them, and what they see of them: FAT of all widths (mtools), exFAT (its FUSE driver), ext4 (the kernel)."""
import itertools

from sticks import MIB, dice, shell


# ext4 as others make it, for what a live system remembers
MADE = ["ext4", "ext4 -O ^flex_bg,^resize_inode", "ext4 -i 4096 -J size=4", "ext4 -O ^64bit,^metadata_csum,^has_journal", "ext4 -b 1024", "ext4 -b 2048 -I 128",
        "ext2", "ext3 -b 1024", "ext4 -O ^sparse_super,^resize_inode", "ext4 -g 8192", "ext4 -O orphan_file,metadata_csum_seed", "ext4 -m 7 -E stride=16,stripe-width=64",
        "ext4 -O inline_data -I 512", "ext4 -O inline_data,ea_inode"]


class Fat:
    """mtools, which need no driver; a large file in pieces takes what many small ones left."""

    kinds = {"fat12": "-F 12 -s {large}", "fat16": "-F 16", "fat32": "-F 32 -s {small}"}
    check = "fsck.fat -n {d}"
    seen = "rm -rf out; mkdir out; mcopy -s -p -m -n -i {d} ::/ out/; cd out; {look}; cd ..; mdir -/ -a -i {d} ::/ | grep -v bytes"
    more = "for i in $(seq 40); do head -c 300000 /dev/urandom > new; mcopy -i {d} new ::/n$i || break; done; mdel -i {d} '::/n*5'"

    @staticmethod
    def make(kind):
        return "mkfs.fat -n TIDE " + Fat.kinds[kind].format(large=dice.choice([64, 128]), small=dice.choice([1, 2, 4])) + " {d}"

    @staticmethod
    def fill(device, most):
        small = dice.randrange(20, 150)
        each = min(most // 3 // small, MIB)
        return f"""rm -rf src; mkdir -p 'src/Long names of the harbour/deep/deeper' src/B; cd src
            for k in $(seq {small}); do head -c $(({each} * (k % 7 + 1) / 8 + 1)) /dev/urandom > "B/a longer name of number $k.txt"; done
            head -c 3000 /dev/urandom > 'Long names of the harbour/deep/deeper/UPPER.TXT'; : > empty
            mcopy -s -Q -m -i {device} B 'Long names of the harbour' empty ::/
            for k in $(seq {dice.randrange(1, 4)} {dice.randrange(2, 4)} {small}); do mdel -i {device} "::/B/a longer name of number $k.txt"; done
            for k in 1 2 3; do head -c $(({most} / 5)) /dev/urandom > large$k; mcopy -i {device} large$k '::/Long names of the harbour/'; done; cd .."""


class Exfat:
    """Its driver in user space; files grow side by side."""

    kinds = {"exfat": "-c {c}K", "exfat-packed": "-b 64K -c {c}K"}
    check = "fsck.exfat -n {d}"
    seen = "mount.exfat-fuse -o ro {d} m >/dev/null; cd m; {look}; cd ..; umount m"
    more = "mount.exfat-fuse {d} m >/dev/null; for i in $(seq 40); do head -c 300000 /dev/urandom > m/n$i || break; done; rm -f m/n*5; umount m"

    @staticmethod
    def make(kind):
        return "mkfs.exfat -L TIDE " + Exfat.kinds[kind].format(c=dice.choice([4, 32, 128])) + " {d}"

    @staticmethod
    def fill(device, most):
        files = dice.randrange(8, 40)
        each = min(most // files // 2, 12 * MIB)
        rounds = dice.randrange(2, 5)
        return f"""mount.exfat-fuse {device} m >/dev/null; cd m; mkdir -p 'Long names of the harbour/deep/deeper' B
            for k in 1 2 3; do head -c $(({most} * k / {dice.randrange(12, 20)})) /dev/urandom > "Long names of the harbour/whole$k"; done
            for k in $(seq {dice.randrange(3, 150)}); do echo $k > "B/a longer name of number $k.txt"; done
            for r in $(seq {rounds}); do for i in $(seq {files}); do head -c {each // rounds + 1} /dev/urandom >> "Long names of the harbour/$i.dat"; done; done
            rm -f 'Long names of the harbour'/*[{dice.randrange(10)}{dice.randrange(10)}].dat B/*{dice.randrange(10)}.txt
            head -c {each} /dev/urandom > B/behind; cp B/behind 'Long names of the harbour/deep/deeper/UPPER.TXT'; : > empty; cd ..; umount m"""


class Ext4:
    """The kernel's, on volumes as others make them: with all that a file may have."""

    kinds = {"ext4": "", "ext4-plain": "-O ^flex_bg,^resize_inode", "ext4-dense": "-i 4096 -J size=4", "ext4-old": "-O ^64bit,^metadata_csum,^has_journal"}
    check = "e2fsck -fn {d}"
    seen = "mount -o ro,noload {d} m; cd m; find . ! -name . -printf '%P %y %m %U %G %l %n\\n' | sort; getfattr -dR -m - . 2>/dev/null | sort; {look}; cd ..; umount m"
    more = "mount {d} m; for i in $(seq 40); do head -c 300000 /dev/urandom > m/n$i || break; done; rm -f m/n*5; umount m"

    @staticmethod
    def make(kind):
        return "mkfs.ext4 -q -F -b 4096 -L TIDE " + Ext4.kinds[kind] + " {d}"

    @staticmethod
    def fill(device, most):
        files = dice.randrange(8, 60)
        each = min(most // files, 12 * MIB)
        rounds = dice.randrange(2, 5)
        return f"""mount {device} m; cd m; mkdir -p 'Long names of the harbour/deep/deeper' B
            for k in $(seq {dice.randrange(3, 1500)}); do echo $k > "B/a longer name of number $k.txt"; done
            for r in $(seq {rounds}); do for i in $(seq {files}); do head -c {each // rounds + 1} /dev/urandom >> "Long names of the harbour/$i.dat"; done; sync -f .; done
            rm -f 'Long names of the harbour'/*[{dice.randrange(10)}{dice.randrange(10)}].dat B/*{dice.randrange(10)}.txt
            head -c {each} /dev/urandom > B/behind; ln B/behind 'Long names of the harbour/deep/deeper/UPPER.TXT'; ln -s ../B/behind B/link; : > empty
            truncate -s 200M holes; dd if=/dev/urandom of=holes bs=4k count=3 seek={dice.randrange(50000)} conv=notrunc status=none
            chown 1000:50 B/behind; chmod 4711 B/behind; setfattr -n user.tide -v low B/behind; setfacl -m u:33:rx B; mknod B/pipe p; fallocate -l 3M B/ahead; cd ..; umount m"""


KINDS = [(kind, how) for how in (Fat, Exfat) for kind in how.kinds]
LOOK = "find . ! -name . \\( -type d -printf '%P d %T@\\n' -o -printf '%P %y %s %T@\\n' \\) | sort && find . -type f ! -name persistence -exec sha256sum {} + | sort"


def seen(how, device):
    """What the checker and somebody else's reader say, but for how much is free."""
    said = shell(f"{how.check.format(d=device)} >&2; " + how.seen.replace("{d}", device).replace("{look}", LOOK))
    return said.returncode == 0, said.stdout, said.stderr


def others(text, own="persistence"):
    """All but the file that remembers."""
    return "\n".join(l for l in text.split("\n") if not (l.startswith(own + " ") or l.endswith("./" + own) or l.lower().startswith(own[:6])) and "total files" not in l.lower()
                     and l.rstrip(" \t") and " files " not in l)


def differing(before, after):
    """The first lines of two views that are not alike."""
    return "\n".join(a + "  <->  " + b for a, b in itertools.zip_longest(before.split("\n"), after.split("\n"), fillvalue="") if a != b)[:1500]


def history(device, size, may_be_pulled=True):
    """Files come and go; now and then the plug is pulled."""
    room = size // MIB
    most = min(room // 3, 300)
    pulled = may_be_pulled and dice.random() < 0.3
    text = f"mount {device} m; mkdir -p m/rw m/work; cd m/rw; "
    for i in range(dice.randrange(2, 6)):
        text += f"mkdir -p d{i}/deep; for k in $(seq 1 {dice.randrange(10, 200)}); do head -c $((k * {dice.randrange(1, 3000)} % {max(1, most * 3000)})) /dev/urandom > d{i}/$k; done; "
    text += f"head -c {dice.randrange(1, most * MIB // 2)} /dev/urandom > large; rm -rf d0/*[13579]; ln -f large second; ln -sf ../large d1/link; "
    text += f"truncate -s 9G holes; dd if=/dev/urandom of=holes bs=4k count=3 seek={dice.randrange(2000000)} conv=notrunc status=none; sync; "
    text += "cd ../..; " + ("cp --sparse=always s.img t.img; umount m; mv t.img s.img" if pulled else "umount m")
    return shell(text)


SEEN = "cd m/rw && find . -printf '%P %y %m %U %G %T@ %n %l\\n' | sort && find . -type f ! -name holes -exec sha256sum {} + | sort"
