/* keys.c — the key that shows what a PC can be started from, by its maker, as data. Held or tapped from the moment it
 * is switched on; models differ, the commonest stands first. */
#include "wild_satchel/passport.h"

static const struct ws_start_key keys[] = {
    {"Acer", "F12", "F2"},
    {"Apple (Intel)", "hold Option", ""},
    {"ASRock boards", "F11", "F2"},
    {"Asus", "Esc, or F8", "F2"},
    {"Biostar boards", "F9", "Del"},
    {"Dell", "F12", "F2"},
    {"Framework", "F12", "F2"},
    {"Fujitsu", "F12", "F2"},
    {"Gigabyte boards", "F12", "Del"},
    {"HP", "Esc, then F9", "F10"},
    {"Huawei", "F12", "F2"},
    {"Intel boards", "F10", "F2"},
    {"Lenovo", "F12, or Novo", "F1, F2"},
    {"LG", "F10", "F2"},
    {"Medion", "F10, or F11", "F2"},
    {"Microsoft", "Vol- and power", "Vol+ and power"},
    {"MSI", "F11", "Del"},
    {"Panasonic", "F2", "F2"},
    {"Samsung", "Esc, or F10", "F2"},
    {"Sony", "F11, or Assist", "F2"},
    {"Toshiba", "F12", "F2"},
    {"Others", "F12, F11, Esc", "Del, F2"},
};

const struct ws_start_key *ws_start_keys(size_t *count) {
    *count = sizeof keys / sizeof keys[0];
    return keys;
}
