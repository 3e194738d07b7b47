/* test_live.c — start menus and live families. */
#include "tests/harness.h"

static const char *const no_drop[] = {NULL};

static struct ws_menu parsed(const char *text) {
    struct ws_menu menu;
    if (ws_menu_parse(text, strlen(text), &menu, &error) != WS_OK) {
        fail_at(__FILE__, __LINE__, "%s", error.what);
        memset(&menu, 0, sizeof menu);
    }
    return menu;
}

static const char grub_two[] =
    "set default=1\nif loadfont x; then\n  set gfxmode=auto\nfi\n"
    "menuentry 'Check memory' {\n linux16 /memtest\n}\n"
    "menuentry \"Curlew \\\"Live\\\"\" --class os --id curlew {\n"
    "  set gfxpayload=keep\n  linux  /live/vmlinuz boot=live \\\n    quiet splash\n"
    "  initrd /live/initrd.img /live/more.img\n}\n"
    "submenu 'More' {\n  menuentry 'Safe' { linux /live/vmlinuz boot=live nomodeset\n }\n}\n";

/* Written as people write them: several commands on a line, comments, variables, joined lines, a stray quote. */
static const char grub_loose[] =
    "# menuentry 'Not one' {\nset v=6.1; set quiet=\"quiet splash\" # it's late\n"
    "echo It's only an apostrophe\n"
    "menuentry \"Live $v\" --id live { linux /live/vmlinuz-${v} boot=live \\\n $quiet x=${none}y;"
    " initrd /live/initrd.img-$v; }; menuentry 'Second' { true; linux /k boot=live"
    " }\nsubmenu 'More' { menuentry 'Third' { linux /k boot=live three\n } }\n"
    "if true; then menuentry 'Fourth' { if x; then linux /k boot=live four; fi; } fi\n"
    "menuentry 'Loop $loop' { linux $loop }\nset loop=$loop$loop\nset a=$b\nset b=$a$a\n"
    "menuentry 'a' { linux /$b$a }\n";

static void loose_grub_menus_are_understood(void) {
    static const struct {
        const char *title, *kernel, *initrd, *parameters;
    } wanted[] = {{"Live 6.1", "/live/vmlinuz-6.1", "/live/initrd.img-6.1", "boot=live  quiet splash x=y"},
                  {"Second", "/k", "", "boot=live"},
                  {"Third", "/k", "", "boot=live three"},
                  {"Fourth", "/k", "", "boot=live four"},
                  {"Loop ", "", "", ""},
                  {"a", "/", "", ""}};
    struct ws_menu m = parsed(grub_loose);
    CHECK_INT(m.entries, 6);
    for (size_t i = 0; i < m.entries && i < 6; i++) {
        const struct ws_menu_entry *e = &m.entry[i];
        CHECK_STR(e->title, wanted[i].title);
        CHECK_STR(e->kernel, wanted[i].kernel);
        CHECK_STR(e->initrd, wanted[i].initrd);
        CHECK_STR(e->parameters, wanted[i].parameters);
        if (i > 3) continue;
        struct ws_text out = {0}; /* each can be told to remember; the twin comes behind it and all else stays */
        OK(ws_menu_remember(&m, e, "persistence", NULL, &out, &error));
        struct ws_menu edited = parsed(out.data);
        CHECK_INT(edited.entries, 7);
        CHECK_HAS(edited.entry[i].parameters, "persistence");
        CHECK_HAS(edited.entry[i + 1].title, "forgets");
        CHECK_STR(edited.entry[i + 1].parameters, wanted[i].parameters);
        for (size_t k = 0; k < 7 && edited.entries == 7; k++)
            if (k != i + 1) CHECK_STR(edited.entry[k].title, wanted[k > i ? k - 1 : k].title);
        ws_menu_free(&edited);
        ws_text_free(&out);
    }
    ws_menu_free(&m);
}

static void grub_menus_are_understood(void) {
    struct ws_menu m = parsed(grub_two);
    CHECK_INT(m.kind, WS_MENU_GRUB);
    CHECK_INT(m.entries, 3); /* the one-line entry inside the submenu counts */
    const struct ws_menu_entry *e = ws_menu_default(&m);
    CHECK(e != NULL);
    if (e) {
        CHECK_STR(e->kernel, "/live/vmlinuz");
        CHECK_HAS(e->parameters, "boot=live");
        CHECK_HAS(e->parameters, "splash");
        CHECK_STR(e->initrd, "/live/initrd.img /live/more.img");
        CHECK_STR(e->id, "curlew");
    }
    ws_menu_free(&m);
}

static void the_default_of_a_grub_menu_is_found(void) {
    static const char entries[] = "menuentry 'Boots nothing' { true\n}\nmenuentry 'A' --id a {\n linux /k A\n}\n"
                                  "menuentry 'B' --id b {\n linux /k B\n}\n";
    static const struct {
        const char *head, *wanted;
    } cases[] = {{"set default=2\n", "B"},
                 {"set default=\"2\"\n", "B"},
                 {"set default=\"b\"\n", "B"},
                 {"set default='B'\n", "B"},
                 {"", "A"},
                 {"set default=0\n", "A"},
                 {"set default=99\n", "A"},
                 {"set default=\"${saved_entry}\"\n", "A"},
                 {"default=1\n", "A"},
                 {"set default=\"b>x\"\n", "B"}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        char text[600];
        snprintf(text, sizeof text, "%s%s", cases[i].head, entries);
        struct ws_menu m = parsed(text);
        const struct ws_menu_entry *e = ws_menu_default(&m);
        CHECK_STR(e ? e->parameters : "(none)", cases[i].wanted);
        ws_menu_free(&m);
    }
}

static void syslinux_menus_are_understood(void) {
    static const char text[] =
        "UI vesamenu.c32\nDEFAULT install\nPROMPT 0\n\nLABEL mem\n  MENU LABEL Memory\n  KERNEL memtest.bin\n"
        "LABEL install\n  MENU LABEL ^Install\n  LINUX /install/vmlinuz\n  APPEND vga=788\n"
        "label live\n  menu label ^Live\n  menu default\n  kernel /live/vmlinuz\n"
        "  append initrd=/live/initrd.img boot=live quiet\n\nmenu end\ninclude more.cfg\n";
    struct ws_menu m = parsed(text);
    CHECK_INT(m.kind, WS_MENU_SYSLINUX);
    CHECK_INT(m.entries, 2);
    const struct ws_menu_entry *e = ws_menu_default(&m);
    CHECK_STR(e ? e->id : "", "live"); /* "menu default" goes before "default" */
    CHECK_STR(e ? e->initrd : "", "/live/initrd.img");
    CHECK(e && text + e->block_end <= strstr(text, "menu end"));
    ws_menu_free(&m);
}

/* What comes out is a menu again, the default remembers, its copy does not, all other text stays. */
static void edited_menus_remember_and_still_offer_to_forget(void) {
    static const char *const drop[] = {"rd.live.check", "rd.live.overlay=", NULL};
    static const struct {
        const char *text, *parameters, *wanted;
    } cases[] = {
        {"menuentry \"X\" {\n\tlinux /k boot=live quiet\n\tinitrd /i\n}\n", "persistence",
         "boot=live quiet persistence"},
        {"menuentry X {\n linux /k boot=live\n}\n", "persistence", "boot=live persistence"},
        {"menuentry 'X' {\n linux /k boot=casper quiet splash ---\n}\n", "persistent",
         "boot=casper quiet splash persistent ---"},
        {"menuentry 'X' {\n linux /k boot=casper --- debconf=x\n}\n", "persistent",
         "boot=casper persistent --- debconf=x"},
        {"menuentry 'X' {\n linux /k boot=live persistence\n}\n", "persistence", "boot=live persistence"},
        {"menuentry 'X' {\n linux /k rd.live.image rd.live.check quiet\n}\n",
         "rd.live.overlay=LABEL=p:/c rd.live.overlay.overlayfs=1",
         "rd.live.image quiet rd.live.overlay=LABEL=p:/c rd.live.overlay.overlayfs=1"},
        {"menuentry 'X' {\n linux /k rd.live.image rd.live.overlay=LABEL=old\n}\n", "rd.live.overlay=LABEL=p:/c",
         "rd.live.image rd.live.overlay=LABEL=p:/c"},
        {"menuentry 'X' {\n linux /k boot=live \\\n   quiet\n}\n", "persistence", "persistence"},
        {"label l\n  kernel /k\n  append boot=live quiet\n", "persistence", "boot=live quiet persistence"},
        {"label l\r\n  menu label ^L\r\n  linux /k\r\n  append boot=live\r\n", "persistence", "boot=live persistence"},
        {"default l\nlabel l\n  linux /k boot=live quiet\n", "persistence", "boot=live quiet persistence"},
        {"label l\n  menu label L\n  menu default\n  kernel /k\n  append boot=live\n\nlabel m\n  kernel /k\n  append "
         "boot=live x\n",
         "persistence", "boot=live persistence"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_menu m = parsed(cases[i].text);
        struct ws_text out = {0};
        const struct ws_menu_entry *e = ws_menu_default(&m) ? ws_menu_default(&m) : &m.entry[0];
        OK(ws_menu_remember(&m, e, cases[i].parameters, drop, &out, &error));
        struct ws_menu again = parsed(out.data);
        const struct ws_menu_entry *first = ws_menu_default(&again) ? ws_menu_default(&again) : &again.entry[0];
        CHECK_INT(again.entries, m.entries + 1);
        if (i != 7) CHECK_STR(first->parameters, cases[i].wanted);
        else CHECK(ws_parameter_is_set(first->parameters, cases[i].wanted));
        const struct ws_menu_entry *copy = first + 1;
        CHECK_HAS(copy->title, "forget");
        CHECK(strcmp(copy->parameters, e->parameters) == 0);
        CHECK(strcmp(copy->id, first->id) != 0 || !copy->id[0]);
        CHECK(!copy->is_default);
        CHECK_STR(copy->kernel, first->kernel);
        for (size_t k = 1; k < m.entries; k++) CHECK_STR(again.entry[k + 1].parameters, m.entry[k].parameters);
        ws_menu_free(&again);
        ws_menu_free(&m);
        ws_text_free(&out);
    }
}

/* Long parameters are kept whole; what is longer than there is room is never passed on cut. */
static void nothing_of_a_menu_is_cut_silently(void) {
    static const size_t lengths[] = {500, 1023, 1500, 4000, 4200, 9000};
    for (size_t i = 0; i < sizeof lengths / sizeof lengths[0]; i++)
        for (int grub = 0; grub < 3; grub++) { /* syslinux, GRUB, GRUB by a variable */
            struct ws_text text = {0}, wanted = {0};
            struct ws_menu menu;
            ws_text_puts(&wanted, "boot=live");
            while (wanted.length < lengths[i]) ws_text_printf(&wanted, " tide.gauge=%zu", wanted.length);
            if (grub == 2) ws_text_printf(&text, "set more=\"%s\"\n", wanted.data);
            if (grub)
                ws_text_printf(&text, "menuentry 'Live' {\n linux /live/vmlinuz %s\n initrd /live/initrd\n}\n",
                               grub == 2 ? "$more" : wanted.data);
            else ws_text_printf(&text, "label live\n kernel /live/vmlinuz\n append %s\n", wanted.data);
            OK(ws_menu_parse(text.data, text.length, &menu, &error));
            CHECK_INT(menu.entries, 1);
            if (menu.entries == 1 && !menu.entry[0].cut) CHECK(strcmp(menu.entry[0].parameters, wanted.data) == 0);
            CHECK_INT(menu.entry[0].cut, wanted.length >= sizeof menu.entry[0].parameters);
            ws_menu_free(&menu);
            ws_text_free(&text);
            ws_text_free(&wanted);
        }
}

static void what_is_no_menu_is_said_so(void) {
    static const struct {
        const char *text;
        enum ws_status wanted;
    } cases[] = {{"", WS_E_NOTFOUND},
                 {"just words\n", WS_E_NOTFOUND},
                 {"menuentry 'X' { true\n}\n", WS_E_NOTFOUND},
                 {"menuentry 'X' {\n linux /k\n", WS_E_FORMAT},
                 {"menuentry 'X' {\n linux /k\n}\n}\n", WS_E_FORMAT},
                 {"label x\n  kernel menu.c32\n", WS_E_NOTFOUND}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        struct ws_menu m;
        FAILS(ws_menu_parse(cases[i].text, strlen(cases[i].text), &m, &error), cases[i].wanted);
    }
}

static void random_text_never_breaks_the_menu_parser(void) {
    static const char *const words[] = {"menuentry",  "submenu",      "{",        "}",       "'",
                                        "\"",         "\\\n",         "\n",       " ",       "linux /k ",
                                        "initrd /i",  "set default=", "label",    "append ", "menu default",
                                        "menu label", "kernel ",      "default ", "--id",    "#",
                                        "${x}",       "---",          "$",        "0",       "\r"};
    int edited = 0;
    for (int i = 0; i < 6000; i++) {
        struct ws_text text = {0};
        struct ws_menu m;
        for (uint64_t n = random_below(60); n > 0; n--) {
            ws_text_puts(&text, words[random_below(sizeof words / sizeof words[0])]);
            if (random_below(3) == 0) ws_text_puts(&text, " ");
        }
        if (i % 2)
            ws_text_puts(&text, i % 4 == 1 ? "\nmenuentry 'a' {\n linux /k boot=live\n}\n"
                                           : "\nlabel a\n kernel /k\n append boot=live\n");
        for (uint64_t n = random_below(12); n > 0; n--)
            ws_text_puts(&text, words[random_below(sizeof words / sizeof words[0])]);
        ws_text_puts(&text, "");
        if (ws_menu_parse(text.data, text.length, &m, &error) == WS_OK) {
            for (size_t k = 0; k < m.entries; k++) {
                struct ws_text out = {0};
                CHECK(m.entry[k].args <= m.entry[k].args_end && m.entry[k].block_end <= text.length);
                if (ws_menu_remember(&m, &m.entry[k], "persistence", no_drop, &out, &error) == WS_OK) {
                    CHECK(strstr(out.data, "persistence") != NULL);
                    edited++;
                }
                ws_text_free(&out);
            }
            ws_menu_free(&m);
        }
        ws_text_free(&text);
    }
    CHECK(edited > 50);
}

static void families_are_told_by_their_parameters(void) {
    static const struct {
        const char *parameters, *family;
    } cases[] = {{"boot=live components quiet", "live-boot"},
                 {"quiet boot=casper ---", "casper"},
                 {"root=live:CDLABEL=X rd.live.image quiet", "dracut"},
                 {"root=/dev/sda1 ro", NULL},
                 {"xboot=live", NULL},
                 {"boot=livex", NULL},
                 {"", NULL}};
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) {
        const struct ws_live_family *f = ws_live_family_of_parameters(cases[i].parameters);
        CHECK_STR(f ? f->word : "(none)", cases[i].family ? cases[i].family : "(none)");
    }
    size_t count = 0;
    const struct ws_live_family *all = ws_live_families(&count);
    CHECK(count >= 4);
    for (size_t i = 0; i < count; i++) { /* every row is complete */
        struct ws_tree *tree = NULL;
        CHECK(all[i].word && all[i].label && all[i].parameters[0] && all[i].changes && all[i].work && all[i].roots[0]);
        CHECK(strlen(all[i].label) <= 16);
        CHECK(ws_live_family_find(all[i].word) == &all[i]);
        OK(ws_live_volume_tree(&all[i], 1, &tree, &error));
        if (all[i].config_path) CHECK(ws_tree_find(tree, all[i].config_path) != NULL);
        ws_tree_close(tree);
    }
}

static void checksum_lists_follow_a_change(void) {
    char list[] = "d41d8cd98f00b204e9800998ecf8427e  ./boot/grub/grub.cfg\r\n"
                  "d41d8cd98f00b204e9800998ecf8427e *boot/grub/grub.cfg\n"
                  "d41d8cd98f00b204e9800998ecf8427e  ./boot/grub/grub.cfg.old\n"
                  "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  ./boot/grub/grub.cfg\n"
                  "not a checksum line\n"
                  "d41d8cd98f00b204e9800998ecf8427e  boot/grub/grub.cfg";
    size_t length = strlen(list);
    CHECK_INT(ws_checklist_correct(list, length, "/boot/grub/grub.cfg", "abc", 3), 4);
    CHECK_INT(strlen(list), length);
    CHECK_HAS(list, "900150983cd24fb0d6963f7d28e17f72  ./boot/grub/grub.cfg\r\n");
    CHECK_HAS(list, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad  ./boot/grub/grub.cfg\n");
    CHECK_HAS(list, "d41d8cd98f00b204e9800998ecf8427e  ./boot/grub/grub.cfg.old");
    CHECK(ws_is_checklist("md5sum.txt") && ws_is_checklist("SHA256SUMS") && !ws_is_checklist("readme.txt"));
}

struct renaming {
    const char *text, *old, *now, *wanted;
};

static void check_renamed(enum ws_named_by by, const struct renaming *r) {
    struct ws_text out = {0}, again = {0};
    size_t replaced = ws_menu_rename(r->text, strlen(r->text), by, r->old, r->now, &out);
    CHECK_STR(out.data, r->wanted);
    CHECK((replaced > 0) == (strcmp(r->text, r->wanted) != 0));
    CHECK_INT(ws_menu_rename(out.data, out.length, by, r->old, r->now, &again), 0);
    CHECK_STR(again.data, r->wanted);
    ws_text_free(&out);
    ws_text_free(&again);
}

static void menus_follow_their_mediums_names(void) {
    static const struct renaming cases[] = {
        {"linux /k root=live:CDLABEL=TIDE_LIVE_12 quiet", "TIDE_LIVE_12", "TIDE_LIVE",
         "linux /k root=live:CDLABEL=TIDE_LIVE quiet"},
        {"stage2=hd:LABEL=TIDE:/images label=TIDE\n", "TIDE", "X", "stage2=hd:LABEL=X:/images label=X\n"},
        {"search --no-floppy --set=root -l 'TIDE'\nlinux /TIDE quiet TIDE\n", "TIDE", "X",
         "search --no-floppy --set=root -l 'X'\nlinux /TIDE quiet TIDE\n"},
        {"  search -l TIDE\n", "TIDE", "TIDE 2", "  search -l \"TIDE 2\"\n"},
        {"menuentry \"TIDE\" {", "TIDE", "X", "menuentry \"TIDE\" {"}, /* a title is nobody's address */
        {"root=live:CDLABEL=TIDE\\x20LIVE isolabel='TIDE LIVE'", "TIDE LIVE", "NEW TIDE",
         "root=live:CDLABEL=NEW\\x20TIDE isolabel='NEW TIDE'"},
        {"LABEL=TIDEX LABEL=XTIDE LABEL=tide research TIDE", "TIDE", "X",
         "LABEL=TIDEX LABEL=XTIDE LABEL=tide research TIDE"},
        {"LABEL=", "TIDE", "X", "LABEL="},
        {"LABEL=TIDE", "TIDE", "A_LONGER_ONE", "LABEL=A_LONGER_ONE"},
        {"linux /k root=live:/dev/disk/by-label/TIDE ro", "TIDE", "X", "linux /k root=live:/dev/disk/by-label/X ro"},
        {"UUID=TIDE root=/dev/disk/by-uuid/TIDE", "TIDE", "X", "UUID=TIDE root=/dev/disk/by-uuid/TIDE"},
    };
    static const struct renaming identifiers[] = {
        {"search.fs_uuid 2026-11-25-11-00-00-00 root hd0\nlinux /2026-11-25-11-00-00-00 "
         "root=UUID=2026-11-25-11-00-00-00",
         "2026-11-25-11-00-00-00", "1A2B-3C4D",
         "search.fs_uuid 1A2B-3C4D root hd0\nlinux /2026-11-25-11-00-00-00 root=UUID=1A2B-3C4D"},
        {"search --no-floppy --set=root --fs-uuid '2026-11-25'\n", "2026-11-25", "1A2B-3C4D",
         "search --no-floppy --set=root --fs-uuid '1A2B-3C4D'\n"},
        {"root=live:/dev/disk/by-uuid/2026 mediauuid=2026 LABEL=2026 uuid=20261", "2026", "X",
         "root=live:/dev/disk/by-uuid/X mediauuid=X LABEL=2026 uuid=20261"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof cases[0]; i++) check_renamed(WS_BY_LABEL, &cases[i]);
    for (size_t i = 0; i < sizeof identifiers / sizeof identifiers[0]; i++) check_renamed(WS_BY_UUID, &identifiers[i]);
    char wanted[100]; /* and so do the parameters that name the volume a file lies on */
    const struct ws_live_family *dracut = ws_live_family_find("dracut"), *casper = ws_live_family_find("casper");
    CHECK(ws_live_wants_label(dracut) && !ws_live_wants_label(casper));
    CHECK_STR(ws_live_parameters(dracut, NULL, wanted, sizeof wanted), dracut->parameters);
    CHECK_STR(ws_live_parameters(dracut, "TIDE DATA", wanted, sizeof wanted),
              "rd.live.overlay=LABEL=TIDE\\x20DATA:/overlay rd.live.overlay.overlayfs=1");
    CHECK_STR(ws_live_parameters(casper, "TIDE DATA", wanted, sizeof wanted), "persistent");
    char label[48] = "";
    CHECK(ws_parameters_medium("quiet root=live:CDLABEL=TIDE\\x20LIVE ro", WS_BY_LABEL, label, sizeof label));
    CHECK_STR(label, "TIDE LIVE");
    CHECK(ws_parameters_medium("root=LABEL=TIDE", WS_BY_LABEL, label, sizeof label));
    CHECK(!ws_parameters_medium("boot=live xroot=LABEL=TIDE root=/dev/sda1 root=LABEL=", WS_BY_LABEL, label,
                                sizeof label));
    CHECK(!ws_parameters_medium("root=live:CDLABEL=TIDE", WS_BY_UUID, label, sizeof label));
    CHECK(ws_parameters_medium("quiet root=live:/dev/disk/by-uuid/1A2B-3C4D", WS_BY_UUID, label, sizeof label));
    CHECK_STR(label, "1A2B-3C4D");
    for (int i = 0; i < 2000; i++) { /* any text: what is no label stays, to the letter */
        char text[200], old[8] = "AB";
        size_t length = random_below(sizeof text);
        static const char alphabet[] = "AB=\"' \nlabelLABEL\\x20search";
        for (size_t k = 0; k < length; k++) text[k] = alphabet[random_below(sizeof alphabet - 1)];
        struct ws_text out = {0};
        size_t replaced = ws_menu_rename(text, length, WS_BY_LABEL, old, "ABC", &out);
        CHECK_INT(out.length, length + replaced);
        ws_text_free(&out);
    }
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"GRUB menus are understood", grub_menus_are_understood},
        {"loose GRUB menus are understood", loose_grub_menus_are_understood},
        {"the default of a GRUB menu is found", the_default_of_a_grub_menu_is_found},
        {"syslinux menus are understood", syslinux_menus_are_understood},
        {"edited menus remember and still offer to forget", edited_menus_remember_and_still_offer_to_forget},
        {"nothing of a menu is cut silently", nothing_of_a_menu_is_cut_silently},
        {"what is no menu is said so", what_is_no_menu_is_said_so},
        {"random text never breaks the menu parser", random_text_never_breaks_the_menu_parser},
        {"families are told by their parameters", families_are_told_by_their_parameters},
        {"menus follow their medium's names", menus_follow_their_mediums_names},
        {"checksum lists follow a change", checksum_lists_follow_a_change},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
