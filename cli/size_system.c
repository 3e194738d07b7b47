/* size_system.c — satchel size --kind system: how large a drive a full system wants, and which swap. */
#include "cli/size.h"

#include <stdio.h>
#include <stdlib.h>

struct way {
    const char *what;
    uint64_t size, free_bytes, drive;
    const char *note;
};

static size_t ways_of(const struct ws_system_sizes *s, struct way way[2]) {
    way[0] = (struct way){"least", s->least, s->least_free, s->least_drive, "it starts, and has no room to live"};
    way[1] = (struct way){"comfortable", s->comfortable, s->comfortable_free, s->comfortable_drive, "with all of that"};
    return 2;
}

static const struct {
    const char *what, *why;
} swaps[] = {{"none", "usual: flash wears, and a slow stick makes the PC stand still when memory runs short"},
             {"short of memory", "half of the memory, 512 MiB to 4 GiB: programs are put aside instead of ended"},
             {"hibernation", "the memory and a tenth: only where the system on it is set up for that"}};

static uint64_t swap_bytes(const struct ws_system_sizes *s, size_t i) {
    return i == 0 ? 0 : i == 1 ? s->swap_small : s->swap_hibernation;
}

static void show(const struct cli *cli, const struct ws_system_sizes *s, const struct ws_drive_facts *drive) {
    struct way way[2];
    char a[48], b[48], sold[24];
    enum ink colour;
    show_line(cli, INK_BOLD, "%s%s%s", s->title, drive ? " on " : "", drive ? drive->short_name : "");
    show_field(cli, "Takes", "%s on its volume", ws_size_both(s->used, a, sizeof a));
    if (s->packages.known)
        show_field(cli, "Installed", "%u packages, %s", s->packages.count,
                   ws_size_both(s->packages.installed_bytes, a, sizeof a));
    size_show_items(cli, &s->sizing, "on its volume");
    say("\n  %s%-14s %-5s %-22s %-12s %-9s%s\n", ink(cli, INK_DIM), "volume", drive ? "fits" : "", "size", "free",
        "drive", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < ways_of(s, way); i++) {
        (void)snprintf(sold, sizeof sold, "%llu GB", (unsigned long long)size_sold_for(way[i].drive));
        const char *fits = size_fit(drive, way[i].drive, &colour);
        show_row(cli, 69, "  %-14s %s%-5s%s %-22s %-12s %-9s\t%s", way[i].what, ink(cli, colour), fits,
                 ink(cli, INK_PLAIN), ws_size_both(way[i].size, a, sizeof a),
                 ws_size_counted(way[i].free_bytes, b, sizeof b), sold, way[i].note);
    }
    if (!s->has_swap_sizes) return;
    say("\n  %s%-20s %12s%s\n", ink(cli, INK_DIM), "swap", "size", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < sizeof swaps / sizeof swaps[0]; i++)
        show_row(cli, 37, "  %-20s %12s  %s%s%s", swaps[i].what,
                 i ? ws_size_counted(swap_bytes(s, i), a, sizeof a) : "0", ink(cli, INK_DIM), swaps[i].why,
                 ink(cli, INK_PLAIN));
}

static json_t *to_json(const struct ws_system_sizes *s, const char *path, const struct ws_drive_facts *drive) {
    json_t *ways = json_array(), *swap = json_array();
    struct way way[2];
    for (size_t i = 0; i < ways_of(s, way); i++)
        json_array_append_new(ways, cli_pack("{s:s, s:b, s:I, s:I, s:I, s:s}", "way", way[i].what, "fits",
                                             !drive || way[i].drive <= drive->size, "size_bytes",
                                             (json_int_t)way[i].size, "free_bytes", (json_int_t)way[i].free_bytes,
                                             "least_drive_bytes", (json_int_t)way[i].drive, "note", way[i].note));
    for (size_t i = 0; s->has_swap_sizes && i < sizeof swaps / sizeof swaps[0]; i++)
        json_array_append_new(swap, cli_pack("{s:s, s:I, s:s}", "way", swaps[i].what, "size_bytes",
                                             (json_int_t)swap_bytes(s, i), "why", swaps[i].why));
    return cli_pack("{s:s, s:s, s:s, s:o, s:I, s:b, s:I, s:o, s:I, s:o, s:o}", "format", "wild-satchel-size", "kind",
                    "system", "image", path, "drive", drive ? json_string(drive->short_name) : json_null(),
                    "installed_bytes", (json_int_t)s->sizing.installed, "installed_counted", s->sizing.counted,
                    "packages", (json_int_t)s->packages.count, "items", size_items_json(&s->sizing),
                    "free_wanted_bytes", (json_int_t)s->sizing.free_wanted, "ways", ways, "swap", swap);
}

int size_system(struct cli *cli, const char *image, const char *edition, const struct ws_wishes *wishes,
                const char *memory, const struct ws_drive_facts *drive) {
    struct ws_source *source = NULL;
    struct ws_packed_facts packed;
    struct ws_system_sizes *s = calloc(1, sizeof *s);
    uint64_t bytes = 0;
    int code = EXIT_DONE;
    char a[48];
    enum ws_status status = s ? WS_OK : ws_fail(&cli->error, WS_E_NOMEM, "out of memory for sizes");
    if (memory && status == WS_OK) status = ws_size_parse(memory, &bytes, &cli->error);
    if (status == WS_OK) status = cli_open_image(cli, image, WS_KIND_SYSTEM, &source, &packed);
    if (status == WS_OK) status = ws_system_size(source, edition, wishes, bytes, s, &cli->error);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", image);
        code = cli_fail(cli);
    } else if (cli->json) {
        code = cli_print_json(to_json(s, image, drive), EXIT_DONE);
    } else {
        show(cli, s, drive);
        char least[32];
        (void)snprintf(least, sizeof least, "%lluM", (unsigned long long)(s->comfortable >> 20));
        show_result(cli, true, "%s are comfortable.", ws_size_counted(s->comfortable, a, sizeof a));
        show_next(cli, "prepare", "--image", image, drive ? "--drive" : "", drive ? drive->short_name : "", "--kind",
                  "system", "--system", least);
    }
    ws_source_close(source);
    free(s);
    return code;
}
