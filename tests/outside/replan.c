/* replan.c — a request decided by a program, for the drive, time and identifiers of somebody else's plan.
 *   replan REQUEST PLAN IMAGE    the program's plan, on standard output */
#include <wild_satchel/port/linux.h>
#include <wild_satchel/wild_satchel.h>

#include <stdio.h>
#include <stdlib.h>

static char *load(const char *path, size_t *length) {
    FILE *f = fopen(path, "rb");
    char *text = f ? malloc(1 << 20) : NULL;
    *length = text ? fread(text, 1, 1 << 20, f) : 0;
    if (f) fclose(f);
    return text;
}

int main(int argc, char **argv) {
    struct ws_error error = {0};
    struct ws_request request;
    struct ws_plan *theirs = NULL;
    struct ws_source *image = NULL;
    struct ws_build *build = NULL;
    struct ws_text text = {0};
    size_t asked_length = 0, plan_length = 0;
    if (argc != 4) return 2;
    char *asked = load(argv[1], &asked_length), *plan = load(argv[2], &plan_length);
    enum ws_status status = asked && plan ? WS_OK : WS_E_READ;
    if (status == WS_OK) status = ws_request_from_json(asked, asked_length, &request, &error);
    if (status == WS_OK) status = ws_plan_from_json(plan, plan_length, &theirs, &error);
    if (status == WS_OK) status = ws_source_file(argv[3], &image, &error);
    if (status == WS_OK) {
        const struct ws_build_setting setting = {.drive = *ws_plan_drive(theirs),
                                                 .id = ws_plan_facts(theirs)->id,
                                                 .made_at = ws_plan_facts(theirs)->made_at,
                                                 .input = {image}};
        status = ws_build_prepare(&request, &setting, &build, &error);
    }
    if (status == WS_OK) status = ws_plan_to_json(ws_build_plan(build), &text, &error);
    if (status == WS_OK) fwrite(text.data, 1, text.length, stdout);
    else fprintf(stderr, "%s: %s %s\n", ws_status_name(status), error.what, error.next);
    ws_text_free(&text);
    ws_build_close(build);
    ws_source_close(image);
    ws_plan_free(theirs);
    free(asked);
    free(plan);
    return status == WS_OK ? 0 : 4;
}
