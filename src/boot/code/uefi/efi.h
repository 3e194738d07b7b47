/* efi.h — the part of the UEFI Specification 2.10 that start-up code uses; names and orders are the specification's,
 * what is never called is `void *`. x86-64: the compiler's own calling convention for this target is EFIAPI.
 */
#ifndef WS_EFI_H
#define WS_EFI_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef uint64_t efi_status;
typedef void *efi_handle;
#define EFI_ERROR_BIT (1ull << 63)
#define EFI_NOT_FOUND (EFI_ERROR_BIT | 14)
#define EFI_BUFFER_TOO_SMALL (EFI_ERROR_BIT | 5)
#define EFI_INVALID_PARAMETER (EFI_ERROR_BIT | 2)
#define EFI_UNSUPPORTED (EFI_ERROR_BIT | 3)
#define EFI_DEVICE_ERROR (EFI_ERROR_BIT | 7)
#define EFI_WRITE_PROTECTED (EFI_ERROR_BIT | 8)
#define EFI_OUT_OF_RESOURCES (EFI_ERROR_BIT | 9)
#define EFI_WARN_DELETE_FAILURE 2
#define EFI_TIMEOUT (EFI_ERROR_BIT | 18)
#define EFI_SECURITY_VIOLATION (EFI_ERROR_BIT | 26)
#define EFI_ACCESS_DENIED (EFI_ERROR_BIT | 15)
static inline bool efi_failed(efi_status status) { return (status & EFI_ERROR_BIT) != 0; }

struct efi_guid {
    uint32_t a;
    uint16_t b, c;
    uint8_t d[8];
};
struct efi_table_header {
    uint64_t signature;
    uint32_t revision, size, crc32, reserved;
};

/* 12.3, 12.4: console */
struct efi_input_key {
    uint16_t scan_code, unicode;
};
struct efi_text_input {
    void *reset;
    efi_status (*read_key)(struct efi_text_input *self, struct efi_input_key *key);
    void *wait_for_key;
};
struct efi_text_output {
    void *reset;
    efi_status (*output_string)(struct efi_text_output *self, const uint16_t *text);
    void *test_string, *query_mode, *set_mode, *set_attribute;
    efi_status (*clear_screen)(struct efi_text_output *self);
};

/* 10.2: device paths */
struct efi_device_path {
    uint8_t type, subtype, length[2];
};
enum { EFI_PATH_END = 0x7f, EFI_PATH_MEDIA = 4, EFI_PATH_HARD_DRIVE = 1, EFI_PATH_VENDOR = 3, EFI_PATH_FILE = 4 };

/* 13.9: block devices */
struct efi_block_media {
    uint32_t id;
    uint8_t removable, present, logical_partition, read_only, write_caching;
    uint32_t block_size, io_align;
    uint64_t last_block;
};
struct efi_block_io {
    uint64_t revision;
    struct efi_block_media *media;
    void *reset;
    efi_status (*read_blocks)(struct efi_block_io *self, uint32_t media_id, uint64_t lba, size_t bytes, void *into);
    efi_status (*write_blocks)(struct efi_block_io *self, uint32_t media_id, uint64_t lba, size_t bytes, void *from);
    efi_status (*flush_blocks)(struct efi_block_io *self);
};

/* 13.4, 13.5: files */
struct efi_file {
    uint64_t revision;
    efi_status (*open)(struct efi_file *self, struct efi_file **out, const uint16_t *name, uint64_t mode,
                       uint64_t attributes);
    efi_status (*close)(struct efi_file *self);
    efi_status (*delete_file)(struct efi_file *self);
    efi_status (*read)(struct efi_file *self, size_t *bytes, void *into);
    efi_status (*write)(struct efi_file *self, size_t *bytes, const void *from);
    efi_status (*get_position)(struct efi_file *self, uint64_t *at);
    efi_status (*set_position)(struct efi_file *self, uint64_t at);
    efi_status (*get_info)(struct efi_file *self, const struct efi_guid *kind, size_t *bytes, void *into);
    efi_status (*set_info)(struct efi_file *self, const struct efi_guid *kind, size_t bytes, const void *from);
    efi_status (*flush)(struct efi_file *self);
};
enum { EFI_MODE_READ = 1, EFI_ATTRIBUTE_READ_ONLY = 1, EFI_ATTRIBUTE_FOLDER = 16 };
struct efi_file_system {
    uint64_t revision;
    efi_status (*open_volume)(struct efi_file_system *self, struct efi_file **root);
};
struct efi_time {
    uint16_t year;
    uint8_t month, day, hour, minute, second, pad;
    uint32_t nanosecond;
    int16_t zone;
    uint8_t daylight, pad2;
};
struct efi_file_info {
    uint64_t size, file_size, physical_size;
    struct efi_time time[3];
    uint64_t attribute;
    uint16_t name[];
};
struct efi_volume_info {
    uint64_t size;
    bool read_only;
    uint64_t volume_size, free_space;
    uint32_t block_size;
    uint16_t label[1]; /* none */
};

/* 9.1: a loaded image */
struct efi_loaded_image {
    uint32_t revision;
    efi_handle parent;
    struct efi_system_table *system;
    efi_handle device;
    struct efi_device_path *file_path;
    void *reserved;
    uint32_t load_options_size;
    void *load_options;
};

/* 13.2: what the kernel fetches its initial RAM disk through */
struct efi_load_file2 {
    efi_status (*load_file)(struct efi_load_file2 *self, struct efi_device_path *path, bool boot_policy, size_t *size,
                            void *buffer);
};

/* 7: boot services */
struct efi_boot_services {
    struct efi_table_header header;
    void *raise_tpl, *restore_tpl;
    efi_status (*allocate_pages)(int how, int type, size_t pages, uint64_t *at);
    void *free_pages, *get_memory_map;
    efi_status (*allocate_pool)(int type, size_t bytes, void **at);
    efi_status (*free_pool)(void *at);
    void *create_event, *set_timer, *wait_for_event, *signal_event, *close_event, *check_event;
    efi_status (*install_protocol)(efi_handle *handle, const struct efi_guid *protocol, int type, void *interface);
    void *reinstall_protocol;
    efi_status (*uninstall_protocol)(efi_handle handle, const struct efi_guid *protocol, void *interface);
    efi_status (*handle_protocol)(efi_handle handle, const struct efi_guid *protocol, void **interface);
    void *reserved, *register_protocol_notify;
    efi_status (*locate_handle)(int how, const struct efi_guid *protocol, void *key, size_t *bytes,
                                efi_handle *handles);
    efi_status (*locate_device_path)(const struct efi_guid *protocol, struct efi_device_path **path,
                                     efi_handle *handle);
    void *install_configuration_table;
    efi_status (*load_image)(bool boot_policy, efi_handle parent, struct efi_device_path *path, void *source,
                             size_t size, efi_handle *image);
    efi_status (*start_image)(efi_handle image, size_t *exit_size, uint16_t **exit_data);
    void *exit;
    efi_status (*unload_image)(efi_handle image);
    void *exit_boot_services, *get_next_monotonic_count;
    efi_status (*stall)(size_t microseconds);
    efi_status (*set_watchdog_timer)(size_t seconds, uint64_t code, size_t size, uint16_t *data);
};
enum {
    EFI_ALLOCATE_ANY_PAGES = 0,
    EFI_LOADER_DATA = 2,
    EFI_PAGE = 4096,
    EFI_NATIVE_INTERFACE = 0,
    EFI_BY_PROTOCOL = 2
};

/* 4.3: the system table */
struct efi_system_table {
    struct efi_table_header header;
    uint16_t *firmware_vendor;
    uint32_t firmware_revision;
    efi_handle console_in_handle;
    struct efi_text_input *in;
    efi_handle console_out_handle;
    struct efi_text_output *out;
    efi_handle standard_error_handle;
    struct efi_text_output *error;
    void *runtime_services;
    struct efi_boot_services *boot;
};

#endif
