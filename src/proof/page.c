/* page.c — a drive's passport as one page: HTML with its styles and its drawing in it, on a screen and on a sheet of
 * A4. Texts come from outside: all of them go through put(). */
#include "base/bytes.h"
#include "proof/passport.h"

#include <stdio.h>
#include <string.h>

enum { EVENTS = 4, ROUNDS = 4, VOLUMES = 6, BAR = 1000, BAR_LEAST = 14 }; /* what one sheet has room for */

static const char head[] =
    "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" "
    "content=\"width=device-width\">\n<title>Passport of %s</title>\n<style>\n"
    "@page{size:A4;margin:10mm 11mm}\n"
    "*{box-sizing:border-box}\n"
    "body{font:12px/1.36 'DejaVu Sans',Verdana,Arial,sans-serif;color:#1d2733;background:#e7ebef;margin:0}\n"
    "main{width:188mm;max-width:100%;margin:14px auto;padding:9mm;background:#fff;border-top:7px solid #1f5c7a}\n"
    "h1{font-size:22px;margin:0 0 2px;overflow-wrap:anywhere}\n"
    "h2{font-size:12.5px;margin:11px 0 3px;color:#1f5c7a;border-bottom:1px solid #c4d0d9;padding-bottom:1px}\n"
    "p{margin:2px 0}.dim{color:#5d6b78}\n"
    "header{display:flex;gap:12px;justify-content:space-between;align-items:flex-start}\n"
    ".seal{flex:none;max-width:46%;text-align:center;font-weight:bold;font-size:13px;padding:7px 12px;border:2px "
    "solid;border-radius:8px}\n"
    ".good{color:#1a6b3c}.bad{color:#a3261f}.open{color:#7a5a10}\n"
    "dl{display:grid;grid-template-columns:max-content 1fr max-content 1fr;gap:1px 10px;margin:3px 0}\n"
    "dt{color:#5d6b78}dd{margin:0;overflow-wrap:anywhere}dd.wide{grid-column:2/-1}\n"
    "table{border-collapse:collapse;width:100%}td,th{text-align:left;vertical-align:top;padding:1px 8px 1px "
    "0;overflow-wrap:anywhere}th{color:#5d6b78;font-weight:normal;white-space:nowrap;overflow-wrap:normal;border-"
    "bottom:1px solid #dfe6eb}\n"
    "td.word{white-space:nowrap;overflow-wrap:normal}td.pc{min-width:9em}\n"
    ".two{display:grid;grid-template-columns:1fr 1fr;gap:0 18px}\n"
    ".keys{columns:4;column-gap:14px;font-size:.92em}.keys "
    "div{break-inside:avoid;display:flex;justify-content:space-between;gap:6px}"
    ".keys b{text-align:right}\n"
    "svg{width:100%;height:auto;display:block;margin:3px 0}ul{margin:2px 0;padding-left:16px}\n"
    "footer{margin-top:9px;font-size:10px;color:#5d6b78;overflow-wrap:anywhere}\n"
    "@media print{body{background:#fff;font-size:8.3pt;line-height:1.24}main{width:auto;margin:0;padding:3mm 0 "
    "0}h1{font-size:16pt}"
    "h2{font-size:9pt;margin:6px 0 1px}*{print-color-adjust:exact;-webkit-print-color-adjust:exact}}\n"
    "</style>\n</head>\n<body>\n<main>\n";

/* Text as HTML: visible, and of no meaning to a browser. At most so many bytes of it. */
static void put(struct ws_text *out, const char *text, size_t most) {
    char seen[700];
    ws_visible(text, seen, most + 1 < sizeof seen ? most + 1 : sizeof seen);
    for (const char *c = seen; *c; c++) {
        if (*c == '&') ws_text_puts(out, "&amp;");
        else if (*c == '<') ws_text_puts(out, "&lt;");
        else if (*c == '>') ws_text_puts(out, "&gt;");
        else if (*c == '"') ws_text_puts(out, "&quot;");
        else ws_text_add(out, c, 1);
    }
    if (strlen(text) > most) ws_text_puts(out, "…");
}

static void row(struct ws_text *out, bool wide, const char *name, const char *text) {
    if (!text[0]) return;
    ws_text_printf(out, "<dt>%s</dt><dd%s>", name, wide ? " class=\"wide\"" : "");
    put(out, text, wide ? 160 : 64);
    ws_text_puts(out, "</dd>\n");
}

static void write_top(const struct ws_passport *p, struct ws_text *out) {
    char title[200], size[48], day[24], line[200];
    bool good = false;
    const char *verdict = passport_verdict(p, &good);
    const bool open = p->proof && p->proof->verdict == WS_VERDICT_OPEN;
    ws_text_puts(out, "<header><div><h1>");
    put(out, p->drive->short_name, 64);
    ws_text_puts(out, "</h1><p>");
    put(out, passport_title(p, title, sizeof title), 160);
    ws_text_puts(out, "</p></div>");
    ws_text_printf(out, "<div class=\"seal %s\">", !verdict || open ? "open" : good ? "good" : "bad");
    put(out, verdict ? verdict : "Not proved", 60);
    ws_text_puts(out, "</div></header>\n<dl>\n");
    (void)snprintf(line, sizeof line, "%s%s%s", p->drive->vendor, p->drive->vendor[0] ? " " : "", p->drive->model);
    row(out, false, "Drive", line);
    row(out, false, "Serial number", p->drive->serial[0] ? p->drive->serial : "unknown");
    (void)snprintf(line, sizeof line, "%s, %s", ws_size_both(p->drive->size, size, sizeof size), p->kind);
    row(out, false, "Size", line);
    row(out, false, "Seems to be", p->contents->guess);
    if (p->plan) {
        const struct ws_input *image = &ws_plan_request(p->plan)->input[WS_INPUT_IMAGE];
        const char *slash = strrchr(image->path, '/');
        row(out, false, "Made from", slash ? slash + 1 : image->path);
        row(out, false, "Planned", passport_day(ws_plan_facts(p->plan)->made_at, day));
        row(out, true, "SHA-256 of it", image->sha256);
    } else if (p->origin) {
        row(out, false, "Made from", p->origin->title);
        row(out, false, "Laid down", passport_day(p->origin->made_at, day));
        if (p->origin->sha256[0]) row(out, true, "SHA-256 of it", p->origin->sha256);
    }
    if (p->checked) row(out, true, "Its image", p->checked);
    ws_text_puts(out, "</dl>\n");
}

static const char *colour_of(size_t i) {
    static const char *const colours[] = {"#5287bd", "#4f9a63", "#d3a03f", "#8a63a8", "#4f9aa0", "#c26b57"};
    return colours[i % 6];
}

/* The drive as a bar, to scale but for what would be too small to see. */
static void write_map(const struct ws_passport *p, struct ws_text *out) {
    const struct ws_contents *c = p->contents;
    const uint64_t size = p->drive->size ? p->drive->size : 1;
    uint64_t at = 0;
    double x = 0;
    size_t shown = 0;
    if (!c->parts) return;
    ws_text_puts(out,
                 "<h2>What is on it</h2>\n<svg viewBox=\"0 0 1000 34\" role=\"img\"><rect width=\"1000\" height=\"34\" "
                 "fill=\"#eef2f5\"/>");
    for (size_t i = 0; i < c->parts && shown < VOLUMES; i++) {
        const struct ws_content *v = &c->part[i];
        if (v->at < at) continue; /* nested in the one before */
        double begin = (double)v->at / (double)size * BAR, width = (double)v->length / (double)size * BAR;
        if (begin < x) begin = x;
        if (width < BAR_LEAST) width = BAR_LEAST;
        if (begin + width > BAR) begin = BAR - width;
        ws_text_printf(out, "<rect x=\"%.1f\" width=\"%.1f\" height=\"34\" fill=\"%s\" stroke=\"#fff\"/>", begin, width,
                       colour_of(shown));
        if (width > 60) {
            ws_text_printf(out, "<text x=\"%.1f\" y=\"22\" fill=\"#fff\" font-size=\"14\">", begin + 8);
            put(out, v->label[0] ? v->label : v->system, (size_t)(width / 10));
            ws_text_puts(out, "</text>");
        }
        x = begin + width;
        at = v->at + v->length;
        shown++;
    }
    ws_text_puts(out, "</svg>\n<table><tr><th></th><th>volume</th><th>system</th><th>size</th><th>free</th></tr>\n");
    at = 0;
    shown = 0;
    for (size_t i = 0; i < c->parts && shown < VOLUMES; i++) {
        const struct ws_content *v = &c->part[i];
        char bytes[48], space[32];
        if (v->at < at) continue;
        ws_text_printf(out, "<tr><td class=\"word\" style=\"color:%s\">■ %u</td><td>", colour_of(shown), v->number);
        put(out, v->label, 48);
        ws_text_puts(out, "</td><td>");
        put(out, v->system, 24);
        ws_text_printf(out, "</td><td class=\"word\">%s</td><td class=\"word\">%s</td></tr>\n",
                       ws_size_both(v->length, bytes, sizeof bytes),
                       v->counted ? ws_size_counted(v->free_bytes, space, sizeof space) : "");
        at = v->at + v->length;
        shown++;
    }
    ws_text_puts(out, "</table>\n");
}

static void write_memory(const struct ws_passport *p, struct ws_text *out) {
    const struct ws_memory *m = p->memory;
    char a[48], b[48];
    if (!m || m->cause == WS_FORGETS_NO_SYSTEM) return;
    ws_text_puts(out, "<h2>What it remembers</h2>\n<p>");
    if (m->cause != WS_FORGETS_NOT) {
        ws_text_puts(out,
                     m->unread ? "<b>Whether it remembers cannot be told: " : "<b class=\"bad\">It would forget: ");
        put(out, m->cause_text, 300);
        ws_text_puts(out, "</b></p>\n");
        return;
    }
    ws_text_puts(out, m->system ? "A full system: all that is changed stays on its own volume"
                                : "What is changed while it runs is kept in ");
    if (!m->system) ws_text_puts(out, m->in_file ? "an overlay file" : "a volume of its own");
    if (m->locked) ws_text_puts(out, ", which is locked: its passphrase is asked for at each start.");
    else
        ws_text_printf(out, ": %s, of which %s are free. Started %u time%s so far.",
                       ws_size_both(m->volume.size, a, sizeof a), ws_size_counted(m->volume.free_bytes, b, sizeof b),
                       m->volume.mounts, m->volume.mounts == 1 ? "" : "s");
    ws_text_puts(out, "</p>\n");
}

static void write_rounds(const struct ws_passport *p, struct ws_text *out) {
    static const char *const classes[] = {"good", "bad", "bad", "open"};
    const struct ws_proof *proof = p->proof;
    char day[24], at[24];
    if (!proof) return;
    ws_text_printf(out, "<h2>Proof, begun %s</h2>\n<p>", passport_day(proof->began, day));
    put(out, proof->text, 300);
    ws_text_puts(out,
                 "</p>\n<table><tr><th>round</th><th>on</th><th>back</th><th>verdict</th><th>evidence</th></tr>\n");
    for (size_t i = proof->rounds > ROUNDS ? proof->rounds - ROUNDS : 0; i < proof->rounds; i++) {
        const struct ws_round *r = &proof->round[i];
        ws_text_printf(out, "<tr><td class=\"word\">%zu</td><td class=\"pc\">", i + 1);
        put(out, r->pc, 24);
        ws_text_printf(out, "</td><td class=\"word\">%s</td><td class=\"word %s\">%s</td><td>",
                       passport_day(r->after.seen_at, at), classes[r->verdict], ws_verdict_name(r->verdict));
        put(out, r->text, 110);
        ws_text_puts(out, "</td></tr>\n");
    }
    ws_text_puts(out, "</table>\n");
}

static void write_events(const struct ws_passport *p, struct ws_text *out) {
    char day[24], size[32], rate[32];
    if (!p->events && !p->trial) return;
    ws_text_puts(out, "<h2>What was done to it</h2>\n<table>\n");
    if (p->trial) {
        ws_text_printf(out, "<tr><td class=\"word\">%s</td><td class=\"word\">trial</td><td class=\"%s\">%s; holds %s",
                       passport_day(p->trial->made_at, day), p->trial->sound ? "good" : "bad",
                       p->trial->sound ? "sound" : "not sound", ws_size_both(p->trial->holds, size, sizeof size));
        if (p->trial->write_bytes_s > 0)
            ws_text_printf(out, ", writes %s/s", ws_size_counted((uint64_t)p->trial->write_bytes_s, rate, sizeof rate));
        ws_text_puts(out, "</td></tr>\n");
    }
    for (size_t i = 0; i < p->events && i < EVENTS; i++) {
        ws_text_printf(out, "<tr><td class=\"word\">%s</td><td class=\"word\">", passport_day(p->event[i].at, day));
        put(out, p->event[i].what, 15);
        ws_text_printf(out, "</td><td class=\"%s\">", p->event[i].good ? "good" : "bad");
        put(out, p->event[i].verdict, 80);
        ws_text_puts(out, "</td></tr>\n");
    }
    ws_text_puts(out, "</table>\n");
}

static void write_starts(const struct ws_passport *p, struct ws_text *out) {
    size_t count;
    const struct ws_start_key *key = ws_start_keys(&count);
    ws_text_puts(out, "<h2>Where it starts</h2>\n");
    const struct ws_outlook *outlook = passport_outlook(p);
    if (outlook) {
        ws_text_puts(out, "<table>\n");
        for (size_t i = 0; i < WS_OUTLOOKS; i++) {
            const struct ws_outlook *o = &outlook[i];
            ws_text_printf(out, "<tr><td class=\"word\">%s%s</td><td class=\"word %s\">%s</td><td>",
                           o->firmware == WS_FIRMWARE_UEFI ? "UEFI" : "BIOS", o->secure_boot ? ", Secure Boot on" : "",
                           o->starts ? "good" : "bad", o->starts ? "starts" : "does not start");
            put(out, o->why, 90);
            ws_text_puts(out, "</td></tr>\n");
        }
        ws_text_puts(out, "</table>\n");
    }
    ws_text_puts(out, "<p class=\"dim\">Plug it in, switch the PC on, and tap the key until a list of drives appears "
                      "(makers differ by "
                      "model):</p>\n<div class=\"keys\">\n");
    for (size_t i = 0; i < count; i++) ws_text_printf(out, "<div>%s <b>%s</b></div>\n", key[i].maker, key[i].key);
    ws_text_puts(out, "</div>\n");
}

static void write_end(const struct ws_passport *p, struct ws_text *out) {
    char day[24];
    ws_text_puts(
        out,
        "<h2>If it does not start</h2>\n<ul>\n"
        "<li>It is not in the list: another port, straight on the PC; USB start allowed in the firmware's settings; "
        "fast start off.</li>\n"
        "<li>It is refused as not signed: see above whether it starts with Secure Boot on; else that is to be "
        "off.</li>\n"
        "<li>A menu, and then nothing: the entry for old graphics, or “nomodeset” among its options.</li>\n"
        "<li>It starts and has forgotten: the first entry of its menu is the one that remembers. Then have it "
        "looked at: <b>satchel check</b>, <b>satchel prove</b>.</li>\n"
        "<li>Shut it down before you pull it out.</li>\n</ul>\n");
    ws_text_printf(out, "<footer>Made %s", passport_day(p->made_at, day));
    ws_text_puts(out, " with Wild Satchel");
    if (p->plan) {
        ws_text_puts(out, "; layout ");
        put(out, ws_plan_facts(p->plan)->fingerprint, 64);
    }
    ws_text_puts(out, ".</footer>\n</main>\n</body>\n</html>\n");
}

enum ws_status ws_passport_html(const struct ws_passport *p, struct ws_text *out, struct ws_error *error) {
    const char *mark = strstr(head, "%s");
    ws_text_add(out, head, (size_t)(mark - head));
    put(out, p->drive->short_name, 64);
    ws_text_puts(out, mark + 2);
    write_top(p, out);
    write_map(p, out);
    write_memory(p, out);
    write_rounds(p, out);
    write_events(p, out);
    write_starts(p, out);
    write_end(p, out);
    return ws_text_status(out, error);
}
