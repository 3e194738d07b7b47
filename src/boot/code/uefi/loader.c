/* loader.c — another UEFI program started from a volume of this drive, which finds the other files of that volume the
 * way such programs do: through the firmware, or where that does not read the file system, through this one. */
#include "uefi.h"

enum { HANDLES_MOST = 256, PATH_MOST = 1024 };

/* Section 10.3.5.1 */
struct partition_node {
    struct efi_device_path head;
    uint32_t number;
    uint64_t lba, sectors;
    uint8_t signature[16], table, signature_kind;
} __attribute__((packed));

static size_t node_length(const struct efi_device_path *p) { return (size_t)(p->length[0] | p->length[1] << 8); }

/* Does this path lead to the partition that begins there, on the drive that this program came from? */
static bool leads_to(const struct uefi *u, const struct efi_device_path *path, uint64_t lba) {
    struct partition_node node;
    size_t n = u->drive_path_length;
    if (n == 0 || memcmp(path, u->drive_path, n) != 0) return false;
    path = (const struct efi_device_path *)((const uint8_t *)path + n);
    if (path->type != EFI_PATH_MEDIA || path->subtype != EFI_PATH_HARD_DRIVE || node_length(path) != sizeof node)
        return false;
    memcpy(&node, path, sizeof node);
    path = (const struct efi_device_path *)((const uint8_t *)path + sizeof node);
    return node.lba == lba && path->type == EFI_PATH_END;
}

/* Paths of other handles are compared byte by byte, and none as far as ours reaches may be shorter. */
static bool is_long_enough(const struct efi_device_path *path, size_t wanted) {
    for (size_t n = 0; n < wanted;) {
        const size_t length = node_length(path);
        if (path->type == EFI_PATH_END || length < 4 || length > PATH_MOST) return false;
        n += length;
        path = (const struct efi_device_path *)((const uint8_t *)path + length);
    }
    return true;
}

static efi_handle find_partition(struct start_machine *m, uint64_t at, struct efi_device_path **path) {
    struct uefi *u = m->self;
    static efi_handle handles[HANDLES_MOST];
    size_t bytes = sizeof handles;
    struct efi_boot_services *boot = u->system->boot;
    uint64_t lba = at;
    for (uint32_t sector = m->sector_bytes; sector > 1; sector >>= 1) lba >>= 1;
    if (efi_failed(boot->locate_handle(EFI_BY_PROTOCOL, &uefi_block_io, NULL, &bytes, handles))) return NULL;
    for (size_t i = 0; i < bytes / sizeof handles[0]; i++)
        if (!efi_failed(boot->handle_protocol(handles[i], &uefi_device_path, (void **)path)) &&
            is_long_enough(*path, u->drive_path_length) && leads_to(u, *path, lba))
            return handles[i];
    return NULL;
}

/* The partition's path, and behind it the file's name (section 10.3.5.4). NULL: no memory, or too long */
static struct efi_device_path *path_of(struct start_machine *m, const struct efi_device_path *partition,
                                       const char *name) {
    static const struct efi_device_path end = {EFI_PATH_END, 0xff, {4, 0}};
    size_t n = 0;
    const struct efi_device_path *p = partition;
    while (p->type != EFI_PATH_END && n < PATH_MOST) {
        n += node_length(p);
        p = (const struct efi_device_path *)((const uint8_t *)partition + n);
    }
    const size_t text = 2 * (start_length(name) + 1);
    if (n >= PATH_MOST || text > PATH_MOST) return NULL;
    uint8_t *out = m->take(m, n + 4 + text + sizeof end);
    if (!out) return NULL;
    memcpy(out, partition, n);
    uint16_t *wide = m->take(m, text);
    size_t units = 0;
    if (!wide) return NULL;
    while (*name) {
        wide[units] = start_utf16(&name);
        if (wide[units] == '/') wide[units] = '\\';
        units++;
    }
    const size_t length = 4 + 2 * (units + 1);
    const struct efi_device_path file = {EFI_PATH_MEDIA, EFI_PATH_FILE, {(uint8_t)length, (uint8_t)(length >> 8)}};
    memcpy(out + n, &file, sizeof file);
    memcpy(out + n + 4, wide, length - 4);
    memcpy(out + n + length, &end, sizeof end);
    return (struct efi_device_path *)out;
}

static bool run(struct start_machine *m, const struct start_launch *l, efi_handle partition,
                struct efi_device_path *path, uint8_t *bytes) {
    struct uefi *u = m->self;
    struct efi_boot_services *boot = u->system->boot;
    struct efi_loaded_image *loaded = NULL;
    efi_handle program = NULL;
    efi_status status = boot->load_image(false, u->image, path, bytes, (size_t)l->kernel.size, &program);
    if (status == EFI_SECURITY_VIOLATION || status == EFI_ACCESS_DENIED)
        return start_fail(m, "Secure Boot refuses %s: its signature is not trusted here", l->entry->linux);
    if (efi_failed(status) || efi_failed(boot->handle_protocol(program, &uefi_loaded_image, (void **)&loaded)))
        return start_fail(m, "the firmware does not load %s (UEFI error %u)", l->entry->linux,
                          (unsigned)(status & 0xff));
    if (!loaded->device) loaded->device = partition;
    if (*l->options && !uefi_pass_options(m, loaded, l->options)) return false;
    m->put(m, "The drive's own loader takes over.\n");
    status = boot->start_image(program, NULL, NULL);
    return start_fail(m, "%s came back (UEFI error %u)", l->entry->linux, (unsigned)(status & 0xff));
}

bool uefi_hand_over(struct start_machine *m, const struct start_launch *l) {
    struct uefi *u = m->self;
    struct efi_boot_services *boot = u->system->boot;
    static struct uefi_files files;
    struct start_file f = l->kernel;
    struct efi_device_path *path = NULL;
    void *own = NULL;
    if (f.size > 1ull << 30) return start_fail(m, "%s is too large to be a loader", l->entry->linux);
    uint8_t *bytes = m->take(m, f.size ? f.size : 1);
    if (!bytes) return start_fail(m, "this PC has too little memory for %s", l->entry->linux);
    if (!start_load(&f, l->entry->linux, bytes)) return false;
    efi_handle partition = find_partition(m, f.v->at, &path);
    if (!partition) return start_fail(m, "the firmware does not show the partition that %s is on", l->entry->linux);
    path = path_of(m, path, l->entry->linux);
    if (!path) return start_fail(m, "there is no memory left");
    const bool read_by_firmware = !efi_failed(boot->handle_protocol(partition, &uefi_file_system, &own));
    uefi_files_begin(&files, u, f.v);
    if (!read_by_firmware &&
        efi_failed(boot->install_protocol(&partition, &uefi_file_system, EFI_NATIVE_INTERFACE, &files.protocol)))
        return start_fail(m, "the firmware does not take the files of this volume");
    bool done = run(m, l, partition, path, bytes);
    if (!read_by_firmware) (void)boot->uninstall_protocol(partition, &uefi_file_system, &files.protocol);
    return done;
}
