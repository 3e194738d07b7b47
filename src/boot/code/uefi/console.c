/* console.c — UEFI's own console, which firmware shows on screen and serial line alike. */
#include "uefi.h"

void uefi_put(struct start_machine *m, const char *text) {
    struct uefi *u = m->self;
    uint16_t piece[130];
    size_t n = 0;
    for (; *text; text++) {
        if (*text == '\n') piece[n++] = '\r';
        piece[n++] = (unsigned char)*text < 128 ? (uint16_t)*text : '?';
        if (n >= 128 || !text[1]) {
            piece[n] = 0;
            (void)u->system->out->output_string(u->system->out, piece);
            n = 0;
        }
    }
}

void uefi_clear(struct start_machine *m) {
    struct uefi *u = m->self;
    (void)u->system->out->clear_screen(u->system->out);
}

/* Scan codes of table 12.4 of the specification. */
static unsigned key_of(const struct efi_input_key *key) {
    static const uint16_t special[] = {[1] = START_KEY_UP,      [2] = START_KEY_DOWN,       [3] = START_KEY_RIGHT,
                                       [4] = START_KEY_LEFT,    [5] = START_KEY_HOME,       [6] = START_KEY_END,
                                       [9] = START_KEY_PAGE_UP, [10] = START_KEY_PAGE_DOWN, [23] = START_KEY_ESCAPE};
    if (key->unicode == '\n') return START_KEY_ENTER;
    if (key->unicode == 127) return START_KEY_BACK;
    if (key->unicode) return key->unicode < 128 ? key->unicode : 0;
    return key->scan_code < sizeof special / sizeof special[0] ? special[key->scan_code] : 0;
}

unsigned uefi_key(struct start_machine *m, uint32_t wait_ms) {
    struct uefi *u = m->self;
    for (uint32_t waited = 0;; waited += 10) {
        struct efi_input_key key = {0, 0};
        if (!efi_failed(u->system->in->read_key(u->system->in, &key))) {
            unsigned known = key_of(&key);
            if (known) return known;
        }
        if (waited >= wait_ms) return 0;
        (void)u->system->boot->stall(10000);
    }
}
