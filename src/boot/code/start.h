/* start.h — the start-up code that Wild Satchel puts on drives: what it needs of a machine, and its own rooms.
 *
 * One program, compiled three times: for BIOS (32-bit, with bios/, a small part of it assembler), for UEFI (x86-64,
 * with uefi/), and into the library, where simulated PCs and the tests run the very same lines over the bytes of a
 * drive. What both kinds of PC share is in x86/. It is freestanding: no C library, no 64-bit division, no memory but
 * what the machine hands out.
 *
 * Top-down: start_run() finds the volume with the entries (volume.c over disk.c; fat.c, exfat.c, ext4.c; in a file of
 * another volume by inside.c), reads them
 * (entries.c), shows the menu (menu.c), checks what is about to start (check.c) and hands it to the machine.
 */
#ifndef WS_START_H
#define WS_START_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum {
    START_ENTRIES_MOST = 512,
    START_INITRDS_MOST = 8,
    START_PATH_MOST = 512,
    START_NAME_MOST = 768, /* 255 UTF-16 units as UTF-8, and the NUL */
    START_TEXT_MOST = 32768,
    START_OPTIONS_MOST = 4096,
    START_NEXT_WAIT = 5,     /* seconds, before an entry that takes the place of one that cannot be started */
    START_WAIT_LONG = 60000, /* milliseconds; by these a machine sees that nothing but a key goes on */
    START_WINDOW = 4096,
    START_WINDOWS = 4 /* a folder, an inode, its group and a map are read by turns */
};

enum start_key {
    START_KEY_NONE = 0,
    START_KEY_BACK = 8,
    START_KEY_ENTER = 13,
    START_KEY_ESCAPE = 27,
    START_KEY_UP = 0x100,
    START_KEY_DOWN,
    START_KEY_LEFT,
    START_KEY_RIGHT,
    START_KEY_PAGE_UP,
    START_KEY_PAGE_DOWN,
    START_KEY_HOME,
    START_KEY_END
};

struct start_launch;

/* A machine. Every function gets the machine; none may be NULL. */
struct start_machine {
    void *self;
    const char *firmware;  /* "BIOS", "UEFI" */
    uint32_t sector_bytes; /* of the start drive: a power of two, 512 to 4096 */
    uint64_t sectors;      /* 0: not known */
    bool (*read)(struct start_machine *m, uint64_t lba, uint32_t count, void *into); /* start_fail() on error */
    /* The same; on the drive for good when it returns. */
    bool (*write)(struct start_machine *m, uint64_t lba, uint32_t count, const void *from);
    void (*put)(struct start_machine *m, const char *text); /* '\n' and '\r' are known */
    void (*clear)(struct start_machine *m);
    unsigned (*key)(struct start_machine *m, uint32_t wait_ms); /* a character, a start_key, or 0 when time is up */
    void *(*take)(struct start_machine *m, uint64_t bytes);     /* zeroed, never given back; NULL: none left */
    void (*serial)(struct start_machine *m, unsigned port, uint32_t speed); /* from now on this one, too */
    bool (*launch)(struct start_machine *m, const struct start_launch *l);  /* returns only when it fails */
    bool no_check; /* files are not compared before they start */
    bool off;      /* set by a machine that was switched off: nothing waits for a key any more */
    /* kept by the common code */
    char error[200];
    uint8_t *bounce; /* one sector */
    uint8_t *window; /* all of them in a row */
    uint64_t window_at[START_WINDOWS];
    uint32_t window_used[START_WINDOWS], windows_used;
};

/* text.c: the little that is missed of a C library. */
void *memcpy(void *restrict to, const void *restrict from, size_t n);
void *memset(void *to, int byte, size_t n);
int memcmp(const void *a, const void *b, size_t n);
size_t start_length(const char *text);
bool start_same(const char *a, const char *b);
bool start_same_any_case(const char *a, const char *b);
/* Formats %s, %u (unsigned), %U (uint64_t), %x (unsigned) and %%; always ends with NUL. @return characters written */
size_t start_format(char *out, size_t room, const char *format, ...);
void start_say(struct start_machine *m, const char *format, ...);
/* Note what went wrong, for the user; always false. The first failure of a chain is kept if `keep` text is there. */
bool start_fail(struct start_machine *m, const char *format, ...);
/* CRC-32C (RFC 3720, section 12.1), without its first and last inversion. */
uint32_t start_crc32c(uint32_t state, const uint8_t *p, size_t n);
/* One UTF-16 unit as UTF-8 (surrogates one by one become '?'). @return bytes written, at most 3 */
size_t start_utf8(uint16_t unit, char *out);
/* The other way round; *text moves on, which may not be at its end. Four bytes become '?'. */
uint16_t start_utf16(const char **text);
uint16_t start_le16(const uint8_t *p);
uint32_t start_le32(const uint8_t *p);
uint64_t start_le64(const uint8_t *p);

/* disk.c: bytes of the start drive, and its partitions. */
bool start_disk_read(struct start_machine *m, uint64_t at, uint64_t length, void *into);
/* Whole sectors only. */
bool start_disk_write(struct start_machine *m, uint64_t at, uint32_t length, const void *from);
/* The same as reading, for small pieces that are read again and again. */
bool start_disk_peek(struct start_machine *m, uint64_t at, uint32_t length, void *into);
typedef bool (*start_partition_visit)(void *context, uint64_t at, uint64_t length); /* false ends the walk */
bool start_partitions(struct start_machine *m, start_partition_visit visit, void *context);

/* volume.c: files on FAT12/16/32, exFAT and ext2/3/4. */
enum start_kind { START_FAT, START_EXFAT, START_EXT };
struct start_file;

struct start_volume {
    struct start_machine *m;
    enum start_kind kind;
    /** Where byte `at` of a file lies on the drive, and how many follow it there; length 0: behind its end. */
    bool (*run)(struct start_file *f, uint64_t at, uint64_t *disk_at, uint64_t *length);
    uint64_t at, length;    /* bytes on the drive */
    uint32_t cluster_shift; /* also ext's block size */
    uint32_t clusters;
    uint32_t root;            /* first cluster of the root folder; 0: FAT12/16's fixed one */
    unsigned bits;            /* of a FAT entry */
    uint64_t fat_at, heap_at; /* bytes on the drive; heap_at is cluster 2's */
    uint64_t fixed_root_at;
    uint32_t fixed_root_length;
    uint32_t inode_bytes, inodes_per_group, descriptor_bytes, inodes, groups; /* ext */
    uint64_t descriptors_at;
    bool has_checksums; /* ext: of folder blocks, too */
    uint32_t checksum_seed;
};
struct start_file {
    struct start_volume *v;
    uint64_t size; /* bytes; of FAT folders: UINT64_MAX */
    bool folder, link;
    bool contiguous;
    uint32_t first;                /* cluster */
    uint32_t walked_index, walked; /* where in the chain the last read stood */
    uint64_t fixed_at;             /* FAT12/16's root: byte on the drive, else 0 */
    uint8_t block[60];             /* ext: the inode's map */
    uint32_t number, generation;   /* ext: the inode's */
    bool has_extents, has_index;
};
/* Called for each name of a folder; false ends the walk. `file` may be copied. */
typedef bool (*start_name_visit)(void *context, const char *name, const struct start_file *file);

bool start_fat_mount(struct start_volume *v);
bool start_fat_list(struct start_file *folder, start_name_visit visit, void *context);
bool start_exfat_mount(struct start_volume *v);
bool start_exfat_list(struct start_file *folder, start_name_visit visit, void *context);
bool start_ext_mount(struct start_volume *v);
bool start_ext_list(struct start_file *folder, start_name_visit visit, void *context);
bool start_ext_root(struct start_volume *v, struct start_file *root);
/* Where byte `at` of a file lies, and how many bytes follow it in one piece; *disk_at 0 is a hole. */
bool start_fat_run(struct start_file *f, uint64_t at, uint64_t *disk_at, uint64_t *length);
bool start_ext_run(struct start_file *f, uint64_t at, uint64_t *disk_at, uint64_t *length);

/* Is there a volume at this place of the drive? */
bool start_mount(struct start_machine *m, uint64_t at, uint64_t length, struct start_volume *v);
bool start_open(struct start_volume *v, const char *path, struct start_file *f);
/* inside.c: ext4 volumes in files NAME.ext4, in one piece, in the root folder of a FAT or exFAT volume; each is mounted
 * into `inside`. @return whether the visitor ended the walk, with false */
typedef bool (*start_inside_visit)(void *context, const char *name, struct start_volume *inside);
bool start_inside(struct start_volume *host, struct start_volume *inside, start_inside_visit visit, void *context);
bool start_list(struct start_file *folder, start_name_visit visit, void *context);
/* Read up to `length` bytes at `at`; *got less only at the end of the file. */
bool start_read(struct start_file *f, uint64_t at, uint64_t length, void *into, uint64_t *got);
/* Read all of it, saying how far it is. */
bool start_load(struct start_file *f, const char *name, uint8_t *into);

/* entries.c: entries in the form of the Boot Loader Specification, type 1, and the settings beside them. */
enum start_check { START_CHECK_OFF, START_CHECK_QUICK, START_CHECK_FULL };
struct start_entry {
    const char *id;        /* file name without ".conf" and counter */
    const char *file_name; /* all of it */
    bool counted;          /* it has not proved itself, and has so many tries left */
    unsigned left;
    const char *title, *version, *sort_key, *linux, *options;
    const char *initrd[START_INITRDS_MOST];
    unsigned initrds;
    bool efi; /* `linux` is no kernel, but a UEFI program that starts what is on the volume */
    enum start_check check;
    const char *list_sha256, *list_path; /* of the checksum list; "" if there is none */
};
struct start_menu {
    struct start_entry *entry;
    unsigned entries;
    unsigned left_out; /* damaged, or too many */
    unsigned chosen;
    struct start_file folder; /* of the entries */
    uint32_t timeout_s;       /* 0: at once, START_WAIT_EVER */
    char default_id[128];
};
#define START_WAIT_EVER 0xffffffffu
/* One entry's text; strings are cut out of `text`, which is changed and must stay. False: it starts nothing. */
bool start_entry_parse(struct start_machine *m, char *text, const char *id, struct start_entry *e);
void start_settings_parse(char *text, struct start_menu *menu);
bool start_entries_read(struct start_volume *v, struct start_menu *menu);

/* count.c: tries of an entry that has not proved itself. Is there a counter, "+LEFT" or "+LEFT-DONE", at the end of
 * this name of `length` bytes? Then where it begins, and how many tries are left. */
bool start_counter_read(const char *name, size_t length, size_t *at, unsigned *left);
/* One try less, on the drive. */
bool start_count_down(struct start_volume *v, const struct start_menu *menu, const struct start_entry *e);

/* sha256.c: FIPS 180-4. */
struct start_sha256 {
    uint32_t state[8];
    uint64_t length;
    uint8_t block[64];
};
void start_sha256_begin(struct start_sha256 *s);
void start_sha256_add(struct start_sha256 *s, const void *bytes, size_t n);
void start_sha256_end(struct start_sha256 *s, char hex[65]);

/* check.c: what is about to start, against the list on the drive. False: the user chose not to start. */
bool start_check_files(struct start_volume *v, const struct start_entry *e);

/* menu.c: on return menu->chosen is to be started with `options`. @return nobody touched a key, time was up */
bool start_menu_show(struct start_machine *m, struct start_menu *menu, char *options, size_t room);

struct start_launch {
    const struct start_entry *entry;
    const char *options;
    struct start_file kernel;
    struct start_file initrd[START_INITRDS_MOST];
    unsigned initrds;
};

/* main.c: everything. Returns when nothing can be started, after having said why. */
void start_run(struct start_machine *m);
/* Wait for a key as long as it takes; 0 only when the machine was switched off. */
unsigned start_wait_key(struct start_machine *m);

#endif
