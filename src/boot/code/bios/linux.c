/* linux.c — a Linux kernel started by the x86 boot protocol's 16-bit entry.
 *
 * The kernel's Documentation/arch/x86/boot.rst: "The real-mode kernel header", "Loading the rest of the kernel",
 * "The initial RAM disk". The kernel's own real-mode part then asks the BIOS for memory map, screen and drives, which
 * is why this entry is taken and not the 32-bit one: it knows the oddities of far more PCs than anybody else.
 */
#include "bios.h"

enum { SETUP = 0x60000, HEAP_END = 0xe000, COMMAND_LINE = 0xf000, COMMAND_LINE_ROOM = 0x1000, KERNEL = 0x100000 };

static void store32(uint8_t *p, uint32_t value) {
    for (unsigned i = 0; i < 4; i++) p[i] = (uint8_t)(value >> (8 * i));
}

static bool read_exactly(struct start_file *f, uint64_t at, uint64_t length, void *into, const char *what) {
    uint64_t got;
    if (!start_read(f, at, length, into, &got)) return false;
    return got == length || start_fail(f->v->m, "%s is too short to be a kernel", what);
}

/* Real-mode part at SETUP, the rest at 1 MiB. */
static bool load_kernel(struct start_machine *m, const struct start_launch *l, uint32_t *initrd_end) {
    uint8_t *setup = (uint8_t *)SETUP;
    struct start_file f = l->kernel;
    const char *name = l->entry->linux;
    if (!read_exactly(&f, 0, 1024, setup, name)) return false;
    if (memcmp(setup + 0x202, "HdrS", 4) != 0) return start_fail(m, "%s is not a Linux kernel", name);
    unsigned version = start_le16(setup + 0x206);
    if (version < 0x0203 || !(setup[0x211] & 1))
        return start_fail(m, "%s is a kernel from before 2.4, which cannot be started", name);
    uint32_t setup_bytes = ((setup[0x1f1] ? setup[0x1f1] : 4u) + 1) * 512;
    if (setup_bytes > 0x8000 || f.size <= setup_bytes || f.size - setup_bytes > 0x40000000)
        return start_fail(m, "%s is damaged: its parts do not fit its length", name);
    uint32_t rest = (uint32_t)f.size - setup_bytes;
    /* Where it will unpack itself must be free, too: from protocol 2.10 on it says how much that takes. */
    uint32_t needs = version >= 0x020a ? start_le32(setup + 0x260) : rest * 3;
    uint32_t runs_at = version >= 0x020a ? start_le32(setup + 0x258) : KERNEL;
    if (runs_at < KERNEL || start_le32(setup + 0x25c)) runs_at = KERNEL;
    if (!bios_memory_is_free(KERNEL, rest) || needs > 0x40000000 || !bios_memory_is_free(runs_at, needs))
        return start_fail(m, "this PC has too little memory for the kernel %s", name);
    uint32_t most = version >= 0x0206 ? start_le32(setup + 0x238) : 255;
    if (most >= COMMAND_LINE_ROOM) most = COMMAND_LINE_ROOM - 1;
    size_t length = start_length(l->options);
    if (length > most)
        return start_fail(m, "the parameters are %u characters long, and this kernel takes %u", (unsigned)length, most);
    *initrd_end = start_le32(setup + 0x22c) + 1;
    if (!read_exactly(&f, 0, setup_bytes, setup, name)) return false;
    for (uint32_t at = 0; at < rest;) {
        uint32_t step = rest - at < 1u << 20 ? rest - at : 1u << 20;
        start_say(m, "\r%s: %u of %u MiB ", name, at >> 20, rest >> 20);
        if (!read_exactly(&f, setup_bytes + at, step, (uint8_t *)KERNEL + at, name)) return false;
        at += step;
    }
    start_say(m, "\r%s: %U bytes loaded\n", name, f.size);
    memcpy(setup + COMMAND_LINE, l->options, length + 1);
    bios_memory_limit(*initrd_end);
    if (!bios_memory_is_free(runs_at, needs))
        return start_fail(m, "this PC has too little memory for the kernel %s", name);
    return true;
}

/* One after another, each begun at a multiple of four as the kernel's unpacker wants them. */
static bool load_initrds(struct start_machine *m, const struct start_launch *l) {
    uint8_t *setup = (uint8_t *)SETUP;
    uint64_t total = 0;
    for (unsigned i = 0; i < l->initrds; i++) total += (l->initrd[i].size + 3) & ~3ull;
    if (total == 0) return true;
    uint8_t *at = total < 0x7fffffff ? bios_take(m, total) : NULL;
    uint32_t kernel_end = start_le32(setup + 0x258) + start_le32(setup + 0x260);
    if (!at || (uint32_t)(uintptr_t)at < kernel_end)
        return start_fail(m, "this PC has too little memory for %U MiB of initial RAM disks", total >> 20);
    store32(setup + 0x218, (uint32_t)(uintptr_t)at);
    store32(setup + 0x21c, (uint32_t)total);
    for (unsigned i = 0; i < l->initrds; i++) {
        struct start_file f = l->initrd[i];
        char why[200];
        if (!start_load(&f, l->entry->initrd[i], at)) {
            start_format(why, sizeof why, "%s", m->error);
            return start_fail(m, "%s: %s", l->entry->initrd[i], why);
        }
        at += (f.size + 3) & ~3ull;
    }
    return true;
}

bool bios_launch(struct start_machine *m, const struct start_launch *l) {
    uint8_t *setup = (uint8_t *)SETUP;
    uint32_t initrd_end = 0;
    if (!load_kernel(m, l, &initrd_end) || !load_initrds(m, l)) return false;
    setup[0x1fa] = setup[0x1fb] = 0xff; /* the screen stays as it is */
    setup[0x210] = 0xff;                /* a loader without a number of its own */
    setup[0x211] |= 0x80;               /* the heap may be used, up to: */
    setup[0x224] = (HEAP_END - 0x200) & 0xff;
    setup[0x225] = (HEAP_END - 0x200) >> 8;
    store32(setup + 0x228, SETUP + COMMAND_LINE);
    m->put(m, "The kernel takes over.\n");
    bios_enter_kernel();
    return false;
}
