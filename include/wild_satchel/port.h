/* port.h — the hardware, behind small tables of functions. That is all a new platform writes.
 *
 * docs/writing-a-port.md walks through an implementation. Ports hand out objects whose first member is the table.
 */
#ifndef WILD_SATCHEL_PORT_H
#define WILD_SATCHEL_PORT_H

#include "wild_satchel/source.h"

WS_BEGIN

/** Three answers to a question a machine cannot always decide. */
enum ws_known { WS_NO, WS_YES, WS_UNKNOWN };

enum ws_drive_kind {
    WS_DRIVE_DEVICE,   /**< real hardware */
    WS_DRIVE_FILE,     /**< a plain file used as if it were a drive */
    WS_DRIVE_SIMULATED /**< on the simulated bench */
};

/** What a drive is. Filled by describe(); plain data, no ownership. */
struct ws_drive_facts {
    char id[512];        /**< what open() takes: a path or a bench name */
    char short_name[64]; /**< what the technician types to confirm; see ws_drive_short_name() */
    enum ws_drive_kind kind;
    char vendor[64], model[64], serial[64];
    char bus[32];             /**< "usb", "sata", "nvme", "mmc", "file", ... as the platform says; may be empty */
    enum ws_known removable;  /**< the medium can be taken out, or the drive is a stick or card */
    enum ws_known internal;   /**< built into the machine; WS_UNKNOWN counts as internal */
    bool system;              /**< holds the running system */
    bool read_only;           /**< write-protected */
    uint64_t size;            /**< bytes */
    uint32_t logical_sector;  /**< bytes: the smallest unit that can be addressed */
    uint32_t physical_sector; /**< bytes: the smallest unit written without a read first */
    uint32_t optimal_write;   /**< bytes; 0 if unknown */
    uint32_t erase_unit;      /**< bytes the drive erases at once, where it says so; 0 if unknown */
    uint64_t bus_bits_s;      /**< speed of the bus as agreed, bits a second; 0 if unknown */
    char in_use_by[256];      /**< mount points and holders, comma-separated; empty if free */
    /** Where it is plugged in, as the machine counts: "1-2.3" is bus 1, port 2, and port 3 of the hub there. Empty if
     *  that is not known. */
    char place[64];
};

enum ws_open_mode {
    WS_OPEN_READ,
    WS_OPEN_WRITE /**< exclusive: fails while anybody else uses the drive */
};

struct ws_drive;
/** Offsets and lengths given to read and write are multiples of the logical sector. */
struct ws_drive_ops {
    /** Read the identity again from the open handle. */
    enum ws_status (*describe)(struct ws_drive *drive, struct ws_drive_facts *facts, struct ws_error *error);
    enum ws_status (*read)(struct ws_drive *drive, uint64_t at, void *buffer, size_t length, struct ws_error *error);
    enum ws_status (*write)(struct ws_drive *drive, uint64_t at, const void *bytes, size_t length,
                            struct ws_error *error);
    /** Return only when all that was written is on the medium. */
    enum ws_status (*flush)(struct ws_drive *drive, struct ws_error *error);
    /** The contents of this range no longer matter; WS_E_UNSUPPORTED is a fine answer. */
    enum ws_status (*discard)(struct ws_drive *drive, uint64_t at, uint64_t length, struct ws_error *error);
    /** Drop what the machine remembers of the drive: its cached blocks and its partition table. */
    enum ws_status (*reread)(struct ws_drive *drive, struct ws_error *error);
    /** Flush, then take the drive out of service so that it can be unplugged. */
    enum ws_status (*release)(struct ws_drive *drive, struct ws_error *error);
    /** Is the file or device at `path` this drive itself, or does it lie on it; of a folder, does one of its files?
     * NULL where a port knows no files. */
    bool (*stores)(struct ws_drive *drive, const char *path);
    void (*close)(struct ws_drive *drive);
};
struct ws_drive {
    const struct ws_drive_ops *ops;
};

typedef bool (*ws_drive_visit)(void *context, const struct ws_drive_facts *facts);

struct ws_port;
struct ws_task;
struct ws_port_ops {
    /** Call `visit` for every drive until it returns false. */
    enum ws_status (*list)(struct ws_port *port, ws_drive_visit visit, void *context, struct ws_error *error);
    enum ws_status (*open)(struct ws_port *port, const char *id, enum ws_open_mode mode, struct ws_drive **drive,
                           struct ws_error *error);
    int64_t (*wall_clock)(struct ws_port *port);  /**< seconds since 1970-01-01 UTC */
    double (*steady_clock)(struct ws_port *port); /**< seconds since an arbitrary moment, never backwards */
    enum ws_status (*random)(struct ws_port *port, void *bytes, size_t length, struct ws_error *error);
    /** Run `work(context)` beside the caller, or at once if the platform has no way to. */
    enum ws_status (*start)(struct ws_port *port, void (*work)(void *context), void *context, struct ws_task **task,
                            struct ws_error *error);
    void (*join)(struct ws_port *port, struct ws_task *task); /**< wait for it and free it */
    /** Let so many seconds go by, while tasks go on. NULL, or @return false: tasks run at once here, and waiting for
     *  one that does not end by itself would be for ever. */
    bool (*pause)(struct ws_port *port, double seconds);
    /** Wait until a drive comes or goes, for so many seconds at most. NULL where nobody could tell. */
    enum ws_status (*watch)(struct ws_port *port, double seconds, struct ws_error *error);
    void (*close)(struct ws_port *port);
};
struct ws_port {
    const struct ws_port_ops *ops;
};

/** How a PC starts. */
enum ws_firmware { WS_FIRMWARE_BIOS, WS_FIRMWARE_UEFI };

struct ws_pc_facts {
    char name[64];
    enum ws_firmware firmware;
    bool secure_boot; /**< on */
};

/** A disk inside a PC, which is none of a started drive's business. */
struct ws_pc_disk {
    uint64_t sectors; /**< of 512 bytes; no other disk of this PC has as many */
    bool touched;     /**< its bytes are not those it had when the drive was plugged in */
};

struct ws_pc;
struct ws_pc_ops {
    enum ws_status (*describe)(struct ws_pc *pc, struct ws_pc_facts *facts, struct ws_error *error);
    enum ws_status (*plug)(struct ws_pc *pc, const char *drive_id, struct ws_error *error);
    enum ws_status (*unplug)(struct ws_pc *pc, struct ws_error *error);
    /** Start from the plugged drive. @return once the firmware is running, or WS_E_REFUSED with the firmware's reason
     */
    enum ws_status (*power_on)(struct ws_pc *pc, struct ws_error *error);
    /** Console text since the last call: up to `room` bytes, 0 in `*got` if `wait_s` seconds pass without any.
     *  @return WS_E_GONE once the PC has switched itself off and all it said was read */
    enum ws_status (*console_read)(struct ws_pc *pc, char *out, size_t room, double wait_s, size_t *got,
                                   struct ws_error *error);
    enum ws_status (*console_write)(struct ws_pc *pc, const char *text, struct ws_error *error);
    /** Power off: `clean` waits for the system to shut down by itself (it must have been told to), else the power is
     *  cut at once. */
    enum ws_status (*power_off)(struct ws_pc *pc, bool clean, struct ws_error *error);
    /** What became of the disk inside it; while it is switched off. NULL: it has none that can be looked at. */
    enum ws_status (*disk)(struct ws_pc *pc, struct ws_pc_disk *disk, struct ws_error *error);
    /** What its clock shows at each start from now on: seconds since 1970-01-01 UTC; 0: the time it is. NULL: it
     *  cannot be set. */
    enum ws_status (*set_clock)(struct ws_pc *pc, int64_t at, struct ws_error *error);
    void (*close)(struct ws_pc *pc);
};
struct ws_pc {
    const struct ws_pc_ops *ops;
};

/** A short name from model, serial number and size: "gorse-32-k7q2". The same drive always gets the same one; two
 *  sticks of one model differ, unless neither has a serial number. `out` holds 64 bytes. */
WS_CHECKED enum ws_status ws_drive_short_name(struct ws_drive_facts *facts, struct ws_error *error);

/** Drives that look alike, plugged in beside each other, are told apart by where: "gorse-32-k7q2@1-2.3" is the name of
 * one of them for as long. It says which one is meant, and nothing of what will be there tomorrow. Does a name say the
 * same drive, place apart? */
bool ws_drive_alike(const struct ws_drive_facts *facts, const char *name);
/** Is this its name? One with a place is that of a drive which is plugged in there, whether or not another looks like
 * it; one without is not that of a drive which facts->short_name calls by its place. */
bool ws_drive_called(const struct ws_drive_facts *facts, const char *name);
/** Call it so from now on, if ws_drive_called(): a drive that was opened does not know what looks like it.
 *  @param name  may be NULL */
void ws_drive_call(struct ws_drive_facts *facts, const char *name);
/** Call it by its place, if that is known, whatever else is plugged in. */
void ws_drive_call_by_place(struct ws_drive_facts *facts);
/** All drives, as ws_port_ops.list() does, those that look alike called by their places. */
WS_CHECKED enum ws_status ws_drives_list(struct ws_port *port, ws_drive_visit visit, void *context,
                                         struct ws_error *error);

/**
 * Find a drive by its id, the place it is plugged into, its short name or its model; what is not listed is opened by
 * id; else by a part of its name or model, letters of either case being the same, where one drive alone has it.
 * @return WS_E_USAGE if several drives answer to `word` (the text says which); WS_E_NOTFOUND, with the name that is
 *         nearest where one is near
 */
WS_CHECKED enum ws_status ws_drive_find(struct ws_port *port, const char *word, struct ws_drive_facts *facts,
                                        struct ws_error *error);
/** Two drives of one model and size without serial numbers cannot be told apart but by where they are plugged in: while
 *  both are, neither is a target that is not called by its place. @return WS_OK; WS_E_REFUSED naming the other one */
WS_CHECKED enum ws_status ws_drive_is_alone(struct ws_port *port, const struct ws_drive_facts *facts,
                                            struct ws_error *error);

/** A drive as a source, in any alignment. Borrows the drive. */
WS_CHECKED enum ws_status ws_source_drive(struct ws_drive *drive, struct ws_source **source, struct ws_error *error);

/** The same, closing the drive with the source; at once on a failure. */
WS_CHECKED enum ws_status ws_source_drive_own(struct ws_drive *drive, struct ws_source **source,
                                              struct ws_error *error);

/** Did the caller name the drive to confirm that it is meant? @return WS_OK; WS_E_REFUSED saying what to type */
WS_CHECKED enum ws_status ws_drive_confirmed(const struct ws_drive_facts *facts, const char *name,
                                             struct ws_error *error);

/** An image is never written over itself: refuse if the file at `path` is this drive or lies on it.
 *  @return WS_OK; WS_E_REFUSED */
WS_CHECKED enum ws_status ws_drive_is_not(struct ws_drive *drive, const char *path, struct ws_error *error);

/** Why a drive may not be written to, by DESIGN.md's safety rules. */
struct ws_target_rules {
    bool allow_external_disk; /**< the caller has said that an external hard drive or SSD is meant */
};
/** @return WS_OK if the drive may be a target; WS_E_REFUSED with the reason and what to do */
WS_CHECKED enum ws_status ws_drive_may_write(const struct ws_drive_facts *facts, const struct ws_target_rules *rules,
                                             struct ws_error *error);
/** Both questions before a drive may be a target: ws_drive_may_write() and ws_drive_is_alone(). */
WS_CHECKED enum ws_status ws_drive_may_be_target(struct ws_port *port, const struct ws_drive_facts *facts,
                                                 const struct ws_target_rules *rules, struct ws_error *error);

WS_END

#endif
