/* memory.c — what RAM a PC with BIOS has (INT 15h, E820), address line 20, and memory handed out from the top. */
#include "bios.h"

enum { MIB = 1 << 20, USABLE = 1, MAP_MOST = 128 };

static uint8_t map_entry[24] __attribute__((aligned(16)));
static uint32_t bottom, top; /* the largest stretch of RAM below 4 GiB */

/* Addresses of an odd mebibyte are only reached with address line 20 switched on. */
static bool a20_is_on(void) {
    volatile uint32_t *low = (volatile uint32_t *)0x7e00;
    volatile uint32_t *high = (volatile uint32_t *)0x107e00;
    uint32_t kept = *low;
    uint32_t kept_high = *high;
    *low = 0x12345678;
    *high = 0x9abcdef0;
    bool on = *low == 0x12345678;
    *high = kept_high;
    *low = kept;
    return on;
}

static bool switch_a20_on(void) {
    if (a20_is_on()) return true;
    struct bios_registers r = {.eax = 0x2401};
    bios_call(0x15, &r);
    if (a20_is_on()) return true;
    bios_out(0x92, (uint8_t)((bios_in(0x92) | 2) & 0xfe)); /* the chipset's fast gate, without its reset bit */
    for (unsigned i = 0; i < 100000; i++)
        if (a20_is_on()) return true;
    bios_out(0x64, 0xd1); /* the keyboard controller's output port */
    for (unsigned i = 0; i < 100000 && bios_in(0x64) & 2; i++) {
    }
    bios_out(0x60, 0xdf);
    for (unsigned i = 0; i < 100000; i++)
        if (a20_is_on()) return true;
    return false;
}

static void read_map(void) {
    uint32_t next = 0;
    for (unsigned i = 0; i < MAP_MOST; i++) {
        struct bios_registers r = {.eax = 0xe820,
                                   .ebx = next,
                                   .ecx = sizeof map_entry,
                                   .edx = 0x534d4150, /* "SMAP" */
                                   .es = (uint16_t)((uintptr_t)map_entry >> 4),
                                   .edi = (uint32_t)(uintptr_t)map_entry & 15};
        bios_call(0x15, &r);
        if (r.flags & 1 || r.eax != 0x534d4150) return;
        uint64_t at = start_le64(map_entry);
        uint64_t end = at + start_le64(map_entry + 8);
        if (start_le32(map_entry + 16) == USABLE && at < 0xffffffff) {
            if (end > 0xfffff000) end = 0xfffff000;
            if (at < MIB) at = MIB;
            if (end > at && end - at > top - bottom) bottom = (uint32_t)at, top = (uint32_t)end & ~0xfffu;
        }
        next = r.ebx;
        if (!next) return;
    }
}

bool bios_memory_begin(struct start_machine *m) {
    read_map();
    if (top == bottom) { /* BIOSes from before E820: INT 15h, AX=E801h */
        struct bios_registers r = {.eax = 0xe801};
        bios_call(0x15, &r);
        bottom = MIB;
        top = r.flags & 1        ? MIB
              : (r.ebx & 0xffff) ? 16u * MIB + ((r.ebx & 0xffff) << 16)
                                 : MIB + ((r.eax & 0xffff) << 10);
    }
    if (!switch_a20_on()) {
        m->put(m, "Wild Satchel: address line 20 of this PC cannot be switched on.\n");
        return false;
    }
    return true;
}

void *bios_take(struct start_machine *m, uint64_t bytes) {
    (void)m;
    if (bytes > top - bottom) return NULL;
    uint32_t at = (top - (uint32_t)bytes) & ~0xfffu;
    if (at < bottom) return NULL;
    if (bytes < 0x1000) at = (top - (uint32_t)bytes) & ~0xfu;
    top = at;
    memset((void *)at, 0, (size_t)bytes);
    return (void *)at;
}

void bios_memory_limit(uint32_t end) {
    if (top > end) top = end & ~0xfffu;
}

bool bios_memory_is_free(uint32_t at, uint32_t length) { return at >= bottom && at <= top && length <= top - at; }
