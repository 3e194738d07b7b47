/* picture.c — drive maps as pictures, drawn with cairo: to scale, small parts kept visible, told apart by hatching too
 * so that they can be read without colour. */
#include "cli/cli.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <math.h>
#include <stdio.h>
#include <string.h>

enum { WIDTH = 1200, MARGIN = 40, BAR = 76, LINE = 26, SMALLEST = 10 };

struct shade {
    double red, green, blue;
    int hatch; /* lines across: 0 none, 1 rising, 2 falling, 3 both */
};

static struct shade shade_of(const struct map_part *p, size_t index) {
    static const struct shade shades[] = {{0.32, 0.53, 0.74, 0}, {0.46, 0.68, 0.48, 1}, {0.87, 0.71, 0.42, 2},
                                          {0.66, 0.52, 0.72, 3}, {0.55, 0.72, 0.74, 1}, {0.80, 0.55, 0.48, 2}};
    if (strcmp(p->what, "persistence") == 0) return shades[1];
    if (strcmp(p->what, "data") == 0) return shades[2];
    if (strcmp(p->what, "swap") == 0) return shades[3];
    return shades[index % 6 == 1 ? 4 : index % 6];
}

static bool vacant(const struct map_part *p) { return strcmp(p->what, "free") == 0 || strcmp(p->what, "gap") == 0; }

static void text_at(cairo_t *c, double x, double y, double size, bool bold, const char *text) {
    cairo_select_font_face(c, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                           bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(c, size);
    cairo_set_source_rgb(c, 0.13, 0.14, 0.16);
    cairo_move_to(c, x, y);
    char clean[512];
    ws_visible(text, clean, sizeof clean);
    cairo_show_text(c, clean);
}

static void hatch(cairo_t *c, double x, double y, double w, double h, int kind) {
    cairo_save(c);
    cairo_rectangle(c, x, y, w, h);
    cairo_clip(c);
    cairo_set_source_rgba(c, 1, 1, 1, 0.45);
    cairo_set_line_width(c, 2);
    for (int at = -(int)h; at < (int)w; at += 10) {
        if (kind & 1) cairo_move_to(c, x + at, y + h), cairo_line_to(c, x + at + h, y);
        if (kind & 2) cairo_move_to(c, x + at, y), cairo_line_to(c, x + at + h, y + h);
    }
    cairo_stroke(c);
    cairo_restore(c);
}

static void fill_part(cairo_t *c, const struct map_part *p, size_t index, double x, double y, double w, double h) {
    if (vacant(p)) {
        cairo_set_source_rgb(c, 0.96, 0.96, 0.95);
        cairo_rectangle(c, x, y, w, h);
        cairo_fill(c);
    } else {
        struct shade s = shade_of(p, index);
        cairo_set_source_rgb(c, s.red, s.green, s.blue);
        cairo_rectangle(c, x, y, w, h);
        cairo_fill(c);
        if (s.hatch) hatch(c, x, y, w, h, s.hatch);
    }
    cairo_set_source_rgb(c, 0.35, 0.36, 0.38);
    cairo_set_line_width(c, 1);
    cairo_rectangle(c, x + 0.5, y + 0.5, w - 1, h - 1);
    cairo_stroke(c);
}

/* Widths in proportion; what would be too small to see is given some of what the large ones have. */
static void widths_of(const struct map_part *part, size_t count, uint64_t size, double *width) {
    double room = WIDTH - 2 * MARGIN;
    double small = 0;
    double large = 0;
    for (size_t i = 0; i < count; i++) {
        width[i] = (double)part[i].length / (double)size * room;
        if (width[i] < SMALLEST) small += SMALLEST;
        else large += width[i];
    }
    for (size_t i = 0; i < count; i++) width[i] = width[i] < SMALLEST ? SMALLEST : width[i] * (room - small) / large;
}

static double draw_map(cairo_t *c, double y, const char *title, const struct map_part *part, size_t count,
                       uint64_t size) {
    double width[128];
    double x = MARGIN;
    text_at(c, MARGIN, y + 16, 16, true, title);
    y += 28;
    widths_of(part, count, size, width);
    for (size_t i = 0; i < count; i++) {
        fill_part(c, &part[i], i, x, y, width[i], BAR);
        x += width[i];
    }
    y += BAR + 12;
    for (size_t i = 0; i < count; i++) {
        char line[256], bytes[48], at[32], number[24] = "";
        fill_part(c, &part[i], i, MARGIN, y, 18, 18);
        if (part[i].number) (void)snprintf(number, sizeof number, "partition %u", part[i].number);
        text_at(c, MARGIN + 30, y + 14, 14, !vacant(&part[i]), part[i].what);
        text_at(c, MARGIN + 170, y + 14, 14, false, part[i].label);
        text_at(c, MARGIN + 480, y + 14, 14, false, number);
        (void)snprintf(line, sizeof line, "%s", ws_size_both(part[i].length, bytes, sizeof bytes));
        text_at(c, MARGIN + 610, y + 14, 14, false, line);
        (void)snprintf(line, sizeof line, "from %s",
                       part[i].at ? ws_size_counted(part[i].at, at, sizeof at) : "the start");
        text_at(c, MARGIN + 850, y + 14, 14, false, line);
        y += LINE;
    }
    return y + 20;
}

static double height_of(const struct picture *p) {
    double height = MARGIN + 40;
    if (p->before_count) height += 28 + BAR + 12 + (double)p->before_count * LINE + 20;
    return height + 28 + BAR + 12 + (double)p->after_count * LINE + 20;
}

static void draw_all(cairo_t *c, const struct picture *p) {
    char size[48], title[256];
    double y = MARGIN;
    (void)snprintf(title, sizeof title, "%s, %s", p->title, ws_size_both(p->size, size, sizeof size));
    text_at(c, MARGIN, y + 12, 20, true, title);
    y += 40;
    if (p->before_count) y = draw_map(c, y, "Before", p->before, p->before_count, p->size);
    (void)draw_map(c, y, "After", p->after, p->after_count, p->size);
}

static cairo_status_t take(void *closure, const unsigned char *bytes, unsigned int length) {
    ws_text_add(closure, bytes, length);
    return CAIRO_STATUS_SUCCESS;
}

/* A picture of this height, PNG or SVG by the name of its file, drawn by `draw`. */
static enum ws_status make(const char *path, int height, void (*draw)(cairo_t *c, const void *what), const void *what,
                           struct ws_text *out, struct ws_error *error) {
    size_t n = strlen(path);
    bool svg = n > 4 && strcmp(path + n - 4, ".svg") == 0;
    if (!svg && (n < 4 || strcmp(path + n - 4, ".png") != 0)) {
        ws_fail(error, WS_E_USAGE, "a picture's name ends in .png or .svg");
        return ws_fail_where(error, "%s", path);
    }
    cairo_surface_t *surface = svg ? cairo_svg_surface_create_for_stream(take, out, WIDTH, height)
                                   : cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, height);
    cairo_t *c = cairo_create(surface);
    cairo_set_source_rgb(c, 1, 1, 1);
    cairo_paint(c);
    draw(c, what);
    cairo_destroy(c);
    if (svg) cairo_surface_finish(surface);
    cairo_status_t status = svg ? cairo_surface_status(surface) : cairo_surface_write_to_png_stream(surface, take, out);
    cairo_surface_destroy(surface);
    if (status == CAIRO_STATUS_SUCCESS) return ws_text_status(out, error);
    ws_fail(error, WS_E_WRITE, "the picture cannot be drawn: %s", cairo_status_to_string(status));
    return ws_fail_where(error, "%s", path);
}

static void draw_picture(cairo_t *c, const void *what) { draw_all(c, what); }

enum ws_status cli_draw_maps(const char *path, const struct picture *p, struct ws_text *out, struct ws_error *error) {
    return make(path, (int)ceil(height_of(p)), draw_picture, p, out, error);
}

/* What is remembered: what takes the room, and how it came to that. */
enum { KEPT_HEIGHT = 640, PLOT_TOP = 330, PLOT_HEIGHT = 230, PLOT_LEFT = 150, SHOWN = 8 };

static void line_to(cairo_t *c, double x0, double y0, double x1, double y1, bool dashed) {
    static const double dashes[] = {7, 6};
    cairo_set_dash(c, dashes, dashed ? 2 : 0, 0);
    cairo_move_to(c, x0, y0);
    cairo_line_to(c, x1, y1);
    cairo_stroke(c);
    cairo_set_dash(c, dashes, 0, 0);
}

static void draw_room(cairo_t *c, const struct ws_kept_report *r) {
    const double all = r->size ? (double)r->size : 1, room = WIDTH - 2 * MARGIN;
    uint64_t told = 0;
    double x = MARGIN;
    char text[400], size[32];
    for (size_t i = 0; i <= r->folder_count && i <= SHOWN; i++) {
        const bool rest = i == r->folder_count || i == SHOWN;
        const uint64_t used = r->size - r->free_bytes;
        const uint64_t bytes = rest ? (used > told ? used - told : 0) : r->folder[i].bytes;
        const struct map_part part = {rest ? "rest" : "folder", "", 0, 0, bytes, INK_PLAIN};
        const double width = (double)bytes / all * room, y = PLOT_TOP - 200 + (double)i * 18;
        if (width >= 1) fill_part(c, &part, rest ? 0 : i + 1, x, 76, width, 36);
        x += width;
        told += rest ? 0 : bytes;
        fill_part(c, &part, rest ? 0 : i + 1, MARGIN, y, 12, 12);
        (void)snprintf(text, sizeof text, "%s", rest ? "all else, and the file system itself" : r->folder[i].path);
        text_at(c, MARGIN + 24, y + 11, 13, false, text);
        text_at(c, MARGIN + 700, y + 11, 13, false, ws_size_counted(bytes, size, sizeof size));
        if (rest) break;
    }
    const struct map_part empty = {"free", "", 0, 0, r->free_bytes, INK_DIM};
    if (x < WIDTH - MARGIN) fill_part(c, &empty, 0, x, 76, WIDTH - MARGIN - x, 36);
}

/* From nothing at its first start to what it holds now, and on at that pace until it is full. */
static void draw_growth(cairo_t *c, const struct ws_kept_report *r) {
    const double bottom = PLOT_TOP + PLOT_HEIGHT, right = WIDTH - MARGIN;
    const double most = (double)(r->bytes + r->free_bytes), ahead = r->a_start ? (double)r->starts_left : 0;
    double starts = r->starts + ahead;
    char text[120], size[32];
    if (ahead > r->starts * 19.0) starts = r->starts * 20.0; /* else what was would be a dot */
    const double now_x = PLOT_LEFT + (starts > 0 ? r->starts / starts : 0) * (right - PLOT_LEFT);
    const double now_y = bottom - (most > 0 ? (double)r->bytes / most : 0) * PLOT_HEIGHT;
    cairo_set_source_rgb(c, 0.35, 0.36, 0.38);
    cairo_set_line_width(c, 1);
    line_to(c, PLOT_LEFT, bottom + 0.5, right, bottom + 0.5, false);
    line_to(c, PLOT_LEFT + 0.5, PLOT_TOP, PLOT_LEFT + 0.5, bottom, false);
    line_to(c, PLOT_LEFT, PLOT_TOP + 0.5, right, PLOT_TOP + 0.5, true);
    text_at(c, MARGIN, PLOT_TOP + 5, 13, false, ws_size_counted((uint64_t)most, size, sizeof size));
    text_at(c, MARGIN, PLOT_TOP + 21, 12, false, "it is full");
    text_at(c, MARGIN, bottom, 13, false, "0");
    cairo_set_source_rgb(c, 0.32, 0.53, 0.74);
    cairo_set_line_width(c, 3);
    line_to(c, PLOT_LEFT, bottom, now_x, now_y, false);
    if (r->a_start) {
        const double last = (double)r->bytes + (double)r->a_start * (starts - r->starts);
        line_to(c, now_x, now_y, right, bottom - (most > 0 ? fmin(last / most, 1) : 0) * PLOT_HEIGHT, true);
    }
    (void)snprintf(text, sizeof text, "now: %u starts, %s", r->starts, ws_size_counted(r->bytes, size, sizeof size));
    text_at(c, fmin(now_x + 8, right - 260), fmax(now_y - 24, PLOT_TOP + 20), 13, true, text);
    cairo_arc(c, now_x, now_y, 5, 0, 6.2832);
    cairo_set_source_rgb(c, 0.32, 0.53, 0.74);
    cairo_fill(c);
    (void)snprintf(text, sizeof text, "%.0f starts", starts);
    text_at(c, right - 90, bottom + 18, 13, false, text);
    text_at(c, PLOT_LEFT, bottom + 18, 13, false, "starts");
    (void)snprintf(text, sizeof text, "How it grew, and goes on at this pace: full after some %.0f more starts", ahead);
    text_at(c, PLOT_LEFT, PLOT_TOP - 14, 14, true, r->a_start ? text : "How it grew");
    if (!r->a_start) text_at(c, PLOT_LEFT + 20, PLOT_TOP + 40, 13, false, "when it will be full is not known yet");
}

struct kept_picture {
    const char *title;
    const struct ws_kept_report *report;
};

static void draw_kept(cairo_t *c, const void *what) {
    const struct kept_picture *p = what;
    const struct ws_kept_report *r = p->report;
    char text[200], all[48], left[32];
    text_at(c, MARGIN, MARGIN + 12, 20, true, p->title);
    (void)snprintf(text, sizeof text, "%s, %s free (%.0f %%)", ws_size_both(r->size, all, sizeof all),
                   ws_size_counted(r->free_bytes, left, sizeof left),
                   r->size ? 100.0 * (double)r->free_bytes / (double)r->size : 0);
    text_at(c, MARGIN + 620, MARGIN + 12, 15, false, text);
    draw_room(c, r);
    draw_growth(c, r);
}

enum ws_status cli_draw_kept(const char *path, const char *title, const struct ws_kept_report *report,
                             struct ws_text *out, struct ws_error *error) {
    const struct kept_picture p = {title, report};
    return make(path, KEPT_HEIGHT, draw_kept, &p, out, error);
}
