/* files.c — a volume's files for the firmware and whoever asks it, where it does not read that file system itself: the
 * Simple File System and File Protocols (UEFI Specification 2.10, sections 13.4 and 13.5), read-only. */
#include "uefi.h"

static const struct efi_guid file_info = {0x09576e92, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const struct efi_guid volume_info = {
    0x09576e93, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const struct efi_guid label_info = {
    0xdb47d7d3, 0xfe81, 0x11d3, {0x9a, 0x35, 0x00, 0x90, 0x27, 0x3f, 0xc1, 0x4d}};

struct open_file {
    struct efi_file protocol; /* first: it is what callers hold */
    struct uefi_files *files;
    struct start_file file;
    uint64_t at; /* byte of a file, name of a folder */
    char path[START_PATH_MOST];
};

static efi_status open_path(struct uefi_files *files, const char *path, struct efi_file **out);

/* A name of the caller's behind the folder it is relative to, without "." and "..". False: it is too long. */
static bool join(const char *folder, const uint16_t *name, char out[START_PATH_MOST]) {
    size_t n = 0;
    if (*name != '\\')
        for (; folder[n]; n++) out[n] = folder[n];
    while (*name) {
        const uint16_t *part = name;
        size_t units = 0;
        while (part[units] && part[units] != '\\') units++;
        name = part + units + (part[units] == '\\');
        if (units == 0 || (units == 1 && part[0] == '.')) continue;
        if (units == 2 && part[0] == '.' && part[1] == '.') {
            while (n && out[--n] != '/') continue;
            continue;
        }
        if (n + 1 + 3 * units >= START_PATH_MOST) return false;
        out[n++] = '/';
        for (size_t i = 0; i < units; i++) n += start_utf8(part[i], out + n);
    }
    out[n] = '\0';
    return true;
}

static efi_status file_open(struct efi_file *self, struct efi_file **out, const uint16_t *name, uint64_t mode,
                            uint64_t attributes) {
    const struct open_file *o = (const struct open_file *)self;
    char path[START_PATH_MOST];
    (void)attributes;
    if (!out || !name) return EFI_INVALID_PARAMETER;
    if (mode != EFI_MODE_READ) return EFI_WRITE_PROTECTED;
    if (!join(o->path, name, path)) return EFI_NOT_FOUND;
    return open_path(o->files, path, out);
}

static efi_status file_close(struct efi_file *self) {
    struct open_file *o = (struct open_file *)self;
    (void)o->files->uefi->system->boot->free_pool(o);
    return 0;
}

static efi_status file_delete(struct efi_file *self) {
    (void)file_close(self);
    return EFI_WARN_DELETE_FAILURE;
}

static efi_status refuse_write(struct efi_file *self, size_t *bytes, const void *from) {
    (void)self, (void)bytes, (void)from;
    return EFI_WRITE_PROTECTED;
}

static efi_status refuse_set(struct efi_file *self, const struct efi_guid *kind, size_t bytes, const void *from) {
    (void)self, (void)kind, (void)bytes, (void)from;
    return EFI_WRITE_PROTECTED;
}

static efi_status refuse_flush(struct efi_file *self) {
    (void)self;
    return EFI_WRITE_PROTECTED;
}

/* What is known of a file, in the caller's room. */
static efi_status tell(const char *name, const struct start_file *f, size_t *bytes, void *into) {
    const size_t needed = sizeof(struct efi_file_info) + 2 * (start_length(name) + 1);
    struct efi_file_info *info = into;
    if (*bytes < needed || !into) {
        *bytes = needed;
        return EFI_BUFFER_TOO_SMALL;
    }
    memset(info, 0, needed);
    info->size = needed;
    info->file_size = info->physical_size = f->folder ? 0 : f->size;
    for (unsigned i = 0; i < 3; i++) { /* none is kept here; what none is has to be a date all the same */
        info->time[i].year = 2000;
        info->time[i].month = info->time[i].day = 1;
    }
    info->attribute = EFI_ATTRIBUTE_READ_ONLY | (f->folder ? EFI_ATTRIBUTE_FOLDER : 0);
    size_t n = 0;
    for (const char *p = name; *p;) info->name[n++] = start_utf16(&p);
    info->size = sizeof *info + 2 * (n + 1);
    *bytes = info->size;
    return 0;
}

struct listing {
    uint64_t wanted, seen;
    size_t *bytes;
    void *into;
    efi_status status;
    bool found;
};

static bool tell_one(void *context, const char *name, const struct start_file *file) {
    struct listing *l = context;
    if (l->seen++ < l->wanted) return true;
    l->found = true;
    l->status = tell(name, file, l->bytes, l->into);
    return false;
}

/* The next name; no bytes at all behind the last one. */
static efi_status read_folder(struct open_file *o, size_t *bytes, void *into) {
    struct listing l = {.wanted = o->at, .bytes = bytes, .into = into};
    if (!start_list(&o->file, tell_one, &l)) return EFI_DEVICE_ERROR;
    if (!l.found) *bytes = 0;
    else if (!efi_failed(l.status)) o->at++;
    return l.status;
}

static efi_status file_read(struct efi_file *self, size_t *bytes, void *into) {
    struct open_file *o = (struct open_file *)self;
    uint64_t got = 0;
    if (!bytes || (*bytes && !into)) return EFI_INVALID_PARAMETER;
    if (o->file.folder) return read_folder(o, bytes, into);
    if (o->at > o->file.size) return EFI_DEVICE_ERROR;
    if (!start_read(&o->file, o->at, *bytes, into, &got)) return EFI_DEVICE_ERROR;
    o->at += got;
    *bytes = (size_t)got;
    return 0;
}

static efi_status file_position(struct efi_file *self, uint64_t *at) {
    const struct open_file *o = (const struct open_file *)self;
    if (o->file.folder) return EFI_UNSUPPORTED;
    *at = o->at;
    return 0;
}

static efi_status file_move(struct efi_file *self, uint64_t at) {
    struct open_file *o = (struct open_file *)self;
    if (o->file.folder && at) return EFI_UNSUPPORTED;
    o->at = at == ~0ull ? o->file.size : at;
    return 0;
}

static const char *last_name(const char *path) {
    const char *name = path;
    for (; *path; path++)
        if (*path == '/') name = path + 1;
    return name;
}

static efi_status tell_volume(const struct open_file *o, size_t *bytes, void *into) {
    struct efi_volume_info *info = into;
    if (*bytes < sizeof *info || !into) {
        *bytes = sizeof *info;
        return EFI_BUFFER_TOO_SMALL;
    }
    memset(info, 0, sizeof *info);
    info->size = *bytes = sizeof *info;
    info->read_only = true;
    info->volume_size = o->files->volume->length;
    info->block_size = o->files->volume->m->sector_bytes;
    return 0;
}

static efi_status file_info_of(struct efi_file *self, const struct efi_guid *kind, size_t *bytes, void *into) {
    const struct open_file *o = (const struct open_file *)self;
    if (!kind || !bytes) return EFI_INVALID_PARAMETER;
    if (memcmp(kind, &file_info, sizeof *kind) == 0) return tell(last_name(o->path), &o->file, bytes, into);
    if (memcmp(kind, &volume_info, sizeof *kind) == 0) return tell_volume(o, bytes, into);
    if (memcmp(kind, &label_info, sizeof *kind) != 0) return EFI_UNSUPPORTED;
    const bool fits = *bytes >= 2 && into;
    *bytes = 2;
    if (fits) memset(into, 0, 2);
    return fits ? 0 : EFI_BUFFER_TOO_SMALL;
}

static efi_status open_path(struct uefi_files *files, const char *path, struct efi_file **out) {
    static const struct efi_file calls = {.revision = 0x10000,
                                          .open = file_open,
                                          .close = file_close,
                                          .delete_file = file_delete,
                                          .read = file_read,
                                          .write = refuse_write,
                                          .get_position = file_position,
                                          .set_position = file_move,
                                          .get_info = file_info_of,
                                          .set_info = refuse_set,
                                          .flush = refuse_flush};
    struct open_file *o = NULL;
    if (efi_failed(files->uefi->system->boot->allocate_pool(EFI_LOADER_DATA, sizeof *o, (void **)&o)))
        return EFI_OUT_OF_RESOURCES;
    memset(o, 0, sizeof *o);
    o->protocol = calls;
    o->files = files;
    memcpy(o->path, path, start_length(path) + 1);
    if (!start_open(files->volume, path, &o->file)) {
        (void)file_close(&o->protocol);
        return EFI_NOT_FOUND;
    }
    *out = &o->protocol;
    return 0;
}

static efi_status open_volume(struct efi_file_system *self, struct efi_file **root) {
    return root ? open_path((struct uefi_files *)self, "", root) : EFI_INVALID_PARAMETER;
}

void uefi_files_begin(struct uefi_files *files, struct uefi *u, struct start_volume *volume) {
    files->protocol.revision = 0x10000;
    files->protocol.open_volume = open_volume;
    files->uefi = u;
    files->volume = volume;
}
