/* machine.c — a PC with UEFI firmware as the machine of the common code: its drive, its memory, and the beginning. */
#include "uefi.h"

enum { ALIGNED_BYTES = 65536, PATH_MOST = 4096 };

const struct efi_guid uefi_loaded_image = {
    0x5b1b31a1, 0x9562, 0x11d2, {0x8e, 0x3f, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
const struct efi_guid uefi_device_path = {0x09576e91, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
const struct efi_guid uefi_block_io = {0x964e5b21, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
const struct efi_guid uefi_file_system = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
const struct efi_guid uefi_load_file2 = {0x4006c0c1, 0xfcb3, 0x403e, {0x99, 0x6d, 0x4a, 0x6c, 0x87, 0x24, 0xe0, 0x6d}};

/* The compiler calls this for functions with large frames; firmware gives 128 KiB of stack, all of it mapped. */
__asm__(".globl __chkstk\n__chkstk:\n    ret\n");

static void *take(struct start_machine *m, uint64_t bytes) {
    struct uefi *u = m->self;
    uint64_t at = 0;
    static uint8_t *small;
    static size_t left;
    if (bytes < 1024) { /* many short texts share pages */
        size_t room = ((size_t)bytes + 15) & ~(size_t)15;
        if (room > left) {
            if (efi_failed(u->system->boot->allocate_pages(EFI_ALLOCATE_ANY_PAGES, EFI_LOADER_DATA, 16, &at)))
                return NULL;
            memset((void *)at, 0, 16 * EFI_PAGE);
            small = (uint8_t *)at;
            left = 16 * EFI_PAGE;
        }
        small += room;
        left -= room;
        return small - room;
    }
    size_t pages = (size_t)((bytes + EFI_PAGE - 1) / EFI_PAGE);
    if (efi_failed(u->system->boot->allocate_pages(EFI_ALLOCATE_ANY_PAGES, EFI_LOADER_DATA, pages, &at))) return NULL;
    memset((void *)at, 0, pages * EFI_PAGE);
    return (void *)at;
}

static bool read_drive(struct start_machine *m, uint64_t lba, uint32_t count, void *into) {
    struct uefi *u = m->self;
    struct efi_block_io *d = u->drive;
    uint32_t align = d->media->io_align > 1 ? d->media->io_align : 1;
    bool fits = ((uintptr_t)into & (align - 1)) == 0;
    uint8_t *out = into;
    uint32_t at_once = fits ? count : ALIGNED_BYTES / m->sector_bytes;
    if (!fits && !u->aligned) u->aligned = take(m, ALIGNED_BYTES);
    if (!fits && !u->aligned) return start_fail(m, "there is no memory left");
    while (count) {
        uint32_t n = count < at_once ? count : at_once;
        size_t bytes = (size_t)n * m->sector_bytes;
        efi_status status = d->read_blocks(d, d->media->id, lba, bytes, fits ? out : u->aligned);
        /* Firmware tries often by itself, and may take minutes to give up: after that once more is enough. */
        if (efi_failed(status) && status != EFI_TIMEOUT)
            status = d->read_blocks(d, d->media->id, lba, bytes, fits ? out : u->aligned);
        if (efi_failed(status) && n > 1) { /* find the sector that is bad, and read what is before it */
            at_once = 1;
            continue;
        }
        if (efi_failed(status))
            return start_fail(m, "sector %U of the drive cannot be read (UEFI error %u)", lba,
                              (unsigned)(status & 0xff));
        if (!fits) memcpy(out, u->aligned, bytes);
        lba += n;
        out += bytes;
        count -= n;
    }
    return true;
}

static bool write_drive(struct start_machine *m, uint64_t lba, uint32_t count, const void *from) {
    struct uefi *u = m->self;
    struct efi_block_io *d = u->drive;
    size_t bytes = (size_t)count * m->sector_bytes;
    if (bytes > ALIGNED_BYTES) return start_fail(m, "too much is to be written at once");
    if (!u->aligned) u->aligned = take(m, ALIGNED_BYTES);
    if (!u->aligned) return start_fail(m, "there is no memory left");
    memcpy(u->aligned, from, bytes);
    efi_status status = d->write_blocks(d, d->media->id, lba, bytes, u->aligned);
    if (!efi_failed(status)) status = d->flush_blocks(d);
    return !efi_failed(status) ||
           start_fail(m, "sector %U of the drive cannot be written (UEFI error %u)", lba, (unsigned)(status & 0xff));
}

/* The drive of the partition this program was loaded from: its device path, cut before the partition's node. */
static bool find_drive(struct start_machine *m) {
    struct uefi *u = m->self;
    struct efi_boot_services *boot = u->system->boot;
    struct efi_loaded_image *self = NULL;
    struct efi_device_path *path = NULL;
    static uint8_t cut[PATH_MOST];
    efi_handle handle = NULL;
    size_t n = 0;
    if (efi_failed(boot->handle_protocol(u->image, &uefi_loaded_image, (void **)&self)) || !self->device) return false;
    handle = self->device;
    if (!efi_failed(boot->handle_protocol(self->device, &uefi_device_path, (void **)&path))) {
        static const struct efi_device_path end = {EFI_PATH_END, 0xff, {4, 0}};
        bool partition = false;
        while (path->type != EFI_PATH_END) {
            size_t length = (size_t)(path->length[0] | path->length[1] << 8);
            if (path->type == EFI_PATH_MEDIA && path->subtype == EFI_PATH_HARD_DRIVE) {
                partition = true;
                break;
            }
            if (length < 4 || n + length + 4 > sizeof cut) return false;
            memcpy(cut + n, path, length);
            n += length;
            path = (struct efi_device_path *)((uint8_t *)path + length);
        }
        memcpy(cut + n, &end, sizeof end);
        u->drive_path = cut;
        u->drive_path_length = n;
        struct efi_device_path *whole = (struct efi_device_path *)cut;
        if (partition && efi_failed(boot->locate_device_path(&uefi_block_io, &whole, &handle))) return false;
    }
    if (efi_failed(boot->handle_protocol(handle, &uefi_block_io, (void **)&u->drive))) return false;
    m->sector_bytes = u->drive->media->block_size;
    m->sectors = u->drive->media->last_block + 1;
    return m->sector_bytes >= 512 && m->sector_bytes <= 4096 && (m->sector_bytes & (m->sector_bytes - 1)) == 0;
}

static void no_serial(struct start_machine *m, unsigned port, uint32_t speed) { (void)m, (void)port, (void)speed; }

efi_status uefi_main(efi_handle image, struct efi_system_table *system) {
    static struct uefi u;
    static struct start_machine m = {.firmware = "UEFI",
                                     .read = read_drive,
                                     .write = write_drive,
                                     .put = uefi_put,
                                     .clear = uefi_clear,
                                     .key = uefi_key,
                                     .take = take,
                                     .serial = no_serial,
                                     .launch = uefi_launch};
    u.image = image;
    u.system = system;
    m.self = &u;
    (void)system->boot->set_watchdog_timer(0, 0, 0, NULL); /* a menu may wait longer than five minutes */
    if (find_drive(&m)) start_run(&m);
    else m.put(&m, "Wild Satchel: the drive this was started from cannot be found.\n");
    m.put(&m, "Press a key to go back to the firmware.\n");
    (void)start_wait_key(&m);
    return EFI_NOT_FOUND;
}
