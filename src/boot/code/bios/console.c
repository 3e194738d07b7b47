/* console.c — screen and keyboard by the BIOS (INT 10h, 16h), and a serial line by its own registers (16550). */
#include "bios.h"

static uint16_t serial_port; /* 0: none */

static void serial_put(uint8_t c) {
    for (unsigned i = 0; i < 200000; i++)
        if (bios_in((uint16_t)(serial_port + 5)) & 0x20) break;
    bios_out(serial_port, c);
}

void bios_serial(struct start_machine *m, unsigned port, uint32_t speed) {
    static const uint16_t ports[4] = {0x3f8, 0x2f8, 0x3e8, 0x2e8};
    uint16_t p = ports[port & 3];
    uint16_t divisor = (uint16_t)(speed ? 115200 / speed : 1);
    (void)m;
    bios_out((uint16_t)(p + 7), 0x5a); /* the scratch register: is anything there? */
    if (bios_in((uint16_t)(p + 7)) != 0x5a) return;
    bios_out((uint16_t)(p + 1), 0);
    bios_out((uint16_t)(p + 3), 0x80);
    bios_out(p, (uint8_t)(divisor ? divisor : 1));
    bios_out((uint16_t)(p + 1), (uint8_t)(divisor >> 8));
    bios_out((uint16_t)(p + 3), 3); /* eight bits, no parity, one stop bit */
    bios_out((uint16_t)(p + 2), 7);
    bios_out((uint16_t)(p + 4), 3);
    serial_port = p;
}

void bios_put(struct start_machine *m, const char *text) {
    (void)m;
    for (; *text; text++) {
        uint8_t c = (uint8_t)*text;
        if (c == '\n') {
            struct bios_registers r = {.eax = 0x0e0d, .ebx = 7};
            bios_call(0x10, &r);
            if (serial_port) serial_put('\r');
        }
        struct bios_registers r = {.eax = 0x0e00u | (c < 128 ? c : '?'), .ebx = 7};
        bios_call(0x10, &r);
        if (serial_port) serial_put(c);
    }
}

void bios_clear(struct start_machine *m) {
    struct bios_registers r = {.eax = 0x0003};
    (void)m;
    bios_call(0x10, &r); /* setting the text mode clears the screen */
    if (serial_port)
        for (const char *p = "\033[2J\033[H"; *p; p++) serial_put((uint8_t)*p);
}

static uint32_t ticks(void) {
    struct bios_registers r = {.eax = 0};
    bios_call(0x1a, &r);
    return (r.ecx & 0xffff) << 16 | (r.edx & 0xffff);
}

static unsigned keyboard(void) {
    static const struct {
        uint8_t scan;
        uint16_t key;
    } special[] = {{0x48, START_KEY_UP},    {0x50, START_KEY_DOWN},    {0x4b, START_KEY_LEFT},
                   {0x4d, START_KEY_RIGHT}, {0x49, START_KEY_PAGE_UP}, {0x51, START_KEY_PAGE_DOWN},
                   {0x47, START_KEY_HOME},  {0x4f, START_KEY_END}};
    struct bios_registers r = {.eax = 0x0100};
    bios_call(0x16, &r);
    if (r.flags & 0x40) return 0; /* zero flag: no key waits */
    r.eax = 0;
    bios_call(0x16, &r);
    uint8_t character = (uint8_t)r.eax;
    uint8_t scan = (uint8_t)(r.eax >> 8);
    if (character && character != 0xe0) return character;
    for (unsigned i = 0; i < sizeof special / sizeof special[0]; i++)
        if (special[i].scan == scan) return special[i].key;
    return 0;
}

static bool serial_has(void) { return serial_port && bios_in((uint16_t)(serial_port + 5)) & 1; }

/* A terminal sends arrows as ESC [ A; a lone ESC is the key. */
static unsigned serial_key(void) {
    if (!serial_has()) return 0;
    uint8_t c = bios_in(serial_port);
    if (c == 127) return START_KEY_BACK;
    if (c == '\n') return START_KEY_ENTER;
    if (c != 27) return c;
    uint8_t got[3] = {0};
    unsigned n = 0;
    for (unsigned i = 0; i < 20000 && n < 3; i++)
        if (serial_has()) {
            got[n++] = bios_in(serial_port);
            if (n > 1 && ((got[n - 1] >= 'A' && got[n - 1] <= 'Z') || got[n - 1] == '~')) break;
        }
    if (got[0] != '[') return START_KEY_ESCAPE;
    switch (got[1]) {
    case 'A': return START_KEY_UP;
    case 'B': return START_KEY_DOWN;
    case 'C': return START_KEY_RIGHT;
    case 'D': return START_KEY_LEFT;
    case 'H': return START_KEY_HOME;
    case 'F': return START_KEY_END;
    case '5': return START_KEY_PAGE_UP;
    case '6': return START_KEY_PAGE_DOWN;
    default: return 0;
    }
}

unsigned bios_key(struct start_machine *m, uint32_t wait_ms) {
    uint32_t begin = ticks();
    uint32_t wanted = wait_ms / 55 + (wait_ms != 0);
    (void)m;
    for (;;) {
        unsigned key = keyboard();
        if (!key) key = serial_key();
        if (key || ticks() - begin >= wanted) return key;
    }
}
