/* words.c — what is made of the table of commands besides parsing: manual pages, completion, a page of commands.
 *
 *     satchel-words FOLDER    writes the pages in man, completion/{satchel,_satchel,satchel.fish}, commands.md
 */
#include "cli/commands.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

static FILE *file_in(const char *folder, const char *sub, const char *name) {
    char path[2048];
    (void)snprintf(path, sizeof path, "%s/%s", folder, sub);
    if (mkdir(path, 0777) != 0 && errno != EEXIST) {
        perror(path);
        exit(1);
    }
    (void)snprintf(path, sizeof path, "%s/%s%s%s", folder, sub, sub[0] ? "/" : "", name);
    FILE *out = fopen(path, "w");
    if (!out) {
        perror(path);
        exit(1);
    }
    return out;
}

static void finish(FILE *out) {
    if (ferror(out) || fclose(out) != 0) {
        perror("satchel-words");
        exit(1);
    }
}

/* ---- manual pages: man(7) ---- */

/* Text of a page: hyphens that are typed stay, and no line begins with a request. */
static void roff(FILE *out, const char *text) {
    bool fresh = true, quoted = false;
    for (; *text; text++) {
        if (fresh && (*text == '.' || *text == '\'')) fputs("\\&", out);
        if (*text == '\n' && text[1] == '\n') {
            fputs("\n.PP", out);
            fresh = true;
            continue;
        }
        if (*text == '\\') fputs("\\e", out);
        else if (*text == '-') fputs("\\-", out);
        else if (*text == '`') fputs((quoted = !quoted) ? "\\(lq" : "\\(rq", out);
        else fputc(*text, out);
        fresh = *text == '\n';
    }
}

static bool page_option(void *context, const struct poptOption *o) {
    FILE *out = context;
    fputs(".TP\n.B ", out);
    if (o->shortName) fprintf(out, "\\-%c, ", o->shortName);
    fputs("\\-\\-", out);
    roff(out, o->longName);
    if (o->argDescrip) {
        fputs("=\\fI", out);
        roff(out, o->argDescrip);
        fputs("\\fR", out);
    }
    fputc('\n', out);
    roff(out, o->descrip);
    fputc('\n', out);
    return true;
}

static void page_end(FILE *out) {
    fputs(".SH EXIT STATUS\n0 done; 1 the check or proof failed, or the plan is not good; 2 wrong usage; 3 refused for "
          "safety; 4 input or drive error; 5 stopped as asked.\n"
          ".SH ENVIRONMENT\n.TP\n.B WILD_SATCHEL_BENCH\nthe folder of a simulated bench to work on, as \\-\\-bench has "
          "it\n"
          ".TP\n.B WILD_SATCHEL_DEFAULTS\na file of defaults instead of the usual one; empty: none\n"
          ".TP\n.B NO_COLOR\nset to anything: no colours\n",
          out);
}

static void page_head(FILE *out, const char *title, const char *summary) {
    fprintf(out, ".TH %s 1 \"\" \"Wild Satchel %s\" \"Wild Satchel\"\n.SH NAME\n", title, ws_version());
    roff(out, title);
    fputs(" \\- ", out);
    roff(out, summary);
}

static void command_page(const char *folder, const struct command *c) {
    char name[80], title[60];
    (void)snprintf(title, sizeof title, "satchel-%s", c->name);
    (void)snprintf(name, sizeof name, "%s.1", title);
    FILE *out = file_in(folder, "man", name);
    page_head(out, title, c->summary);
    fprintf(out, "\n.SH SYNOPSIS\n.B satchel %s\n", c->name);
    roff(out, c->words);
    fputs(" [options]\n.SH DESCRIPTION\n", out);
    roff(out, c->about);
    fputs("\n", out);
    for (const struct command_part *p = c->parts; p && p->name; p++) {
        fprintf(out, ".TP\n.B %s %s\n", p->name, p->words);
        roff(out, p->does);
        fputs("\n", out);
    }
    fputs(".SH OPTIONS\n", out);
    (void)options_visit(c->options, page_option, out);
    (void)options_visit(common_options, page_option, out);
    page_end(out);
    fputs(".SH SEE ALSO\n.BR satchel (1)\n", out);
    finish(out);
}

static void overview_page(const char *folder) {
    FILE *out = file_in(folder, "man", "satchel.1");
    page_head(out, "satchel", "live drives that remember, full systems, twins");
    fputs(
        "\n.SH SYNOPSIS\n.B satchel\n\\fICOMMAND\\fR ...\n.SH DESCRIPTION\n"
        "Prepares removable drives that carry an operating system: chooses the right drive, sizes what must be sized, "
        "writes, and proves that saved changes survive a restart.\n.SH COMMANDS\n",
        out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, ".TP\n.BR satchel\\-%s (1)\n", c->name);
        roff(out, c->summary);
        fputc('\n', out);
    }
    fputs(".SH OPTIONS\n", out);
    (void)options_visit(common_options, page_option, out);
    page_end(out);
    fputs(
        ".SH FILES\n.TP\n.I $XDG_CONFIG_HOME/wild\\-satchel/defaults.json\noptions of this site, see "
        ".BR satchel\\-defaults (1)\n.TP\n.I $XDG_DATA_HOME/wild\\-satchel/history.db\nwhat was done to which drive\n",
        out);
    fputs(".SH SEE ALSO\n.BR wild_satchel (3)\n", out);
    finish(out);
}

/* ---- completion ---- */

/* What an option's value is, by the word that stands for it: the words themselves where it lists them. */
enum wants { WANTS_NOTHING, WANTS_WORDS, WANTS_FILE, WANTS_FOLDER, WANTS_DRIVE, WANTS_OTHER };
static enum wants wants(const struct poptOption *o) {
    static const struct {
        const char *word;
        enum wants wants;
    } known[] = {{"FILE", WANTS_FILE},   {"PLAN", WANTS_FILE},     {"FOLDER", WANTS_FOLDER},
                 {"DRIVE", WANTS_DRIVE}, {"HEX|FILE", WANTS_FILE}, {"NAME", WANTS_OTHER}};
    if (!o->argDescrip) return WANTS_NOTHING;
    if (strcmp(o->longName, "confirm") == 0) return WANTS_DRIVE;
    for (size_t i = 0; i < sizeof known / sizeof known[0]; i++)
        if (strcmp(o->argDescrip, known[i].word) == 0) return known[i].wants;
    if (strncmp(o->argDescrip, "FILE", 4) == 0) return WANTS_FILE;
    return strchr(o->argDescrip, '|') && strcspn(o->argDescrip, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") == strlen(o->argDescrip)
               ? WANTS_WORDS
               : WANTS_OTHER;
}

static void put_choices(FILE *out, const char *choices, char between) {
    for (; *choices; choices++) fputc(*choices == '|' ? between : *choices, out);
}

static bool bash_name(void *context, const struct poptOption *o) {
    fprintf(context, " --%s", o->longName);
    return true;
}

static bool bash_value(void *context, const struct poptOption *o) {
    FILE *out = context;
    const enum wants w = wants(o);
    if (w == WANTS_NOTHING || w == WANTS_OTHER) return true;
    fprintf(out, "        --%s) ", o->longName);
    if (w == WANTS_WORDS) {
        fputs("words=\"", out);
        put_choices(out, o->argDescrip, ' ');
        fputc('"', out);
    } else {
        fputs(w == WANTS_FILE ? "kind=file" : w == WANTS_FOLDER ? "kind=folder" : "words=$(_satchel_drives)", out);
    }
    fputs(" ;;\n", out);
    return true;
}

/* What the words of a command are, behind the one that says what it does where it does several things. */
static enum wants wants_word(const struct command *c) {
    return c->parts                                                                          ? WANTS_DRIVE
           : !c->most                                                                        ? WANTS_NOTHING
           : strstr(c->words, "DRIVE") == c->words || strstr(c->words, "[DRIVE") == c->words ? WANTS_DRIVE
                                                                                             : WANTS_FILE;
}

static void put_parts(FILE *out, const struct command *c) {
    for (const struct command_part *p = c->parts; p->name; p++) fprintf(out, p == c->parts ? "%s" : " %s", p->name);
}

static void bash(const char *folder) {
    FILE *out = file_in(folder, "completion", "satchel");
    fputs("# bash completion for satchel, made from its table of commands\n"
          "_satchel_drives() { satchel drives --colour never 2>/dev/null | awk 'NR > 1 && NF > 3 && $1 ~ /-/ { print "
          "$1 }'; "
          "}\n"
          "_satchel() {\n    local cur=${COMP_WORDS[COMP_CWORD]} prev=${COMP_WORDS[COMP_CWORD-1]} command= words= "
          "kind= w\n"
          "    [ \"$cur\" = = ] && cur=\n"
          "    [ \"$prev\" = = ] && prev=${COMP_WORDS[COMP_CWORD-2]}\n"
          "    for w in \"${COMP_WORDS[@]:1:COMP_CWORD-1}\"; do case $w in\n        ",
          out);
    for (const struct command *c = commands; c->name; c++) fprintf(out, "%s%s", c->name, c[1].name ? "|" : "|help");
    fputs(") command=$w; break ;;\n    esac; done\n    case $command:$prev in\n", out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, "    %s:--*) case $prev in\n", c->name);
        (void)options_visit(c->options, bash_value, out);
        (void)options_visit(common_options, bash_value, out);
        fputs("        esac ;;\n", out);
        if (!c->parts) continue;
        fprintf(out, "    %s:%s) words=\"", c->name, c->name);
        put_parts(out, c);
        fputs("\" ;;\n", out);
    }
    fputs("    esac\n    if [ -z \"$words$kind\" ]; then case $command:$cur in\n    :*|help:*) words=\"", out);
    for (const struct command *c = commands; c->name; c++) fprintf(out, "%s ", c->name);
    fputs("help version\" ;;\n", out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, "    %s:-*) words=\"", c->name);
        (void)options_visit(c->options, bash_name, out);
        (void)options_visit(common_options, bash_name, out);
        fputs("\" ;;\n", out);
        const enum wants w = wants_word(c);
        if (w == WANTS_DRIVE) fprintf(out, "    %s:*) words=$(_satchel_drives) kind=file ;;\n", c->name);
        else if (w == WANTS_FILE) fprintf(out, "    %s:*) kind=file ;;\n", c->name);
    }
    fputs("    esac; fi\n    COMPREPLY=($(compgen -W \"$words\" -- \"$cur\"))\n"
          "    [ \"$kind\" = file ] && COMPREPLY+=($(compgen -f -- \"$cur\"))\n"
          "    [ \"$kind\" = folder ] && COMPREPLY+=($(compgen -d -- \"$cur\"))\n    return 0\n}\n"
          "complete -o filenames -F _satchel satchel\n",
          out);
    finish(out);
}

/* Text inside '...' and [...] of zsh. */
static void zsh_text(FILE *out, const char *text) {
    for (; *text; text++) {
        if (*text == '\'') fputs("'\\''", out);
        else if (strchr("[]:\\", *text)) fprintf(out, "\\%c", *text);
        else fputc(*text, out);
    }
}

static bool zsh_option(void *context, const struct poptOption *o) {
    FILE *out = context;
    const enum wants w = wants(o);
    const bool many = (o->argInfo & POPT_ARG_MASK) == POPT_ARG_ARGV;
    fprintf(out, "        '%s--%s%s[", many ? "*" : "", o->longName, w == WANTS_NOTHING ? "" : "=");
    zsh_text(out, o->descrip);
    fputc(']', out);
    if (w != WANTS_NOTHING) {
        fputc(':', out);
        zsh_text(out, w == WANTS_WORDS ? o->longName : o->argDescrip);
        fputc(':', out);
    }
    if (w == WANTS_WORDS) {
        fputc('(', out);
        put_choices(out, o->argDescrip, ' ');
        fputc(')', out);
    } else if (w == WANTS_FILE) fputs("_files", out);
    else if (w == WANTS_FOLDER) fputs("_files -/", out);
    else if (w == WANTS_DRIVE) fputs("_satchel_drives", out);
    fputs("' \\\n", out);
    return true;
}

static void zsh(const char *folder) {
    FILE *out = file_in(folder, "completion", "_satchel");
    fputs("#compdef satchel\n# zsh completion for satchel, made from its table of commands\n"
          "_satchel_drives() { compadd -- $(satchel drives --colour never 2>/dev/null | awk 'NR > 1 && NF > 3 && $1 ~ "
          "/-/ { "
          "print $1 }'); _files }\n"
          "_satchel() {\n    local -a list\n    if (( CURRENT == 2 )); then\n        list=(\n",
          out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, "            '%s:", c->name);
        zsh_text(out, c->summary);
        fputs("'\n", out);
    }
    fputs("            'help:the options of a command' 'version:which version this is'\n        )\n"
          "        _describe command list\n        return\n    fi\n    local command=$words[2]\n    shift words\n    "
          "(( CURRENT-- "
          "))\n    case $command in\n",
          out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, "    %s) _arguments \\\n", c->name);
        (void)options_visit(c->options, zsh_option, out);
        (void)options_visit(common_options, zsh_option, out);
        if (c->parts) {
            fputs("        '1:what:(", out);
            put_parts(out, c);
            fputs(")' \\\n", out);
        }
        const enum wants w = wants_word(c);
        fputs(w == WANTS_DRIVE  ? "        '*:drive:_satchel_drives' ;;\n"
              : w == WANTS_FILE ? "        '*:file:_files' ;;\n"
                                : "        && return ;;\n",
              out);
    }
    fputs("    help) (( CURRENT == 2 )) && compadd --", out);
    for (const struct command *c = commands; c->name; c++) fprintf(out, " %s", c->name);
    fputs(" ;;\n    esac\n}\n_satchel \"$@\"\n", out);
    finish(out);
}

struct fish {
    FILE *out;
    const char *command;
};

static void fish_text(FILE *out, const char *text) {
    for (; *text; text++) fprintf(out, *text == '\'' || *text == '\\' ? "\\%c" : "%c", *text);
}

static bool fish_option(void *context, const struct poptOption *o) {
    const struct fish *f = context;
    const enum wants w = wants(o);
    fprintf(f->out, "complete -c satchel -n '__fish_seen_subcommand_from %s' -l %s", f->command, o->longName);
    if (o->shortName) fprintf(f->out, " -s %c", o->shortName);
    if (w == WANTS_WORDS) {
        fputs(" -x -a '", f->out);
        put_choices(f->out, o->argDescrip, ' ');
        fputc('\'', f->out);
    } else if (w == WANTS_DRIVE) fputs(" -r -a '(__satchel_drives)'", f->out);
    else if (w == WANTS_FILE || w == WANTS_FOLDER) fputs(" -r -F", f->out);
    else if (w == WANTS_OTHER) fputs(" -x", f->out);
    fputs(" -d '", f->out);
    fish_text(f->out, o->descrip);
    fputs("'\n", f->out);
    return true;
}

static void fish(const char *folder) {
    FILE *out = file_in(folder, "completion", "satchel.fish");
    fputs("# fish completion for satchel, made from its table of commands\n"
          "function __satchel_drives; satchel drives --colour never 2>/dev/null | awk 'NR > 1 && NF > 3 && $1 ~ /-/ { "
          "print $1 "
          "}'; end\n"
          "complete -c satchel -n __fish_use_subcommand -f -a 'help' -d 'the options of a command'\n"
          "complete -c satchel -n __fish_use_subcommand -f -a 'version' -d 'which version this is'\n",
          out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, "complete -c satchel -n __fish_use_subcommand -f -a %s -d '", c->name);
        fish_text(out, c->summary);
        fputs("'\n", out);
        struct fish f = {out, c->name};
        (void)options_visit(c->options, fish_option, &f);
        (void)options_visit(common_options, fish_option, &f);
        for (const struct command_part *p = c->parts; p && p->name; p++) {
            fprintf(out, "complete -c satchel -n '__fish_seen_subcommand_from %s; and not __fish_seen_subcommand_from ",
                    c->name);
            put_parts(out, c);
            fprintf(out, "' -f -a %s -d '", p->name);
            fish_text(out, p->does);
            fputs("'\n", out);
        }
        if (wants_word(c) == WANTS_DRIVE)
            fprintf(out, "complete -c satchel -n '__fish_seen_subcommand_from %s' -a '(__satchel_drives)'\n", c->name);
        fprintf(out, "complete -c satchel -n '__fish_seen_subcommand_from help' -f -a %s\n", c->name);
    }
    finish(out);
}

/* ---- a page of all of them ---- */

static bool page_row(void *context, const struct poptOption *o) {
    FILE *out = context;
    fputs("| `--", out);
    fputs(o->longName, out);
    if (o->argDescrip) {
        fputc(' ', out);
        for (const char *p = o->argDescrip; *p; p++) fprintf(out, *p == '|' ? "\\|" : "%c", *p);
    }
    fputs("` | ", out);
    for (const char *p = o->descrip; *p; p++) fprintf(out, *p == '|' ? "\\|" : "%c", *p);
    fputs(" |\n", out);
    return true;
}

static void all_commands(const char *folder) {
    FILE *out = file_in(folder, "", "commands.md");
    fputs("# Commands\n\nMade from the tool's own table: `satchel help COMMAND` says the same.\n", out);
    for (const struct command *c = commands; c->name; c++) {
        fprintf(out, "\n## satchel %s\n\n    satchel %s %s\n\n%s\n\n", c->name, c->name, c->words, c->about);
        for (const struct command_part *p = c->parts; p && p->name; p++)
            fprintf(out, "- `%s%s%s`: %s\n", p->name, p->words[0] ? " " : "", p->words, p->does);
        if (c->parts) fputs("\n", out);
        if (!c->options) continue;
        fputs("| option | |\n| --- | --- |\n", out);
        (void)options_visit(c->options, page_row, out);
    }
    fputs("\n## Of every command\n\n| option | |\n| --- | --- |\n", out);
    (void)options_visit(common_options, page_row, out);
    finish(out);
}

int main(int argc, char **argv) {
    if (argc != 2) {
        fputs("satchel-words FOLDER\n", stderr);
        return 2;
    }
    if (mkdir(argv[1], 0777) != 0 && errno != EEXIST) {
        perror(argv[1]);
        return 1;
    }
    overview_page(argv[1]);
    for (const struct command *c = commands; c->name; c++) command_page(argv[1], c);
    bash(argv[1]);
    zsh(argv[1]);
    fish(argv[1]);
    all_commands(argv[1]);
    return 0;
}
