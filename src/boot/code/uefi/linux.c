/* linux.c — a Linux kernel started through its EFI stub, the initial RAM disks handed over by LoadFile2.
 *
 * The kernel's Documentation/admin-guide/efi-stub.rst and drivers/firmware/efi/libstub: the stub looks for a handle
 * with LINUX_EFI_INITRD_MEDIA_GUID's device path and loads from it. It says that it does by its image version.
 */
#include "uefi.h"

struct initrd_path {
    struct efi_device_path vendor;
    struct efi_guid guid;
    struct efi_device_path end;
} __attribute__((packed));

static struct initrd_path initrd_path = {
    {EFI_PATH_MEDIA, EFI_PATH_VENDOR, {20, 0}},
    {0x5568e427, 0x68fc, 0x4f3d, {0xac, 0x74, 0xca, 0x55, 0x52, 0x31, 0xcc, 0x68}},
    {EFI_PATH_END, 0xff, {4, 0}},
};

/* A device path for the kernel in memory: table 10.5, memory-mapped. */
struct memory_path {
    struct efi_device_path memory;
    uint32_t type;
    uint64_t first, last;
    struct efi_device_path end;
} __attribute__((packed));

struct initrd {
    struct efi_load_file2 protocol; /* first: the firmware hands it back */
    const uint8_t *bytes;
    size_t length;
};

static efi_status hand_over(struct efi_load_file2 *self, struct efi_device_path *path, bool boot_policy, size_t *size,
                            void *buffer) {
    const struct initrd *i = (const struct initrd *)self;
    (void)path;
    if (boot_policy) return EFI_UNSUPPORTED;
    if (!size) return EFI_INVALID_PARAMETER;
    if (!buffer || *size < i->length) {
        *size = i->length;
        return EFI_BUFFER_TOO_SMALL;
    }
    memcpy(buffer, i->bytes, i->length);
    *size = i->length;
    return 0;
}

/* Is it an x86-64 PE image whose stub takes initial RAM disks this way? PE/COFF: MajorImageVersion, offset 44. */
static bool judge_kernel(struct start_machine *m, const uint8_t *k, uint64_t size, const struct start_launch *l) {
    const char *name = l->entry->linux;
    if (size < 1024 || memcmp(k + 0x202, "HdrS", 4) != 0) return start_fail(m, "%s is not a Linux kernel", name);
    uint32_t pe = start_le32(k + 0x3c);
    if (k[0] != 'M' || k[1] != 'Z' || pe > size - 128 || memcmp(k + pe, "PE\0", 4) != 0)
        return start_fail(m, "%s has no EFI stub: it starts on PCs with BIOS only", name);
    if (start_le16(k + pe + 4) != 0x8664) return start_fail(m, "%s is not for x86-64 PCs", name);
    if (l->initrds && start_le16(k + pe + 24 + 44) < 1)
        return start_fail(m, "%s is a kernel from before 5.7, which takes no initial RAM disk from UEFI start-up code",
                          name);
    return true;
}

static bool load_initrds(struct start_machine *m, const struct start_launch *l, struct initrd *i) {
    uint64_t total = 0;
    for (unsigned k = 0; k < l->initrds; k++) total += (l->initrd[k].size + 3) & ~3ull;
    uint8_t *at = total < 1ull << 40 ? m->take(m, total ? total : 1) : NULL;
    if (!at) return start_fail(m, "this PC has too little memory for %U MiB of initial RAM disks", total >> 20);
    i->protocol.load_file = hand_over;
    i->bytes = at;
    i->length = (size_t)total;
    for (unsigned k = 0; k < l->initrds; k++) {
        struct start_file f = l->initrd[k];
        char why[200];
        if (!start_load(&f, l->entry->initrd[k], at)) {
            start_format(why, sizeof why, "%s", m->error);
            return start_fail(m, "%s: %s", l->entry->initrd[k], why);
        }
        at += (f.size + 3) & ~3ull;
    }
    return true;
}

/* The command line as UTF-16, as the stub reads it. */
bool uefi_pass_options(struct start_machine *m, struct efi_loaded_image *kernel, const char *options) {
    size_t n = start_length(options);
    uint16_t *wide = m->take(m, 2 * (n + 1));
    if (!wide) return start_fail(m, "there is no memory left");
    for (size_t i = 0; i < n; i++) wide[i] = (unsigned char)options[i];
    kernel->load_options = wide;
    kernel->load_options_size = (uint32_t)(2 * (n + 1));
    return true;
}

bool uefi_launch(struct start_machine *m, const struct start_launch *l) {
    struct uefi *u = m->self;
    struct efi_boot_services *boot = u->system->boot;
    static struct initrd initrd;
    struct start_file f = l->kernel;
    efi_handle kernel = NULL;
    efi_handle initrd_handle = NULL;
    struct efi_loaded_image *loaded = NULL;
    if (l->entry->efi) return uefi_hand_over(m, l);
    if (f.size > 1ull << 30) return start_fail(m, "%s is too large to be a kernel", l->entry->linux);
    uint8_t *bytes = m->take(m, f.size ? f.size : 1);
    if (!bytes) return start_fail(m, "this PC has too little memory for the kernel %s", l->entry->linux);
    if (!start_load(&f, l->entry->linux, bytes)) return false;
    if (!judge_kernel(m, bytes, f.size, l) || !load_initrds(m, l, &initrd)) return false;
    struct memory_path path = {{1, 3, {24, 0}},
                               EFI_LOADER_DATA,
                               (uintptr_t)bytes,
                               (uintptr_t)bytes + f.size - 1,
                               {EFI_PATH_END, 0xff, {4, 0}}};
    efi_status status =
        boot->load_image(false, u->image, (struct efi_device_path *)&path, bytes, (size_t)f.size, &kernel);
    if (status == EFI_SECURITY_VIOLATION || status == EFI_ACCESS_DENIED)
        return start_fail(m, "Secure Boot refuses the kernel %s: its signature is not trusted here", l->entry->linux);
    if (efi_failed(status) || efi_failed(boot->handle_protocol(kernel, &uefi_loaded_image, (void **)&loaded)))
        return start_fail(m, "the firmware does not load the kernel %s (UEFI error %u)", l->entry->linux,
                          (unsigned)(status & 0xff));
    if (!uefi_pass_options(m, loaded, l->options)) return false;
    if (l->initrds) {
        status = boot->install_protocol(&initrd_handle, &uefi_device_path, EFI_NATIVE_INTERFACE, &initrd_path);
        if (!efi_failed(status))
            status = boot->install_protocol(&initrd_handle, &uefi_load_file2, EFI_NATIVE_INTERFACE, &initrd.protocol);
        if (efi_failed(status)) return start_fail(m, "the firmware does not take the initial RAM disk");
    }
    m->put(m, "The kernel takes over.\n");
    status = boot->start_image(kernel, NULL, NULL);
    if (initrd_handle) {
        (void)boot->uninstall_protocol(initrd_handle, &uefi_load_file2, &initrd.protocol);
        (void)boot->uninstall_protocol(initrd_handle, &uefi_device_path, &initrd_path);
    }
    return start_fail(m, "the kernel came back (UEFI error %u)", (unsigned)(status & 0xff));
}
