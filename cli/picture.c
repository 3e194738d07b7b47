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
    cairo_set_source_rgb(c, 1, 1, 1);
    cairo_paint(c);
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

enum ws_status cli_draw_maps(const char *path, const struct picture *p, struct ws_text *out, struct ws_error *error) {
    size_t n = strlen(path);
    bool svg = n > 4 && strcmp(path + n - 4, ".svg") == 0;
    if (!svg && (n < 4 || strcmp(path + n - 4, ".png") != 0)) {
        ws_fail(error, WS_E_USAGE, "a picture's name ends in .png or .svg");
        return ws_fail_where(error, "%s", path);
    }
    int height = (int)ceil(height_of(p));
    cairo_surface_t *surface = svg ? cairo_svg_surface_create_for_stream(take, out, WIDTH, height)
                                   : cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, height);
    cairo_t *c = cairo_create(surface);
    draw_all(c, p);
    cairo_destroy(c);
    if (svg) cairo_surface_finish(surface);
    cairo_status_t status = svg ? cairo_surface_status(surface) : cairo_surface_write_to_png_stream(surface, take, out);
    cairo_surface_destroy(surface);
    if (status == CAIRO_STATUS_SUCCESS) return ws_text_status(out, error);
    ws_fail(error, WS_E_WRITE, "the picture cannot be drawn: %s", cairo_status_to_string(status));
    return ws_fail_where(error, "%s", path);
}
