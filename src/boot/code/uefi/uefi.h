/* uefi.h — the UEFI machine's parts for each other. */
#ifndef WS_START_UEFI_H
#define WS_START_UEFI_H

#include "../start.h"
#include "efi.h"

/* What start_machine.self points to. */
struct uefi {
    efi_handle image;
    struct efi_system_table *system;
    struct efi_block_io *drive;
    uint8_t *aligned;          /* 64 KiB for drives that want aligned buffers */
    const uint8_t *drive_path; /* the drive's own device path, without its end; no bytes if it has none */
    size_t drive_path_length;
};

extern const struct efi_guid uefi_loaded_image, uefi_device_path, uefi_block_io, uefi_load_file2, uefi_file_system;

/* console.c */
void uefi_put(struct start_machine *m, const char *text);
void uefi_clear(struct start_machine *m);
unsigned uefi_key(struct start_machine *m, uint32_t wait_ms);
/* linux.c */
bool uefi_launch(struct start_machine *m, const struct start_launch *l);
bool uefi_pass_options(struct start_machine *m, struct efi_loaded_image *program, const char *options);
/* loader.c */
bool uefi_hand_over(struct start_machine *m, const struct start_launch *l);
/* files.c: its calls go to this volume from now on */
struct uefi_files {
    struct efi_file_system protocol; /* first: it is what callers hold */
    struct uefi *uefi;
    struct start_volume *volume;
};
void uefi_files_begin(struct uefi_files *files, struct uefi *u, struct start_volume *volume);

efi_status uefi_main(efi_handle image, struct efi_system_table *system);

#endif
