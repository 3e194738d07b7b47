/* size_twin.c — satchel size --kind twin: how large a drive a twin wants, and what it could do without. */
#include "cli/size.h"

#include <stdio.h>
#include <stdlib.h>

struct way {
    const char *what;
    uint64_t drive;
    const char *note;
};

static void ways_of(const struct ws_twin_sizes *s, struct way way[3]) {
    way[0] = (struct way){"least", s->least_drive,
                          s->starts ? "it starts, and has no room to live" : "all fits, and nothing more"};
    way[1] = (struct way){"comfortable", s->comfortable_drive, "a quarter more for each, a gigabyte for updates"};
    way[2] = (struct way){"as large", s->same_drive, "each volume as large as the original's"};
}

static const char *way_words(enum ws_twin_way way) {
    static const char *const words[] = {"anew", "as it is", "empty"};
    return words[way];
}

static void show(const struct cli *cli, const struct ws_twin_sizes *s, const char *original,
                 const struct ws_drive_facts *drive) {
    struct way way[3];
    char a[24], b[24], c[24], d[24], sold[24];
    enum ink colour;
    show_line(cli, INK_BOLD, "%s%s%s", s->title[0] ? s->title : original, drive ? " on " : "",
              drive ? drive->short_name : "");
    say("\n  %s%-5s %-12s %-9s %10s %10s %10s %12s%s\n", ink(cli, INK_DIM), "no.", "system", "becomes", "is", "holds",
        "least", "comfortable", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < s->volumes; i++) {
        const struct ws_twin_volume_sizes *v = &s->volume[i];
        (void)snprintf(sold, sizeof sold, v->of ? "%u" : "new", v->of);
        show_row(cli, 4, "  %-5s %-12s %-9s %10s %10s %10s %12s", sold, v->system, way_words(v->way),
                 v->was ? ws_size_counted(v->was, a, sizeof a) : "-",
                 v->way == WS_TWIN_ANEW || v->used ? ws_size_counted(v->used, b, sizeof b) : "-",
                 ws_size_counted(v->least, c, sizeof c), ws_size_counted(v->comfortable, d, sizeof d));
    }
    say("\n  %s%-12s %-5s %12s %9s%s\n", ink(cli, INK_DIM), "a drive of", drive ? "fits" : "", "at least", "sold as",
        ink(cli, INK_PLAIN));
    ways_of(s, way);
    for (size_t i = 0; i < 3; i++) {
        (void)snprintf(sold, sizeof sold, "%llu GB", (unsigned long long)size_sold_for(way[i].drive));
        const char *fits = size_fit(drive, way[i].drive, &colour);
        show_row(cli, 44, "  %-12s %s%-5s%s %12s %9s  %s%s%s", way[i].what, ink(cli, colour), fits, ink(cli, INK_PLAIN),
                 ws_size_counted(way[i].drive, a, sizeof a), sold, ink(cli, INK_DIM), way[i].note, ink(cli, INK_PLAIN));
    }
    bool any = false;
    for (unsigned i = 0; i < WS_LEAVES; i++) any |= s->leavable[i].files > 0;
    if (any) say("\n  %s%-12s %12s %8s%s\n", ink(cli, INK_DIM), "leave out", "less", "files", ink(cli, INK_PLAIN));
    for (unsigned i = 0; i < WS_LEAVES; i++)
        if (s->leavable[i].files)
            show_row(cli, 37, "  %-12s %12s %8llu  %s%s%s", ws_leave_name((enum ws_leave)i),
                     ws_size_counted(s->leavable[i].bytes, a, sizeof a), (unsigned long long)s->leavable[i].files,
                     ink(cli, INK_DIM), ws_leave_meaning((enum ws_leave)i), ink(cli, INK_PLAIN));
}

static json_t *to_json(const struct ws_twin_sizes *s, const char *path, const struct ws_drive_facts *drive) {
    json_t *ways = json_array(), *volumes = json_array(), *leave = json_array();
    struct way way[3];
    ways_of(s, way);
    for (size_t i = 0; i < 3; i++)
        json_array_append_new(ways, cli_pack("{s:s, s:b, s:I, s:s}", "way", way[i].what, "fits",
                                             !drive || way[i].drive <= drive->size, "least_drive_bytes",
                                             (json_int_t)way[i].drive, "note", way[i].note));
    for (size_t i = 0; i < s->volumes; i++) {
        const struct ws_twin_volume_sizes *v = &s->volume[i];
        json_array_append_new(volumes, cli_pack("{s:i, s:s, s:s, s:I, s:I, s:I, s:I}", "of", (int)v->of, "system",
                                                v->system, "becomes", ws_twin_way_name(v->way), "was_bytes",
                                                (json_int_t)v->was, "used_bytes", (json_int_t)v->used, "least_bytes",
                                                (json_int_t)v->least, "comfortable_bytes", (json_int_t)v->comfortable));
    }
    for (unsigned i = 0; i < WS_LEAVES; i++)
        json_array_append_new(leave,
                              cli_pack("{s:s, s:I, s:I, s:s}", "what", ws_leave_name((enum ws_leave)i), "bytes",
                                       (json_int_t)s->leavable[i].bytes, "files", (json_int_t)s->leavable[i].files,
                                       "meaning", ws_leave_meaning((enum ws_leave)i)));
    return cli_pack("{s:s, s:s, s:s, s:o, s:b, s:o, s:o, s:o}", "format", "wild-satchel-size", "kind", "twin", "image",
                    path, "drive", drive ? json_string(drive->short_name) : json_null(), "starts", s->starts, "volumes",
                    volumes, "ways", ways, "leave_out", leave);
}

int size_twin(struct cli *cli, const char *original, uint32_t leave_out, const struct ws_drive_facts *drive) {
    struct ws_source *source = NULL;
    struct ws_input input = {.size = 0};
    struct ws_twin_sizes *s = calloc(1, sizeof *s);
    char a[48];
    int code = EXIT_DONE;
    enum ws_status status = s ? WS_OK : ws_fail(&cli->error, WS_E_NOMEM, "out of memory for sizes");
    if (status == WS_OK) status = cli_open_port(cli);
    if (status == WS_OK) status = cli_open_original(cli, original, &input, &source);
    if (status == WS_OK) status = ws_twin_size(source, leave_out, s, &cli->error);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", original);
        code = cli_fail(cli);
    } else if (cli->json) {
        code = cli_print_json(to_json(s, original, drive), EXIT_DONE);
    } else {
        show(cli, s, original, drive);
        show_result(cli, true, "A drive of %s or more is comfortable.",
                    ws_size_both(s->comfortable_drive, a, sizeof a));
        if (drive) show_next(cli, "twin", original, "--drive", drive->short_name);
    }
    ws_source_close(source);
    free(s);
    return code;
}
