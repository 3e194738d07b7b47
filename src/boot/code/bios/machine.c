/* machine.c — a PC with BIOS as the machine of the common code: its drive, and what starts everything. */
#include "bios.h"

enum { BOUNCE = 0x30000, BOUNCE_BYTES = 0x10000, TRIES = 4 };

static unsigned drive;
static uint8_t packet[16] __attribute__((aligned(16)));
static uint8_t drive_facts[32] __attribute__((aligned(16)));

static void store(uint8_t *p, uint64_t value, unsigned bytes) {
    for (unsigned i = 0; i < bytes; i++) p[i] = (uint8_t)(value >> (8 * i));
}

static uint16_t segment_of(const void *p) { return (uint16_t)((uintptr_t)p >> 4); }
static uint32_t offset_of(const void *p) { return (uint32_t)(uintptr_t)p & 15; }

enum { EDD_READ = 0x4200, EDD_WRITE = 0x4300 };

/* Once, by the enhanced disk services. @return the BIOS's error, 0 for none */
static unsigned transfer(unsigned how, uint64_t lba, uint32_t count) {
    struct bios_registers r = {.eax = how, .edx = drive, .ds = segment_of(packet), .esi = offset_of(packet)};
    store(packet, 16, 2);
    store(packet + 2, count, 2);
    store(packet + 4, 0, 2);
    store(packet + 6, BOUNCE >> 4, 2);
    store(packet + 8, lba, 8);
    bios_call(0x13, &r);
    if (!(r.flags & 1)) return 0;
    return r.eax >> 8 & 0xff ? r.eax >> 8 & 0xff : 0xff;
}

static unsigned transfer_patiently(unsigned how, uint64_t lba, uint32_t count) {
    unsigned error = 0;
    for (unsigned i = 0; i < TRIES; i++) {
        error = transfer(how, lba, count);
        if (!error) return 0;
        struct bios_registers r = {.edx = drive};
        bios_call(0x13, &r); /* reset */
    }
    return error;
}

/* In pieces of up to 64 KiB; a piece that fails is tried again sector by sector, for some BIOSes take fewer at once. */
static bool read_drive(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    uint32_t shift = m->sector_bytes == 4096 ? 12 : m->sector_bytes == 2048 ? 11 : m->sector_bytes == 1024 ? 10 : 9;
    uint32_t at_once = BOUNCE_BYTES >> shift;
    uint8_t *out = into;
    if (at_once > 127) at_once = 127; /* EDD's limit */
    while (count) {
        uint32_t n = count < at_once ? count : at_once;
        unsigned error = transfer_patiently(EDD_READ, lba, n);
        if (error && n > 1) {
            n = 1;
            at_once = 1;
            error = transfer_patiently(EDD_READ, lba, 1);
        }
        if (error) return start_fail(m, "sector %U of the drive cannot be read (BIOS error %x)", lba, error);
        memcpy(out, (const void *)BOUNCE, (size_t)n << shift);
        lba += n;
        count -= n;
        out += (size_t)n << shift;
    }
    return true;
}

/* Little at a time is ever written: what fits the bounce buffer. */
static bool write_drive(struct start_machine *m, uint64_t lba, uint32_t count, const void *from) {
    uint32_t shift = m->sector_bytes == 4096 ? 12 : m->sector_bytes == 2048 ? 11 : m->sector_bytes == 1024 ? 10 : 9;
    if (count > BOUNCE_BYTES >> shift || count > 127) return start_fail(m, "too much is to be written at once");
    memcpy((void *)BOUNCE, from, (size_t)count << shift);
    unsigned error = transfer_patiently(EDD_WRITE, lba, count);
    return !error || start_fail(m, "sector %U of the drive cannot be written (BIOS error %x)", lba, error);
}

static void learn_drive(struct start_machine *m) {
    struct bios_registers r = {
        .eax = 0x4800, .edx = drive, .ds = segment_of(drive_facts), .esi = offset_of(drive_facts)};
    store(drive_facts, 26, 2);
    m->sector_bytes = 512;
    bios_call(0x13, &r);
    if (r.flags & 1) return;
    uint32_t sector = start_le16(drive_facts + 24);
    if (sector == 1024 || sector == 2048 || sector == 4096) m->sector_bytes = sector;
    m->sectors = start_le64(drive_facts + 16);
    if (m->sectors < 2048) m->sectors = 0; /* a BIOS that does not know */
}

void bios_main(unsigned number) {
    static struct start_machine m = {.firmware = "BIOS",
                                     .read = read_drive,
                                     .write = write_drive,
                                     .put = bios_put,
                                     .clear = bios_clear,
                                     .key = bios_key,
                                     .take = bios_take,
                                     .serial = bios_serial,
                                     .launch = bios_launch};
    drive = number;
    if (!bios_memory_begin(&m)) return;
    learn_drive(&m);
    start_run(&m);
}
