/* keep_sized.c — satchel keep grow, shrink, move: the volume of what a drive remembers of another size, or elsewhere.
 */
#include "cli/keep.h"
#include "cli/wishes.h"

#include <stdio.h>
#include <string.h>

/* A size was given as a number. */
static bool is_sized(void) { return keep_asked.size && strcmp(keep_asked.size, "rest") != 0; }

/* Where more could come from, if not from free space. */
static enum ws_status no_room(struct keeping *k, uint64_t most, uint64_t size) {
    struct cli *cli = k->cli;
    struct ws_neighbour n;
    struct ws_error why = {0};
    char a[48], b[48];
    const bool in_file = ws_kept_memory(k->kept)->in_file;
    if (is_sized())
        ws_fail(&cli->error, WS_E_SPACE, "with what is free %s it its volume can be of %s, not of %s",
                in_file ? "around" : "behind", ws_size_both(most, a, sizeof a), ws_size_both(size, b, sizeof b));
    else ws_fail(&cli->error, WS_E_SPACE, "there is no free space %s it", in_file ? "around" : "behind");
    if (ws_kept_neighbour(k->kept, 0, &n, &why) == WS_OK && n.most > most)
        return ws_fail_next(&cli->error, "what stands %s it can give room, for up to %s: --take-from-data",
                            n.in_front ? "in front of" : "behind", ws_size_both(n.most, a, sizeof a));
    if (why.status == WS_E_REFUSED) /* a data volume could, but for its state */
        return ws_fail_next(&cli->error, "the data volume beside it could give room, but %s: %s", why.what, why.next);
    return ws_fail_next(&cli->error, "save it, prepare a larger drive, and put it back there");
}

/* What the neighbour is and will be, into the question. */
static enum ws_status take_room(struct keeping *k, uint64_t size, char loses[320], struct ws_neighbour *gave) {
    struct cli *cli = k->cli;
    struct ws_neighbour n, after;
    char is[48], was[32], gets[32], name[64];
    WS_TRY(ws_kept_neighbour(k->kept, is_sized() ? size : 0, &n, &cli->error));
    if (!is_sized()) {
        ws_fail(&cli->error, WS_E_USAGE,
                "say how large it is to be: its neighbour's room is not taken without a number");
        return ws_fail_next(&cli->error, "--size SIZE, up to %s", ws_size_both(n.most, is, sizeof is));
    }
    WS_TRY(ws_kept_grow_into(k->kept, size, &after, &cli->error));
    size_t at = (size_t)snprintf(loses, 320, "gets a volume of %s", ws_size_both(size >> 20 << 20, is, sizeof is));
    (void)snprintf(name, sizeof name, n.label[0] ? " \"%s\"" : "", n.label);
    if (after.at)
        at +=
            (size_t)snprintf(loses + at, 320 - at, "; the volume%s %s it has %s then, not %s, with %s free", name,
                             after.in_front ? "in front of" : "behind", ws_size_counted(after.size, gets, sizeof gets),
                             ws_size_counted(n.size, was, sizeof was), ws_size_both(after.free_bytes, is, sizeof is));
    (void)snprintf(loses + at, 320 - at, "%s, and nothing is lost", n.swap && !after.in_front ? "; swap moves on" : "");
    *gave = after;
    return WS_OK;
}

/* Only what stands where the new end is, or will be, is moved. */
static enum ws_status resize(struct keeping *k, bool grows) {
    struct cli *cli = k->cli;
    const bool take = keep_asked.take != 0;
    uint64_t least, most, size;
    char was[48], is[48], loses[320];
    struct ws_neighbour gave = {.at = 0};
    WS_TRY(keep_open(k, true));
    WS_TRY(ws_kept_bounds(k->kept, &least, &most, &cli->error));
    size = most;
    const uint64_t now = ws_kept_memory(k->kept)->volume_size;
    if (is_sized()) WS_TRY(ws_size_parse(keep_asked.size, &size, &cli->error));
    if (grows && !keep_asked.size && ws_kept_memory(k->kept)->in_file) {
        ws_fail(&cli->error, WS_E_USAGE, "say how large it is to be: other files of its volume need room, too");
        return ws_fail_next(&cli->error, "--size SIZE, up to %s", ws_size_both(most, is, sizeof is));
    }
    if (grows && !take && (most <= now || size > most)) return no_room(k, most, size);
    if ((!take || is_sized()) && (grows ? size <= now : size >= now))
        return ws_fail(&cli->error, WS_E_USAGE, "it is of %s now: that would not %s",
                       ws_size_both(now, was, sizeof was), grows ? "make it larger" : "make it smaller");
    const bool free_behind = is_sized() && size <= most && !ws_kept_memory(k->kept)->in_file;
    if (take && !free_behind) {
        WS_TRY(take_room(k, size, loses, &gave));
    } else {
        WS_TRY(ws_kept_resize(k->kept, size, &cli->error));
        (void)snprintf(loses, sizeof loses, "gets a volume of %s in the place of %s, and loses nothing",
                       ws_size_both(size >> 20 << 20, is, sizeof is), ws_size_both(now, was, sizeof was));
    }
    return keep_do(k, loses, grows ? "has more room" : "has less room",
                   cli->json && gave.at ? cli_pack("{s:o}", "neighbour", keep_neighbour_json(&gave)) : NULL);
}

enum ws_status keep_grow(struct keeping *k) { return resize(k, true); }

enum ws_status keep_shrink(struct keeping *k) {
    if (!keep_asked.size) return ws_fail(&k->cli->error, WS_E_USAGE, "say how small it is to be: --size SIZE");
    return resize(k, false);
}

static const char *place_word(unsigned i) { return i ? "file" : "partition"; }

/* Where it goes, into the question. */
static void word_moving(const struct ws_moving *m, char loses[320]) {
    char size[48], data[48], rest[32], label[64];
    (void)snprintf(label, sizeof label, m->data_label[0] ? " \"%s\"" : "", m->data_label);
    const char *is = ws_size_both(m->size, size, sizeof size);
    ws_size_counted(m->data_free, rest, sizeof rest);
    if (m->into_file)
        (void)snprintf(loses, 320,
                       "remembers in a file \"%s\" of %s on the %s volume%s then, which has %s free; its "
                       "partition goes, and nothing is lost",
                       m->name, is, m->data_format, label, rest);
    else if (m->stays)
        (void)snprintf(loses, 320,
                       "remembers in a partition of %s then, where its file lies; the data volume%s begins "
                       "behind it, has %s with %s free, and nothing is lost",
                       is, label, ws_size_counted(m->data_size, data, sizeof data), rest);
    else
        (void)snprintf(loses, 320,
                       "remembers in a partition of %s then; its file goes from the data volume%s, which has "
                       "%s free, and nothing is lost",
                       is, label, rest);
}

static json_t *moving_json(const struct ws_moving *m) {
    return cli_pack("{s:s, s:I, s:I, s:b, s:s, s:s, s:I, s:I}", "in", place_word(m->into_file), "at", (json_int_t)m->at,
                    "size_bytes", (json_int_t)m->size, "in_place", m->stays, "file", m->name, "data_label",
                    m->data_label, "data_bytes", (json_int_t)m->data_size, "data_free_bytes", (json_int_t)m->data_free);
}

enum ws_status keep_move(struct keeping *k) {
    struct cli *cli = k->cli;
    struct ws_moving moving;
    uint64_t size = 0;
    unsigned place = 0;
    char loses[320];
    if (!keep_asked.in) {
        ws_fail(&cli->error, WS_E_USAGE, "say where it is to be kept then");
        return ws_fail_next(&cli->error, "--in file, or --in partition");
    }
    WS_TRY(cli_pick(cli, "--in", keep_asked.in, place_word, 0, 2, &place));
    if (keep_asked.size) WS_TRY(ws_size_parse(keep_asked.size, &size, &cli->error));
    WS_TRY(keep_open(k, true));
    WS_TRY(ws_kept_move(k->kept, place == 1, size, &moving, &cli->error));
    word_moving(&moving, loses);
    k->to_prove = true;
    return keep_do(k, loses, place == 1 ? "remembers in a file" : "remembers in a partition",
                   cli->json ? cli_pack("{s:o}", "moved", moving_json(&moving)) : NULL);
}
