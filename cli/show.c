/* show.c — lines and maps on a terminal. */
#include "cli/cli.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <time.h>
#include <uniwidth.h>

static const char *const inks[] = {"\033[0m",  "\033[1m",  "\033[2m",  "\033[32m",
                                   "\033[33m", "\033[31m", "\033[94m", "\033[36m"};
enum { INKS = sizeof inks / sizeof inks[0] };

const char *ink(const struct cli *cli, enum ink which) { return cli->colour ? inks[which] : ""; }

const char *note_ink(const struct cli *cli, enum ink which) { return cli->noted ? inks[which] : ""; }

static bool is_ink(const char *text) {
    for (size_t i = 0; i < INKS; i++)
        if (text == inks[i]) return true; /* this very one: a text from outside that looks like it is not */
    return false;
}

/* Columns a piece of text takes, wide characters two and combining ones none; colours are not counted. */
static int columns_of(const char *text, size_t length) {
    int columns = 0;
    for (size_t i = 0; i < length;) {
        uint32_t code = 0;
        if (text[i] == '\033') {
            while (i < length && text[i++] != 'm') {
            }
            continue;
        }
        const size_t n = ws_utf8_next(text + i, length - i, &code);
        const int width = n ? uc_width(code, "UTF-8") : 1;
        columns += width > 0 ? width : 0;
        i += n ? n : 1;
    }
    return columns;
}

/* One conversion of a format: "%-22.18s", "%llu". */
struct conversion {
    char spec[24];
    int width, precision; /* -1: none */
    bool left;
    enum { INT, UNSIGNED, LONG_LONG, SIZE, REAL, STRING } kind;
};

static int star_or_digits(const char **p, va_list *list) {
    if (**p == '*') {
        (*p)++;
        return va_arg(*list, int);
    }
    int n = -1;
    for (; **p >= '0' && **p <= '9'; (*p)++) n = (n < 0 ? 0 : n * 10) + (**p - '0');
    return n;
}

static const char *read_conversion(const char *p, va_list *list, struct conversion *c) {
    const char *start = p++;
    c->left = false;
    for (; *p && strchr("-0+ #", *p); p++) c->left |= *p == '-';
    c->width = star_or_digits(&p, list);
    c->precision = -1;
    if (*p == '.') {
        p++;
        c->precision = star_or_digits(&p, list);
        if (c->precision < 0) c->precision = 0;
    }
    c->kind = INT;
    if (strncmp(p, "ll", 2) == 0) c->kind = LONG_LONG, p += 2;
    else if (*p == 'z') c->kind = SIZE, p++;
    if (*p == 's') c->kind = STRING;
    else if (*p == 'f' || *p == 'g') c->kind = REAL;
    else if (*p == 'u' && c->kind == INT) c->kind = UNSIGNED;
    p++;
    (void)snprintf(c->spec, sizeof c->spec, "%.*s", (int)(p - start), start);
    return p;
}

/* A text from outside: visible, cut and padded by columns. */
static void add_string(struct ws_text *out, const struct conversion *c, const char *text) {
    struct ws_text clean = {0};
    if (is_ink(text)) {
        ws_text_puts(out, text);
        return;
    }
    ws_text_puts(&clean, "");
    ws_text_visible(&clean, text);
    size_t length = clean.length;
    int columns = columns_of(clean.data ? clean.data : "", length);
    while (c->precision >= 0 && columns > c->precision) {
        do length--;
        while (length > 0 && ((unsigned char)clean.data[length] & 0xc0) == 0x80);
        columns = columns_of(clean.data, length);
    }
    if (!c->left)
        for (int i = columns; i < c->width; i++) ws_text_puts(out, " ");
    ws_text_add(out, clean.data, length);
    if (c->left)
        for (int i = columns; i < c->width; i++) ws_text_puts(out, " ");
    ws_text_free(&clean);
}

/* As vprintf() does it, but whatever comes as a string is made visible: this is where all text passes. */
static void compose(struct ws_text *out, const char *format, va_list *list) {
    ws_text_puts(out, "");
    while (*format) {
        size_t plain = strcspn(format, "%");
        ws_text_add(out, format, plain);
        format += plain;
        if (!*format) break;
        if (format[1] == '%') {
            ws_text_puts(out, "%");
            format += 2;
            continue;
        }
        struct conversion c;
        format = read_conversion(format, list, &c);
        char number[64] = "";
        if (c.kind == STRING) add_string(out, &c, va_arg(*list, const char *));
        else if (c.kind == REAL) (void)snprintf(number, sizeof number, c.spec, va_arg(*list, double));
        else if (c.kind == LONG_LONG) (void)snprintf(number, sizeof number, c.spec, va_arg(*list, unsigned long long));
        else if (c.kind == SIZE) (void)snprintf(number, sizeof number, c.spec, va_arg(*list, size_t));
        else if (c.kind == UNSIGNED) (void)snprintf(number, sizeof number, c.spec, va_arg(*list, unsigned));
        else (void)snprintf(number, sizeof number, c.spec, va_arg(*list, int));
        ws_text_puts(out, number);
    }
}

static void print(FILE *to, const char *format, va_list *list) {
    struct ws_text text = {0};
    compose(&text, format, list);
    if (text.data) fwrite(text.data, 1, text.length, to);
    ws_text_free(&text);
}

void say(const char *format, ...) {
    va_list list;
    va_start(list, format);
    print(stdout, format, &list);
    va_end(list);
}

void note_list(const char *format, va_list *list) { print(stderr, format, list); }

void note(const char *format, ...) {
    va_list list;
    va_start(list, format);
    print(stderr, format, &list);
    va_end(list);
}

/* Print words; lines that would be wider than `width` (0: any may be) go on under column `indent`. */
static void put_words(FILE *to, int width, int column, int indent, const char *text) {
    bool first = true;
    while (*text) {
        size_t spaces = strspn(text, " ");
        size_t word = strcspn(text + spaces, " ");
        int columns = columns_of(text + spaces, word);
        if (!first && width && column + (int)spaces + columns > width && indent + columns <= width) {
            fprintf(to, "\n%*s", indent, "");
            column = indent;
            text += spaces;
            spaces = 0;
        }
        fwrite(text, 1, spaces + word, to);
        column += (int)spaces + columns;
        text += spaces + word;
        first = false;
    }
    fputc('\n', to);
}

static void put_wrapped(const struct cli *cli, int column, int indent, const char *text) {
    put_words(stdout, cli->wraps ? cli->width : 0, column, indent, text);
}

static const char *show_time(int64_t at, const char *form, char out[32]) {
    const time_t t = (time_t)at;
    struct tm day;
    return at > 0 && gmtime_r(&t, &day) && strftime(out, 32, form, &day) ? out : "-";
}

const char *show_count(uint64_t count, const char *what, char out[64]) {
    (void)snprintf(out, 64, "%llu %.40s%s", (unsigned long long)count, what, count == 1 ? "" : "s");
    return out;
}

const char *show_day(int64_t at, char out[32]) { return show_time(at, "%Y-%m-%d", out); }

const char *show_minute(int64_t at, char out[32]) { return show_time(at, "%Y-%m-%d %H:%M", out); }

void note_words(const struct cli *cli, int indent, const char *format, ...) {
    struct ws_text text = {0};
    va_list list;
    va_start(list, format);
    compose(&text, format, &list);
    va_end(list);
    put_words(stderr, cli->terminal ? cli->width : 0, 0, indent, text.data ? text.data : "");
    ws_text_free(&text);
}

void show_line(const struct cli *cli, enum ink colour, const char *format, ...) {
    va_list list;
    va_start(list, format);
    fputs(ink(cli, colour), stdout);
    print(stdout, format, &list);
    fputs(ink(cli, INK_PLAIN), stdout);
    fputc('\n', stdout);
    va_end(list);
}

/* The last column of a table has so much room, or a line of its own. */
enum { FIELD = 16, LAST_LEAST = 28, FOLDED = 6 };

void show_field(const struct cli *cli, const char *name, const char *format, ...) {
    struct ws_text text = {0};
    va_list list;
    va_start(list, format);
    compose(&text, format, &list);
    va_end(list);
    say("  %s%-13s%s ", ink(cli, INK_DIM), name, ink(cli, INK_PLAIN));
    put_wrapped(cli, FIELD, FIELD, text.data ? text.data : "");
    ws_text_free(&text);
}

void show_row(const struct cli *cli, int indent, const char *format, ...) {
    struct ws_text text = {0};
    va_list list;
    va_start(list, format);
    compose(&text, format, &list);
    va_end(list);
    char *last = text.data ? strchr(text.data, '\t') : NULL; /* of the format: what comes as a string has none */
    if (!last) {
        put_wrapped(cli, 0, indent, text.data ? text.data : "");
    } else if (cli->wraps && cli->width < indent + LAST_LEAST) {
        *last++ = '\0';
        put_wrapped(cli, 0, FOLDED, text.data);
        if (*last) say("%*s", FOLDED, "");
        if (*last) put_wrapped(cli, FOLDED, FOLDED, last);
    } else {
        *last = ' ';
        put_wrapped(cli, 0, indent, text.data);
    }
    ws_text_free(&text);
}

void show_result(const struct cli *cli, bool good, const char *format, ...) {
    struct ws_text text = {0};
    va_list list;
    va_start(list, format);
    compose(&text, format, &list);
    va_end(list);
    say("\n%s%s%s ", ink(cli, good ? INK_GOOD : INK_BAD), good ? "Done." : "Not good.", ink(cli, INK_PLAIN));
    put_wrapped(cli, good ? 6 : 10, 0, text.data ? text.data : "");
    ws_text_free(&text);
}

void show_console(const char *text) {
    while (*text) {
        size_t line = strcspn(text, "\n");
        size_t end = line;
        while (end > 0 && text[end - 1] == '\r') end--;
        struct ws_text one = {0};
        ws_text_add(&one, text, end);
        say("%s\n", one.data ? one.data : "");
        ws_text_free(&one);
        text += line + (text[line] == '\n');
    }
}

const char *show_table(enum ws_table_kind kind) {
    static const char *const words[] = {"none", "MBR", "GPT", "GPT, with entries in the MBR beside it",
                                        "MBR, with a GPT beside it"};
    return words[kind];
}

void show_findings(const struct cli *cli, const struct ws_findings *f) {
    static const enum ink colours[] = {INK_DIM, INK_WARN, INK_BAD};
    for (size_t i = 0; i < f->count; i++) {
        say("  %s%-13s%s ", ink(cli, colours[f->list[i].weight]), ws_weight_name(f->list[i].weight),
            ink(cli, INK_PLAIN));
        put_wrapped(cli, FIELD, FIELD, f->list[i].text);
    }
}

/* Widths in proportion, but nothing that exists vanishes. */
static void share_out(uint64_t size, const struct map_part *part, size_t count, int width, int *columns) {
    int used = 0;
    for (size_t i = 0; i < count; i++) {
        columns[i] = (int)((double)part[i].length / (double)size * width + 0.5);
        if (columns[i] < 1) columns[i] = 1;
        used += columns[i];
    }
    while (used != width) {
        size_t widest = 0;
        for (size_t i = 1; i < count; i++)
            if (columns[i] > columns[widest]) widest = i;
        if (used > width && columns[widest] <= 1) break;
        columns[widest] += used > width ? -1 : 1;
        used += used > width ? -1 : 1;
    }
}

void show_map(const struct cli *cli, uint64_t size, const struct map_part *part, size_t count) {
    static const char *const fill[] = {"█", "▓", "▒"};
    int columns[64];
    int width = cli->width - 4 < 72 ? cli->width - 4 : 72;
    if (count == 0 || count > 64 || size == 0) return;
    share_out(size, part, count, width, columns);
    say("\n  ");
    for (size_t i = 0; i < count; i++) {
        bool vacant = strcmp(part[i].what, "free") == 0 || strcmp(part[i].what, "gap") == 0;
        fputs(ink(cli, vacant ? INK_DIM : part[i].colour), stdout);
        for (int k = 0; k < columns[i]; k++) fputs(vacant ? "·" : fill[i % 3], stdout);
        fputs(ink(cli, INK_PLAIN), stdout);
    }
    say("\n\n");
    for (size_t i = 0; i < count; i++) {
        char text[48];
        char at[24];
        bool vacant = strcmp(part[i].what, "free") == 0 || strcmp(part[i].what, "gap") == 0;
        char number[24] = "";
        if (part[i].number) (void)snprintf(number, sizeof number, "partition %u", part[i].number);
        show_row(cli, 17, "  %s%s%s %-12s %-22.22s %-12s %s, from %s", ink(cli, vacant ? INK_DIM : part[i].colour),
                 vacant ? "·" : fill[i % 3], ink(cli, INK_PLAIN), part[i].what, part[i].label, number,
                 ws_size_both(part[i].length, text, sizeof text),
                 part[i].at ? ws_size_counted(part[i].at, at, sizeof at) : "the start");
    }
}
