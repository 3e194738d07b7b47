/* calls.h — the Linux kernel as a program without a C library calls it, on x86-64 (System V ABI, "AMD64 Linux Kernel
 * Conventions"): number in rax, arguments in rdi, rsi, rdx, r10, r8, r9; an error is a small negative result. */
#ifndef WS_START_CALLS_H
#define WS_START_CALLS_H

#include <stdint.h>

enum call {
    CALL_READ = 0,
    CALL_WRITE = 1,
    CALL_OPEN = 2,
    CALL_CLOSE = 3,
    CALL_STATE = 4, /* stat */
    CALL_IOCTL = 16,
    CALL_PREAD = 17,
    CALL_PWRITE = 18,
    CALL_SLEEP = 35,
    CALL_FORK = 57,
    CALL_EXEC = 59,
    CALL_EXIT = 60,
    CALL_SYNC_FILE = 74, /* fsync */
    CALL_NODE = 133,     /* mknod */
    CALL_MOUNT = 165,
    CALL_FOLDER = 217, /* getdents64 */
    CALL_UNSHARE = 272,
    CALL_MODULE = 313 /* finit_module */
};

static inline long linux_call(enum call number, long a, long b, long c, long d, long e) {
    long result;
    register long r10 __asm__("r10") = d;
    register long r8 __asm__("r8") = e;
    __asm__ volatile("syscall"
                     : "=a"(result)
                     : "a"((long)number), "D"(a), "S"(b), "d"(c), "r"(r10), "r"(r8)
                     : "rcx", "r11", "memory");
    return result;
}

enum { OPEN_WRITE = 1, OPEN_BOTH = 2, OPEN_FOLDER = 0200000, OPEN_CLOSE = 02000000 };
static inline long open_path(const char *path, long how) {
    return linux_call(CALL_OPEN, (long)path, how | OPEN_CLOSE, 0, 0, 0);
}
static inline void close_file(long file) { (void)linux_call(CALL_CLOSE, file, 0, 0, 0, 0); }

enum { NODE_CHARACTER = 0020600, LOOP_CONTROL = 10 << 8 | 237 }; /* Documentation/admin-guide/devices.txt */
enum { MOUNT_RECURSIVE = 16384, MOUNT_PRIVATE = 1 << 18, NEW_MOUNTS = 0x20000 };

/* linux/fs.h, linux/blkpg.h, linux/loop.h */
enum {
    ASK_SECTOR = 0x1268,      /* BLKSSZGET */
    TELL_PARTITION = 0x1269,  /* BLKPG */
    PARTITION_RESIZE = 3,     /* its BLKPG_RESIZE_PARTITION */
    ASK_FREE_LOOP = 0x4c82,   /* LOOP_CTL_GET_FREE */
    LOOP_SET_FILE = 0x4c00,   /* LOOP_SET_FD */
    LOOP_CLEAR_FILE = 0x4c01, /* LOOP_CLR_FD */
    LOOP_SET_PLACE = 0x4c04,  /* LOOP_SET_STATUS64 */
    LOOP_SET_DIRECT = 0x4c08, /* LOOP_SET_DIRECT_IO */
    LOOP_SET_SECTOR = 0x4c09, /* LOOP_SET_BLOCK_SIZE */
    LOOP_SET_ALL = 0x4c0a,    /* LOOP_CONFIGURE, since 5.8 */
    LOOP_READ_ONLY = 1,
    LOOP_DIRECT = 16
};
#define ASK_BYTES 0x80081272L   /* BLKGETSIZE64 */
#define VOLUME_GROW 0x40086610L /* EXT4_IOC_RESIZE_FS: how many blocks it is to have */
struct partition_place {
    int64_t at, length; /* bytes */
    int32_t number;
    char names[128];
};
struct partition_order {
    int32_t order, flags, length;
    struct partition_place *place;
};
struct loop_place {
    uint64_t device, inode, rdevice, offset, size_limit;
    uint32_t number, encrypt_type, encrypt_key_size, flags;
    uint8_t file_name[64], crypt_name[64], encrypt_key[32];
    uint64_t init[2];
};
struct loop_all {
    uint32_t file, sector;
    struct loop_place place;
    uint64_t reserved[8];
};

#endif
