/* menu.c — the menu: on any screen and any serial line, with nothing but lines of text. */
#include "start.h"

enum { PAGE = 14, SECOND = 1000 };

static void draw(struct start_machine *m, const struct start_menu *menu, uint32_t left) {
    unsigned first = menu->chosen / PAGE * PAGE;
    m->clear(m);
    start_say(m, "Wild Satchel   what shall this PC start?\n\n");
    for (unsigned i = first; i < menu->entries && i < first + PAGE; i++) {
        const struct start_entry *e = &menu->entry[i];
        start_say(m, "%s %u  %s%s%s", i == menu->chosen ? " >" : "  ", i + 1, e->title, *e->version ? "  " : "",
                  e->version);
        if (e->counted && e->left) start_say(m, "  (new; tries left: %u)\n", e->left);
        else m->put(m, e->counted ? "  (did not come up)\n" : "\n");
    }
    if (menu->entries > PAGE)
        start_say(m, "     (%u to %u of %u)\n", first + 1, first + PAGE < menu->entries ? first + PAGE : menu->entries,
                  menu->entries);
    if (menu->left_out) start_say(m, "     (%u entries are damaged or too many, and are not shown)\n", menu->left_out);
    start_say(m, "\nUp and Down or a number choose, Enter starts, e edits the parameters.\n");
    if (left && left != START_WAIT_EVER)
        start_say(m, "\rStarting number %u in %u s; any key waits. ", menu->chosen + 1, left);
}

static void move(struct start_menu *menu, unsigned key) {
    unsigned last = menu->entries - 1;
    unsigned at = menu->chosen;
    if (key == START_KEY_UP) at = at ? at - 1 : last;
    if (key == START_KEY_DOWN) at = at < last ? at + 1 : 0;
    if (key == START_KEY_PAGE_UP) at = at > PAGE ? at - PAGE : 0;
    if (key == START_KEY_PAGE_DOWN) at = last - at > PAGE ? at + PAGE : last;
    if (key == START_KEY_HOME) at = 0;
    if (key == START_KEY_END) at = last;
    menu->chosen = at;
}

static void draw_line(struct start_machine *m, const char *text, size_t cursor) {
    char head[START_OPTIONS_MOST];
    size_t n = start_length(text);
    memcpy(head, text, cursor);
    head[cursor] = '\0';
    m->clear(m);
    m->put(m, "Parameters of the kernel ('|' is where you write). Enter starts, Escape goes back.\n\n");
    m->put(m, head);
    m->put(m, "|");
    if (cursor < n) m->put(m, text + cursor);
    m->put(m, "\n");
}

/* @return false when the user goes back */
static bool edit(struct start_machine *m, char *text, size_t room) {
    size_t n = start_length(text);
    size_t at = n;
    for (;;) {
        draw_line(m, text, at);
        unsigned key = start_wait_key(m);
        if (key == START_KEY_ENTER) return true;
        if (key == START_KEY_ESCAPE || !key) return false;
        if (key == START_KEY_LEFT && at) at--;
        if (key == START_KEY_RIGHT && at < n) at++;
        if (key == START_KEY_HOME) at = 0;
        if (key == START_KEY_END) at = n;
        if (key == START_KEY_BACK && at) {
            for (size_t i = at - 1; i < n; i++) text[i] = text[i + 1];
            at--;
            n--;
        }
        if (key >= ' ' && key < 127 && n + 1 < room) {
            for (size_t i = n + 1; i > at; i--) text[i] = text[i - 1];
            text[at++] = (char)key;
            n++;
        }
    }
}

/* The time until the default starts. @return the key that was pressed, or 0 when time is up */
static unsigned count_down(struct start_machine *m, const struct start_menu *menu) {
    if (menu->timeout_s == START_WAIT_EVER) {
        draw(m, menu, START_WAIT_EVER);
        return start_wait_key(m);
    }
    if (menu->timeout_s == 0) return m->key(m, 0); /* a key held down still brings the menu */
    draw(m, menu, menu->timeout_s);
    for (uint32_t left = menu->timeout_s; left; left--) {
        start_say(m, "\rStarting number %u in %u s; any key waits.  ", menu->chosen + 1, left);
        unsigned key = m->key(m, SECOND);
        if (key) return key;
    }
    return 0;
}

bool start_menu_show(struct start_machine *m, struct start_menu *menu, char *options, size_t room) {
    unsigned number = 0; /* typed so far */
    unsigned key = count_down(m, menu);
    bool by_itself = key == 0;
    while (key && key != START_KEY_ENTER) {
        if (key >= '0' && key <= '9') {
            number = number * 10 + (key - '0');
            if (number > menu->entries) number = key - '0';
            if (number >= 1 && number <= menu->entries) menu->chosen = number - 1;
        } else {
            number = 0;
            move(menu, key);
        }
        if (key == 'e' || key == 'E') {
            start_format(options, room, "%s", menu->entry[menu->chosen].options);
            if (edit(m, options, room)) return false;
        }
        draw(m, menu, 0);
        key = start_wait_key(m);
    }
    m->put(m, "\n");
    start_format(options, room, "%s", menu->entry[menu->chosen].options);
    return by_itself;
}
