/* cli.h — the command-line tool: words in, words out. No computation lives here. */
#ifndef WS_CLI_H
#define WS_CLI_H

#include "wild_satchel/port/sim.h"
#include "wild_satchel/wild_satchel.h"

#include <jansson.h>
#include <popt.h>

/** How the way through long work is told, on standard error. */
enum progress {
    PROGRESS_TABLE, /**< redrawn in place: on a terminal */
    PROGRESS_LINES, /**< a line now and then */
    PROGRESS_JSON,  /**< a JSON object a line */
    PROGRESS_NONE
};

/** What every command has at hand. */
struct cli {
    bool json;     /**< --json: one JSON document on standard output */
    bool colour;   /**< standard output is a terminal that takes colours */
    bool terminal; /**< standard error is one */
    bool noted;    /**< it takes colours */
    enum progress progress;
    char *bench_folder;
    struct ws_bench *bench; /**< opened when --bench or WILD_SATCHEL_BENCH names one */
    struct ws_port *port;
    const char *defaults; /**< the file that some of its options come from; NULL: all were typed */
    const char
        *secrets; /**< the open file that secrets are read from, as its option has it; NULL: a terminal is asked */
    struct ws_error error;
    int width;  /**< columns */
    bool wraps; /**< standard output is a terminal: long lines are wrapped */
};

enum { EXIT_DONE = 0, EXIT_NEGATIVE = 1, EXIT_USAGE = 2, EXIT_REFUSED = 3, EXIT_FAULT = 4, EXIT_STOPPED = 5 };

/* options.c: */
/** Read a command's options, defaults of the site first, and its words, of which there are at most COMMAND_WORDS.
 *  Prints usage errors. @return 0, or an exit code + 1 */
struct command;
enum { COMMAND_WORDS = 3 };
int cli_options(struct cli *cli, const struct command *command, int argc, const char **argv,
                const char *words[COMMAND_WORDS]);
/** How both output streams are written to, from what is asked for (may be NULL) and what they are. */
enum ws_status cli_streams(struct cli *cli, const char *progress, const char *colour);

/** Open the port that --bench or the machine gives. */
enum ws_status cli_open_port(struct cli *cli);
/** Say what went wrong and turn it into an exit code. */
int cli_fail(struct cli *cli);

enum { WAYS_ROOM = 600 };

/* What to do next, with the options and commands that do it. Returns `out`. */
const char *ways_next(const struct ws_error *e, char out[WAYS_ROOM]);
json_t *ways_json(const struct ws_error *e);
int cli_exit_code(enum ws_status status);
/** Print a JSON document and free it. */
int cli_print_json(json_t *document, int exit_code);
/* mistaken.c: what was taken for something else. A word that is to be a drive, an image, or a document of ours ("plan",
 * "built", "request", "trial", "rules", "family", "bench") is looked at: is it one of the others?
 * @return WS_OK if it is not, or nothing is known of it; WS_E_USAGE naming what it is and what is done with it */
enum ws_status cli_is_no_other(struct cli *cli, const char *path, const char *wanted);
/* What a word is that nobody asked for, and how to give it; an image behind these words. */
bool cli_what_is(const char *path, const char *image, char next[200]);
/* A document of ours, read; of at most so many bytes. */
enum ws_status cli_read_document(struct cli *cli, const char *path, size_t most, const char *wanted,
                                 struct ws_text *text);

/** Is nobody using it? What is read would change meanwhile. @return WS_E_REFUSED */
enum ws_status cli_check_idle(struct cli *cli, const struct ws_drive_facts *facts);
/** Find a drive by short name, model or id; a path counts too. */
enum ws_status cli_find_drive(struct cli *cli, const char *word, struct ws_drive_facts *facts);
/** The same, making an image file of `make` (a size in words; NULL: it must be there) first; one of that size that is
 *  there is taken as it is. @param made  out: was it made? */
enum ws_status cli_find_or_make(struct cli *cli, const char *word, const char *make, struct ws_drive_facts *facts,
                                bool *made);
/** Show what would be lost, or without `drive` what will be done (`what`: the words behind "The system on NAME (...)"),
 *  and let the technician type the drive's name into `answer`. */
enum ws_status cli_ask(struct cli *cli, const struct ws_drive_facts *facts, struct ws_drive *drive, const char *what,
                       char *answer, size_t room);
/** A line from standard input, without blanks at its ends. @return false at the end of it */
bool cli_read_answer(char *out, size_t room);
/** Ask for these very words; a slip is forgiven once. @return WS_E_REFUSED for others; WS_E_CANCELLED */
enum ws_status cli_ask_for(struct cli *cli, const char *question, const char *wanted);
enum ws_status cli_read_file(const char *path, size_t most, struct ws_text *text, struct ws_error *error);
/** When a file was last changed, its name and rights included; in milliseconds since 1970, 0 if that cannot be told. */
/* The image of a plan: files of a root keep all that a root has, those of a medium become a disc image. */
enum ws_status cli_open_image(struct cli *cli, const char *path, enum ws_kind kind, struct ws_source **source,
                              struct ws_packed_facts *packed);
/** What a twin is made of: a drive by any of its names, which `input` keeps then, or an image file. */
enum ws_status cli_open_original(struct cli *cli, const char *word, struct ws_input *input, struct ws_source **source);
/** Its state, for a request that no drive is decided on yet. */
enum ws_status cli_know_original(struct cli *cli, struct ws_input *input, const struct ws_source *source);
int64_t cli_touched_at(const char *path);
/** The folders on the way to a file; what cannot be made shows when that is written. */
void cli_make_folders(const char *path);
/** Print the text of a JSON document. Controls and marks that turn the writing round, which JSON lets stand, are
 * written as escapes: only strings hold any. */
void cli_put_document(const char *text);
/** A text as JSON: what is no UTF-8 becomes visible. */
json_t *cli_text(const char *text);
/** An object by a format of jansson's, "{s:s, s:i}": keys, and values s, i, I, f, b, o and objects. Texts become
 *  cli_text(). */
json_t *cli_pack(const char *format, ...);
/** What a command works with, and never writes a document over. */
enum { CLI_NEVER_MOST = 32 };
struct cli_never {
    const char *path[CLI_NEVER_MOST];
    size_t count;
};
void cli_never(struct cli_never *never, const char *path);
/** Put a document on disk, see ws_linux_keep(); "-" is standard output. */
enum ws_status cli_keep(struct cli *cli, const char *path, const char *bytes, size_t length, const char *format,
                        bool over, const struct cli_never *never);
/** Read a plan and work it out again over its image. */
struct cli_plan {
    const struct ws_plan *plan; /* the build's */
    struct ws_source *input[WS_INPUTS_MOST];
    struct ws_drive *drive; /* read by a renewal, whose plan says what it holds */
    struct ws_source *now;
    struct ws_build *build;
};
/** A drive read as it is. Close both, the source first. */
enum ws_status cli_open_now(struct cli *cli, const struct ws_drive_facts *facts, struct ws_drive **drive,
                            struct ws_source **now);
/** The drive of a plan: by its name, else where it was when it was planned, if it still looks the same. */
enum ws_status cli_find_planned(struct cli *cli, const struct ws_plan_drive *planned, struct ws_drive_facts *facts);
/** Does a passphrase open its system? */
bool cli_is_locked(const struct ws_plan *plan);
/** An added file as the request names it. */
enum ws_status cli_open_addition(struct cli *cli, const struct ws_addition *addition, struct ws_source **source);
/** @param moved  where its image is now; NULL: where it was */
enum ws_status cli_load_plan(struct cli *cli, const char *path, const char *moved, struct cli_plan *plan);
void cli_free_plan(struct cli_plan *plan);
json_t *cli_findings_json(const struct ws_findings *findings);
json_t *cli_hash_json(const char *hex);

/* stop.c */
/** From now on Ctrl-C, SIGTERM and SIGHUP ask to stop between two writes. */
void stop_listen(void);
bool stop_asked(void);

/* drives.c */
/** What kind of drive it is, in words: "stick or card", "external disk", ... */
const char *cli_kind_of(const struct ws_drive_facts *facts);

/* trial.c */
/** drives --test and drives --blank. */
struct drive_work {
    const char *test, *system, *label, *cluster, *confirm, *save;
    int blank, external, over;
};
int cli_drive_work(struct cli *cli, const struct ws_drive_facts *facts, const struct drive_work *work);

/* original.c: a virtual disk file, and what stands on the drive in an image. */
bool virtual_look(const char *path, struct ws_container_facts *facts);
void virtual_show(const struct cli *cli, const struct ws_container_facts *facts);
json_t *virtual_json(const struct ws_container_facts *facts);
struct ws_original *original_look(const struct ws_source *source); /* NULL: nothing that a twin could have */
void original_free(struct ws_original *original);
void original_show(const struct cli *cli, const struct ws_original *original);
json_t *original_json(const struct ws_original *original);

/* root.c: what the root file system in an image is. @return false if there is none */
bool root_look(const struct ws_image *image, const struct ws_tree *folder, struct ws_system_facts *facts);
void root_show(const struct cli *cli, const struct ws_system_facts *facts);
json_t *root_json(const struct ws_system_facts *facts);
/* What a live image's initial RAM disk can do for remembering, where it is read. */
void ability_show(const struct cli *cli, const struct ws_image *image);
json_t *ability_json(const struct ws_image *image);
void editions_show(const struct cli *cli, const struct ws_editions *editions);
json_t *editions_json(const struct ws_editions *editions);

/* show.c */
enum ink { INK_PLAIN, INK_BOLD, INK_DIM, INK_GOOD, INK_WARN, INK_BAD, INK_BLUE, INK_TEAL };
const char *ink(const struct cli *cli, enum ink ink);
/** The same for standard error. */
const char *note_ink(const struct cli *cli, enum ink ink);
/** As printf() to standard output and standard error, but what comes as a string is made fit for a terminal: control
 *  characters, marks that turn the writing round and bytes that are no UTF-8 become visible. All text goes this way.
 *  Conversions: s, d, u, llu, zu, f, g. */
void say(const char *format, ...) WS_PRINTF(1, 2);
void note(const char *format, ...) WS_PRINTF(1, 2);
void note_list(const char *format, va_list *list);
/** A line of words to standard error; on a terminal what is too long goes on under column `indent`. */
void note_words(const struct cli *cli, int indent, const char *format, ...) WS_PRINTF(3, 4);
/** "1 file", "2 files". */
const char *show_count(uint64_t count, const char *what, char out[64]);
/* Of seconds since 1970-01-01 UTC: "2026-11-28", and with hours and minutes; "-" of what is not known. */
const char *show_day(int64_t at, char out[32]);
const char *show_minute(int64_t at, char out[32]);
void show_line(const struct cli *cli, enum ink colour, const char *format, ...) WS_PRINTF(3, 4);
/** A labelled value: "  Starts on      BIOS, UEFI". */
void show_field(const struct cli *cli, const char *name, const char *format, ...) WS_PRINTF(3, 4);
/** A line of a table; on a terminal what is too long goes on under column `indent`. What stands behind a tab of the
 * format is its last column: it begins there, or on a line of its own where there is little room. */
void show_row(const struct cli *cli, int indent, const char *format, ...) WS_PRINTF(3, 4);
/** What a console said, line by line. */
void show_console(const char *text);
/** The last line of a command: an explicit sentence with the result. */
void show_result(const struct cli *cli, bool good, const char *format, ...) WS_PRINTF(3, 4);
/** Behind it, on a line of its own: a whole command, of these words; empty ones are left out. */
#define show_next(cli, ...) next_show(cli, (const char *const[]){__VA_ARGS__, NULL})
void next_show(const struct cli *cli, const char *const word[]);
/** A PC on which a drive can be proved here; NULL: none. */
const char *next_pc(struct cli *cli);
/** A kind of partition table in words. */
const char *show_table(enum ws_table_kind kind);
void show_findings(const struct cli *cli, const struct ws_findings *findings);

/** A drawn drive. */
struct map_part {
    const char *what, *label;
    unsigned number;
    uint64_t at, length;
    enum ink colour;
};
void show_map(const struct cli *cli, uint64_t size, const struct map_part *part, size_t count);
/** What stands on a drive as parts of a map, with what is free between them; `part` has room for twice `most`. The
 *  texts live in `labels`. @return number of parts */
size_t cli_contents_map(const struct ws_contents *contents, uint64_t size, struct map_part *part, char (*labels)[64],
                        size_t most);

/* picture.c */
struct picture {
    const char *title;
    uint64_t size;                 /**< bytes of the drive */
    const struct map_part *before; /**< may be empty */
    size_t before_count;
    const struct map_part *after;
    size_t after_count;
};
/** Draw for a file, PNG or SVG by its name, into memory. */
enum ws_status cli_draw_maps(const char *path, const struct picture *picture, struct ws_text *out,
                             struct ws_error *error);

/** What is remembered, and how it came to that, in the same way. */
enum ws_status cli_draw_kept(const char *path, const char *title, const struct ws_kept_report *report,
                             struct ws_text *out, struct ws_error *error);

/** Columns and rows of the terminal that standard error is, now: it may have been resized. */
int note_columns(void);
int note_rows(void);
/** Progress as a line of JSON; `drive` may be NULL, `left_s` negative: not known. */
void progress_line(const char *drive, const struct ws_progress *progress, double left_s);

void progress_step(const char *step, const char *drive, const struct ws_progress *progress, double left_s);

/* busy.c */
/** From now on somebody waits for this: after a moment it is said, and how long it takes. One at a time; the outer one
 *  of two stays. */
void busy_begin(const struct cli *cli, const char *format, ...) WS_PRINTF(2, 3);
void busy_end(void);
/** A source whose reading is told, so many times from end to end; borrows `base`, close it before busy_end(). */
enum ws_status busy_count(const struct ws_source *base, unsigned times, struct ws_source **counted,
                          struct ws_error *error);

/** Progress, for ws_progress_call. */
struct meter {
    const struct cli *cli;
    enum ws_step last;
    bool any;
    double drawn_s;
    int told;          /* tenths */
    const char *drive; /**< for lines of JSON; may be NULL */
    bool checks;       /**< what is written is read back afterwards */
};
bool meter_tell(void *context, const struct ws_progress *progress);
void meter_end(struct meter *meter);

#endif
