/* full_system.c — a root file system made into a drive that is somebody's own, in one page.
 *
 *   example_full_system ROOT TARGET SIZE ACCOUNT [locked] <PASSWORDS     (ROOT: a live image, a root's archive, folder,
 *   volume; TARGET: a new file, made SIZE long; the password is the first line of what is read, and the passphrase that
 *   opens a locked system the second)
 */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>
#include <string.h>

static void show(const struct ws_plan *plan) {
    size_t count;
    const struct ws_plan_choice *choice = ws_plan_choices(plan, &count);
    for (size_t i = 0; i < count; i++) printf("%s: %s - %s\n", choice[i].what, choice[i].choice, choice[i].why);
    const struct ws_outlook *outlook = ws_plan_outlooks(plan);
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        printf("%s%s: %s, %s\n", outlook[i].firmware == WS_FIRMWARE_BIOS ? "BIOS" : "UEFI",
               outlook[i].secure_boot ? " with Secure Boot" : "", outlook[i].starts ? "starts" : "does not start",
               outlook[i].why);
}

/* Passwords are no part of a plan: they are given to the build, turned into hashes and keys at once, and forgotten. */
static enum ws_status give_passwords(struct ws_build *build, bool locked, struct ws_error *error) {
    enum ws_status status = WS_OK;
    setvbuf(stdin, NULL, _IONBF, 0); /* which would keep a copy */
    for (size_t i = 0; i < ws_build_passwords(build) && status == WS_OK; i++) {
        char password[WS_PASSPHRASE_MOST + 2] = "";
        if (fgets(password, sizeof password, stdin)) password[strcspn(password, "\n")] = '\0';
        status = ws_build_password(build, i, password, error);
        explicit_bzero(password, sizeof password);
    }
    if (status != WS_OK || !locked) return status;
    char recovery[WS_RECOVERY_ROOM];
    status = ws_build_recovery(build, recovery, error);
    if (status == WS_OK) printf("recovery key, shown this once: %s\n", recovery);
    explicit_bzero(recovery, sizeof recovery);
    return status;
}

int main(int argc, char **argv) {
    static struct ws_request request;
    struct ws_error error = {0};
    struct ws_port *port = NULL;
    struct ws_drive *drive = NULL;
    struct ws_drive_facts facts;
    struct ws_source *root = NULL;
    struct ws_packed_facts packed;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_build_setting setting;
    uint64_t size = 0;
    enum ws_status status = WS_OK;
    bool locked = argc == 6 && strcmp(argv[5], "locked") == 0;
    if (argc != 5 && !locked) {
        fprintf(stderr, "%s ROOT TARGET SIZE ACCOUNT [locked] <PASSWORDS\n", argv[0]);
        return 2;
    }
    WS_GO(ws_size_parse(argv[3], &size, &error));
    WS_GO(ws_linux_open_root(argv[1], &root, &packed, &error));
    WS_GO(ws_linux_make_file(argv[2], size / 512 * 512, &error));
    WS_GO(ws_linux_open(&port, &error));
    WS_GO(port->ops->open(port, argv[2], WS_OPEN_WRITE, &drive, &error));
    WS_GO(drive->ops->describe(drive, &facts, &error));

    /* Whose it is to be: all of it edits of the root's own files, made before its first start. */
    ws_request_begin(&request, WS_KIND_SYSTEM);
    snprintf(request.input[WS_INPUT_IMAGE].path, sizeof request.input[0].path, "%s", argv[1]);
    snprintf(request.owner.host_name, sizeof request.owner.host_name, "hut-3");
    snprintf(request.owner.account[0].name, sizeof request.owner.account[0].name, "%s", argv[4]);
    request.owner.account[0].administers = true;
    request.owner.accounts = 1;
    if (locked) ws_request_want(&request, WS_ROLE_SYSTEM)->locked = true;

    WS_GO(ws_build_setting_begin(&setting, port, &facts, &error));
    setting.input[WS_INPUT_IMAGE] = root;
    WS_GO(ws_build_prepare(&request, &setting, &build, &error));
    show(ws_build_plan(build));

    WS_GO(give_passwords(build, locked, &error));
    struct ws_build_options options = {.confirm = facts.short_name};
    WS_GO(ws_build_carry_out(build, port, drive, &options, &result, &error));
    printf("written %llu bytes, checked %llu bytes\n", (unsigned long long)result.write.written,
           (unsigned long long)result.check.checked);
done:
    if (status != WS_OK) fprintf(stderr, "%s %s. %s\n", error.where, error.what, error.next);
    ws_build_close(build);
    ws_source_close(root);
    if (drive) drive->ops->close(drive);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
